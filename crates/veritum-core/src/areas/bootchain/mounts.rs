//! What is mounted at the start: fstab(5) and crypttab(5) against the file systems that are there.

use super::fault::{Fault, Faults, Stage};
use super::layout::{Layout, device_name, partition_number};
use super::mend::Mend;
use super::packages::PackageFiles;
use crate::areas::Examined;
use crate::formats::boot::mounts::{CryptVolume, Mount, crypttab, fstab};
use crate::model::{StartEffect, SystemPath, Verdict, quoted};

const FSTAB: &str = "/etc/fstab";
const CRYPTTAB: &str = "/etc/crypttab";
/// Types that are on no disk.
const VIRTUAL: [&str; 16] = [
    "proc", "sysfs", "tmpfs", "devtmpfs", "devpts", "none", "nfs", "nfs4", "cifs", "smb3", "9p", "ceph", "overlay",
    "debugfs", "tracefs", "efivarfs",
];

/// Reads fstab(5); empty if there is none.
pub(super) fn read(files: &PackageFiles<'_>) -> Vec<Mount> {
    let text = files.read(&SystemPath::literal(FSTAB)).ok().flatten().unwrap_or_default();
    fstab(&text).0
}

/// The programs without which the root cannot be opened at the start, each with the reason: by its device in fstab(5), and crypttab(5).
pub(super) fn openers(files: &PackageFiles<'_>, mounts: &[Mount]) -> Vec<(&'static str, &'static str)> {
    let Some(root) = mounts.iter().find(|mount| mount.place == b"/") else { return Vec::new() };
    let crypt = files.read(&SystemPath::literal(CRYPTTAB)).ok().flatten().unwrap_or_default();
    let mapped = root.device.strip_prefix("/dev/mapper/");
    let is_encrypted = mapped.is_some_and(|name| crypttab(&crypt).0.iter().any(|volume| volume.name == name));
    let mut needed = Vec::new();
    if is_encrypted {
        needed.push(("cryptsetup", "the root is encrypted"));
    } else if mapped.is_some_and(|name| name.contains('-')) && files.has_package("lvm2") {
        needed.push(("lvm", "the root is in a volume group"));
    }
    if root.device.starts_with("/dev/md") {
        needed.push(("mdadm", "the root is on an array"));
    }
    needed
}

/// Judges both lists. `root` is the position of the volume with the root.
pub(super) fn judge(
    layout: &Layout,
    files: &PackageFiles<'_>,
    root: Option<usize>,
    faults: &mut Faults,
    examined: &mut Examined,
) {
    let path = SystemPath::literal(FSTAB);
    let text = match files.read(&path) {
        Ok(Some(text)) => text,
        Ok(None) => {
            let cause = "without it the root stays as the kernel mounted it, and nothing else is mounted";
            faults.push(Fault::on_path(Stage::Mounts, &path, Verdict::Missing, cause).latent());
            return;
        }
        Err(why) => return examined.leave_out(format!("{FSTAB}: {why}")),
    };
    let (mounts, bad) = fstab(&text);
    examined.coverage.examined += mounts.len() as u64;
    for line in bad {
        let cause = format!("line {line} cannot be read");
        faults.push(Fault::on_path(Stage::Mounts, &path, Verdict::Corrupt, cause).latent());
    }
    let crypt = files.read(&SystemPath::literal(CRYPTTAB)).ok().flatten().unwrap_or_default();
    let (volumes, bad) = crypttab(&crypt);
    for line in bad {
        let cause = format!("line {line} cannot be read");
        let path = SystemPath::literal(CRYPTTAB);
        faults.push(Fault::on_path(Stage::Mounts, &path, Verdict::Corrupt, cause).latent());
    }
    // A system that something else starts from a folder needs none.
    if root.is_some() && !mounts.iter().any(|mount| mount.place == b"/") {
        let cause = "it has no line for /: the root stays as the kernel mounted it";
        faults.push(Fault::on_path(Stage::Mounts, &path, Verdict::Incomplete, cause).latent());
    }
    let boot = layout.volume_of(&SystemPath::literal("/boot"));
    // systemd mounts a partition of that type without a line.
    let is_found = |at: usize| layout.volume(at).partition.as_ref().is_some_and(|p| p.kind.is_extended_boot());
    let boot = boot.filter(|at| !is_found(*at));
    if boot.is_some() && boot != root && !mounts.is_empty() && !mounts.iter().any(|mount| mount.place == b"/boot") {
        let cause = "it has no line for /boot, which is a file system of its own: it is not mounted at the start, and new kernels are written below it";
        faults.push(Fault::on_path(Stage::Mounts, &path, Verdict::Incomplete, cause).latent());
    }
    let judge = Judge { layout, files, root, volumes: &volumes, mounts: &mounts };
    mounts.iter().for_each(|mount| judge.mount(mount, faults, examined));
    volumes.iter().for_each(|volume| judge.crypt(volume, faults, examined));
}

