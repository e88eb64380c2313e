//! The area `bootchain`: what starts the machine, from the partition table to the file systems that are mounted; and what keeps it from
//! starting. It only reads.

mod bios;
mod efi;
mod fault;
mod firmware;
mod first_program;
mod initramfs;
mod initramfs_members;
mod initramfs_needs;
mod kernels;
mod layout;
mod loader_files;
mod menu;
mod menu_entries;
mod module_lists;
mod module_tree;
mod mounts;
mod packages;
mod superblocks;
mod tables;

use std::borrow::Cow;
use std::sync::Arc;
use std::time::Instant;

use self::fault::Faults;
use self::layout::Layout;
use self::packages::PackageFiles;
use self::tables::StartedBy;
use super::{About, Area, Checked, Cx, Examined};
use crate::devices::{DiskSet, VolumeKind};
use crate::model::{AreaName, Authority, Finding, Scope, SystemPath, Verdict};
use crate::platform::efi_variables::firmware_entries;
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
        (Verdict::Outdated, "boot menu older than its settings", "boot menus older than their settings"),
    ],
    by_package: false,
    rereads_the_medium: false,
    not_touched: &[],
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
        faults.add_to(&mut examined);
        // Where part of it could not be examined although that was asked for, it is not reported as intact.
        examined.coverage.incomplete = cx.scope.is_deep(&BOOTCHAIN) && !examined.coverage.unexamined.is_empty();
        // What only the machine's own package database verifies can have been changed together with it.
        examined.coverage.weak = examined.coverage.verified_by.contains_key(&Authority::Local);
        examined.took(begun);
        Ok(examined)
    }

    fn explain(&self, _cx: &Cx<'_>, finding: &Finding, checked: &Checked) -> Result<ExplainReport, WorkError> {
        Ok(ExplainReport::new(finding, checked.left_of(finding).cloned()))
    }
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

/// What is compared with its packages when it is known what that is.
#[derive(Default)]
struct Later {
    first: Vec<first_program::Needed>,
    initramfs: Vec<initramfs::Differences>,
}

impl Later {
    fn paths(&self) -> Vec<SystemPath> {
        let first = self.first.iter().flat_map(first_program::Needed::paths);
        first.chain(self.initramfs.iter().flat_map(initramfs::Differences::paths)).collect()
    }

    fn judge(&self, files: &PackageFiles<'_>, faults: &mut Faults, examined: &mut Examined) {
        first_program::judge(files, &self.first, faults, examined);
        self.initramfs.iter().for_each(|one| one.judge(files, faults));
    }
}

/// The machine, and its disks.
struct Machine<'a, 'b> {
    cx: &'a Cx<'b>,
    layout: &'a Layout,
    files: &'a PackageFiles<'a>,
    /// What other areas found: marks in file systems that they reported are not repeated.
    checked: &'a Checked,
}

impl Machine<'_, '_> {
    fn judge(&self, later: &mut Later, examined: &mut Examined) -> Faults {
        let (layout, files) = (self.layout, self.files);
        let mut faults = Faults::default();
        for why in &layout.unread {
            examined.leave_out(format!("partition tables and boot code: {why}"));
        }
        let grub = SystemPath::literal("/boot/grub");
        let (boots, root) = (layout.volume_of(&grub), layout.volume_of(&SystemPath::root()));
        if layout.set.disks.is_empty() && layout.unread.is_empty() {
            examined.leave_out("partition tables and boot code: the disk is not known; name it with --disk");
        }
        let how = self.started_by();
        examined.coverage.examined += layout.set.disks.len() as u64;
        tables::judge(layout, how, &self.start_disks(how), &mut faults);
        superblocks::judge(layout, self.checked, &mut faults);
        self.name_hybrid(examined);
        self.name_hidden(examined);
        let fstab = mounts::read(files);
        // What would be seen there is not what the start uses.
        let extent = self.cx.system.machine.extent();
        if let Some(place) = extent.unmounted_above(&grub) {
            examined.leave_out(format!("boot code, boot menu, kernels: {place} is listed in fstab, and not mounted"));
            mounts::judge(layout, files, root, &mut faults, examined);
            return faults;
        }
        let has_loader = how.bios || how.uefi;
        if how.uefi && !layout.set.disks.is_empty() {
            let own = self.own_folders();
            let mounted = fstab.iter().find(|mount| mount.place == b"/boot/efi" || mount.place == b"/efi");
            let mounted = mounted.and_then(|mount| layout.set.named(&mount.device));
            let efi = efi::judge(layout, files, (&own, mounted, boots, self.checked), &mut faults, examined);
            self.firmware(efi, &mut faults, examined);
        }
        if how.uefi {
            self.efi_modules(&mut faults, examined);
        }
        if how.bios {
            match boots {
                Some(boots) => bios::judge(layout, files, boots, &mut faults, examined),
                None if !layout.set.disks.is_empty() => {
                    examined.leave_out("boot code: /boot/grub is on none of the disks");
                }
                None => {}
            }
            self.loader_files(boots, &mut faults, examined);
        }
        if !has_loader {
            examined.leave_out(format!("the boot loader: {}", self.other_loader()));
        }
        let starts = match has_loader {
            true => menu::judge(layout, files, (boots, root), &mut faults, examined),
            false => menu::MenuStarts::default(),
        };
        let kernels = kernels::judge(files, &starts, &installed_kernels(self.cx), &mut faults, examined);
        let kind = root.and_then(|root| layout.volume(root).contains.as_ref()).map(|found| found.kind);
        let openers = mounts::openers(files, &fstab);
        let is_checked = fstab.iter().any(|mount| mount.place == b"/" && mount.pass > 0);
        let wanted = initramfs_needs::Wanted { layout, root: kind, openers: &openers, is_checked };
        // A quick check reads no contents, unless they are asked for.
        let is_quick = self.cx.system.settings.quick && !self.cx.scope.is_deep(&BOOTCHAIN);
        if is_quick && !kernels.is_empty() {
            examined.note_extent("initial file systems were not read (--quick)".to_owned());
        }
        let with_contents = self.cx.scope.is_deep(&BOOTCHAIN);
        for kernel in &kernels {
            module_tree::judge(self.cx, files, kernel, with_contents, &mut faults, examined);
        }
        for kernel in kernels.iter().filter(|_| !is_quick) {
            later.initramfs.extend(initramfs::judge(self.cx, files, kernel, &wanted, &mut faults, examined));
        }
        later.first = first_program::find(files, starts.started());
        mounts::judge(layout, files, root, &mut faults, examined);
        faults
    }

