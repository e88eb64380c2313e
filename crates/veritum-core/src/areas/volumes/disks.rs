//! Disks and images: the partition table, and what each file system's metadata say. Only read, and without the kernel.

use std::collections::{BTreeMap, BTreeSet};
use std::path::{Path, PathBuf};
use std::time::Instant;

use super::drives;
use super::ext4;
use super::kernel_log::{self, KnownErrors};
use super::surface;
use crate::areas::{Cx, Examined, VOLUMES};
use crate::devices::ext4::{FileSystem, NotReplayed, Paths, Replayed};
use crate::devices::{
    Device, Mark, Partition, PartitionTable, RawVolume, ReadAt, TableKind, VolumeKind, Window, identify,
};
use crate::event::Observer;
use crate::machine::Volume;
use crate::model::{Action, Finding, Subject, SurfaceExtent, SystemPath, Verdict, error_chain, error_words};
use crate::plan::Left;
use crate::platform::block_devices;
use crate::platform::drives::drives_below;
use crate::platform::kernel_log::read_errors;
use crate::system::WorkError;

/// A volume of a disk, as it is examined and named.
pub(super) struct DiskVolume<'a> {
    pub(super) name: String,
    pub(super) bytes: Window<'a>,
    /// Whether another program may be writing to it: then what looks wrong is read again.
    pub(super) may_change: bool,
    /// Whether it goes on behind the end of the disk, which is a finding of its own.
    pub(super) is_cut: bool,
    /// Whether the kernel is using it.
    pub(super) in_use: bool,
    /// Where it is mounted.
    pub(super) mounted_at: Option<&'a SystemPath>,
}

impl DiskVolume<'_> {
    /// What ext4's journal has of it; nothing while the kernel is using it, and writes both.
    pub(super) fn replayed(&self) -> Result<Replayed<'_>, NotReplayed> {
        if self.in_use { Err(NotReplayed::NotNeeded) } else { Replayed::new(&self.bytes) }
    }

    /// The path of a file of a mounted file system, as the machine knows it.
    pub(super) fn place(&self, paths: &Paths, inode: u32) -> Option<SystemPath> {
        let names = paths.of(inode);
        self.mounted_at?.join(names.first()?.strip_prefix(b"/")?).ok()
    }

    /// A finding about the volume, or about a part of it.
    pub(super) fn finding(
        &self,
        part: Option<&str>,
        verdict: Verdict,
        cause: String,
        action: Option<Action>,
    ) -> Finding {
        match self.mounted_at {
            Some(place) if part.is_none() => {
                Finding { cause: Some(cause), action, ..Finding::on_path(VOLUMES, place, verdict) }
            }
            _ => finding(&self.name, part, verdict, cause, action),
        }
    }
}

/// Examines the metadata of a mounted file system, if it is ext4 and its device can be read.
pub(super) fn examine_mounted(cx: &Cx<'_>, volume: &Volume, examined: &mut Examined) {
    let (pool, observer): (&rayon::ThreadPool, _) = (&cx.system.pool, cx.observer);
    let Some(path) = volume.mounted.as_ref().and_then(|mounted| mounted.device.as_ref()) else {
        return examined.note_extent(format!("the metadata of {} were not read", volume.place));
    };
    let device = match Device::open(path) {
        Ok(device) => device,
        Err(e) => return examined.leave_out(format!("the metadata of {}: {}", volume.place, error_chain(&e))),
    };
    let bytes = Window::new(&device, 0, device.size());
    let name = volume.place.to_string();
    let mounted_at = Some(&volume.place);
    let counted = |f: &Finding| f.verdict == Verdict::ErrorsRecorded && f.subject.as_path() == mounted_at;
    let earlier = examined.findings.iter().position(counted);
    let (before, known) = (examined.coverage.examined, examined.findings.len());
    let mounted = DiskVolume { name, bytes, may_change: true, is_cut: false, in_use: true, mounted_at };
    ext4::examine(&mounted, pool, observer, examined);
    examined.coverage.examined = before;
    // The superblock says more than the kernel's counter, but may not be written yet.
    if let Some(earlier) = earlier.filter(|_| examined.findings[known..].iter().any(counted)) {
        examined.findings.remove(earlier);
    }
}

