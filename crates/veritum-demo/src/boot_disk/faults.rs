//! Kinds of damage to the boot chain, each with what it means for the next start.

use std::collections::BTreeMap;

use veritum_core::model::StartEffect;

use super::{CORE, EFI, KERNEL, Node, Parts, ROOT, initramfs, modules, table};

type OnParts = fn(&mut Parts);
type OnDisk = fn(&mut Vec<u8>);

/// When a kind of damage is done.
#[derive(Debug, Clone, Copy)]
enum Work {
    /// To the files, before the disk is put together.
    Parts(OnParts),
    /// To the bytes of the disk.
    Disk(OnDisk),
}

/// A kind of damage.
#[derive(Debug)]
pub struct BootFault {
    /// Its name.
    pub name: &'static str,
    /// What it is.
    pub what: &'static str,
    /// What it means for the next start.
    pub effect: StartEffect,
    work: Work,
}

impl BootFault {
    pub(super) fn damage_parts(&self, parts: &mut Parts) {
        if let Work::Parts(work) = self.work {
            work(parts);
        }
    }

    pub(super) fn damage_disk(&self, disk: &mut Vec<u8>) {
        if let Work::Disk(work) = self.work {
            work(disk);
        }
    }
}

/// The kind of damage of that name.
#[must_use]
pub fn boot_fault(name: &str) -> Option<&'static BootFault> {
    BOOT_FAULTS.iter().find(|fault| fault.name == name)
}

use StartEffect::{BreaksStart as Breaks, Latent, SlowsStart as Slows};

const NONE: &str = "11111111-2222-3333-4444-555555555555";

const fn disk(name: &'static str, effect: StartEffect, what: &'static str, work: OnDisk) -> BootFault {
    BootFault { name, what, effect, work: Work::Disk(work) }
}

const fn parts(name: &'static str, effect: StartEffect, what: &'static str, work: OnParts) -> BootFault {
    BootFault { name, what, effect, work: Work::Parts(work) }
}

fn fill(disk: &mut [u8], at: usize, count: usize, with: u8) {
    disk[at..at + count].fill(with);
}

fn flip(bytes: &mut [u8], at: usize, count: usize) {
    bytes[at..at + count].iter_mut().for_each(|byte| *byte ^= 0x55);
}

fn last_sector(disk: &[u8]) -> usize {
    disk.len() / 512 - 1
}

fn edit(parts: &mut Parts, path: &str, work: impl FnOnce(&mut Vec<u8>)) {
    if let Some(Node::File { content, .. }) = parts.root.get_mut(path) {
        work(content);
    }
}

fn replace(parts: &mut Parts, path: &str, from: &str, to: &str) {
    edit(parts, path, |content| *content = String::from_utf8_lossy(content).replace(from, to).into_bytes());
}

fn edit_efi(parts: &mut Parts, name: &str, work: impl FnOnce(&mut Vec<u8>)) {
    if let Some(content) = parts.efi.get_mut(&format!("EFI/foreshore/{name}")) {
        work(content);
    }
}

/// Changes the entries of both copies of the table, so that both stay valid.
fn on_tables(disk: &mut [u8], work: fn(&mut [u8])) {
    let last = last_sector(disk);
    for (header, entries) in [(1, 2), (last, last - 32)] {
        work(&mut disk[entries * 512..(entries + 32) * 512]);
        table::sign(disk, header);
    }
}

/// Makes the initial file system again from changed files; the installed ones stay.
fn remake(parts: &mut Parts, work: impl FnOnce(&mut BTreeMap<String, Node>)) {
    let mut files = parts.root.clone();
    work(&mut files);
    parts.put(&initramfs(), initramfs::pack(&files));
}

fn damage(files: &mut BTreeMap<String, Node>, path: &str) {
    if let Some(Node::File { content, .. }) = files.get_mut(path) {
        flip(content, 200, 8);
    }
}

/// The administrator's link instead of a unit.
fn link(parts: &mut Parts, unit: &str, target: &str) {
    parts.root.insert(format!("etc/systemd/system/{unit}"), Node::Link(target.to_owned()));
}

fn in_modules(path: &str) -> String {
    format!("usr/lib/modules/{KERNEL}/{path}")
}

/// A start that does not need the EFI partition.
fn without_efi(parts: &mut Parts) {
    replace(parts, FSTAB, "umask=0077", "nofail,umask=0077");
}