    /// The disks from which the machine starts: those with /boot, the root, and an EFI partition if it starts by UEFI.
    fn start_disks(&self, how: StartedBy) -> Vec<usize> {
        let places = ["/boot/grub", "/boot", "/"].map(SystemPath::literal);
        let mounted = places.iter().filter_map(|path| Some(self.layout.volume(self.layout.volume_of(path)?).disk));
        let volumes = self.layout.set.volumes.iter();
        let is_efi = |p: &crate::devices::Partition| p.kind.is_efi_system();
        let efi = volumes.filter(|v| how.uefi && v.partition.as_ref().is_some_and(is_efi)).map(|v| v.disk);
        mounted.chain(efi).collect()
    }

    /// How the machine is started, by the installed packages, else by what is in /boot.
    fn started_by(&self) -> StartedBy {
        let files = self.files;
        let has = |name: &str| {
            files.exists(
                &SystemPath::parse(format!("/boot/grub/{name}").as_bytes()).unwrap_or_else(|_| SystemPath::root()),
            )
        };
        let uefi = EFI_LOADERS.iter().any(|name| files.has_package(name));
        let packages = StartedBy { bios: files.has_package(BIOS_LOADER), uefi };
        if packages.bios || packages.uefi {
            return packages;
        }
        let uefi = ["x86_64-efi", "i386-efi", "arm64-efi", "arm-efi"].iter().any(|name| has(name));
        StartedBy { bios: has("i386-pc"), uefi }
    }