/// Names what of a mounted file system cannot be read, if it is ext4 and its device can be read: by the kernel's log, and by reading its
/// surface, if that is wanted.
pub(super) fn examine_contents(cx: &Cx<'_>, volume: &Volume, errors: &KnownErrors, examined: &mut Examined) {
    let path = volume.mounted.as_ref().and_then(|mounted| mounted.device.as_ref());
    let Some(path) = path.filter(|_| !errors.is_empty() || cx.scope.surface.is_some()) else { return };
    let Ok(device) = Device::open(path) else { return };
    let (name, bytes) = (volume.place.to_string(), Window::new(&device, 0, device.size()));
    let mounted =
        DiskVolume { name, bytes, may_change: true, is_cut: false, in_use: true, mounted_at: Some(&volume.place) };
    kernel_log::examine(&mounted, path, 0, errors, examined);
    if let Some(extent) = cx.scope.surface {
        let settings = &cx.system.settings;
        let how = (settings.notes.as_deref(), settings.now.as_second(), settings.ignore_disk_errors);
        read_surface(&mounted, FileSystem::open(&bytes).ok().as_ref(), extent, how, cx.observer, examined);
    }
}

/// What of disks and images is examined.
#[derive(Debug, Clone, Default)]
pub struct DisksWanted {
    /// Their paths.
    pub disks: Vec<PathBuf>,
    /// How much of their surface is read, beside the metadata.
    pub surface: Option<SurfaceExtent>,
    /// Whether it is read although errors were recorded: reading can be the last thing that a failing disk does.
    pub ignore_disk_errors: bool,
    /// The administrator's folder of notes: with it, reading a surface is continued where it was interrupted.
    pub notes: Option<PathBuf>,
    /// The time, in seconds since 1970.
    pub now: i64,
}

impl DisksWanted {
    /// The disks from which a machine is read that is not mounted.
    pub(super) fn of_settings(cx: &Cx<'_>) -> Self {
        let settings = &cx.system.settings;
        Self {
            disks: settings.disks.clone(),
            surface: cx.scope.surface,
            ignore_disk_errors: settings.ignore_disk_errors,
            notes: settings.notes.clone(),
            now: settings.now.as_second(),
        }
    }
}

/// Examines disks and images.
///
/// # Errors
/// When one cannot be opened: it is not a disk, or cannot be read.
pub fn examine_disks(
    wanted: &DisksWanted,
    pool: &rayon::ThreadPool,
    observer: &dyn Observer,
) -> Result<Examined, WorkError> {
    let begun = Instant::now();
    let opened = wanted.disks.iter().map(|path| Device::open(path)).collect::<Result<Vec<_>, _>>()?;
    let mut examined = Examined::new(VOLUMES);
    let has_devices = opened.iter().any(Device::is_block);
    let now = if has_devices { read_errors().unwrap_or_default() } else { BTreeSet::new() };
    let errors = KnownErrors { now, ..KnownErrors::default() };
    let mut drives = BTreeMap::new();
    for device in &opened {
        examine(device, (wanted, &errors), pool, observer, &mut examined);
        drives.extend(drives_below(device.path()).into_iter().map(|drive| (drive, true)));
    }
    drives::examine(&drives, true, &mut examined);
    let left = |finding: &Finding| {
        let is_drives = finding.verdict == Verdict::Failing;
        let why = if is_drives { drives::WHY } else { "Veritum does not change file systems" };
        Left::new(finding, why.into(), finding.action.clone())
    };
    examined.left = examined.problems().map(left).collect();
    // Where nothing could be examined, nothing is sound.
    examined.coverage.incomplete = examined.coverage.examined == 0;
    examined.took(begun);
    Ok(examined)
}

/// What is wanted, and what the kernel could not read.
type Wanted<'a> = (&'a DisksWanted, &'a KnownErrors);

