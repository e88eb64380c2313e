//! A minimal boot menu of our own, for when there is none that can be used: it starts the kernels that are there, until the system's own
//! generator makes a whole one.

use super::layout::Layout;
use super::mend::{Mend, Target};
use super::menu::MENU;
use super::packages::PackageFiles;
use crate::devices::{PartitionType, VolumeKind};
use crate::model::{SystemPath, readable};
use crate::platform::debian::compare_versions;

/// How it begins.
const MARK: &str = "# Emergency menu, written by Veritum. Have a whole one generated: update-grub\n";
/// More kernels are not offered.
const MAX_KERNELS: usize = 4;
const KERNEL: &str = "vmlinuz-";

/// A menu with the kernels in /boot that have an initial file system. `boots` is the position of the volume with /boot/grub, `root` that with
/// the root.
pub(super) fn menu(
    layout: &Layout,
    files: &PackageFiles<'_>,
    (boots, root): (Option<usize>, Option<usize>),
) -> Result<Mend, String> {
    let text = text(layout, files, (boots, root))?;
    let target = Target::Text(SystemPath::literal(MENU), text.into_bytes());
    Ok(Mend::new(
        target,
        "an emergency menu with the kernels in /boot: have a whole one generated afterwards (update-grub)",
    ))
}

/// The beginning of the line that says why the system's own generator made none.
const WHY: &str = "# Not generated, because: ";

/// The menu with why the system's own generator made none, which is read by people and by the next check.
pub(super) fn because(text: &str, why: &str) -> String {
    let why: String = why.chars().map(|c| if c.is_control() { ' ' } else { c }).collect();
    text.replacen(MARK, &format!("{MARK}{WHY}{why}\n"), 1)
}

/// What is said about a menu that is one of these: that it is, and why.
pub(super) fn cause(menu: &[u8]) -> Option<String> {
    let lines = menu.strip_prefix(MARK.as_bytes())?;
    let line = lines.split(|byte| *byte == b'\n').next().unwrap_or_default();
    let why = line.strip_prefix(WHY.as_bytes()).map(|why| format!(", because {}", readable(why)));
    Some(format!("it is an emergency menu, written by Veritum{}", why.unwrap_or_default()))
}

/// The text of the menu.
pub(super) fn text(
    layout: &Layout,
    files: &PackageFiles<'_>,
    (boots, root): (Option<usize>, Option<usize>),
) -> Result<String, String> {
    let unknown = "which file systems contain the root and /boot is not known";
    let uuid =
        |at: usize| layout.volume(at).contains.as_ref().map(|found| found.uuid.clone()).filter(|uuid| !uuid.is_empty());
    let (boots, root) = (boots.ok_or(unknown)?, root.ok_or(unknown)?);
    let (searched, given) = (uuid(boots).ok_or(unknown)?, uuid(root).ok_or(unknown)?);
    let (_, folder) = layout.find(&SystemPath::literal("/boot")).ok_or(unknown)?;
    let folder = String::from_utf8(folder).map_err(|_| unknown)?;
    let folder = if folder.is_empty() { String::new() } else { format!("/{folder}") };
    let volume = layout.volume(boots);
    let table = volume.partition.as_ref().map(|partition| match partition.kind {
        PartitionType::Gpt(_) => "part_gpt",
        PartitionType::Mbr(_) => "part_msdos",
    });
    let kind = match volume.contains.as_ref().map(|found| found.kind) {
        Some(VolumeKind::Ext4) => "ext2",
        Some(VolumeKind::Btrfs) => "btrfs",
        Some(VolumeKind::Xfs) => "xfs",
        _ => return Err("/boot is on a file system that is not known here".to_owned()),
    };
    let names = files.names(&SystemPath::literal("/boot"))?;
    let names: Vec<String> = names.into_iter().filter_map(|name| String::from_utf8(name).ok()).collect();
    let has = |name: &str| names.iter().any(|own| own == name);
    let is_plain =
        |version: &&str| version.bytes().all(|byte| byte.is_ascii_alphanumeric() || b".-+~_".contains(&byte));
    let mut versions: Vec<&str> = names.iter().filter_map(|name| name.strip_prefix(KERNEL)).filter(is_plain).collect();
    versions.retain(|version| has(&format!("initrd.img-{version}")));
    versions.sort_by(|a, b| compare_versions(b, a));
    if versions.is_empty() {
        return Err("/boot contains no kernel with an initial file system".to_owned());
    }
    let mut text = format!(
        "{MARK}set default=0\nset timeout=5\n{}insmod {kind}\n",
        table.map(|table| format!("insmod {table}\n")).unwrap_or_default()
    );
    for version in versions.into_iter().take(MAX_KERNELS) {
        text.push_str(&format!(
            "menuentry 'Linux {version} (emergency menu by Veritum)' {{\n\tsearch --no-floppy --fs-uuid --set=root {searched}\n\tlinux {folder}/{KERNEL}{version} root=UUID={given} ro\n\tinitrd {folder}/initrd.img-{version}\n}}\n"
        ));
    }
    Ok(text)
}
