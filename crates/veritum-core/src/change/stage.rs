//! Staging: new objects are created next to their destinations, private until they are complete.

use std::ffi::OsStr;
use std::io;
use std::os::fd::{AsFd, BorrowedFd};

use super::committed::staged_name;
use super::context::ChangeContext;
use super::folders::Folders;
use super::keep::Kept;
use super::moves::second_name;
use super::slot::{BackupSlot, keep};
use crate::machine::{Dir, Node, SparseWriter};
use crate::model::{FileKind, Instant, Stat, SystemPath};
use crate::plan::{Item, ItemKind, Operation, PlannedAction};
use crate::store::{Contents, StoreError};

/// Inode flags that are kept (chattr(1)): sync, no dump, no access times.
const COPIED_FLAGS: u32 = 0x08 | 0x40 | 0x80;

/// Why something was not staged.
pub(super) enum StageError {
    /// Only this action fails; the others continue.
    GivenUp(String),
    /// The disk failed: the round is undone.
    Disk(io::Error),
}

impl From<io::Error> for StageError {
    fn from(error: io::Error) -> Self {
        Self::Disk(error)
    }
}

/// The round being staged.
#[derive(Clone, Copy)]
pub(super) struct Staging<'a> {
    pub(super) change: u64,
    pub(super) round: u32,
    pub(super) actions: &'a [PlannedAction],
    pub(super) contents: &'a dyn Contents,
    pub(super) folders: &'a Folders,
}

impl Staging<'_> {
    fn place_of(&self, index: u32) -> Option<&SystemPath> {
        self.actions.iter().find(|a| a.index == index).map(|a| &a.place)
    }
}

/// Creates the object of an action; returns its status, or `None` when nothing needs to be created.
pub(super) fn stage(
    context: &ChangeContext<'_>,
    staging: Staging<'_>,
    action: &PlannedAction,
) -> Result<Option<Stat>, StageError> {
    let parent = action.place.parent().unwrap_or_else(SystemPath::root);
    let gone = || StageError::GivenUp(super::site::GONE.into());
    let dir = staging.folders.get(context, &parent)?.ok_or_else(gone)?;
    let name = staged_name(staging.change, staging.round, action.index);
    match &action.operation {
        Operation::SetMeta { .. } | Operation::SetAside | Operation::Free => return Ok(None),
        Operation::Return { change: of, round: of_round, index, kept, folder, .. } => {
            let from = Kept::to_return(folder, (*of, *of_round, *index), kept, &action.place).open(context)?;
            let there = from.look()?;
            if there.is_none_or(|s| (s.id, s.mtime) != (kept.stat.id, kept.stat.mtime)) {
                return Err(StageError::GivenUp("the backup no longer exists".into()));
            }
            keep(&from.dir, &from.name, &BackupSlot::ours(&dir, &name))?;
            // Outside homes everything staged is made durable together.
            if context.home.is_some() {
                from.sync()?;
            }
        }
        Operation::Put(items) => put(context, &dir, &name, staging, action, items)?,
    }
    Ok(Some(dir.disk().look(dir.fd(), &name)?))
}

fn put(
    context: &ChangeContext<'_>,
    dir: &Dir,
    name: &[u8],
    staging: Staging<'_>,
    action: &PlannedAction,
    items: &[Item],
) -> Result<(), StageError> {
    let Some((first, rest)) = items.split_first() else {
        return Err(StageError::GivenUp("nothing to write".into()));
    };
    let heir = action.before.filter(|b| b.kind == FileKind::File).map(|_| action.place.name());
    make(context, dir, name, staging, first, heir)?;
    if first.kind != ItemKind::Folder {
        return Ok(());
    }
    let top = dir.beside(dir.disk().open_dir(dir.fd(), name)?);
    for item in rest {
        let (above, name) = inside(&top, &item.below)?;
        if let ItemKind::NameOfItem { below } = &item.kind {
            let (from, old) = inside(&top, below)?;
            further_name(&from, old, &above, name)?;
        } else {
            make(context, &above, name, staging, item, None)?;
        }
    }
    // Folders get their owner, mode and time last, the deepest first: until then others cannot enter.
    for item in items.iter().rev().filter(|i| i.kind == ItemKind::Folder) {
        let (above, name) = if item.below.is_root() { (dir.clone(), name) } else { inside(&top, &item.below)? };
        let open = above.disk().open_dir(above.fd(), name)?;
        dress(&above, name, Some(open.as_fd()), item)?;
    }
    Ok(())
}

