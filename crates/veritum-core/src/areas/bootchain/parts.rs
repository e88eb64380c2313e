//! The parts of a machine's boot chain, examined in the order in which a start meets them.

use super::fault::Faults;
use super::layout::Layout;
use super::packages::PackageFiles;
use super::tables::StartedBy;
use super::{
    BIOS_LOADER, BOOTCHAIN, EFI_LOADERS, bios, counted, efi, firmware, first_program, first_targets, initramfs,
    initramfs_needs, installed_kernels, kernels, loader_files, menu, module_tree, mount_modules, mounts, others,
    signers, superblocks, tables,
};
use crate::areas::{Checked, Cx, Examined};
use crate::change::Disks as _;
use crate::devices::VolumeKind;
use crate::model::SystemPath;

/// What is compared with its packages when it is known what that is.
#[derive(Default)]
pub(super) struct Later {
    first: Vec<first_program::Needed>,
    initramfs: Vec<initramfs::Differences>,
}

impl Later {
    pub(super) fn paths(&self) -> Vec<SystemPath> {
        let first = self.first.iter().flat_map(first_program::Needed::paths);
        first.chain(self.initramfs.iter().flat_map(initramfs::Differences::paths)).collect()
    }

    pub(super) fn judge(&self, files: &PackageFiles<'_>, faults: &mut Faults, examined: &mut Examined) {
        first_program::judge(files, &self.first, faults, examined);
        self.initramfs.iter().for_each(|one| one.judge(files, faults));
    }
}

/// The machine, and its disks.
pub(super) struct Machine<'a, 'b> {
    pub(super) cx: &'a Cx<'b>,
    pub(super) layout: &'a Layout,
    pub(super) files: &'a PackageFiles<'a>,
    /// What other areas found: marks in file systems that they reported are not repeated.
    pub(super) checked: &'a Checked,
}

impl Machine<'_, '_> {
    pub(super) fn judge(&self, later: &mut Later, examined: &mut Examined) -> Faults {
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
        superblocks::judge(layout, !files.is_unmounted(), self.checked, &mut faults);
        self.name_hybrid(examined);
        self.name_hidden(examined);
        others::name(layout, self.cx.system.disks.is_some(), examined);
        let others = others::Others::find(layout);
        let fstab = mounts::read(files);
        // What would be seen there is not what the start uses.
        let extent = self.cx.system.machine.extent();
        if let Some(place) = extent.unmounted_above(&grub) {
            examined.leave_out(format!("boot code, boot menu, kernels: {place} is listed in fstab, and not mounted"));
            mounts::judge(layout, files, root, &mut faults, examined);
            return faults;
        }
        if let Some(volume) = root.filter(|_| !files.exists(&grub)).and_then(|root| others::boot_of(layout, root)) {
            let name = layout.volume_name(volume);
            examined.leave_out(format!("boot code, boot menu, kernels: {name} looks like /boot, and is not mounted"));
            mounts::judge(layout, files, root, &mut faults, examined);
            return faults;
        }
        let has_loader = how.bios || how.uefi;
        if let Some(boots) = boots.filter(|_| has_loader) {
            superblocks::for_grub(layout, boots, &mut faults);
        }
        let signers = signers::Signers::of_packages(files);
        if how.uefi && !layout.set.disks.is_empty() {
            let own = self.own_folders();
            let mounted = fstab.iter().find(|mount| mount.place == b"/boot/efi" || mount.place == b"/efi");
            let mounted = mounted.and_then(|mount| layout.set.named(&mount.device));
            let efi = efi::judge(
                layout,
                (files, &signers, &others),
                (&own, mounted, boots, self.checked),
                &mut faults,
                examined,
            );
            self.firmware(efi, &mut faults, examined);
        }
        if how.uefi {
            self.efi_modules(&mut faults, examined);
        }
        if how.bios {
            match boots {
                Some(boots) => bios::judge(layout, (files, &others), boots, &mut faults, examined),
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
        let kind = root.and_then(|root| layout.volume(root).contains.as_ref()).map(|found| found.kind);
        let mounted = mount_modules::MountedKinds::new(layout, &fstab, kind);
        let kernels =
            kernels::judge((files, &signers, &mounted), &starts, &installed_kernels(self.cx), &mut faults, examined);
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
            module_tree::judge(self.cx, (files, &mounted), kernel, with_contents, &mut faults, examined);
        }
        for kernel in kernels.iter().filter(|_| !is_quick) {
            later.initramfs.extend(initramfs::judge(self.cx, files, kernel, &wanted, &mut faults, examined));
        }
        later.first = first_program::find(files, starts.started());
        if first_program::is_systemd(files, starts.started()) {
            first_targets::judge(files, starts.started(), &mut faults);
        }
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
        // A disk image is not what this computer's firmware starts.
        let is_named = self.cx.system.settings.firmware.is_some();
        let is_here = is_named || self.layout.set.disks.iter().all(|disk| disk.device.is_block());
        match self.cx.system.live_disks.firmware().entries().filter(|_| is_here) {
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
