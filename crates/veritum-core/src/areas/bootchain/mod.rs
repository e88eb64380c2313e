//! The area `bootchain`: what starts the machine, from the partition table to the file systems that are mounted; what keeps it from
//! starting; and what a repair writes.

mod bios;
mod bios_core;
mod bios_mend;
mod efi;
mod efi_mend;
mod efi_menu;
mod fault;
mod firmware;
mod firmware_mend;
mod first_program;
mod first_targets;
mod generated;
mod initramfs;
mod initramfs_members;
mod initramfs_needs;
mod kernels;
mod layout;
mod loader_files;
mod mend;
mod menu;
mod menu_emergency;
mod menu_entries;
mod menu_mend;
mod module_lists;
mod module_tree;
mod mount_modules;
mod mounts;
mod others;
mod package_contents;
mod packages;
mod parts;
mod repair_steps;
mod repair_targets;
mod repairs;
mod signers;
mod superblocks;
mod table_proposal;
mod tables;

use std::borrow::Cow;
use std::sync::Arc;
use std::time::Instant;

use self::fault::Faults;
use self::layout::Layout;
use self::packages::PackageFiles;
use self::parts::{Later, Machine};
use self::repairs::Rules;
use self::tables::StartedBy;
use super::{About, Area, Checked, Cx, Examined, FILES};
use crate::devices::{DiskSet, VolumeKind};
use crate::model::{Action, AreaName, Authority, Finding, Scope, SystemPath, Verdict};
use crate::report::ExplainReport;
use crate::system::WorkError;

/// The area's name.
pub const BOOTCHAIN: AreaName = AreaName::new("bootchain");

/// The area `bootchain`.
pub struct Bootchain;

static ABOUT: About = About {
    name: BOOTCHAIN,
    help: "what starts the system: partition tables, boot code, boot menu, kernels, initial file systems, fstab",
    by_default: true,
    only_when_named: &[],
    unit: ("part of the boot chain", "parts of the boot chain"),
    selector: None,
    heading: |_| Cow::Borrowed("boot chain"),
    counted_as: &[
        (Verdict::Superseded, "outdated initial file system", "outdated initial file systems"),
        (Verdict::Outdated, "boot menu to be generated again", "boot menus to be generated again"),
    ],
    by_package: false,
    rereads_the_medium: false,
    not_touched: &[],
    repaired_by_name: true,
    is_advised: true,
    is_of_machine: true,
    by_reference: false,
};

/// The packages' files that the boot chain is compared with.
const COMPARED: [&str; 3] = ["/usr/lib/grub", "/usr/lib/shim", "/boot"];
/// What a machine with a boot loader has.
const LOADERS: [&str; 9] = [
    "/boot/grub/i386-pc",
    "/boot/grub/x86_64-efi",
    "/boot/grub/i386-efi",
    "/boot/grub/arm64-efi",
    "/boot/grub/arm-efi",
    "/boot/efi/EFI",
    "/boot/loader",
    "/efi/loader",
    "/boot/extlinux",
];
/// The packages of boot loaders that are judged.
const BIOS_LOADER: &str = "grub-pc";
const EFI_LOADERS: [&str; 4] = ["grub-efi-amd64", "grub-efi-ia32", "grub-efi-arm64", "grub-efi-arm"];

