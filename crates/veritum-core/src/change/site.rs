//! [`SwapSite`]: the place of one action, and the exchange of the staged object with the existing one.
//!
//! Where the kernel can exchange two names in one step (`RENAME_EXCHANGE`), it does. Elsewhere a file or symlink gets a second
//! name first and is then replaced, so that its own name always exists; a folder cannot have a
//! second name, so for the moment between two renames its place is empty. [`SwapSite::settle`] brings what an interruption
//! left of either way to one of two states: before the exchange, or after it.

use std::io;

use rustix::io::Errno;

use super::committed::{Committed, staged_name};
use super::context::ChangeContext;
use super::moves::{Attempt, Caution, is_errno, move_to_free, or_reason, second_name, unknown_here};
use super::slot::BackupSlot;
use crate::machine::{Dir, Exchange};
use crate::model::{FileKind, Stat, SystemPath};
use crate::plan::PlannedAction;

pub(super) const CHANGED: &str = "changed since it was checked";
const TAKEN: &str = "replaced by another program at that moment; the previous file is kept";
pub(super) const MOVED: &str = "its folder was moved during the change; the file was left there unchanged";
pub(super) const TAKEN_AWAY: &str = "removed by another program during the change";
pub(super) const GONE: &str = "its folder no longer exists";

/// The end of the displaced object's second name.
pub(super) const ASIDE: &[u8] = b"-out";

/// The place of one action.
pub(super) struct SwapSite {
    pub(super) dir: Dir,
    pub(super) name: Vec<u8>,
    /// The staged object before the exchange, the displaced object after it.
    pub(super) temp: Vec<u8>,
    /// The displaced object's second name, on a file system that cannot exchange.
    pub(super) aside: Vec<u8>,
}

impl SwapSite {
    /// Opens an action's folder, and settles what an interruption left there; `None` when the folder no longer exists.
    pub(super) fn open(
        context: &ChangeContext<'_>,
        committed: &Committed<'_>,
        action: &PlannedAction,
    ) -> io::Result<Option<Self>> {
        let parent = action.place.parent().unwrap_or_else(SystemPath::root);
        // Protection is checked again, by the last code before the disk: a change log is foreign bytes.
        if let Some(reason) = context.protection.reason(&action.place) {
            return Err(io::Error::new(io::ErrorKind::PermissionDenied, reason));
        }
        let Some(dir) = committed.folders.get(context, &parent)? else { return Ok(None) };
        // What is mounted there now belongs to someone else, whatever the log says.
        if context.machine.extent().judge(&dir)?.is_err() {
            let why = format!("another file system is mounted on {parent}");
            return Err(io::Error::new(io::ErrorKind::PermissionDenied, why));
        }
        let temp = staged_name(committed.change, committed.round, action.index);
        let aside = [temp.as_slice(), ASIDE].concat();
        let site = Self { dir, name: action.place.entry().to_vec(), temp, aside };
        site.settle()?;
        Ok(Some(site))
    }

    /// The objects at the staged name and at the place itself.
    pub(super) fn looks(&self) -> io::Result<(Option<Stat>, Option<Stat>)> {
        Ok((self.dir.look(&self.temp)?, self.dir.look(&self.name)?))
    }

    fn rename(&self, from: &[u8], to: &[u8], how: Exchange) -> io::Result<()> {
        self.dir.disk().rename(self.dir.fd(), from, self.dir.fd(), to, how)
    }

    /// Moves within the folder to a free name.
    pub(super) fn free_move(&self, from: &[u8], to: &[u8], caution: Caution) -> Attempt {
        or_reason(move_to_free(&self.dir, from, &self.dir, to, caution))
    }

    /// Exchanges the staged object with the existing one, if that is still `expected`.
    pub(super) fn swap(&self, expected: &Stat, caution: Caution) -> Attempt {
        match self.rename(&self.temp, &self.name, Exchange::Swap) {
            Err(e) if unknown_here(&e) => return self.swap_by_names(expected, caution),
            other => {
                if let Err(why) = or_reason(other)? {
                    return Ok(Err(why));
                }
            }
        }
        if !same_thing(expected, &self.dir.disk().look(self.dir.fd(), &self.temp)?) {
            // Another program changed it between the look and the exchange: it is restored.
            self.rename(&self.temp, &self.name, Exchange::Swap)?;
            return Ok(Err(CHANGED.into()));
        }
        Ok(Ok(()))
    }

