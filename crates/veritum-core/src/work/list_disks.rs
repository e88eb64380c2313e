//! `list disks`: disks and images, what is on them, and what can be done with it. Nothing is mounted.

use std::path::PathBuf;

use crate::devices::ext4::{FileSystem, Type};
use crate::devices::{DiskSet, DiskVolume, FatFiles, TableKind, VolumeKind};
use crate::model::{error_chain, readable};
use crate::platform::block_devices;
use crate::report::{DiskLine, DisksReport, VolumeAccess, VolumeLine};
use crate::system::WorkError;

/// Larger descriptions of a system are not read.
const MAX_TEXT: u64 = 64 << 10;

/// Lists these disks and images; without any, those of this computer.
///
/// # Errors
/// When one that was named is not a disk, or cannot be opened.
pub fn list_disks(named: &[PathBuf]) -> Result<DisksReport, WorkError> {
    let mut disks = Vec::new();
    let all = if named.is_empty() { block_devices::disks() } else { named.to_vec() };
    for path in all {
        match DiskSet::open(std::slice::from_ref(&path)) {
            Ok(set) => disks.push(disk_line(&set)),
            Err(e) if named.is_empty() => {
                let path = readable(path.as_os_str().as_encoded_bytes());
                let trouble = Some(error_chain(&e));
                disks.push(DiskLine { path, bytes: 0, table: "none".into(), trouble, volumes: Vec::new() });
            }
            Err(e) => return Err(e.into()),
        }
    }
    Ok(DisksReport { format: DisksReport::FORMAT.into(), disks })
}

fn disk_line(set: &DiskSet) -> DiskLine {
    use crate::devices::ReadAt as _;
    let disk = &set.disks[0];
    let table = match disk.table.kind {
        TableKind::Gpt => "gpt",
        TableKind::Mbr => "mbr",
        TableKind::None => "none",
    };
    let trouble = match disk.device.bytes_at(0, 512) {
        Err(e) => Some(crate::model::error_words(&e)),
        Ok(_) if disk.table.from_copy => Some("the partition table is damaged; its backup is used here".to_owned()),
        Ok(_) => None,
    };
    DiskLine {
        path: readable(disk.device.path().as_os_str().as_encoded_bytes()),
        bytes: disk.device.size(),
        table: table.into(),
        trouble,
        volumes: set.volumes.iter().map(|volume| volume_line(set, volume)).collect(),
    }
}

fn volume_line(set: &DiskSet, volume: &DiskVolume) -> VolumeLine {
    use crate::devices::ReadAt as _;
    let partition = volume.partition.as_ref();
    let found = volume.contains.as_ref();
    let is_code = partition.is_some_and(|partition| partition.kind.is_boot_code());
    let is_efi = partition.is_some_and(|partition| partition.kind.is_efi_system());
    let mounted_at = block_devices::mounted_at(set.disk_of(volume).device.path(), volume.start);
    let access = match found.map(|found| found.kind) {
        _ if !mounted_at.is_empty() => VolumeAccess::Mounted,
        _ if is_code || is_efi => VolumeAccess::Boot,
        Some(VolumeKind::Ext4) => VolumeAccess::Direct,
        Some(VolumeKind::Btrfs | VolumeKind::Xfs | VolumeKind::Vfat) => VolumeAccess::Mount,
        Some(VolumeKind::Encrypted | VolumeKind::Lvm | VolumeKind::Raid) => VolumeAccess::Open,
        _ => VolumeAccess::Nothing,
    };
    VolumeLine {
        partition: partition.map(|partition| partition.number),
        start: volume.start,
        bytes: partition.map_or_else(|| volume.bytes.size(), |partition| partition.size),
        contains: if is_code { Some("boot code".to_owned()) } else { found.map(|found| found.kind.name().to_owned()) },
        label: found.map(|found| found.label.clone()).unwrap_or_default(),
        uuid: found.map(|found| found.uuid.clone()).unwrap_or_default(),
        partition_uuid: partition.map(|partition| partition.id.clone()).unwrap_or_default(),
        mounted_at,
        system: system_on(volume),
        access,
    }
}

/// The system on a volume, or the part of one.
fn system_on(volume: &DiskVolume) -> Option<String> {
    match volume.contains.as_ref()?.kind {
        VolumeKind::Ext4 => on_ext4(&FileSystem::open_owned(&volume.bytes).ok()?),
        VolumeKind::Vfat => on_efi(&FatFiles::open(&volume.bytes).ok()?),
        _ => None,
    }
}

fn on_ext4(fs: &FileSystem<'_>) -> Option<String> {
    let text = |path: &str| {
        let inode = fs.find(path.as_bytes()).filter(|inode| inode.kind() == Type::File && inode.size <= MAX_TEXT)?;
        let mut bytes = vec![0; usize::try_from(inode.size).ok()?];
        fs.content(&inode).read_at(0, &mut bytes).ok()?;
        Some(String::from_utf8_lossy(&bytes).into_owned())
    };
    let release = text("etc/os-release").or_else(|| text("usr/lib/os-release"));
    if let Some(release) = release {
        let name = release.lines().find_map(|line| line.strip_prefix("PRETTY_NAME="));
        let name = name.unwrap_or("a system without a name").trim_matches('"').to_owned();
        let host = text("etc/hostname").map(|host| host.trim().to_owned()).filter(|host| !host.is_empty());
        let host = host.map_or_else(String::new, |host| format!("{host}: "));
        return Some(readable(format!("{host}{name}").as_bytes()));
    }
    let has = |path: &[u8]| fs.find(path).is_some();
    match () {
        () if has(b"grub") => Some("/boot of a system".to_owned()),
        () if fs.find(b"lib/dpkg").is_some() => Some("/var of a system".to_owned()),
        () => None,
    }
}

/// The folders of systems on an EFI partition.
fn on_efi(files: &FatFiles) -> Option<String> {
    let entries = files.list().ok()?;
    let below = entries.iter().filter(|entry| entry.is_folder);
    let below = below.filter_map(|entry| entry.path.split_once('/').filter(|(top, _)| top.eq_ignore_ascii_case("efi")));
    let names: Vec<&str> = below.map(|(_, name)| name).filter(|name| !name.contains('/')).collect();
    (!names.is_empty()).then(|| readable(format!("EFI: {}", names.join(", ")).as_bytes()))
}