fn lock(files: &mut BTreeMap<String, Node>, path: &str) {
    if let Some(Node::File { mode, .. }) = files.get_mut(path) {
        *mode = 0o644;
    }
}

const MENU: &str = "boot/grub/grub.cfg";
const FSTAB: &str = "etc/fstab";

fn kernel() -> String {
    format!("boot/vmlinuz-{KERNEL}")
}

fn initramfs() -> String {
    format!("boot/initrd.img-{KERNEL}")
}

/// Every kind of damage.
#[rustfmt::skip]
pub const BOOT_FAULTS: &[BootFault] = &[
    disk("boot-code-zeroed", Breaks, "the boot code in the first sector is zeros", |d| fill(d, 0, 440, 0)),
    disk("boot-code-bytes", Breaks, "some bytes of the boot code differ", |d| flip(d, 0x90, 3)),
    disk("boot-code-replaced", Breaks, "the boot code is overwritten, but for the words that it prints", |d| flip(d, 0x64, 0x110)),
    disk("boot-mark-missing", Breaks, "the first sector is not marked as one that starts", |d| fill(d, 510, 2, 0)),
    disk("core-wiped", Breaks, "the core image is zeros", |d| fill(d, CORE, 200 * 512, 0)),
    disk("core-first-sector", Breaks, "the first sector of the core image is damaged", |d| flip(d, CORE + 16, 60)),
    disk("core-decompressor", Breaks, "what unpacks the core image is damaged", |d| flip(d, CORE + 512 + 200, 60)),
    disk("core-few-bytes", Latent, "a few bytes of the core image differ: its parity corrects them", |d| flip(d, CORE + 3000, 20)),
    disk("core-many-bytes", Breaks, "most of the core image is overwritten", |d| flip(d, CORE + 2100, 20_000)),
    disk("core-parity", Latent, "the parity behind the core image is damaged", |d| flip(d, CORE + 22 * 512, 512)),
    disk("core-place", Breaks, "the boot code starts another sector", |d| d[0x5c..0x64].copy_from_slice(&4096u64.to_le_bytes())),
    disk("table-header", Breaks, "the header of the partition table is damaged", |d| flip(d, 512 + 40, 4)),
    disk("table-entries", Breaks, "an entry of the partition table is damaged", |d| flip(d, 1024 + 70, 1)),
    disk("table-wiped", Breaks, "the partition table is zeros", |d| fill(d, 512, 33 * 512, 0)),
    disk("table-both", Breaks, "both copies of the partition table are lost", |d| {
        fill(d, 512, 512, 0);
        let last = last_sector(d) * 512;
        fill(d, last, 512, 0);
    }),
    disk("table-other", Breaks, "the partition table is valid, and wrong", |d| {
        let at = 1024 + 2 * 128 + 32;
        d[at..at + 8].copy_from_slice(&((ROOT / 512 + 2048) as u64).to_le_bytes());
        table::sign(d, 1);
    }),
    disk("table-backup", Latent, "the backup of the partition table is lost", |d| {
        let last = last_sector(d) * 512;
        fill(d, last, 512, 0);
    }),
    disk("table-cover", Breaks, "the MBR does not cover the GPT", |d| fill(d, 446, 64, 0)),
    disk("table-larger", Breaks, "the disk is shorter than its partition table says", |d| d.truncate(d.len() - (1 << 19))),
    disk("table-grown", Latent, "the disk has grown: the backup of the table is not at its end", |d| d.resize(d.len() + (1 << 20), 0)),
    disk("table-root", Breaks, "no partition contains the root", |d| on_tables(d, |entries| fill(entries, 256, 128, 0))),
    disk("table-efi", Breaks, "no partition contains the EFI file system", |d| on_tables(d, |entries| fill(entries, 128, 128, 0))),
    disk("table-core", Latent, "no partition contains the core image", |d| on_tables(d, |entries| fill(entries, 0, 128, 0))),
    disk("table-overlap", Latent, "the EFI partition reaches into the root", |d| on_tables(d, |entries| {
        entries[128 + 40..128 + 48].copy_from_slice(&((ROOT / 512 + 100) as u64).to_le_bytes());
    })),
    disk("table-giant", Breaks, "the root's partition ends far behind the disk", |d| on_tables(d, |entries| entries[256 + 40..256 + 48].fill(0x7f))),
    disk("table-efi-type", Latent, "the EFI partition has another type", |d| on_tables(d, |entries| flip(entries, 128, 4))),
    disk("root-descriptors", Breaks, "the group descriptors of the root are zeros", |d| fill(d, ROOT + 4096, 4096, 0)),
    disk("root-superblock", Breaks, "the root's superblock is damaged", |d| fill(d, ROOT + 1024, 1024, 0)),
    disk("efi-boot-sector", Breaks, "the EFI partition's boot sector is lost", |d| fill(d, EFI, 512, 0)),
    parts("efi-loader-bytes", Breaks, "the boot loader on the EFI partition is damaged", |p| edit_efi(p, "grubx64.efi", |c| flip(c, 50_000, 64))),
    parts("efi-loader-cut", Breaks, "the boot loader on the EFI partition is cut off", |p| edit_efi(p, "grubx64.efi", |c| c.truncate(9000))),
    parts("efi-loader-other", Breaks, "another of the packages' EFI programs is in the place of the boot loader", |p| {
        let shim = p.efi["EFI/foreshore/shimx64.efi"].clone();
        p.efi.insert("EFI/foreshore/grubx64.efi".into(), shim);
    }),
    parts("efi-shim-missing", Breaks, "the first EFI program is missing", |p| { p.efi.remove("EFI/foreshore/shimx64.efi"); }),
    parts("efi-menu-place", Breaks, "the EFI boot loader searches for another file system", |p| {
        edit_efi(p, "grub.cfg", |c| *c = format!("search.fs_uuid {NONE} root \nset prefix=($root)'/boot/grub'\nconfigfile $prefix/grub.cfg\n").into_bytes());
    }),
    parts("efi-folder", Breaks, "the EFI partition is empty", |p| p.efi.clear()),
    parts("module-needed", Breaks, "a module that the menu needs is damaged", |p| edit(p, "boot/grub/i386-pc/normal.mod", |c| flip(c, 300, 9))),
    parts("module-list", Breaks, "the list by which GRUB finds its commands is missing", |p| { p.root.remove("boot/grub/i386-pc/command.lst"); }),
    parts("core-copy", Latent, "the machine's own copy of the core image is damaged", |p| p.put("boot/grub/i386-pc/core.img", vec![0; 9000])),
    parts("module-unused", Latent, "a module that nothing needs is damaged", |p| edit(p, "boot/grub/i386-pc/tetris.mod", |c| flip(c, 300, 9))),
    parts("menu-missing", Breaks, "there is no boot menu", |p| { p.root.remove(MENU); }),
    parts("menu-empty", Breaks, "the boot menu is empty", |p| edit(p, MENU, Vec::clear)),
    parts("menu-cut", Breaks, "the boot menu ends in its first entry", |p| edit(p, MENU, |c| c.truncate(300))),
    parts("menu-cut-late", Latent, "the boot menu ends behind its first entry", |p| edit(p, MENU, |c| { let end = c.len() - 80; c.truncate(end); })),
    parts("menu-search", Latent, "the boot menu searches for a file system that does not exist", |p| replace(p, MENU, &format!("root {}\n", super::root_uuid()), &format!("root {NONE}\n"))),
    parts("menu-root", Breaks, "the boot menu gives the kernel another root", |p| replace(p, MENU, "root=UUID=5a17", "root=UUID=0000")),
    parts("menu-kernel", Breaks, "the boot menu names a kernel that does not exist", |p| replace(p, MENU, "vmlinuz-6.9.4", "vmlinuz-6.9.3")),
    parts("menu-no-root", Breaks, "the boot menu gives the kernel no root", |p| replace(p, MENU, &format!("root=UUID={} ", super::root_uuid()), "")),
    parts("menu-device", Breaks, "the boot menu names another partition as the root", |p| replace(p, MENU, &format!("root=UUID={}", super::root_uuid()), "root=/dev/sda7")),
    parts("menu-no-initramfs", Breaks, "the boot menu gives the kernel no initial file system", |p| replace(p, MENU, "\tinitrd\t", "\t# ")),
    parts("menu-no-kernel", Breaks, "the entries of the boot menu start no kernel", |p| replace(p, MENU, "\tlinux\t", "\t# ")),
    parts("menu-resume", Slows, "the kernel is to resume from what does not exist", |p| replace(p, MENU, " ro ", &format!(" ro resume=UUID={NONE} "))),
    parts("menu-environment", Latent, "the menu's environment block is cut off", |p| edit(p, "boot/grub/grubenv", |c| c.truncate(100))),
    parts("kernel-bytes", Breaks, "the kernel is damaged", |p| edit(p, &kernel(), |c| flip(c, 200_000, 4))),
    parts("kernel-cut", Breaks, "the kernel is cut off", |p| edit(p, &kernel(), |c| c.truncate(100_000))),
    parts("kernel-missing", Breaks, "the kernel is missing", |p| { p.root.remove(&kernel()); }),
    parts("initramfs-bytes", Breaks, "the initial file system is damaged", |p| edit(p, &initramfs(), |c| { let at = c.len() / 2; flip(c, at, 8); })),
    parts("initramfs-cut", Breaks, "the initial file system is cut off", |p| edit(p, &initramfs(), |c| { let half = c.len() / 2; c.truncate(half); })),
    parts("initramfs-missing", Breaks, "the initial file system is missing", |p| { p.root.remove(&initramfs()); }),
    parts("initramfs-other", Latent, "a module in the initial file system is not the installed one", |p| edit(p, &format!("usr/lib/modules/{KERNEL}/kernel/fs/jetty.ko"), |c| flip(c, 9000, 4))),
    parts("initramfs-hole", Breaks, "a block of the initial file system is zeros", |p| edit(p, &initramfs(), |c| { let at = c.len() / 3; fill(c, at, 512, 0); })),
    parts("initramfs-init", Breaks, "the initial file system has no init", |p| remake(p, |files| { files.remove("usr/share/initramfs-tools/init"); })),
    parts("initramfs-locked", Breaks, "init in the initial file system cannot be executed", |p| remake(p, |files| lock(files, "usr/share/initramfs-tools/init"))),
    parts("initramfs-script", Breaks, "a script in the initial file system is not the package's", |p| remake(p, |files| damage(files, "usr/share/initramfs-tools/scripts/local"))),
    parts("initramfs-module", Breaks, "the initial file system lacks a module that the root needs", |p| remake(p, |files| { files.remove(&format!("usr/lib/modules/{KERNEL}/kernel/fs/jetty.ko")); })),
    parts("initramfs-library", Breaks, "the initial file system lacks a library of its shell", |p| remake(p, |files| { files.remove("usr/lib64/libkeel.so.4"); })),
    parts("initramfs-shell", Breaks, "the initial file system has no shell", |p| remake(p, |files| { files.remove("usr/bin/sh"); })),
    parts("initramfs-check", Latent, "the initial file system cannot check the root", |p| remake(p, |files| { files.remove("usr/sbin/fsck.ext4"); })),
    parts("initramfs-program", Latent, "a program in the initial file system that a start does not need is not the package's", |p| remake(p, |files| damage(files, "usr/bin/cleat"))),
    parts("target-masked", Breaks, "a target that every start reaches is masked", |p| link(p, "basic.target", "/dev/null")),
    parts("target-lost", Breaks, "what systemd starts by default is a link that leads nowhere", |p| link(p, "default.target", "/lib/systemd/system/quay.target")),
    parts("target-end", Breaks, "systemd starts into emergency mode by default", |p| {
        p.put("usr/lib/systemd/system/emergency.target", "[Unit]\n");
        link(p, "default.target", "/usr/lib/systemd/system/emergency.target");
    }),
    parts("menu-end", Breaks, "the menu starts into rescue mode by itself", |p| replace(p, MENU, "ro quiet", "ro systemd.unit=rescue.target")),
    parts("fstab-root", Latent, "fstab names another root", |p| replace(p, FSTAB, "UUID=5a17b00c", "UUID=00000000")),
    parts("fstab-efi", Breaks, "fstab mounts a file system that does not exist", |p| replace(p, FSTAB, "5A17-B00C", "0000-0000")),
    parts("fstab-swap", Slows, "fstab names swap space that does not exist", |p| edit(p, FSTAB, |c| c.extend(format!("UUID={NONE} none swap sw 0 0\n").bytes()))),
    parts("fstab-missing", Latent, "there is no fstab", |p| { p.root.remove(FSTAB); }),
    parts("fstab-empty", Latent, "fstab is empty", |p| edit(p, FSTAB, Vec::clear)),
    parts("fstab-optional", Latent, "fstab names an optional file system that does not exist", |p| edit(p, FSTAB, |c| c.extend(format!("UUID={NONE} /srv ext4 nofail 0 2\n").bytes()))),
    parts("fstab-label", Breaks, "fstab names a label that does not exist", |p| edit(p, FSTAB, |c| c.extend(b"LABEL=breakwater /srv ext4 defaults 0 2\n"))),
    parts("fstab-kind", Breaks, "fstab gives a file system another type", |p| replace(p, FSTAB, "vfat", "ext4")),
    parts("crypttab", Slows, "crypttab names a device that does not exist", |p| p.put("etc/crypttab", format!("hold UUID={NONE} none luks\n"))),
    parts("crypttab-mount", Breaks, "crypttab names a device that does not exist, and fstab mounts what is in it", |p| {
        p.put("etc/crypttab", format!("hold UUID={NONE} none luks\n"));
        edit(p, FSTAB, |content| content.extend(b"/dev/mapper/hold /srv ext4 defaults 0 2\n"));
    }),
    parts("first-program", Breaks, "the first program of the system is damaged", |p| edit(p, "usr/lib/systemd/systemd", |c| flip(c, 400, 40))),
    parts("first-program-locked", Breaks, "the first program of the system cannot be executed", |p| lock(&mut p.root, "usr/lib/systemd/systemd")),
    parts("first-program-link", Breaks, "the link to the first program leads nowhere", |p| { p.root.insert("usr/sbin/init".into(), Node::Link("../lib/systemd/absent".into())); }),
    parts("first-linker", Breaks, "the dynamic linker is missing", |p| { p.root.remove("usr/lib64/ld-foreshore.so.2"); }),
    parts("first-library", Breaks, "a library of the first program is cut off", |p| edit(p, "usr/lib64/libkeel.so.4", |c| c.truncate(9000))),
    parts("first-library-missing", Breaks, "a library of the first program is missing", |p| { p.root.remove("usr/lib/berth/libberth.so.1"); }),
    parts("first-target", Breaks, "what systemd starts by default is missing", |p| { p.root.remove("usr/lib/systemd/system/default.target"); }),
    parts("folder-dev", Breaks, "the folder for devices is missing", |p| { p.root.remove("dev"); }),
    parts("modules-list", Breaks, "the list of modules is cut off, and one is needed", |p| edit(p, &in_modules("modules.dep.bin"), |c| c.truncate(40))),
    parts("modules-list-slow", Slows, "the list of modules is cut off, and none is needed", |p| {
        without_efi(p);
        edit(p, &in_modules("modules.dep.bin"), |c| c.truncate(40));
    }),
    parts("modules-list-alias", Breaks, "the list of what modules are for is missing, and one is needed", |p| { p.root.remove(&in_modules("modules.alias.bin")); }),
    parts("modules-list-symbols", Latent, "the list of what modules offer is missing", |p| { p.root.remove(&in_modules("modules.symbols.bin")); }),
    parts("mount-module", Breaks, "the module that mounts the EFI partition is missing", |p| { p.root.remove(&in_modules("kernel/fs/fat/vfat.ko")); }),
    parts("mount-module-unlisted", Breaks, "the module that mounts the EFI partition is missing, and the lists do not name it", |p| {
        p.root.remove(&in_modules("kernel/fs/fat/vfat.ko"));
        let others: Vec<_> = modules::INSTALLED.iter().filter(|(path, ..)| !path.ends_with("vfat")).copied().collect();
        for (name, list) in modules::lists(&others) {
            p.put(&in_modules(name), list);
        }
    }),
    parts("mount-module-needs", Breaks, "a module that this one needs is damaged", |p| edit(p, &in_modules("kernel/fs/fat/bilge.ko"), |c| flip(c, 9000, 4))),
    parts("module-bytes", Latent, "an installed module is damaged", |p| edit(p, &format!("usr/lib/modules/{KERNEL}/kernel/drivers/foghorn.ko"), |c| flip(c, 9000, 4))),
    parts("module-missing", Latent, "an installed module is missing", |p| { p.root.remove(&format!("usr/lib/modules/{KERNEL}/kernel/drivers/gangway.ko")); }),
    parts("kernel-modules", Breaks, "the kernel's modules are missing, and one is needed", |p| p.root.retain(|path, _| !path.starts_with("usr/lib/modules/"))),
    parts("kernel-modules-slow", Slows, "the kernel's modules are missing, and none is needed", |p| { without_efi(p); p.root.retain(|path, _| !path.starts_with("usr/lib/modules/")); }),
];