    fn swap_by_names(&self, expected: &Stat, caution: Caution) -> Attempt {
        let disk = self.dir.disk();
        let staged = disk.look(self.dir.fd(), &self.temp)?;
        if expected.kind == FileKind::Folder || staged.kind == FileKind::Folder {
            return self.swap_by_gap(expected, caution);
        }
        if let Err(why) = or_reason(second_name(&self.dir, &self.name, &self.dir, &self.aside))? {
            return Ok(Err(why));
        }
        if !same_thing(expected, &disk.look(self.dir.fd(), &self.aside)?) {
            disk.unlink(self.dir.fd(), &self.aside)?;
            return Ok(Err(CHANGED.into()));
        }
        // The second name must be durable before the first is replaced: not every file system keeps the order.
        disk.sync(self.dir.fd())?;
        self.rename(&self.temp, &self.name, Exchange::Replace)?;
        self.rename(&self.aside, &self.temp, Exchange::Replace)?;
        Ok(Ok(()))
    }

    fn swap_by_gap(&self, expected: &Stat, caution: Caution) -> Attempt {
        // Over a free name of ours: any file system can do that.
        self.rename(&self.name, &self.aside, Exchange::Replace)?;
        let out = self.dir.disk().look(self.dir.fd(), &self.aside)?;
        if !same_thing(expected, &out) {
            self.rename_back()?;
            return Ok(Err(CHANGED.into()));
        }
        if let Err(e) = move_to_free(&self.dir, &self.temp, &self.dir, &self.name, caution) {
            if is_errno(&e, Errno::EXIST) {
                return Ok(Err(TAKEN.into()));
            }
            self.rename_back()?;
            return or_reason(Err(e));
        }
        self.rename(&self.aside, &self.temp, Exchange::Replace)?;
        Ok(Ok(()))
    }

    /// Back from the second name, if the first is still free.
    fn rename_back(&self) -> io::Result<()> {
        match self.dir.look(&self.name)? {
            None => self.rename(&self.aside, &self.name, Exchange::Replace),
            Some(_) => Err(Errno::EXIST.into()),
        }
    }

    /// Settles an interrupted exchange by names to the state before it, or after it.
    fn settle(&self) -> io::Result<()> {
        BackupSlot::ours(&self.dir, &self.temp).discard_part()?;
        let disk = self.dir.disk();
        let (temp, there) = self.looks()?;
        let Some(aside) = self.dir.look(&self.aside)? else {
            return match (temp, there) {
                // A move in either direction had created the second name and not removed the first.
                (Some(temp), Some(there)) if temp.id == there.id => disk.unlink(self.dir.fd(), &self.temp),
                _ => Ok(()),
            };
        };
        match (temp, there) {
            (_, Some(there)) if there.id == aside.id => disk.unlink(self.dir.fd(), &self.aside),
            (Some(temp), _) if temp.id == aside.id => disk.unlink(self.dir.fd(), &self.aside),
            // The replacement is in its place, by both its names or by one.
            (Some(temp), Some(there)) if temp.id == there.id => {
                disk.unlink(self.dir.fd(), &self.temp)?;
                self.rename(&self.aside, &self.temp, Exchange::Replace)
            }
            (None, _) => self.rename(&self.aside, &self.temp, Exchange::Replace),
            (Some(_), None) => self.rename_back(),
            // Another program's object is there: it stays, and the displaced object goes to the backups.
            (Some(_), Some(_)) => Ok(()),
        }
    }
}

/// Whether the displaced object is the expected one. Renaming changes the change time, so that does not count.
fn same_thing(expected: &Stat, found: &Stat) -> bool {
    (expected.id, expected.kind) == (found.id, found.kind)
        && (expected.kind != FileKind::File || (expected.size, expected.mtime) == (found.size, found.mtime))
}