/// The folder and name of an item inside a staged tree.
fn inside<'a>(top: &Dir, below: &'a SystemPath) -> io::Result<(Dir, &'a [u8])> {
    let above = below.parent().unwrap_or_else(SystemPath::root);
    let fd = top.disk().open_dir(top.fd(), above.relative())?;
    Ok((top.beside(fd), below.name()))
}

/// Creates one object. A file inherits the extended attributes of the file it replaces, except privileges.
fn make(
    context: &ChangeContext<'_>,
    dir: &Dir,
    name: &[u8],
    staging: Staging<'_>,
    item: &Item,
    heir: Option<&[u8]>,
) -> Result<(), StageError> {
    let disk = dir.disk();
    match &item.kind {
        ItemKind::File { size, digest } => {
            let file = disk.create(dir.fd(), name)?;
            let mut failed = None;
            // Others than packages' files may be much larger than what was ever written to them.
            let mut sparse = (context.home.is_some() || item.complete).then(|| SparseWriter::new(disk, file.as_fd()));
            let mut write = |piece: &[u8]| {
                let written = match &mut sparse {
                    Some(sparse) => sparse.add(piece),
                    None => disk.write(file.as_fd(), piece),
                };
                written.map_err(|e| {
                    let kind = e.kind();
                    failed = Some(e);
                    kind.into()
                })
            };
            if let Err(e) = staging.contents.copy(digest, *size, &mut write) {
                return Err(source_or_disk(e, failed));
            }
            if let Some(sparse) = sparse {
                sparse.finish()?;
            }
            if let Some(heir) = heir.filter(|_| !item.complete) {
                inherit(dir, heir, file.as_fd())?;
            }
            dress(dir, name, Some(file.as_fd()), item)?;
        }
        ItemKind::NameOf { place, digest } => name_of(context, dir, name, place, digest)?,
        ItemKind::NameOfAction { index, below, digest } => {
            let Some(place) = staging.place_of(*index) else {
                return Err(StageError::GivenUp("the file that it is a hard link to was not restored".into()));
            };
            let parent = place.parent().unwrap_or_else(SystemPath::root);
            let rest = below.as_ref().map_or(&b""[..], SystemPath::relative);
            let staged = parent
                .child(&staged_name(staging.change, staging.round, *index))
                .and_then(|staged| staged.join(rest))
                .map_err(|e| StageError::GivenUp(e.to_string()))?;
            name_of(context, dir, name, &staged, digest)?;
        }
        ItemKind::NameOfItem { .. } => return Err(StageError::GivenUp("a hard link without its file".into())),
        ItemKind::Folder => disk.make_dir(dir.fd(), name)?,
        ItemKind::Link(target) => {
            disk.make_link(dir.fd(), name, &target.0)?;
            dress(dir, name, None, item)?;
        }
        ItemKind::Fifo => {
            disk.make_node(dir.fd(), name, Node::Pipe, item.mode)?;
            dress(dir, name, None, item)?;
        }
        ItemKind::Device { block, major, minor } => {
            let node = if *block { Node::Block } else { Node::Character };
            disk.make_node(dir.fd(), name, node(*major, *minor), item.mode)?;
            dress(dir, name, None, item)?;
        }
    }
    Ok(())
}

/// The bytes of hexadecimal digits; digits that are none end them.
fn from_hex(digits: &str) -> Vec<u8> {
    let byte = |pair: &[u8]| u8::from_str_radix(std::str::from_utf8(pair).ok()?, 16).ok();
    digits.as_bytes().chunks(2).map_while(byte).collect()
}