impl Area for Bootchain {
    fn about(&self) -> &'static About {
        &ABOUT
    }

    /// Containers, and roots that something else starts, have no boot loader.
    fn is_here(&self, cx: &Cx<'_>) -> bool {
        cx.scope.names(&BOOTCHAIN) || has_loader(cx)
    }

    fn check(&self, cx: &Cx<'_>, checked: &Checked) -> Result<Examined, WorkError> {
        let begun = Instant::now();
        let mut examined = Examined::new(BOOTCHAIN);
        if !has_loader(cx) && !has_kernel(cx) {
            examined.leave_out("no kernel and no boot loader are installed: something else starts this system");
            examined.coverage.incomplete = true;
            examined.took(begun);
            return Ok(examined);
        }
        let layout = Layout::open(cx)?;
        let mut paths = COMPARED.map(SystemPath::literal).to_vec();
        // Otherwise the area of files compares them.
        if cx.scope.is_deep(&BOOTCHAIN) {
            paths.push(SystemPath::literal("/lib/modules"));
        }
        let scope = Scope { paths, ..Scope::default() };
        let (mut faults, later) = cx.with_reference(&scope, |reference| {
            let files = PackageFiles::new(cx, reference);
            let mut later = Later::default();
            let faults = Machine { cx, layout: &layout, files: &files, checked }.judge(&mut later, &mut examined);
            (faults, later)
        })?;
        let paths = later.paths();
        if !paths.is_empty() {
            cx.with_reference(&Scope { paths, ..Scope::default() }, |reference| {
                later.judge(&PackageFiles::new(cx, reference), &mut faults, &mut examined);
            })?;
        }
        if cx.system.disks.is_some() {
            package_contents::add(cx, &mut faults)?;
        }
        let rules = Rules {
            system: Some(cx.system),
            is_unmounted: cx.system.disks.is_some(),
            writes_proposals: cx.scope.writes_table,
            not_answered: &cx.scope.not_answered,
            now: cx.system.settings.now,
            files: files_of(checked),
            ignores_errors: cx.system.settings.ignore_disk_errors,
        };
        repairs::add(faults, &layout, &rules, &mut examined);
        // Where part of it could not be examined although that was asked for, it is not reported as intact.
        examined.coverage.incomplete = cx.scope.is_deep(&BOOTCHAIN) && !examined.coverage.unexamined.is_empty();
        // What only the machine's own package database verifies can have been changed together with it.
        examined.coverage.weak = examined.coverage.verified_by.contains_key(&Authority::Local);
        examined.took(begun);
        match cx.scope.names(&BOOTCHAIN) {
            true => Ok(examined),
            // It is repaired only when it is named.
            false => Ok(examined.referred(&Action::command("veritum repair bootchain"))),
        }
    }

    fn explain(&self, _cx: &Cx<'_>, finding: &Finding, checked: &Checked) -> Result<ExplainReport, WorkError> {
        Ok(ExplainReport::new(finding, checked.left_of(finding).cloned()))
    }
}

/// The problems of files, by their paths, each with whether a repair answers it.
fn files_of(checked: &Checked) -> Vec<(SystemPath, bool)> {
    let files = checked.get(&FILES).into_iter().flat_map(|files| files.problems());
    files.filter_map(|finding| Some((finding.subject.as_path()?.clone(), finding.remedy.is_some()))).collect()
}

fn has_loader(cx: &Cx<'_>) -> bool {
    let installed = &cx.system.installed.packages;
    let has = |name: &str| installed.iter().any(|package| package.id.name == name);
    cx.system.disks.is_some()
        || LOADERS.iter().any(|path| initramfs::is_folder(&cx.system.machine, &SystemPath::literal(path)))
        || has(BIOS_LOADER)
        || EFI_LOADERS.iter().any(|name| has(name))
}

fn has_kernel(cx: &Cx<'_>) -> bool {
    let machine = &cx.system.machine;
    let list = || {
        let dir = machine.dir(&machine.resolve(&SystemPath::literal("/boot"))?)?;
        dir.disk().list(dir.fd())
    };
    list().is_ok_and(|names| names.iter().any(|(name, _)| name.starts_with(b"vmlinu")))
        || !installed_kernels(cx).is_empty()
}

/// The versions of installed kernels.
fn installed_kernels(cx: &Cx<'_>) -> Vec<String> {
    let packages = cx.system.installed.packages.iter().map(|package| &package.id.name);
    let versions = packages.filter_map(|name| {
        name.strip_prefix("linux-image-")?.strip_suffix("-unsigned").or(name.strip_prefix("linux-image-"))
    });
    // Those of versions begin with a digit; the others only depend on the newest.
    versions
        .filter(|version| version.starts_with(|c: char| c.is_ascii_digit()) && version.contains('.'))
        .map(str::to_owned)
        .collect()
}

