//! [`Kept`]: where a change's displaced objects are kept, on the same file system.

use std::io;

use super::aside;
use super::context::ChangeContext;
use super::slot::{BackupSlot, make_private, private};
use super::state::make_folder;
use crate::machine::Dir;
use crate::model::{FileKind, SystemPath};
use crate::plan::{KeptFolder, Placed};

/// The name of an action's displaced object among the backups.
fn kept_name(round: u32, index: u32) -> Vec<u8> {
    format!("{round}-{index}").into_bytes()
}

/// An action's displaced object among the backups.
pub(super) struct Kept<'a> {
    pub(super) folder: &'a KeptFolder,
    pub(super) change: u64,
    pub(super) round: u32,
    pub(super) index: u32,
    pub(super) place: &'a SystemPath,
    /// Whether the object is a folder.
    pub(super) is_folder: bool,
}

/// The end of a folder's name where it is kept beside what was set aside from inside it.
const FOLDER: &[u8] = b".veritum-folder";

impl<'a> Kept<'a> {
    /// What an action restores: the object that an earlier one displaced, by its change, round and number.
    pub(super) fn to_return(
        folder: &'a KeptFolder,
        (change, round, index): (u64, u32, u32),
        kept: &Placed,
        place: &'a SystemPath,
    ) -> Self {
        Self { folder, change, round, index, place, is_folder: kept.stat.kind == FileKind::Folder }
    }

    /// Where in the home it is kept: under its path. Of a user's restored files, a folder's content was set aside one by one
    /// before it, and is in the folder of that name.
    fn aside_place(&self, context: &ChangeContext<'_>) -> SystemPath {
        let has_one_app = context.home.is_none_or(|home| home.card.is_some());
        let own = (self.is_folder && !has_one_app).then(|| [self.place.name(), FOLDER].concat());
        let beside = own.and_then(|name| self.place.parent()?.child(&name).ok());
        beside.unwrap_or_else(|| self.place.clone())
    }

    /// Opens its folder.
    pub(super) fn open(&self, context: &ChangeContext<'_>) -> io::Result<BackupSlot> {
        match self.folder {
            KeptFolder::Aside(name) => aside::open(context, name, &self.aside_place(context)),
            folder => {
                Ok(BackupSlot::ours(&kept_dir(context, folder, self.change)?, &kept_name(self.round, self.index)))
            }
        }
    }

    /// The same; `None` where nothing is kept. In a home, another object that the user put in its place counts as nothing: a user
    /// must not be able to block a change.
    pub(super) fn find(&self, context: &ChangeContext<'_>) -> io::Result<Option<BackupSlot>> {
        match self.open(context) {
            Err(e) if e.kind() == io::ErrorKind::NotFound => Ok(None),
            Err(e) if matches!(self.folder, KeptFolder::Aside(_)) && aside::is_anothers(&e) => Ok(None),
            other => other.map(Some),
        }
    }

    /// Opens its folder, and creates it if it does not exist.
    pub(super) fn make(&self, context: &ChangeContext<'_>) -> io::Result<BackupSlot> {
        match self.folder {
            KeptFolder::Aside(name) => aside::make(context, name, &self.aside_place(context)),
            folder => {
                Ok(BackupSlot::ours(&make_kept_dir(context, folder, self.change)?, &kept_name(self.round, self.index)))
            }
        }
    }
}

/// The range of a rename: one mount, and on it one device (a btrfs subvolume has its own).
fn within(dir: &Dir) -> io::Result<(u64, u64)> {
    Ok((dir.disk().mount_of(dir.fd())?, dir.look_self()?.id.dev))
}

/// The backup folder for what is displaced in a folder: one to which a rename works.
///
/// # Errors
/// When the folder or one above it cannot be opened.
pub fn folder_for(context: &ChangeContext<'_>, parent: &SystemPath) -> io::Result<KeptFolder> {
    let here = within(&context.machine.dir(parent)?)?;
    if within(context.state.dir())? == here {
        return Ok(KeptFolder::State);
    }
    let mut top = parent.clone();
    while let Some(above) = top.parent() {
        if within(&context.machine.dir(&above)?)? != here {
            break;
        }
        top = above;
    }
    Ok(KeptFolder::Top(top))
}

/// Opens the backup folder of a change.
fn kept_dir(context: &ChangeContext<'_>, folder: &KeptFolder, change: u64) -> io::Result<Dir> {
    named_dir(context, folder, &change.to_string())
}

/// Makes the backups of a change durable; what is kept in a home is synced one by one.
pub(super) fn sync(context: &ChangeContext<'_>, folder: &KeptFolder, change: u64) -> io::Result<()> {
    if matches!(folder, KeptFolder::Aside(_)) {
        return Ok(());
    }
    match kept_dir(context, folder, change) {
        Err(e) if e.kind() == io::ErrorKind::NotFound => Ok(()),
        Err(e) => Err(e),
        Ok(dir) => dir.disk().sync(dir.fd()),
    }
}

/// The name of the folder of savepoints' contents beside the changes' backups.
const POOL: &str = "pool";

/// Opens the folder of savepoints' contents on a file system.
///
/// # Errors
/// When it does not exist, or is not private.
pub fn pool_dir(context: &ChangeContext<'_>, folder: &KeptFolder) -> io::Result<Dir> {
    named_dir(context, folder, POOL)
}

/// The same, created if it does not exist.
///
/// # Errors
/// When it cannot be created, or is not private.
pub fn make_pool_dir(context: &ChangeContext<'_>, folder: &KeptFolder) -> io::Result<Dir> {
    make_named_dir(context, folder, POOL)
}

fn named_dir(context: &ChangeContext<'_>, folder: &KeptFolder, name: &str) -> io::Result<Dir> {
    match folder {
        KeptFolder::State => context.state.sub(&format!("kept/{name}")),
        KeptFolder::Top(top) => {
            let top = private(&context.machine.dir(top)?, b".veritum-kept")?;
            Ok(top.beside(top.disk().open_dir(top.fd(), name.as_bytes())?))
        }
        // What is set aside has a folder of its own.
        KeptFolder::Aside(_) => Err(io::ErrorKind::InvalidInput.into()),
    }
}

/// Opens the backup folder of a change, and creates it if it does not exist.
fn make_kept_dir(context: &ChangeContext<'_>, folder: &KeptFolder, change: u64) -> io::Result<Dir> {
    make_named_dir(context, folder, &change.to_string())
}

fn make_named_dir(context: &ChangeContext<'_>, folder: &KeptFolder, name: &str) -> io::Result<Dir> {
    match folder {
        KeptFolder::State => context.state.make_sub(&format!("kept/{name}")),
        KeptFolder::Top(top) => {
            let top = make_private(&context.machine.dir(top)?, b".veritum-kept")?;
            make_folder(&top, name.as_bytes())
        }
        KeptFolder::Aside(_) => Err(io::ErrorKind::InvalidInput.into()),
    }
}
