//! Modules of the kernel without which file systems of fstab(5) cannot be mounted: a start that mounts one ends in emergency mode.

use std::collections::BTreeMap;

use super::layout::{Layout, device_name};
use super::packages::PackageFiles;
use crate::devices::VolumeKind;
use crate::formats::boot::mounts::Mount;
use crate::model::{SystemPath, quoted};

/// File systems whose drivers can be modules, with the kernel's settings by which they are.
const KINDS: [(&str, &str); 5] = [
    ("vfat", "CONFIG_VFAT_FS"),
    ("ext4", "CONFIG_EXT4_FS"),
    ("btrfs", "CONFIG_BTRFS_FS"),
    ("xfs", "CONFIG_XFS_FS"),
    ("exfat", "CONFIG_EXFAT_FS"),
];
/// How names are encoded on FAT, and shown: the options of a mount, the kernel's default settings, the beginning of a module's name and of
/// its setting.
const ENCODINGS: [(&str, &str, &str, &str); 2] = [
    ("codepage=", "CONFIG_FAT_DEFAULT_CODEPAGE=", "nls_cp", "CONFIG_NLS_CODEPAGE_"),
    ("iocharset=", "CONFIG_FAT_DEFAULT_IOCHARSET=", "nls_", "CONFIG_NLS_"),
];

/// File systems that a start must mount, beside that of the root: the line of fstab(5), and the kind.
pub(super) struct MountedKinds<'a>(Vec<(&'a Mount, &'static str)>);

impl<'a> MountedKinds<'a> {
    pub(super) fn new(layout: &Layout, mounts: &'a [Mount], root: Option<VolumeKind>) -> Self {
        let kind_of = |mount: &Mount| {
            let found = layout.set.named(&device_name(&mount.device));
            let found = found.and_then(|at| layout.volume(at).contains.as_ref()).map(|found| found.kind.name());
            let name = found.unwrap_or(&mount.kind);
            KINDS.iter().map(|(kind, _)| *kind).find(|kind| *kind == name)
        };
        let is_needed = |mount: &&Mount| {
            mount.place.starts_with(b"/") && mount.place != b"/" && !mount.is_optional() && !mount.has("bind")
        };
        let needed = mounts.iter().filter(is_needed).filter_map(|mount| Some((mount, kind_of(mount)?)));
        Self(needed.filter(|(_, kind)| root.is_none_or(|root| root.name() != *kind)).collect())
    }

    /// Whether what they need of a kernel is not known, as its settings (`/boot/config-VERSION`) are not there.
    pub(super) fn is_unknown(&self, files: &PackageFiles<'_>, version: &str) -> bool {
        !self.0.is_empty() && config(files, version).is_none()
    }

    /// The modules of a kernel that they need, each with the reason; none where its settings are not there.
    pub(super) fn modules(&self, files: &PackageFiles<'_>, version: &str) -> BTreeMap<String, String> {
        let mut modules = BTreeMap::new();
        let Some(config) = config(files, version) else { return modules };
        let is_module = |setting: &str| {
            let set = |line: &str| line.strip_prefix(setting).is_some_and(|rest| rest == "=m");
            config.lines().any(set)
        };
        let default = |setting: &str| {
            config.lines().find_map(|line| line.strip_prefix(setting)).map(|text| text.replace('"', ""))
        };
        for (mount, kind) in &self.0 {
            let why = format!("{} ({kind}) is mounted with it", quoted(&mount.place));
            let setting = KINDS.iter().find(|(own, _)| own == kind).map_or("", |(_, setting)| setting);
            if is_module(setting) {
                modules.insert((*kind).to_owned(), why.clone());
            }
            for (option, setting, module, own) in ENCODINGS.iter().filter(|_| *kind == "vfat") {
                let told = mount.options.iter().find_map(|given| given.strip_prefix(option)).map(str::to_owned);
                let Some(encoding) = told.or_else(|| default(setting)) else { continue };
                let encoding = encoding.trim_start_matches("cp").to_lowercase().replace('-', "_");
                if is_module(&format!("{own}{}", encoding.to_uppercase())) {
                    modules.insert(format!("{module}{encoding}"), why.clone());
                }
            }
        }
        modules
    }
}

/// A kernel's settings.
fn config(files: &PackageFiles<'_>, version: &str) -> Option<String> {
    let path = SystemPath::parse(format!("/boot/config-{version}").as_bytes()).ok()?;
    Some(String::from_utf8_lossy(&files.read(&path).ok()??).into_owned())
}