/// Examines the boot chain of disks on which no installed system can be read: the tables, and the file systems.
/// The scope says what a repair would write; `now` is the time that files get, `ignores_errors` whether it writes although the medium has errors.
pub fn examine_bare_disks(
    set: Arc<DiskSet>,
    scope: &Scope,
    (now, ignores_errors): (jiff::Timestamp, bool),
) -> Examined {
    let begun = Instant::now();
    let mut examined = Examined::new(BOOTCHAIN);
    let layout = Layout::of_disks(set);
    let mut faults = Faults::default();
    examined.coverage.examined += layout.set.disks.len() as u64;
    let all: Vec<usize> = (0..layout.set.disks.len()).collect();
    let how = StartedBy::by_partitions(&layout);
    tables::judge(&layout, how, &all, &mut faults);
    for at in layout.of_kind(VolumeKind::Ext4).collect::<Vec<_>>() {
        superblocks::first(&layout, at, &mut faults);
        superblocks::mountable(&layout, at, &mut faults);
    }
    efi::judge_bare(&layout, how.uefi && !how.bios, &mut faults);
    let (writes_proposals, not_answered) = (scope.writes_table, &scope.not_answered[..]);
    let rules = Rules {
        system: None,
        is_unmounted: true,
        writes_proposals,
        not_answered,
        now,
        files: Vec::new(),
        ignores_errors,
    };
    repairs::add(faults, &layout, &rules, &mut examined);
    for (at, volume) in layout.set.volumes.iter().enumerate() {
        let kind = volume.contains.as_ref().map(|found| found.kind);
        let name = layout.volume_name(at);
        match kind {
            Some(VolumeKind::Btrfs | VolumeKind::Xfs) => examined.leave_out(format!(
                "{name} ({}) is read only when it is mounted: mount it, and add --root DIR",
                kind.map_or("", VolumeKind::name)
            )),
            Some(VolumeKind::Encrypted | VolumeKind::Lvm | VolumeKind::Raid) => {
                examined.leave_out(format!("{name} is {}: what is inside", kind.map_or("", VolumeKind::name)));
            }
            _ => {}
        }
    }
    examined.leave_out("boot code, menu, kernels: no installed system can be read on these disks");
    examined.coverage.incomplete = true;
    examined.took(begun);
    examined
}

/// Examines these entries of firmware alone: for tests, which cannot choose those of the computer that they run on. `own` is the folder of the system on the EFI
/// partition at the position `efi`.
#[cfg(feature = "testkit")]
pub fn examine_firmware(
    set: Arc<DiskSet>,
    (own, efi, is_live): (&str, usize, bool),
    entries: &crate::platform::efi_variables::FirmwareEntries,
) -> Examined {
    let (mut examined, mut faults) = (Examined::new(BOOTCHAIN), Faults::default());
    let layout = Layout::of_disks(set);
    firmware::judge(&layout, entries, (own, efi, is_live), &mut faults, &mut examined);
    let now = jiff::Timestamp::UNIX_EPOCH;
    let files = Vec::new();
    let rules = Rules {
        system: None,
        is_unmounted: !is_live,
        writes_proposals: false,
        not_answered: &[],
        now,
        files,
        ignores_errors: false,
    };
    repairs::add(faults, &layout, &rules, &mut examined);
    examined
}

/// How a content differs from the right one, in words.
fn difference(found: &[u8], right: &[u8]) -> String {
    let wrong = found.iter().zip(right).filter(|(one, other)| one != other).count();
    let first = found.iter().zip(right).position(|(one, other)| one != other);
    match (found.len().cmp(&right.len()), first) {
        (std::cmp::Ordering::Less, None) => format!("it ends after {} of {} bytes", found.len(), right.len()),
        (_, Some(first)) if wrong == 1 => format!("1 byte differs, at {first:#x}"),
        (_, Some(first)) => format!("{wrong} bytes differ, the first one at {first:#x}"),
        (_, None) => format!("it has {} bytes instead of {}", found.len(), right.len()),
    }
}

/// A number with its unit.
fn counted(number: u64, one: &str, many: &str) -> String {
    if number == 1 { format!("1 {one}") } else { format!("{number} {many}") }
}
