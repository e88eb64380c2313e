//! [`Kept`]: where what a change displaced is kept, on the same file system.

use std::io;

use super::aside;
use super::context::ChangeContext;
use super::slot::{BackupSlot, make_private, private};
use super::state::make_folder;
use crate::machine::Dir;
use crate::model::SystemPath;
use crate::plan::KeptFolder;

/// The name of what an action displaced, in the backups.
fn kept_name(round: u32, index: u32) -> Vec<u8> {
    format!("{round}-{index}").into_bytes()
}

/// What an action displaced, as it is kept.
pub(super) struct Kept<'a> {
    pub(super) folder: &'a KeptFolder,
    pub(super) change: u64,
    pub(super) round: u32,
    pub(super) index: u32,
    pub(super) place: &'a SystemPath,
}

impl Kept<'_> {
    /// Opens where it is kept.
    pub(super) fn open(&self, context: &ChangeContext<'_>) -> io::Result<BackupSlot> {
        match self.folder {
            KeptFolder::Aside(name) => aside::open(context, name, self.place),
            folder => {
                Ok(BackupSlot::ours(&kept_dir(context, folder, self.change)?, &kept_name(self.round, self.index)))
            }
        }
    }

    /// The same; none where nothing is kept at all. In a home what its user has put in the place of it counts as that: a user
    /// must not be able to hold a change up.
    pub(super) fn find(&self, context: &ChangeContext<'_>) -> io::Result<Option<BackupSlot>> {
        match self.open(context) {
            Err(e) if e.kind() == io::ErrorKind::NotFound => Ok(None),
            Err(e) if matches!(self.folder, KeptFolder::Aside(_)) && aside::is_anothers(&e) => Ok(None),
            other => other.map(Some),
        }
    }

    /// Opens where it is kept, and makes it when it is not there.
    pub(super) fn make(&self, context: &ChangeContext<'_>) -> io::Result<BackupSlot> {
        match self.folder {
            KeptFolder::Aside(name) => aside::make(context, name, self.place),
            folder => {
                Ok(BackupSlot::ours(&make_kept_dir(context, folder, self.change)?, &kept_name(self.round, self.index)))
            }
        }
    }
}

/// Within what a rename moves things: one mount, and on it one device (a btrfs subvolume is its own).
fn within(dir: &Dir) -> io::Result<(u64, u64)> {
    Ok((dir.disk().mount_of(dir.fd())?, dir.look_self()?.id.dev))
}

/// In which kept folder what is displaced in a folder goes: one from which moving is one rename.
pub(super) fn folder_for(context: &ChangeContext<'_>, parent: &SystemPath) -> io::Result<KeptFolder> {
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

/// Opens the kept folder of a change.
fn kept_dir(context: &ChangeContext<'_>, folder: &KeptFolder, change: u64) -> io::Result<Dir> {
    match folder {
        KeptFolder::State => context.state.sub(&format!("kept/{change}")),
        KeptFolder::Top(top) => {
            let top = private(&context.machine.dir(top)?, b".veritum-kept")?;
            Ok(top.beside(top.disk().open_dir(top.fd(), change.to_string().as_bytes())?))
        }
        // Where things are set aside each has a folder of its own.
        KeptFolder::Aside(_) => Err(io::ErrorKind::InvalidInput.into()),
    }
}

/// Opens the kept folder of a change, and makes it when it is not there.
fn make_kept_dir(context: &ChangeContext<'_>, folder: &KeptFolder, change: u64) -> io::Result<Dir> {
    match folder {
        KeptFolder::State => context.state.make_sub(&format!("kept/{change}")),
        KeptFolder::Top(top) => {
            let top = make_private(&context.machine.dir(top)?, b".veritum-kept")?;
            make_folder(&top, change.to_string().as_bytes())
        }
        KeptFolder::Aside(_) => Err(io::ErrorKind::InvalidInput.into()),
    }
}