    fn other_loader(&self) -> &'static str {
        let has = |path: &'static str| self.files.exists(&SystemPath::literal(path));
        match () {
            () if has("/boot/loader") || has("/boot/efi/loader") || has("/efi/loader") => "systemd-boot is not judged",
            () if has("/boot/extlinux") => "extlinux is not judged",
            () => "no boot loader that is known here is installed",
        }
    }

    /// The names that the system's folder on an EFI partition can have, the likeliest first: its own, and those of the systems from which
    /// it is derived (os-release(5)).
    fn own_folders(&self) -> Vec<String> {
        let release = ["/etc/os-release", "/usr/lib/os-release"].into_iter().find_map(|path| {
            let text = self.files.read(&SystemPath::literal(path)).ok().flatten()?;
            Some(String::from_utf8_lossy(&text).into_owned())
        });
        let release = release.unwrap_or_default();
        let field =
            |name: &str| release.lines().find_map(|line| line.strip_prefix(name)).unwrap_or_default().to_owned();
        let names = format!("{} {}", field("ID="), field("ID_LIKE=")).replace(['"', '\''], "");
        let names = names.split_whitespace().filter(|name| !name.contains('/')).map(str::to_owned);
        let mut names: Vec<String> = names.collect();
        if names.is_empty() {
            names.push("debian".to_owned());
        }
        names
    }

    /// The modules of an EFI boot loader. A signed one has what it needs in itself.
    fn efi_modules(&self, faults: &mut Faults, examined: &mut Examined) {
        let is_signed =
            ["grub-efi-amd64-signed", "grub-efi-arm64-signed"].iter().any(|name| self.files.has_package(name));
        let list = self.files.read(&SystemPath::literal("/usr/lib/grub/x86_64-efi/moddep.lst")).ok().flatten();
        let needed = loader_files::needed_modules(&list.unwrap_or_default(), &["normal", "linux"]);
        let is_needed = |name: &str| !is_signed && (name == "command.lst" || needed.iter().any(|own| own == name));
        let places = ("/usr/lib/grub/x86_64-efi", "/boot/grub/x86_64-efi");
        // Where none was copied, none is loaded.
        let copies = self.files.names(&SystemPath::literal(places.1)).unwrap_or_default();
        if copies.iter().any(|name| name.ends_with(b".mod")) {
            loader_files::judge(self.files, places, &is_needed, faults, examined);
        }
    }

    /// Judges the firmware's entries for the EFI partition with the system's folder; both are given.
    fn firmware(&self, efi: Option<(usize, String)>, faults: &mut Faults, examined: &mut Examined) {
        let is_live = self.cx.system.machine.is_live();
        let Some((efi, own)) = efi else { return };
        let is_here = self.layout.set.disks.iter().all(|disk| disk.device.is_block());
        match firmware_entries().filter(|_| is_here) {
            Some(firmware) => firmware::judge(self.layout, &firmware, (&own, efi, is_live), faults, examined),
            None => examined.note_extent("the firmware's boot entries cannot be seen from here".to_owned()),
        }
    }

    /// The modules that the core image loads next, from the machine's own copies.
    fn loader_files(&self, boots: Option<usize>, faults: &mut Faults, examined: &mut Examined) {
        let list = self
            .files
            .read(&SystemPath::literal(bios::SHIPPED).child(b"moddep.lst").unwrap_or_else(|_| SystemPath::root()));
        let list = list.ok().flatten().unwrap_or_default();
        let kind = boots.and_then(|at| self.layout.volume(at).contains.as_ref()).map(|found| found.kind);
        // The menu itself, and what starts a kernel.
        let mut first = vec!["normal", "linux"];
        first.extend(match kind {
            Some(VolumeKind::Btrfs) => Some("btrfs"),
            Some(VolumeKind::Xfs) => Some("xfs"),
            _ => None,
        });
        let needed = loader_files::needed_modules(&list, &first);
        // By this list GRUB finds the modules with the commands of the menu.
        let is_needed = |name: &str| name == "command.lst" || needed.iter().any(|own| own == name);
        loader_files::judge(self.files, (bios::SHIPPED, bios::COPIES), &is_needed, faults, examined);
    }

    /// Names disks with two tables that are used at the same time.
    fn name_hybrid(&self, examined: &mut Examined) {
        for (at, disk) in self.layout.set.disks.iter().enumerate() {
            let mbr = disk.mbr.as_ref().filter(|mbr| mbr.protective > 0 && disk.gpt.is_there());
            let other = mbr.map_or(0, |mbr| mbr.partitions.len() as u64);
            if other > 0 {
                let what = counted(other, "partition", "partitions");
                let name = self.layout.disk_name(at);
                examined.note_extent(format!(
                    "{name} has a GPT, and an MBR that names {what} for other systems: not judged"
                ));
            }
        }
    }

    /// Names what hides other file systems.
    fn name_hidden(&self, examined: &mut Examined) {
        for (at, volume) in self.layout.set.volumes.iter().enumerate() {
            let what = match volume.contains.as_ref().map(|found| found.kind) {
                Some(VolumeKind::Encrypted) => "is encrypted",
                Some(VolumeKind::Lvm) => "is part of a volume group (LVM)",
                Some(VolumeKind::Raid) => "is part of an array (RAID)",
                _ => continue,
            };
            examined.leave_out(format!("{} {what}: what is inside", self.layout.volume_name(at)));
        }
    }
}

/// Examines the boot chain of disks on which no installed system can be read: the tables, and the file systems.
pub fn examine_bare_disks(set: Arc<DiskSet>) -> Examined {
    let begun = Instant::now();
    let mut examined = Examined::new(BOOTCHAIN);
    let layout = Layout::of_disks(set);
    let mut faults = Faults::default();
    examined.coverage.examined += layout.set.disks.len() as u64;
    let all: Vec<usize> = (0..layout.set.disks.len()).collect();
    tables::judge(&layout, StartedBy::by_partitions(&layout), &all, &mut faults);
    for at in layout.of_kind(VolumeKind::Ext4).collect::<Vec<_>>() {
        superblocks::first(&layout, at, &mut faults);
    }
    faults.add_to(&mut examined);
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
