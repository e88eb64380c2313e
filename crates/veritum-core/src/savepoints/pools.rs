//! [`Pools`]: the pools of all file systems of a machine, as one source of contents.

use std::collections::HashMap;
use std::io;
use std::sync::{Arc, Mutex, PoisonError};

use super::index::Held;
use super::pool::Pool;
use super::read::SystemRead;
use crate::change::{ChangeContext, folder_for, make_pool_dir, pool_dir};
use crate::model::{Digest, Stat, SystemPath};
use crate::plan::KeptFolder;
use crate::scan::Remembered;
use crate::store::{Contents, StoreError};

/// The pools of a machine.
pub struct Pools<'a> {
    context: ChangeContext<'a>,
    threads: &'a rayon::ThreadPool,
    open: Mutex<Vec<Arc<Pool>>>,
    /// The pool of each device.
    by_device: Mutex<HashMap<u64, Arc<Pool>>>,
}

impl std::fmt::Debug for Pools<'_> {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        f.debug_tuple("Pools").field(&self.all()).finish()
    }
}

impl<'a> Pools<'a> {
    /// Opens these pools; one that does not exist or cannot be read is as if it were empty.
    #[must_use]
    pub fn open<'f>(
        context: ChangeContext<'a>,
        folders: impl IntoIterator<Item = &'f KeptFolder>,
        threads: &'a rayon::ThreadPool,
    ) -> Self {
        Self::open_after(context, folders, None, threads)
    }

    /// Opens these pools after the system was read.
    pub(super) fn open_after<'f>(
        context: ChangeContext<'a>,
        folders: impl IntoIterator<Item = &'f KeptFolder>,
        system: Option<&SystemRead>,
        threads: &'a rayon::ThreadPool,
    ) -> Self {
        let mut open: Vec<Arc<Pool>> = Vec::new();
        for folder in folders {
            if open.iter().any(|pool| pool.folder == *folder) {
                continue;
            }
            let pool = pool_dir(&context, folder).and_then(|dir| Pool::open(folder.clone(), dir, system, threads));
            open.extend(pool.map(Arc::new));
        }
        Self { context, threads, open: Mutex::new(open), by_device: Mutex::default() }
    }

    pub(super) fn all(&self) -> Vec<Arc<Pool>> {
        self.open.lock().unwrap_or_else(PoisonError::into_inner).clone()
    }

    /// The pool for files of a folder, which is on that device; created if it does not exist.
    pub(super) fn for_folder(&self, device: u64, folder: &SystemPath) -> io::Result<Arc<Pool>> {
        let mut by_device = self.by_device.lock().unwrap_or_else(PoisonError::into_inner);
        if let Some(pool) = by_device.get(&device) {
            return Ok(pool.clone());
        }
        let kept = folder_for(&self.context, folder)?;
        let pool = match self.made(&kept) {
            // A file system without owners and permissions keeps nothing private: its files are copied to the state folder.
            Err(e) if kept != KeptFolder::State && is_not_private(&e) => self.made(&KeptFolder::State)?,
            other => other?,
        };
        by_device.insert(device, pool.clone());
        Ok(pool)
    }

    /// Opens a pool, and creates it if it does not exist.
    fn made(&self, kept: &KeptFolder) -> io::Result<Arc<Pool>> {
        let mut open = self.open.lock().unwrap_or_else(PoisonError::into_inner);
        if let Some(pool) = open.iter().find(|pool| pool.folder == *kept) {
            return Ok(pool.clone());
        }
        let pool = Arc::new(Pool::open(kept.clone(), make_pool_dir(&self.context, kept)?, None, self.threads)?);
        open.push(pool.clone());
        Ok(pool)
    }
}

impl Pools<'_> {
    /// Whether a content is known to be whole: its file is as it was when it was last verified, or is read now.
    pub(super) fn is_whole(&self, digest: &Digest, size: u64, known: &[Remembered]) -> bool {
        self.all().iter().any(|pool| {
            let Some(held) = pool.held(digest) else { return false };
            is_known(&held, digest, known) || pool.verify(digest, size)
        })
    }

    /// Removes a content that is not whole. Returns its inode's status before and after if something else has it, too.
    pub(super) fn remove(&self, digest: &Digest) -> io::Result<Option<(Stat, Stat)>> {
        let mut still = None;
        for pool in self.all().iter().filter(|pool| pool.held(digest).is_some()) {
            still = pool.remove(digest)?.or(still);
        }
        Ok(still)
    }
}

/// Whether a folder cannot be made private where it is.
fn is_not_private(error: &io::Error) -> bool {
    matches!(error.kind(), io::ErrorKind::PermissionDenied | io::ErrorKind::Unsupported)
}

/// Whether a content's file is as it was when it was last verified.
pub(super) fn is_known(held: &Held, digest: &Digest, known: &[Remembered]) -> bool {
    known.iter().any(|known| known.content(&held.stat).is_some_and(|content| content.digest == *digest))
}

impl Contents for Pools<'_> {
    fn copy(&self, digest: &Digest, size: u64, to: &mut dyn FnMut(&[u8]) -> io::Result<()>) -> Result<(), StoreError> {
        let pool = self
            .all()
            .into_iter()
            .find(|pool| pool.held(digest).is_some())
            .ok_or(StoreError::Absent { digest: *digest })?;
        pool.copy(digest, size, to).map_err(|_| StoreError::Absent { digest: *digest })
    }

    fn has_content(&self, digest: &Digest) -> bool {
        self.all().iter().any(|pool| pool.held(digest).is_some())
    }
}