fn examine(
    device: &Device,
    wanted: Wanted<'_>,
    pool: &rayon::ThreadPool,
    observer: &dyn Observer,
    examined: &mut Examined,
) {
    let disk = shown(device.path());
    if let Err(e) = device.bytes_at(0, 512).map(drop) {
        examined.leave_out(format!("the beginning of {disk}: {}", error_words(&e)));
    }
    // A disk without a table is one volume. The boot sector of a file system can look like a table.
    let whole = identify(device);
    let table = if whole.is_some() { None } else { Some(PartitionTable::read(device)) };
    let (may_change, in_use) = (device.is_block(), block_devices::in_use(device.path(), 0));
    let Some(table) = table else {
        let bytes = Window::new(device, 0, device.size());
        let volume = DiskVolume { name: disk, bytes, may_change, is_cut: false, in_use, mounted_at: None };
        examine_volume(&volume, whole, pool, observer, examined);
        return read(device, &volume, wanted, observer, examined);
    };
    if table.kind == TableKind::None {
        examined.leave_out(format!("{disk} contains no partition table and no file system that is known here"));
        let bytes = Window::new(device, 0, device.size());
        let volume = DiskVolume { name: disk, bytes, may_change, is_cut: false, in_use, mounted_at: None };
        return read(device, &volume, wanted, observer, examined);
    }
    if table.from_copy {
        let cause = "the table at the beginning of the disk is damaged, and the copy at its end is valid".to_owned();
        let action =
            "write the table again from its copy with the partition editor, before anything else is changed".into();
        examined.findings.push(finding(&disk, Some("partition table"), Verdict::Corrupt, cause, Some(action)));
    }
    if table.partitions.is_empty() {
        examined.leave_out(format!("{disk}: its partition table names no partition"));
    }
    for partition in table.partitions.iter().filter(|partition| !partition.kind.is_boot_code()) {
        let (name, bytes) = (format!("{disk} partition {}", partition.number), partition.on(device));
        let is_cut = bytes.size() < partition.size;
        let in_use = block_devices::in_use(device.path(), partition.start);
        let volume = DiskVolume { name, bytes, may_change, is_cut, in_use, mounted_at: None };
        if is_cut {
            examined.findings.push(cut_off(&volume.name, partition, device));
        }
        examine_volume(&volume, identify(&volume.bytes), pool, observer, examined);
        read(device, &volume, wanted, observer, examined);
    }
}

/// A partition that goes on behind the end of the disk.
fn cut_off(name: &str, partition: &Partition, device: &Device) -> Finding {
    let (end, there) = ((partition.start + partition.size) >> 20, device.size() >> 20);
    let cause = format!("it would end {end} MiB after the beginning of the disk, which has {there} MiB");
    finding(name, None, Verdict::Truncated, cause, Some(copy_of_all()))
}

/// Names what lies in the gaps of an image, and reads the surface of a volume, if that is wanted.
fn read(
    device: &Device,
    volume: &DiskVolume<'_>,
    (wanted, errors): Wanted<'_>,
    observer: &dyn Observer,
    examined: &mut Examined,
) {
    let replayed = volume.replayed().ok();
    let fs = FileSystem::open_with(&volume.bytes, replayed.as_ref()).ok();
    if device.is_block() {
        kernel_log::examine(volume, device.path(), volume.bytes.start(), errors, examined);
    }
    surface::name_gaps(volume, fs.as_ref(), &volume.bytes.own(device.gaps()), examined);
    let how = (wanted.notes.as_deref(), wanted.now, wanted.ignore_disk_errors);
    if let Some(extent) = wanted.surface {
        read_surface(volume, fs.as_ref(), extent, how, observer, examined);
    }
}

/// Reads the surface of a volume, unless errors were recorded and are not ignored.
fn read_surface(
    volume: &DiskVolume<'_>,
    fs: Option<&FileSystem<'_>>,
    extent: SurfaceExtent,
    (notes, now, ignore_disk_errors): (Option<&Path>, i64, bool),
    observer: &dyn Observer,
    examined: &mut Examined,
) {
    if examined.stopped {
        return;
    }
    let has_errors = fs.is_some_and(|fs| fs.superblock.errors > 0 || fs.superblock.marked);
    if has_errors && !ignore_disk_errors {
        let name = &volume.name;
        return examined.leave_out(format!(
            "the surface of {name}: errors are recorded, and reading all of a failing disk can end it; \
             copy the users' files to another disk first (veritum rescue --to DIR), then add --ignore-disk-errors"
        ));
    }
    surface::examine(volume, fs, extent, (notes, now), observer, examined);
}