struct Judge<'a, 'b> {
    layout: &'a Layout,
    files: &'a PackageFiles<'b>,
    root: Option<usize>,
    volumes: &'a [CryptVolume],
    mounts: &'a [Mount],
}

/// Whether a device is there.
enum There {
    Volume(usize),
    No,
    Unknown,
}

impl Judge<'_, '_> {
    fn find(&self, device: &str) -> There {
        let device = &*device_name(device);
        if let Some(name) = device.strip_prefix("/dev/mapper/") {
            let listed = self.volumes.iter().find(|volume| volume.name == name);
            // Of one volume inside of another nothing is known.
            let below = listed.filter(|volume| !volume.device.starts_with("/dev/mapper/"));
            let is_there = below.map(|volume| self.find(&volume.device));
            let is_possible = listed.is_some() || name.contains('-');
            return if is_possible && !matches!(is_there, Some(There::No)) { There::Unknown } else { There::No };
        }
        let is_named = ["UUID=", "LABEL=", "PARTUUID="].iter().any(|kind| device.starts_with(kind));
        if !is_named {
            // The running system shows all devices that there are.
            let is_gone = device.starts_with("/dev/") && self.files.is_live() && !self.exists(device.as_bytes());
            return if is_gone { There::No } else { There::Unknown };
        }
        match self.layout.set.named(device) {
            // The kernel does not see what no partition contains.
            Some(at) if self.layout.volume(at).is_lost() => There::No,
            Some(at) => There::Volume(at),
            // It can be inside what is encrypted, or part of something, or on a disk that was not named.
            None if self.layout.has_hidden() => There::Unknown,
            None => There::No,
        }
    }

    fn mount(&self, mount: &Mount, faults: &mut Faults, examined: &mut Examined) {
        let is_network = mount.has("_netdev") || mount.device.contains(":/") || mount.kind.starts_with("fuse");
        if VIRTUAL.contains(&&*mount.kind) || is_network || mount.has("bind") || mount.has("rbind") {
            return;
        }
        let path = SystemPath::literal(FSTAB);
        let place = quoted(&mount.place);
        let entry = if mount.kind == "swap" { format!("swap {}", mount.device) } else { place.clone() };
        let fault = |verdict, cause: String| Fault::on_entry(Stage::Mounts, &path, &entry, verdict, cause);
        let is_root = mount.place == b"/";
        match self.find(&mount.device) {
            There::Volume(at) => {
                let found = self.layout.volume(at).contains.as_ref();
                if is_root && self.root.is_some_and(|root| root != at) {
                    let cause =
                        format!("line {}: / is said to be {}, which is another file system", mount.line, mount.device);
                    faults.push(fault(Verdict::Inconsistent, cause).latent().mended(self.device_mend(mount)));
                }
                let kind = found.map_or("", |found| found.kind.name());
                if !kind.is_empty() && !same_kind(&mount.kind, kind) {
                    let cause =
                        format!("line {}: {} is said to be {}, and is {kind}", mount.line, mount.device, mount.kind);
                    let mend = Mend::line(&path, mount.line, &mount.kind, kind, "the file system itself");
                    faults.push(fault(Verdict::Inconsistent, cause).effect(self.effect(mount)).mended(Ok(mend)));
                }
                if !is_root && mount.kind != "swap" && !mount.is_optional() && !self.exists(&mount.place) {
                    // systemd creates missing mount points.
                    examined.note_extent(format!("the mount point {place} does not exist; it is created at the start"));
                }
            }
            // What is only mounted when it is asked for can be somewhere else.
            There::No if mount.has("noauto") => {
                examined.note_extent(format!(
                    "{FSTAB} line {}: {} is not here, and is not mounted at the start",
                    mount.line, mount.device
                ));
            }
            There::No => {
                let what = if mount.kind == "swap" { "swap".to_owned() } else { place };
                let cause = match is_root {
                    true => format!(
                        "line {}: {} for / does not exist: the root stays as the kernel mounted it",
                        mount.line, mount.device
                    ),
                    false => format!("line {}: {} for {what} does not exist", mount.line, mount.device),
                };
                let mend = self.device_mend(mount);
                faults.push(fault(Verdict::Inconsistent, cause).effect(self.effect(mount)).mended(mend));
            }
            There::Unknown if is_root && self.is_other_number(&mount.device) => {
                let cause =
                    format!("line {}: / is said to be {}, which is another partition", mount.line, mount.device);
                faults.push(fault(Verdict::Inconsistent, cause).latent().mended(self.device_mend(mount)));
            }
            There::Unknown => {
                let is_device = !mount.device.starts_with('/') || mount.device.starts_with("/dev/");
                if is_device && !mount.is_optional() {
                    examined.leave_out(format!("{FSTAB} line {}: whether {} exists", mount.line, mount.device));
                }
            }
        }
    }

