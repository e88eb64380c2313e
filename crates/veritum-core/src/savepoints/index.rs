//! [`Index`]: which contents a pool has, by digest.

use std::collections::HashMap;
use std::io;
use std::sync::atomic::{AtomicBool, Ordering};
use std::sync::{OnceLock, PoisonError, RwLock, RwLockReadGuard, RwLockWriteGuard};

use rayon::prelude::*;

use super::read::SystemRead;
use crate::machine::Dir;
use crate::model::{Digest, FileKind, Identity, Stat};

/// The end of the name of a compressed copy.
const PACKED: &str = ".zst";
/// The number of folders of a pool, at most: one for each first byte of a digest.
const FANS: usize = 256;

/// How a content is in the pool.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(super) enum Form {
    /// As it is.
    Plain,
    /// Compressed.
    Packed,
}

/// The file of a content.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(super) struct Held {
    pub(super) form: Form,
    pub(super) stat: Stat,
}

/// A file by its name.
#[derive(Debug)]
struct Slot {
    form: Form,
    ino: u64,
    stat: OnceLock<Stat>,
    /// Whether the system has this file, too.
    of_system: AtomicBool,
}

/// The files in one folder of a pool.
#[derive(Debug, Default)]
struct Fan {
    device: u64,
    slots: HashMap<Digest, Slot, foldhash::fast::RandomState>,
}

/// The contents of a pool.
#[derive(Debug)]
pub(super) struct Index(Vec<RwLock<Fan>>);

impl Index {
    /// Reads the names and examines their files. Files that `system` has, as it was just read, are not examined again: a name in the
    /// pool that is a hard link to one has its status.
    pub(super) fn read(dir: &Dir, system: Option<&SystemRead>, threads: &rayon::ThreadPool) -> io::Result<Self> {
        let index = Self((0..FANS).map(|_| RwLock::default()).collect());
        let names = dir.disk().list(dir.fd())?;
        threads.install(|| names.par_iter().try_for_each(|(name, _)| index.list(dir, name)))?;
        if let Some(system) = system {
            let files = || system.entries.par_iter().zip(&system.stats).with_min_len(1024);
            threads.install(|| files().for_each(|(entry, stat)| index.note(entry.content(), stat)));
        }
        threads.install(|| names.par_iter().try_for_each(|(name, _)| index.examine(dir, name)))?;
        Ok(index)
    }

    /// Lists a folder. A symlink or file with such a name is none.
    fn list(&self, dir: &Dir, name: &[u8]) -> io::Result<()> {
        let Some(at) = fan_of(name) else { return Ok(()) };
        let Some(above) = dir.look(name)?.filter(|stat| stat.kind == FileKind::Folder) else { return Ok(()) };
        let inner = dir.beside(dir.disk().open_dir(dir.fd(), name)?);
        let mut fan = write(&self.0[at]);
        fan.device = above.id.dev;
        let files = inner.disk().list_inodes(inner.fd())?;
        fan.slots.reserve(files.len());
        for (file, ino) in files {
            let Some((digest, form)) = digest_of(name, &file) else { continue };
            let slot = Slot { form, ino, stat: OnceLock::new(), of_system: AtomicBool::new(false) };
            // One in both forms is as good as in one.
            fan.slots.insert(digest, slot);
        }
        Ok(())
    }

    /// Records that the system has a file with this content.
    fn note(&self, content: Option<(Digest, u64)>, stat: &Stat) {
        let Some((digest, _)) = content else { return };
        let fan = self.fan(&digest);
        let same = |slot: &&Slot| slot.form == Form::Plain && stat.id == Identity { dev: fan.device, ino: slot.ino };
        if let Some(slot) = fan.slots.get(&digest).filter(same) {
            slot.of_system.store(true, Ordering::Relaxed);
            let _ = slot.stat.set(*stat);
        }
    }

