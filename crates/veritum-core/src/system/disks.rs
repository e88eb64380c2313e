//! [`LiveDisks`]: the disks and images that changes write to, wherever they are by now.

use std::collections::HashMap;
use std::ffi::OsStr;
use std::os::unix::ffi::OsStrExt as _;
use std::path::PathBuf;
use std::sync::Arc;

use super::System;
use crate::change::{Disks, RangeBytes, first_other, old_bytes};
use crate::devices::{Device, ReadAt, WritableDevice, WriteAt};
use crate::model::{SystemPath, error_chain, error_words};
use crate::plan::{DiskIdentity, DiskWrite, FirmwareChange, ToolChange, VariableChange};
use crate::platform::block_devices::in_use;
use crate::platform::efi_variables::FirmwareVariables;

/// The disks of this computer, and images.
#[derive(Debug, Clone)]
pub struct LiveDisks {
    /// Those that were named; if there are none, a disk is looked for where it was.
    named: Vec<PathBuf>,
    firmware: FirmwareVariables,
}

/// Why a disk is not written that something uses.
const IN_USE: &str = "a file system on it is mounted, or something else uses it";

impl LiveDisks {
    /// With the disks that were named in this run, and the firmware that starts the machine.
    #[must_use]
    pub fn new(named: Vec<PathBuf>, firmware: FirmwareVariables) -> Self {
        Self { named, firmware }
    }

    /// Where a disk is now.
    fn find(&self, disk: &DiskIdentity) -> Result<(PathBuf, Arc<dyn ReadAt>), String> {
        let recorded = [PathBuf::from(OsStr::from_bytes(disk.path.as_bytes()))];
        let candidates = if self.named.is_empty() { &recorded[..] } else { &self.named };
        let mut why = None;
        for path in candidates {
            match Device::open(path) {
                Ok(device) => {
                    let device: Arc<dyn ReadAt> = Arc::new(device);
                    if disk.is_of(&device) {
                        return Ok((path.clone(), device));
                    }
                    why.get_or_insert_with(|| {
                        format!("{} is another disk: name the right one with --disk", path.display())
                    });
                }
                Err(e) => why = Some(format!("{}: name it with --disk", error_chain(&e))),
            }
        }
        Err(why.unwrap_or_default())
    }
}

impl Disks for LiveDisks {
    fn open(&self, disk: &DiskIdentity, only_start: bool) -> Result<Arc<dyn WriteAt>, String> {
        let (path, _) = self.find(disk)?;
        if !only_start && in_use(&path, 0) {
            return Err(IN_USE.to_owned());
        }
        let open = WritableDevice::open(&path).map_err(|e| error_chain(&e))?;
        Ok(Arc::new(open))
    }

    fn firmware(&self) -> FirmwareVariables {
        self.firmware.clone()
    }
}

impl System {
    /// The change that writes back what another one wrote over; `earlier` are inverses that are carried out before.
    pub(super) fn disk_inverse(&self, write: &DiskWrite, earlier: &[&ToolChange]) -> Result<DiskWrite, String> {
        let state = self.state().map_err(|e| error_chain(&e))?.ok_or("the state folder is missing")?;
        if old_bytes(&state, write).is_none() {
            return Err("what was there is not kept any more, or damaged".to_owned());
        }
        let (path, disk) = self.live_disks.find(&write.disk)?;
        let is_undone = |at: u64, size: u64| {
            let writes = earlier
                .iter()
                .filter_map(|change| if let ToolChange::Disk(write) = change { Some(write) } else { None });
            writes.flat_map(|write| &write.ranges).any(|other| other.at < at + size && at < other.at + other.size)
        };
        let standing: Vec<_> = write.ranges.iter().filter(|range| !is_undone(range.at, range.size)).cloned().collect();
        match first_other(&*disk, &standing, |range| range.new).map_err(|e| error_words(&e))? {
            Some(at) => Err(format!("byte {at} of it and what follows changed since")),
            None => {
                let mut back = write.inverse();
                // It can be another one by now.
                back.disk.path = SystemPath::parse(path.as_os_str().as_bytes()).unwrap_or(back.disk.path);
                Ok(back)
            }
        }
    }

    /// The change of the firmware that undoes another one; `earlier` are inverses that are carried out before.
    pub(super) fn firmware_inverse(
        &self,
        change: &FirmwareChange,
        earlier: &[&ToolChange],
    ) -> Result<FirmwareChange, String> {
        let planned = |name: &str| {
            earlier.iter().rev().find_map(|earlier| match earlier {
                ToolChange::Firmware(earlier) => earlier.variables.iter().find(|one| one.name == name),
                _ => None,
            })
        };
        let mut now = HashMap::new();
        for VariableChange { name, .. } in &change.variables {
            let is = match planned(name) {
                Some(planned) => planned.after.clone(),
                None => self.live_disks.firmware.read(name).map_err(|e| error_words(&e))?,
            };
            now.insert(name.as_str(), is);
        }
        let inverse = change.inverse(&|name| now.get(name).cloned().flatten());
        inverse.ok_or_else(|| "the firmware's entries changed since, or this is another computer".to_owned())
    }

    /// What is there now, and what was there before a change: what writing it back needs.
    ///
    /// # Errors
    /// When the disk cannot be read, or what was there is not kept any more.
    pub fn bytes_back(&self, original: &DiskWrite) -> Result<(RangeBytes, RangeBytes), String> {
        let state = self.state().map_err(|e| error_chain(&e))?.ok_or("the state folder is missing")?;
        let kept = old_bytes(&state, original).ok_or("what was there is not kept any more, or damaged")?;
        let (_, disk) = self.live_disks.find(&original.disk)?;
        let read = |(at, size): (u64, usize)| disk.bytes_at(at, size).map_err(|e| error_words(&e));
        let now: Result<RangeBytes, String> =
            original.ranges.iter().zip(&kept).map(|(range, kept)| read((range.at, kept.len()))).collect();
        Ok((now?, kept))
    }
}
