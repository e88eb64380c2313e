//! [`Folders`]: the folders in which a round works.
//!
//! A home's owner may at any time move a folder and put another in its place. So there each folder stays open
//! from the plan of a round to its end, and temporary names within it are found again wherever the folder is.
//! After an interruption, without handles, the folder is found by names that only this round uses.

use std::cell::RefCell;
use std::collections::HashMap;
use std::io;

use super::context::{ChangeContext, folder};
use crate::machine::Dir;
use crate::model::{FileKind, SystemPath};

/// The number of names of a home that are searched, and the depth.
const MAX_NAMES: usize = 500_000;
const MAX_DEPTH: usize = 40;

/// See the module.
#[derive(Default)]
pub(super) struct Folders {
    held: RefCell<HashMap<SystemPath, Dir>>,
}

impl Folders {
    /// Opens a folder; in a home the one that was opened first. `None` when it no longer exists, or another object is in its place.
    pub(super) fn get(&self, context: &ChangeContext<'_>, place: &SystemPath) -> io::Result<Option<Dir>> {
        if let Some(held) = self.held.borrow().get(place) {
            return Ok(Some(held.clone()));
        }
        let opened = folder(context, place)?;
        if let (Some(dir), Some(_)) = (&opened, context.home) {
            self.held.borrow_mut().insert(place.clone(), dir.clone());
        }
        Ok(opened)
    }

    /// Whether the open folder is no longer the one at its place.
    pub(super) fn was_moved(&self, context: &ChangeContext<'_>, place: &SystemPath) -> io::Result<bool> {
        let Some(held) = self.held.borrow().get(place).cloned() else { return Ok(false) };
        let Some(now) = folder(context, place)? else { return Ok(true) };
        Ok(now.look_self()?.id != held.look_self()?.id)
    }

    /// Searches the home for the folder that was at `place`, by names that a round created in it; keeps it open if found.
    pub(super) fn find(&self, context: &ChangeContext<'_>, place: &SystemPath, given: &[Vec<u8>]) -> io::Result<()> {
        let Some(home) = context.home else { return Ok(()) };
        let mut left = MAX_NAMES;
        if let Some(found) = search(&context.machine.dir(&home.place)?, given, MAX_DEPTH, &mut left) {
            self.held.borrow_mut().insert(place.clone(), found);
        }
        Ok(())
    }
}

/// The first folder below one that contains any of these names; folders that cannot be read are skipped.
fn search(dir: &Dir, given: &[Vec<u8>], depth: usize, left: &mut usize) -> Option<Dir> {
    let names = dir.disk().list(dir.fd()).ok()?;
    if names.iter().any(|(name, _)| given.contains(name)) {
        return Some(dir.clone());
    }
    for (name, kind) in names {
        *left = left.checked_sub(1)?;
        if kind != Some(FileKind::Folder) || depth == 0 {
            continue;
        }
        let below = dir.disk().open_dir(dir.fd(), &name).map(|fd| dir.beside(fd));
        if let Some(found) = below.ok().and_then(|below| search(&below, given, depth - 1, left)) {
            return Some(found);
        }
    }
    None
}