    /// Examines the files in a folder whose status is not known. A symlink or folder with such a name is no content.
    fn examine(&self, dir: &Dir, name: &[u8]) -> io::Result<()> {
        let Some(at) = fan_of(name) else { return Ok(()) };
        let mut fan = write(&self.0[at]);
        let unknown: Vec<(Digest, Form)> =
            fan.slots.iter().filter(|(_, slot)| slot.stat.get().is_none()).map(|(d, slot)| (*d, slot.form)).collect();
        if unknown.is_empty() {
            return Ok(());
        }
        let inner = dir.beside(dir.disk().open_dir(dir.fd(), name)?);
        for (digest, form) in unknown {
            match inner.look(name_of(&digest, form).as_bytes())?.filter(|stat| stat.kind == FileKind::File) {
                Some(stat) => drop(fan.slots.get(&digest).map(|slot| slot.stat.set(stat))),
                None => drop(fan.slots.remove(&digest)),
            }
        }
        Ok(())
    }

    fn fan(&self, digest: &Digest) -> RwLockReadGuard<'_, Fan> {
        self.0[usize::from(digest.as_bytes()[0])].read().unwrap_or_else(PoisonError::into_inner)
    }

    /// The file of a content, as it was when it was examined or added.
    pub(super) fn get(&self, digest: &Digest) -> Option<Held> {
        self.fan(digest).slots.get(digest)?.held()
    }

    /// Whether a content is a hard link to that file of the system, just as it was examined.
    pub(super) fn is_linked(&self, digest: &Digest, file: &Stat) -> bool {
        let fan = self.fan(digest);
        fan.slots.get(digest).is_some_and(|slot| slot.form == Form::Plain && slot.stat.get() == Some(file))
    }

    /// All contents.
    pub(super) fn digests(&self) -> Vec<Digest> {
        self.0.iter().flat_map(|fan| read(fan).slots.keys().copied().collect::<Vec<_>>()).collect()
    }

    /// The contents that are not known to be files of the system.
    pub(super) fn apart(&self) -> Vec<(Digest, Held)> {
        let apart = |fan: &RwLock<Fan>| -> Vec<(Digest, Held)> {
            let fan = read(fan);
            let apart = fan.slots.iter().filter(|(_, slot)| !slot.of_system.load(Ordering::Relaxed));
            apart.filter_map(|(digest, slot)| Some((*digest, slot.held()?))).collect()
        };
        self.0.iter().flat_map(apart).collect()
    }

    /// Adds a content.
    pub(super) fn insert(&self, digest: Digest, Held { form, stat }: Held) {
        let slot = Slot { form, ino: stat.id.ino, stat: OnceLock::from(stat), of_system: AtomicBool::new(false) };
        write(&self.0[usize::from(digest.as_bytes()[0])]).slots.insert(digest, slot);
    }

    /// Removes a content, and returns its form.
    pub(super) fn remove(&self, digest: &Digest) -> Option<Form> {
        write(&self.0[usize::from(digest.as_bytes()[0])]).slots.remove(digest).map(|slot| slot.form)
    }
}

impl Slot {
    fn held(&self) -> Option<Held> {
        Some(Held { form: self.form, stat: *self.stat.get()? })
    }
}

fn read(fan: &RwLock<Fan>) -> RwLockReadGuard<'_, Fan> {
    fan.read().unwrap_or_else(PoisonError::into_inner)
}

fn write(fan: &RwLock<Fan>) -> RwLockWriteGuard<'_, Fan> {
    fan.write().unwrap_or_else(PoisonError::into_inner)
}

/// The position of a folder with this name.
fn fan_of(name: &[u8]) -> Option<usize> {
    let name = std::str::from_utf8(name).ok().filter(|name| name.len() == 2)?;
    usize::from_str_radix(name, 16).ok().filter(|_| name.bytes().all(|b| matches!(b, b'0'..=b'9' | b'a'..=b'f')))
}

/// The name of a content in its folder.
pub(super) fn name_of(digest: &Digest, form: Form) -> String {
    let ending = if form == Form::Packed { PACKED } else { "" };
    format!("{}{ending}", &digest.to_hex()[2..])
}

fn digest_of(fan: &[u8], name: &[u8]) -> Option<(Digest, Form)> {
    let (rest, form) = name.strip_suffix(PACKED.as_bytes()).map_or((name, Form::Plain), |rest| (rest, Form::Packed));
    let mut hex = [0; 64];
    let (first, last) = hex.split_at_mut(fan.len());
    first.copy_from_slice(fan);
    if rest.len() != last.len() {
        return None;
    }
    last.copy_from_slice(rest);
    Some((Digest::from_hex(std::str::from_utf8(&hex).ok()?).ok()?, form))
}
