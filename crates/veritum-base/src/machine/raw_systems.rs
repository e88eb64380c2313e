//! Installed systems on disks that are not mounted: where they are, and which of them a disk starts.

use crate::devices::ext4::{FileSystem, Type};
use crate::devices::{DiskSet, FatFiles, ReadAt as _, VolumeKind};
use crate::formats::boot::core_image::MAX_IMAGE;
use crate::formats::boot::menu::searched_file_system;
use crate::formats::boot::mounts::fstab;
use crate::formats::numbers::le64;

/// The package database below a root.
const DATABASE: &[u8] = b"var/lib/dpkg/status";

/// The volumes with the root of an installed system: the positions of ext4 file systems with a package database, or with a list of file
/// systems by which one of the others here contains it.
#[must_use]
pub fn raw_systems(set: &DiskSet) -> Vec<usize> {
    let holds_system = |fs: &FileSystem<'_>| {
        if fs.find(b"etc").is_none() || fs.find(b"var").is_none() {
            return false;
        }
        let elsewhere = || {
            let text = small_file(fs, b"etc/fstab").unwrap_or_default();
            mounts_of(&text).into_iter().any(|(device, place)| {
                let rest = DATABASE.strip_prefix(&place[1..]).and_then(|rest| rest.strip_prefix(b"/"));
                let other = rest.and_then(|rest| Some((ext4(set, set.named(&device)?)?, rest)));
                other.is_some_and(|(other, rest)| other.find(rest).is_some())
            })
        };
        fs.find(DATABASE).is_some() || elsewhere()
    };
    (0..set.volumes.len()).filter(|at| ext4(set, *at).is_some_and(|fs| holds_system(&fs))).collect()
}

fn ext4(set: &DiskSet, at: usize) -> Option<FileSystem<'static>> {
    let volume = set.volumes.get(at)?;
    let is_ext4 = volume.contains.as_ref().is_some_and(|found| found.kind == VolumeKind::Ext4);
    FileSystem::open_owned(&volume.bytes).ok().filter(|_| is_ext4)
}

/// The content of a file of at most 1 MiB.
pub(super) fn small_file(fs: &FileSystem<'_>, path: &[u8]) -> Option<Vec<u8>> {
    const MAX: u64 = 1 << 20;
    let inode = fs.find(path).filter(|inode| inode.kind() == Type::File && inode.size <= MAX)?;
    let mut bytes = vec![0; usize::try_from(inode.size).ok()?];
    fs.content(&inode).read_at(0, &mut bytes).ok()?;
    Some(bytes)
}

/// The devices and mount points of fstab(5), those above others first.
pub(super) fn mounts_of(text: &[u8]) -> Vec<(String, Vec<u8>)> {
    let mounts = fstab(text).0.into_iter().filter(|mount| mount.place.starts_with(b"/") && mount.place != b"/");
    let mut found: Vec<_> = mounts.map(|mount| (mount.device, mount.place)).collect();
    found.sort_by_key(|(_, place)| place.iter().filter(|byte| **byte == b'/').count());
    found
}

/// GRUB's folder on an ext4 file system.
#[derive(Debug)]
pub struct LoaderFolder {
    /// The position of its volume.
    pub volume: usize,
    /// Its copy of the core image that was written to the disk's boot code.
    core: Option<Vec<u8>>,
}

/// Where GRUB's folder is, from the root of a file system, or of one for /boot.
const FOLDERS: [&str; 4] = ["boot/grub", "grub", "boot/grub2", "grub2"];

/// GRUB's folders on the disks.
#[must_use]
pub fn loader_folders(set: &DiskSet) -> Vec<LoaderFolder> {
    let on = |volume: usize| {
        let fs = ext4(set, volume)?;
        let folder = FOLDERS.iter().find(|folder| fs.find(folder.as_bytes()).is_some())?;
        let core = small_file(&fs, format!("{folder}/i386-pc/core.img").as_bytes());
        Some(LoaderFolder { volume, core })
    };
    (0..set.volumes.len()).filter_map(on).collect()
}

