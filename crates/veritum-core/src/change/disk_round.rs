//! Writing bytes of a disk as a part of a change.

use super::ChangeError;
use super::disk_write::{self, RangeBytes};
use super::journal::DISK_FORMAT;
use super::record::Record;
use super::round::OpenChange;
use crate::model::{ActionKind, error_words};
use crate::plan::{ActionKey, DiskWrite};

impl OpenChange<'_> {
    /// Writes bytes of a disk: what is there is kept and the intent recorded before, what was written is read back. Returns the reason if it
    /// failed; then what was there is there.
    ///
    /// # Errors
    /// When it cannot be kept or recorded, or could neither be completed nor undone.
    pub fn write_disk(
        &mut self,
        write: DiskWrite,
        (old, new): (&RangeBytes, &RangeBytes),
        (subject, reverts): (&str, Option<ActionKey>),
    ) -> Result<Option<String>, ChangeError> {
        let disk = match self.context.disks.open(&write.disk, write.only_start) {
            Ok(disk) => disk,
            Err(why) => return Ok(Some(why)),
        };
        match disk_write::first_other(&*disk, &write.ranges, |range| range.old) {
            Ok(None) => {}
            Ok(Some(at)) => return Ok(Some(format!("byte {at} and what follows changed since it was examined"))),
            Err(e) => return Ok(Some(error_words(&e))),
        }
        let write = DiskWrite { kept: format!("kept/{}/disk-{}", self.number, self.writes + 1), ..write };
        self.writes += 1;
        let number = self.number;
        disk_write::prepare(self.context.state, &write, old, new).map_err(|source| {
            disk_write::discard_new(self.context.state, &write);
            self.context.state.failed(source)
        })?;
        let record = Record::Disk {
            format: DISK_FORMAT.into(),
            what: ActionKind::WriteDisk.word().into(),
            subject: subject.to_owned(),
            write: Box::new(write.clone()),
            reverts,
        };
        let unfinished = |source| ChangeError::Unfinished { change: number, source };
        self.record(&record).map_err(unfinished)?;
        let failed = disk_write::carry_out(&*disk, &write, old, new).map_err(unfinished)?.err();
        self.record(&Record::DiskDone { failed: failed.clone() }).map_err(unfinished)?;
        disk_write::discard_new(self.context.state, &write);
        Ok(failed)
    }
}