    /// The device that a line should name: the root's, or that of the only file system that it can be.
    fn device_mend(&self, mount: &Mount) -> Result<Mend, String> {
        let at = match &mount.place[..] {
            b"/" => self.root,
            _ => self.only_left(mount),
        };
        let uuid = at.and_then(|at| self.layout.volume(at).contains.as_ref()).map(|found| &found.uuid);
        let uuid = uuid.filter(|uuid| !uuid.is_empty()).ok_or("which file system it should be is not known here")?;
        let path = SystemPath::literal(FSTAB);
        let source = format!("{} on the disks", at.map(|at| self.layout.volume_name(at)).unwrap_or_default());
        Ok(Mend::line(&path, mount.line, &mount.device, &format!("UUID={uuid}"), source))
    }

    /// The only file system of the type that a line names, which no other line does.
    fn only_left(&self, mount: &Mount) -> Option<usize> {
        let known: Vec<usize> =
            self.mounts.iter().filter_map(|other| self.layout.set.named(&device_name(&other.device))).collect();
        let is_efi = |at: usize| self.layout.volume(at).partition.as_ref().is_some_and(|p| p.kind.is_efi_system());
        let is_for_efi = mount.place == b"/boot/efi" || mount.place == b"/efi";
        let is_it = |at: &usize| {
            let kind = self.layout.volume(*at).contains.as_ref().map_or("", |found| found.kind.name());
            !known.contains(at)
                && Some(*at) != self.root
                && !self.layout.volume(*at).is_lost()
                && same_kind(&mount.kind, kind)
                && is_efi(*at) == is_for_efi
        };
        let mut all = (0..self.layout.set.volumes.len()).filter(is_it);
        all.next().filter(|_| all.next().is_none())
    }

    /// What it means when something cannot be mounted (systemd.mount(5), systemd-fstab-generator(8)): the start ends in emergency mode,
    /// unless it is optional; then nothing waits for it. It waits for swap, and goes on.
    fn effect(&self, mount: &Mount) -> StartEffect {
        match () {
            () if mount.place == b"/" => StartEffect::Latent,
            () if mount.is_optional() => StartEffect::Latent,
            () if mount.kind == "swap" => StartEffect::SlowsStart,
            () => StartEffect::BreaksStart,
        }
    }

    /// Whether a name that the kernel gives is that of another partition than the root.
    fn is_other_number(&self, device: &str) -> bool {
        let own = self.root.and_then(|at| Some(self.layout.volume(at).partition.as_ref()?.number));
        own.is_some_and(|own| partition_number(device).is_some_and(|number| number != own))
    }

    fn exists(&self, place: &[u8]) -> bool {
        SystemPath::parse(place).is_ok_and(|place| self.files.exists(&place))
    }

    fn crypt(&self, volume: &CryptVolume, faults: &mut Faults, examined: &mut Examined) {
        let has = |option: &str| volume.options.iter().any(|own| own == option);
        match self.find(&volume.device) {
            There::No => {
                let effect = if has("noauto") || has("nofail") { StartEffect::Latent } else { StartEffect::SlowsStart };
                let cause = format!("line {}: {} for {} does not exist", volume.line, volume.device, volume.name);
                let path = SystemPath::literal(CRYPTTAB);
                faults.push(
                    Fault::on_entry(Stage::Mounts, &path, &volume.name, Verdict::Inconsistent, cause).effect(effect),
                );
            }
            There::Unknown => {
                examined.leave_out(format!("{CRYPTTAB} line {}: whether {} exists", volume.line, volume.device))
            }
            There::Volume(_) => {}
        }
    }
}

/// Whether a type of fstab(5) fits to what is there.
fn same_kind(listed: &str, found: &str) -> bool {
    listed == found
        || listed == "auto"
        || matches!(
            (listed, found),
            ("ext2" | "ext3" | "ext4", "ext4") | ("msdos" | "fat", "vfat") | ("ntfs3" | "ntfs-3g", "ntfs")
        )
}