fn examine_volume(
    volume: &DiskVolume<'_>,
    known: Option<RawVolume>,
    pool: &rayon::ThreadPool,
    observer: &dyn Observer,
    examined: &mut Examined,
) {
    let name = &volume.name;
    let Some(known) = known else {
        return examined.leave_out(format!("{name} contains nothing that is known here"));
    };
    match known.kind {
        VolumeKind::Ext4 => ext4::examine(volume, pool, observer, examined),
        VolumeKind::Btrfs | VolumeKind::Xfs | VolumeKind::Vfat => {
            examined.coverage.examined += 1;
            let marks = known.marks(&volume.bytes);
            examined.findings.extend(marks.iter().map(|mark| marked(name, mark)));
            examined.note_extent(format!("of {name} ({}) only the superblocks were examined", known.kind.name()));
        }
        VolumeKind::Swap => examined.note_extent(format!("{name} is swap space, in which nothing was examined")),
        VolumeKind::Encrypted => examined.leave_out(format!("{name} is encrypted")),
        VolumeKind::Lvm | VolumeKind::Raid => {
            examined.leave_out(format!("{name} is part of a volume group or an array ({})", known.kind.name()));
        }
        other => examined.leave_out(format!("{name} contains {}, which is not examined", other.name())),
    }
}

/// What a superblock says about the state of its file system.
fn marked(name: &str, mark: &Mark) -> Finding {
    match mark {
        Mark::Errors => {
            let cause = "marked with errors by the kernel".to_owned();
            finding(name, None, Verdict::ErrorsRecorded, cause, Some(check_it()))
        }
        Mark::NeedsRepair => {
            let cause = "marked as damaged: it is not mounted before it was repaired".to_owned();
            finding(name, None, Verdict::ErrorsRecorded, cause, Some(check_it()))
        }
        Mark::NotClean => {
            let cause = "not unmounted cleanly, or still mounted".to_owned();
            finding(name, None, Verdict::NotUnmounted, cause, None)
        }
        Mark::Damaged(what) => {
            let cause = "its checksum is wrong, or it cannot be read".to_owned();
            finding(name, Some(what), Verdict::Corrupt, cause, Some(check_it()))
        }
        Mark::Differs(what) => finding(name, Some(what), Verdict::Inconsistent, "they differ".into(), Some(check_it())),
    }
}

/// A finding about a volume, or about a part of it.
pub(super) fn finding(
    volume: &str,
    part: Option<&str>,
    verdict: Verdict,
    cause: String,
    action: Option<Action>,
) -> Finding {
    let name = part.map_or_else(|| volume.to_owned(), |part| format!("{volume}: {part}"));
    Finding { cause: Some(cause), action, ..Finding::on(VOLUMES, Subject::Volume { name }, verdict) }
}

/// What to do about damaged metadata of a file system that is mounted.
pub(super) fn check_at_start() -> Action {
    let words = "users' files to another disk first (veritum rescue --to DIR); then have it checked at the next start";
    Action::explained(words, "veritum repair volumes".to_owned())
}

/// What to do about damaged metadata of an ext4 file system that is not mounted.
pub(super) fn correct_it() -> Action {
    "users' files to another disk first (veritum rescue --to DIR --disk DISK); then let its own check correct it (veritum repair volumes --disk DISK)"
        .into()
}

/// What to do about damaged metadata of other file systems.
pub(super) fn check_it() -> Action {
    "users' files to another disk first (veritum rescue --to DIR); then let the file system's own check (fsck) repair it, unmounted"
        .into()
}

fn copy_of_all() -> Action {
    "copy what is still readable to another disk; the rest is on a larger disk, or lost".into()
}

/// A disk's name for people: control characters are shown as such.
pub(super) fn shown(path: &Path) -> String {
    use std::os::unix::ffi::OsStrExt as _;
    crate::model::readable(path.as_os_str().as_bytes())
}