fn source_or_disk(error: StoreError, disk: Option<io::Error>) -> StageError {
    match disk {
        Some(disk) => StageError::Disk(disk),
        None => StageError::GivenUp(crate::model::error_chain(&error)),
    }
}

fn name_of(
    context: &ChangeContext<'_>,
    dir: &Dir,
    name: &[u8],
    place: &SystemPath,
    digest: &crate::model::Digest,
) -> Result<(), StageError> {
    let parent = place.parent().unwrap_or_else(SystemPath::root);
    let from = context.machine.dir(&parent)?;
    if from.look(place.name())?.is_none() || super::slot::digest_of(&from, place.name())? != Some(*digest) {
        return Err(StageError::GivenUp(format!("{place} has changed since it was checked")));
    }
    further_name(&from, place.name(), dir, name)
}

/// Creates a hard link; on a file system without hard links only this action fails.
fn further_name(from: &Dir, old: &[u8], to: &Dir, new: &[u8]) -> Result<(), StageError> {
    match second_name(from, old, to, new) {
        Err(e) if e.kind() == io::ErrorKind::Unsupported => {
            Err(StageError::GivenUp("its file system does not support hard links".into()))
        }
        other => Ok(other?),
    }
}

/// Owner, mode, attributes, time, in this order: changing the owner removes privileges, and only the last alters the time.
fn dress(dir: &Dir, name: &[u8], open: Option<BorrowedFd<'_>>, item: &Item) -> io::Result<()> {
    let disk = dir.disk();
    let stat = disk.look(dir.fd(), name)?;
    if (stat.uid, stat.gid) != (item.uid, item.gid) {
        disk.set_owner(dir.fd(), name, item.uid, item.gid)?;
    }
    if let Some(open) = open {
        disk.set_mode(open, item.mode)?;
        for (attribute, value) in &item.attributes {
            // What this file system cannot keep is no obstacle to the content.
            let _ = disk.set_xattr(open, OsStr::new(attribute), &from_hex(value));
        }
    }
    disk.set_mtime(dir.fd(), name, Instant { s: item.mtime, n: item.nanos })
}

/// Copies extended attributes (ACLs, labels, user attributes) from the replaced file. Not capabilities: privilege that only
/// this machine records is never restored unasked.
fn inherit(dir: &Dir, from: &[u8], to: BorrowedFd<'_>) -> io::Result<()> {
    let Ok(old) = dir.disk().open_file(dir.fd(), from) else { return Ok(()) };
    for (name, value) in dir.disk().xattrs(old.as_fd()).unwrap_or_default() {
        if name != OsStr::new("security.capability") {
            match dir.disk().set_xattr(to, &name, &value) {
                Err(e) if e.kind() == io::ErrorKind::StorageFull => return Err(e),
                // If this kernel refuses a label, the system's own policy sets it.
                _ => {}
            }
        }
    }
    // Flags that people set (no dump, no access times): a file system that refuses them is no obstacle.
    if let Ok(Some(flags)) = dir.disk().flags(old.as_fd())
        && flags & COPIED_FLAGS != 0
    {
        let own = dir.disk().flags(to).ok().flatten().unwrap_or(0);
        let _ = dir.disk().set_flags(to, own | flags & COPIED_FLAGS);
    }
    Ok(())
}

/// Removes what was staged: only objects created by us, under our own names.
pub(super) fn discard(dir: &Dir, name: &[u8]) -> io::Result<()> {
    match dir.look(name)? {
        None => Ok(()),
        Some(Stat { kind: FileKind::Folder, .. }) => {
            let inner = dir.beside(dir.disk().open_dir(dir.fd(), name)?);
            for (child, _) in inner.disk().list(inner.fd())? {
                discard(&inner, &child)?;
            }
            dir.disk().remove_dir(dir.fd(), name)
        }
        Some(_) => dir.disk().unlink(dir.fd(), name),
    }
}
