//! [`TestDevice`]: a disk in memory, with a fault at the n-th sector that is written.

use std::collections::BTreeMap;
use std::io;
use std::sync::{Mutex, MutexGuard, PoisonError};

use super::Accident;
use crate::devices::{ReadAt, SECTOR, WriteAt};

#[derive(Default)]
struct State {
    /// What is on the medium.
    medium: Vec<u8>,
    /// Sectors that were written, and not synced.
    cache: BTreeMap<usize, Vec<u8>>,
    count: usize,
    over: bool,
}

/// A disk in memory with a fault. Sectors are written whole or not at all; after a power cut every other one of those that were not synced
/// is lost.
pub struct TestDevice {
    state: Mutex<State>,
    accident: Accident,
    /// Whether the computer is off.
    is_off: Box<dyn Fn() -> bool + Send + Sync>,
    /// Bytes that cannot be written.
    bad: Option<std::ops::Range<u64>>,
}

fn failed() -> io::Error {
    rustix::io::Errno::IO.into()
}

impl TestDevice {
    /// A disk with this content and fault. `is_off` says whether the computer is off by then.
    #[must_use]
    pub fn new(content: Vec<u8>, accident: Accident, is_off: impl Fn() -> bool + Send + Sync + 'static) -> Self {
        let state = State { medium: content, ..State::default() };
        Self { state: Mutex::new(state), accident, is_off: Box::new(is_off), bad: None }
    }

    /// The same disk, on which these bytes cannot be written.
    #[must_use]
    pub fn with_bad(self, bad: std::ops::Range<u64>) -> Self {
        Self { bad: Some(bad), ..self }
    }

    fn state(&self) -> MutexGuard<'_, State> {
        self.state.lock().unwrap_or_else(PoisonError::into_inner)
    }

    /// The number of sectors written and of syncs so far.
    #[must_use]
    pub fn operations(&self) -> usize {
        self.state().count
    }

    /// What is on the medium after a restart.
    #[must_use]
    pub fn after_restart(&self) -> Vec<u8> {
        let state = self.state();
        let mut medium = state.medium.clone();
        let kept =
            |(index, _): &(usize, (&usize, &Vec<u8>))| !matches!(self.accident, Accident::Cut(_)) || index % 2 == 0;
        for (_, (sector, bytes)) in state.cache.iter().enumerate().filter(kept) {
            medium[sector * SECTOR..(sector + 1) * SECTOR].copy_from_slice(bytes);
        }
        medium
    }

    fn step(&self, state: &mut State) -> io::Result<()> {
        let at = state.count;
        state.count += 1;
        let ends = matches!(self.accident, Accident::Stop(n) | Accident::Cut(n) if n == at);
        state.over |= ends || (self.is_off)();
        let fails = matches!(self.accident, Accident::Fail(n, _) if n == at);
        if state.over || fails { Err(failed()) } else { Ok(()) }
    }
}

impl ReadAt for TestDevice {
    fn size(&self) -> u64 {
        self.state().medium.len() as u64
    }

    fn read_at(&self, at: u64, buffer: &mut [u8]) -> io::Result<()> {
        let state = self.state();
        if state.over {
            return Err(failed());
        }
        state.medium.read_at(at, buffer)?;
        for (sector, bytes) in &state.cache {
            let start = (sector * SECTOR) as u64;
            for (index, byte) in bytes.iter().enumerate() {
                let place = start + index as u64;
                if place >= at && place < at + buffer.len() as u64 {
                    buffer[usize::try_from(place - at).unwrap_or_default()] = *byte;
                }
            }
        }
        Ok(())
    }
}

impl WriteAt for TestDevice {
    fn write_at(&self, at: u64, bytes: &[u8]) -> io::Result<()> {
        let mut state = self.state();
        for (index, sector) in bytes.chunks(SECTOR).enumerate() {
            self.step(&mut state)?;
            let place = at + (index * SECTOR) as u64;
            if self.bad.as_ref().is_some_and(|bad| bad.contains(&place)) {
                return Err(failed());
            }
            let number = usize::try_from(place).unwrap_or_default() / SECTOR;
            state.cache.insert(number, sector.to_vec());
        }
        Ok(())
    }

    fn sync(&self) -> io::Result<()> {
        let mut state = self.state();
        self.step(&mut state)?;
        for (sector, bytes) in std::mem::take(&mut state.cache) {
            state.medium[sector * SECTOR..(sector + 1) * SECTOR].copy_from_slice(&bytes);
        }
        Ok(())
    }
}
