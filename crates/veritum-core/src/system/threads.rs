//! [`Threads`]: the pool of threads, created when it is first used. Brief answers need none, and idle threads take time.

use std::ops::Deref;
use std::sync::OnceLock;

use rayon::{ThreadPool, ThreadPoolBuilder};

/// A pool of threads, created when it is first used.
#[derive(Debug)]
pub struct Threads {
    jobs: usize,
    pool: OnceLock<ThreadPool>,
}

impl Threads {
    /// A pool of that many threads.
    #[must_use]
    pub fn new(jobs: usize) -> Self {
        Self { jobs, pool: OnceLock::new() }
    }
}

impl Deref for Threads {
    type Target = ThreadPool;

    fn deref(&self) -> &ThreadPool {
        self.pool.get_or_init(|| {
            let pool = ThreadPoolBuilder::new().num_threads(self.jobs).build();
            // Where no thread can be started, the work is done by this one.
            let alone = || ThreadPoolBuilder::new().num_threads(1).use_current_thread().build();
            pool.or_else(|_| alone()).expect("BUG: a pool is created outside of any other")
        })
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn the_threads_exist_from_the_first_use_on() {
        let threads = Threads::new(3);
        assert!(threads.pool.get().is_none());
        assert_eq!((threads.current_num_threads(), threads.install(|| 7)), (3, 7));
    }
}