impl LoaderFolder {
    /// Whether the boot code of a disk, given by its position, was written from this folder's copy.
    #[must_use]
    pub fn is_on(&self, set: &DiskSet, disk: usize) -> bool {
        // Where the first sector says that the image is; the image's first two sectors are changed when it is written.
        const PLACE: usize = 0x5c;
        const WRITTEN: usize = 1024;
        let Some(rest) = self.core.as_ref().and_then(|core| core.get(WRITTEN..)).filter(|rest| rest.len() > WRITTEN)
        else {
            return false;
        };
        let device = &set.disks[disk].device;
        let at = device.bytes_at(0, 512).map(|first| le64(&first, PLACE).saturating_mul(512));
        let read = at.and_then(|at| device.bytes_at(at.saturating_add(WRITTEN as u64), rest.len().min(MAX_IMAGE)));
        read.is_ok_and(|read| read == rest)
    }
}

/// The ext4 file system for /boot on a disk, given by its position, if there is exactly one: with GRUB's folder and no root of a system.
#[must_use]
pub fn boot_volume(set: &DiskSet, disk: usize) -> Option<usize> {
    let is = |at: &usize| {
        let is_boot = |fs: FileSystem<'_>| {
            FOLDERS.iter().any(|folder| !folder.contains('/') && fs.find(folder.as_bytes()).is_some())
                && fs.find(b"etc").is_none()
        };
        set.volumes[*at].disk == disk && ext4(set, *at).is_some_and(is_boot)
    };
    let mut found = (0..set.volumes.len()).filter(is);
    found.next().filter(|_| found.next().is_none())
}

/// Which of these systems a disk starts, by its boot code or by the files with which GRUB finds its menu on an EFI partition; all are given
/// by their positions. `None` if that is not clear.
#[must_use]
pub fn started_system(set: &DiskSet, systems: &[usize], disk: usize) -> Option<usize> {
    let folders = loader_folders(set);
    let by_code = folders.iter().filter(|folder| folder.is_on(set, disk)).map(|folder| folder.volume);
    let is_efi = |at: &usize| {
        let partition = set.volumes[*at].partition.as_ref();
        set.volumes[*at].disk == disk && partition.is_some_and(|partition| partition.kind.is_efi_system())
    };
    let named = (0..set.volumes.len()).filter(is_efi).flat_map(|at| menus_named(set, at));
    let system = |at: usize| systems.iter().copied().find(|root| *root == at || boot_of(set, *root) == Some(at));
    let mut found: Vec<usize> = by_code.chain(named).filter_map(system).collect();
    found.sort_unstable();
    found.dedup();
    <[usize; 1]>::try_from(found).ok().map(|[only]| only)
}

/// The file system that the system with this root mounts at /boot.
fn boot_of(set: &DiskSet, root: usize) -> Option<usize> {
    let text = small_file(&ext4(set, root)?, b"etc/fstab")?;
    let (device, _) = mounts_of(&text).into_iter().find(|(_, place)| place == b"/boot")?;
    set.named(&device)
}

/// The file systems in which the boot loaders on an EFI partition search their menus.
fn menus_named(set: &DiskSet, efi: usize) -> Vec<usize> {
    let read = || {
        let files = FatFiles::open(&set.volumes[efi].bytes).ok()?;
        let entries = files.list().ok()?;
        let stubs = entries.iter().filter(|entry| entry.path.to_lowercase().ends_with("/grub.cfg"));
        let texts = stubs.filter_map(|entry| files.read(&entry.path).ok()?);
        let uuid =
            |text: Vec<u8>| set.named(&format!("UUID={}", searched_file_system(&String::from_utf8_lossy(&text))?));
        Some(texts.filter_map(uuid).collect())
    };
    read().unwrap_or_default()
}
