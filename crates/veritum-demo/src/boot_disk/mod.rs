//! The disk of counter-03 as an image: made-up boot code in the shapes of the real one, a GPT, an EFI partition, and a root with a kernel, an
//! initial file system, a boot menu and a package database. It starts nowhere; its parts fit together as those of a real one do.

mod efi;
mod ext4;
mod faults;
mod grub;
mod initramfs;
mod modules;
mod programs;
mod table;

use std::collections::BTreeMap;
use std::fs;
use std::io::{self, Write as _};
use std::path::Path;

pub use faults::{BOOT_FAULTS, BootFault, boot_fault};

use crate::seed::Seed;

/// The name of the image in the demo's folder.
pub const NAME: &str = "disk.img";
/// The size of the image in bytes.
const SIZE: usize = 24 << 20;
const MIB: usize = 1 << 20;
/// Where the parts are, in bytes: the core image, the EFI partition, the root.
const CORE: usize = MIB;
const EFI: usize = 2 * MIB;
const ROOT: usize = 6 * MIB;
const ROOT_SIZE: usize = SIZE - ROOT - MIB;
/// The version of the kernel.
/// The kernel's settings: what it reads FAT with is a module.
const CONFIG: &str = "CONFIG_EXT4_FS=m\nCONFIG_VFAT_FS=m\nCONFIG_FAT_DEFAULT_CODEPAGE=437\nCONFIG_NLS_CODEPAGE_437=y\n";
/// The ends of paths of files that are executed, beside those in folders for programs.
const EXECUTED: [&str; 3] = ["systemd/systemd", "ld-foreshore.so.2", "initramfs-tools/init"];
/// Where the second system has its boot menu.
const SECOND_PLACE: &str = "(,gpt4)/boot/grub";
const KERNEL: &str = "6.9.4-foreshore";
const ROOT_UUID: [u8; 16] = *b"\x5a\x17\xb0\x0c\x42\x42\x4a\x4a\x8c\x03\x00\x00\x5a\x17\xb0\x0c";
const VAR_UUID: [u8; 16] = *b"\x5a\x17\xb0\x0d\x42\x42\x4a\x4a\x8c\x03\x00\x00\x5a\x17\xb0\x0d";
const EFI_ID: u32 = 0x5a17_b00c;

/// A file of the root.
#[derive(Debug, Clone, PartialEq, Eq)]
enum Node {
    /// A folder.
    Folder,
    /// A file with its permissions.
    File {
        /// Its content.
        content: Vec<u8>,
        /// Its permissions.
        mode: u32,
    },
    /// A symlink.
    Link(String),
}

/// Files by their paths without a leading slash.
type Files = Vec<(String, Vec<u8>)>;

/// The disk before it is put together.
#[derive(Debug, Clone)]
struct Parts {
    /// The files of the root, by their paths without a leading slash.
    root: BTreeMap<String, Node>,
    /// The files of the EFI partition.
    efi: BTreeMap<String, Vec<u8>>,
    /// The boot loader's package.
    grub: Files,
    /// The core image that is installed.
    core: Vec<u8>,
    /// What the partition behind the root contains.
    second: Second,
    /// The size of a sector, by the partition table.
    sector: usize,
}

/// What a partition behind the root contains.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
enum Second {
    /// There is none.
    None,
    /// `/var` of the system.
    Var,
    /// `/boot` of the system.
    Boot,
    /// Another system.
    System,
}

fn root_uuid() -> String {
    written(ROOT_UUID)
}

fn written(uuid: [u8; 16]) -> String {
    let hex = hex::encode(uuid);
    [&hex[..8], &hex[8..12], &hex[12..16], &hex[16..20], &hex[20..]].join("-")
}

fn efi_id() -> String {
    format!("{:04X}-{:04X}", EFI_ID >> 16, EFI_ID & 0xffff)
}

impl Parts {
    fn new(seed: u64) -> Self {
        let mut parts = Self {
            root: BTreeMap::new(),
            efi: BTreeMap::new(),
            grub: grub::package(seed),
            core: Vec::new(),
            second: Second::None,
            sector: 512,
        };
        let (shim, loader) = (efi::program(seed, "shimx64", 60_000), efi::program(seed, "grubx64", 120_000));
        let kernel = efi::program(seed, &format!("vmlinuz-{KERNEL}"), 400_000);
        let shipped: Files = parts
            .grub
            .iter()
            .map(|(name, content)| (format!("usr/lib/grub/i386-pc/{name}"), content.clone()))
            .chain([
                ("usr/lib/shim/shimx64.efi.signed".to_owned(), shim.clone()),
                ("usr/lib/grub/x86_64-efi-signed/grubx64.efi.signed".to_owned(), loader.clone()),
            ])
            .collect();
        let module = |(name, ..): &modules::Said| {
            let content = modules::module(name, &Seed::new(seed, name).bytes(20_000));
            (format!("usr/lib/modules/{KERNEL}/kernel/{name}.ko"), content)
        };
        let own = [(format!("boot/vmlinuz-{KERNEL}"), kernel), (format!("boot/config-{KERNEL}"), CONFIG.into())];
        let of_kernel: Files = modules::INSTALLED.iter().map(module).chain(own).collect();
        let of_base: Files = [
            ("usr/bin/cleat", 30_000),
            ("usr/sbin/fsck", 20_000),
            ("usr/sbin/fsck.ext4", 60_000),
            ("usr/lib64/ld-foreshore.so.2", 20_000),
            ("usr/bin/run-init", 5000),
            ("usr/sbin/modprobe", 12_000),
            ("usr/share/initramfs-tools/init", 3000),
            ("usr/share/initramfs-tools/scripts/functions", 4000),
            ("usr/share/initramfs-tools/scripts/local", 2000),
            ("usr/lib/systemd/system/default.target", 300),
            ("usr/lib/systemd/system/sysinit.target", 300),
            ("usr/lib/systemd/system/basic.target", 300),
            ("usr/lib/systemd/system/local-fs.target", 300),
        ]
        .iter()
        .map(|(name, size)| ((*name).to_owned(), Seed::new(seed, name).prose(*size)))
        .chain(of_linker(seed))
        .collect();
        let packages = [
            ("foreshore-boot", "2.12-4", shipped),
            (&*format!("linux-image-{KERNEL}"), "6.9.4-1", of_kernel),
            ("foreshore-base", "4.2-1", of_base),
        ];
        parts.install(&packages);
        parts.configure();
        parts.start(&[("shimx64.efi", shim), ("grubx64.efi", loader)]);
        parts
    }

    fn put(&mut self, path: &str, content: impl Into<Vec<u8>>) {
        let is_executed = path.contains("bin/") || EXECUTED.iter().any(|end| path.ends_with(end));
        let mode = if is_executed { 0o755 } else { 0o644 };
        self.root.insert(path.to_owned(), Node::File { content: content.into(), mode });
    }

    fn change_kernel(&mut self, change: impl FnOnce(&mut Vec<u8>)) {
        if let Some(Node::File { content, .. }) = self.root.get_mut(&format!("boot/vmlinuz-{KERNEL}")) {
            change(content);
        }
    }

    /// Installs packages: their files, and what dpkg records of them.
    fn install(&mut self, packages: &[(&str, &str, Files)]) {
        use md5::Digest as _;
        let mut status = String::new();
        for (name, version, files) in packages {
            status.push_str(&format!(
                "Package: {name}\nStatus: install ok installed\nMaintainer: Foreshore <packages@foreshore.example>\nArchitecture: amd64\nVersion: {version}\nDescription: part of counter-03\n\n"
            ));
            let (mut list, mut sums) = (String::from("/.\n"), String::new());
            for (path, content) in files {
                let mut above = String::new();
                for folder in path.split('/').rev().skip(1).collect::<Vec<_>>().into_iter().rev() {
                    above.push('/');
                    above.push_str(folder);
                    if !list.lines().any(|line| line == above) {
                        list.push_str(&format!("{above}\n"));
                    }
                }
                list.push_str(&format!("/{path}\n"));
                sums.push_str(&format!("{}  {path}\n", hex::encode(md5::Md5::digest(content))));
                self.put(path, content.clone());
            }
            self.put(&format!("var/lib/dpkg/info/{name}.list"), list);
            self.put(&format!("var/lib/dpkg/info/{name}.md5sums"), sums);
        }
        self.put("var/lib/dpkg/status", status);
        self.root.insert("var/lib/dpkg/updates".into(), Node::Folder);
        for alias in ["bin", "sbin", "lib", "lib64"] {
            self.root.insert(alias.into(), Node::Link(format!("usr/{alias}")));
        }
        self.root.insert("usr/sbin/init".into(), Node::Link("../lib/systemd/systemd".into()));
    }

    fn configure(&mut self) {
        let fstab = format!(
            "UUID={} / ext4 errors=remount-ro 0 1\nUUID={} /boot/efi vfat umask=0077 0 1\n",
            root_uuid(),
            efi_id()
        );
        self.put("etc/fstab", fstab);
        self.put("etc/hostname", "counter-03\n");
        let release = "ID=foreshore\nNAME=\"Foreshore\"\nVERSION_ID=\"4.2\"\nPRETTY_NAME=\"Foreshore 4.2\"\n";
        self.put("etc/os-release", release);
        self.put("etc/passwd", "root:x:0:0:root:/root:/bin/sh\nmirela:x:1000:1000:Mirela:/home/mirela:/bin/sh\n");
        self.put("etc/group", "root:x:0:\nmirela:x:1000:\n");
        self.put("etc/shadow", "root:!:20000:0:99999:7:::\n");
        for folder in ["boot/efi", "home/mirela", "proc", "sys", "dev", "run", "tmp"] {
            self.root.insert(folder.into(), Node::Folder);
        }
    }

    /// What starts the system: copies of the boot loader, the menu, the initial file system, the EFI partition.
    fn start(&mut self, programs: &[(&str, Vec<u8>)]) {
        let copied = |name: &str| name.ends_with(".mod") || name.ends_with(".lst") || name == "boot.img";
        for (name, content) in self.grub.clone().into_iter().filter(|(name, _)| copied(name)) {
            self.put(&format!("boot/grub/i386-pc/{name}"), content);
        }
        self.core = grub::core_image(&self.grub, "(,gpt3)/boot/grub");
        self.put("boot/grub/i386-pc/core.img", self.core.clone());
        self.root.insert("boot/grub/x86_64-efi".into(), Node::Folder);
        let mut environment = b"# GRUB Environment Block\n".to_vec();
        environment.resize(1024, b'#');
        self.put("boot/grub/grubenv", environment);
        self.put("boot/grub/grub.cfg", menu());
        for (name, list) in modules::lists(&modules::INSTALLED) {
            self.put(&format!("usr/lib/modules/{KERNEL}/{name}"), list);
        }
        self.put(&format!("usr/lib/modules/{KERNEL}/modules.builtin"), "kernel/fs/nls/nls_cp437.ko\n");
        let packed = initramfs::pack(&self.root);
        self.put(&format!("boot/initrd.img-{KERNEL}"), packed);
        for (name, content) in programs {
            self.efi.insert(format!("EFI/foreshore/{name}"), content.clone());
        }
        let stub = format!(
            "search.fs_uuid {} root \nset prefix=($root)'/boot/grub'\nconfigfile $prefix/grub.cfg\n",
            root_uuid()
        );
        self.efi.insert("EFI/foreshore/grub.cfg".into(), stub.into_bytes());
    }

    /// Moves what is in /boot to a partition of its own.
    fn boot_apart(&mut self) {
        let uuid = written(VAR_UUID);
        self.second = Second::Boot;
        self.core = grub::core_image(&self.grub, "(,gpt4)/grub");
        self.put("boot/grub/i386-pc/core.img", self.core.clone());
        let search = format!("--set=root {}", root_uuid());
        let menu = menu().replace(&search, &format!("--set=root {uuid}")).replace("\t/boot/", "\t/");
        self.put("boot/grub/grub.cfg", menu);
        let stub = format!("search.fs_uuid {uuid} root \nset prefix=($root)'/grub'\nconfigfile $prefix/grub.cfg\n");
        self.efi.insert("EFI/foreshore/grub.cfg".into(), stub.into_bytes());
    }

    /// Puts the disk together.
    fn assemble(&self) -> io::Result<Vec<u8>> {
        let mut image = vec![0; SIZE];
        let mut put = |at: usize, bytes: &[u8]| image[at..at + bytes.len()].copy_from_slice(bytes);
        let sector = (CORE / 512) as u64;
        put(0, &grub::boot_sector(&self.grub, sector));
        put(CORE, &grub::installed(&self.core, sector));
        put(EFI, &efi::file_system(&self.efi, ROOT - EFI, EFI_ID)?);
        let mut parts = vec![
            (table::BOOT_CODE, CORE, EFI),
            (table::EFI_SYSTEM, EFI, ROOT),
            (table::LINUX, ROOT, ROOT + self.size()),
        ];
        let mut root = self.root.clone();
        let apart = if self.second == Second::Boot { "boot" } else { "var" };
        let below = |path: &String| Some(path.strip_prefix(apart)?.strip_prefix('/')?.to_owned());
        let second: BTreeMap<String, Node> = match self.second {
            Second::None => BTreeMap::new(),
            Second::Var | Second::Boot => {
                root.iter().filter_map(|(path, node)| Some((below(path)?, node.clone()))).collect()
            }
            Second::System => {
                let is_in = |path: &String| ["etc", "var"].iter().any(|folder| path.starts_with(folder));
                let own = root.iter().filter(|(path, _)| is_in(path)).map(|(path, node)| (path.clone(), node.clone()));
                let core = Node::File { content: grub::core_image(&self.grub, SECOND_PLACE), mode: 0o644 };
                own.chain([("boot/grub/i386-pc/core.img".to_owned(), core)]).collect()
            }
        };
        if matches!(self.second, Second::Var | Second::Boot) {
            root.retain(|path, _| below(path).is_none());
            root.insert(apart.into(), Node::Folder);
        }
        if !second.is_empty() {
            let (start, size) = (ROOT + self.size(), ROOT_SIZE - self.size());
            put(start, &ext4::file_system(&second, size, (VAR_UUID, "second", crate::NOW as u32)));
            parts.push((table::LINUX, start, start + size));
        }
        put(ROOT, &ext4::file_system(&root, self.size(), (ROOT_UUID, "counter-03", crate::NOW as u32)));
        table::write(&mut image, self.sector, &parts);
        Ok(image)
    }

    /// The size of the root in bytes.
    fn size(&self) -> usize {
        if self.second == Second::None { ROOT_SIZE } else { ROOT_SIZE / 2 }
    }
}

/// The programs that the dynamic linker starts, and the libraries that they need.
fn of_linker(seed: u64) -> Files {
    const OWN: &str = "usr/lib/systemd/systemd";
    let linker = Some(programs::LINKER);
    let file = |path: &str, linker, needed: &[&str], search: &str| {
        (path.to_owned(), programs::program(linker, needed, search, &Seed::new(seed, path).bytes(20_000)))
    };
    vec![
        file(OWN, linker, &["libberth.so.1", "libkeel.so.4"], "$ORIGIN/../berth"),
        file("usr/lib/berth/libberth.so.1", None, &["libkeel.so.4"], ""),
        file("usr/lib64/libkeel.so.4", None, &[], ""),
        file("usr/bin/sh", linker, &["libkeel.so.4"], ""),
    ]
}

/// The boot menu.
fn menu() -> String {
    let uuid = root_uuid();
    let entry = |title: &str, id: &str, more: &str| {
        format!(
            "menuentry '{title}' --class os $menuentry_id_option '{id}' {{\n\tinsmod gzio\n\tinsmod part_gpt\n\tinsmod ext2\n\tsearch --no-floppy --fs-uuid --set=root {uuid}\n\tlinux\t/boot/vmlinuz-{KERNEL} root=UUID={uuid} ro {more}\n\tinitrd\t/boot/initrd.img-{KERNEL}\n}}\n"
        )
    };
    format!(
        "### BEGIN /etc/grub.d/00_header ###\nset default=\"0\"\nset timeout=5\n### END /etc/grub.d/00_header ###\n\n### BEGIN /etc/grub.d/10_linux ###\n{}submenu 'Advanced options for Foreshore' $menuentry_id_option 'advanced' {{\n{}}}\n### END /etc/grub.d/10_linux ###\n",
        entry("Foreshore", "foreshore", "quiet"),
        entry("Foreshore, with Linux 6.9.4 (recovery mode)", "recovery", "single")
    )
}

/// The bytes of the disk with these kinds of damage.
///
/// # Errors
/// When the EFI partition cannot be made.
pub fn disk(seed: u64, faults: &[&BootFault]) -> io::Result<Vec<u8>> {
    let mut parts = Parts::new(seed);
    faults.iter().for_each(|fault| fault.damage_parts(&mut parts));
    let mut image = parts.assemble()?;
    faults.iter().for_each(|fault| fault.damage_disk(&mut image));
    Ok(image)
}

/// How an intact disk differs from the usual one.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Variant {
    /// `/var` has a partition of its own.
    VarApart,
    /// The initial file system is not compressed, and begins with microcode.
    PlainInitramfs,
    /// There is another system in a partition of its own.
    TwoSystems,
    /// The same, and the disk starts that one.
    OtherStarts,
    /// The same, and that one is where this one was copied from: both have the same copy of the core image.
    CopiedFrom,
    /// The EFI partition has the boot loader of another system, too.
    OtherLoader,
    /// The first EFI program is in EFI/BOOT, too.
    Removable,
    /// `/boot` has a partition of its own.
    BootApart,
    /// The same, and fstab does not name it.
    BootUnlisted,
    /// The same, and there is no fstab.
    BootWithoutFstab,
    /// crypttab says that an encrypted volume is inside of itself.
    VolumeInItself,
    /// The boot loader and the kernel are signed with a key of the machine's owner.
    OwnKey,
    /// The kernel is another build of the same version, signed like the packages' programs.
    OtherBuild,
    /// The partition table is that of a disk with sectors of 4096 bytes.
    LargeSectors,
}

/// The bytes of an intact disk that differs from the usual one.
///
/// # Errors
/// When the EFI partition cannot be made.
pub fn disk_as(seed: u64, variant: Variant) -> io::Result<Vec<u8>> {
    let mut parts = Parts::new(seed);
    match variant {
        Variant::VarApart => {
            if let Some(Node::File { content, .. }) = parts.root.get_mut("etc/fstab") {
                content.extend(format!("UUID={} /var ext4 defaults 0 2\n", written(VAR_UUID)).bytes());
            }
            parts.second = Second::Var;
        }
        Variant::TwoSystems => parts.second = Second::System,
        Variant::OtherStarts | Variant::CopiedFrom => {
            parts.second = Second::System;
            parts.core = grub::core_image(&parts.grub, SECOND_PLACE);
            if variant == Variant::CopiedFrom {
                parts.put("boot/grub/i386-pc/core.img", parts.core.clone());
            }
            let stub = format!("search.fs_uuid {} root \nset prefix=($root)'/boot/grub'\n", written(VAR_UUID));
            parts.efi.insert("EFI/foreshore/grub.cfg".into(), stub.into_bytes());
        }
        Variant::OtherLoader => {
            parts.efi.insert("EFI/ferry/ferry.efi".into(), efi::program(seed, "ferry", 20_000));
            parts.efi.insert("EFI/BOOT/bootx64.efi".into(), efi::program(seed, "ferry", 20_000));
        }
        Variant::BootApart | Variant::BootUnlisted | Variant::BootWithoutFstab => {
            parts.boot_apart();
            let listed = format!("UUID={} /boot ext4 defaults 0 2\n", written(VAR_UUID));
            match (variant, parts.root.get_mut("etc/fstab")) {
                (Variant::BootApart, Some(Node::File { content, .. })) => content.extend(listed.bytes()),
                (Variant::BootWithoutFstab, _) => drop(parts.root.remove("etc/fstab")),
                _ => {}
            }
        }
        Variant::VolumeInItself => {
            parts.put("etc/crypttab", "hold /dev/mapper/hold none luks\n");
            if let Some(Node::File { content, .. }) = parts.root.get_mut("etc/fstab") {
                content.extend(b"/dev/mapper/hold /srv ext4 defaults 0 2\n");
            }
        }
        Variant::Removable => {
            let shim = parts.efi["EFI/foreshore/shimx64.efi"].clone();
            parts.efi.insert("EFI/BOOT/BOOTX64.EFI".into(), shim);
        }
        Variant::OwnKey => {
            let loader = parts.efi.get_mut("EFI/foreshore/grubx64.efi");
            loader.into_iter().for_each(|loader| efi::sign(loader, "CN=Owner of counter-03"));
            parts.change_kernel(|kernel| efi::sign(kernel, "CN=Owner of counter-03"));
        }
        Variant::OtherBuild => {
            parts.change_kernel(|kernel| *kernel = efi::program(seed + 1, &format!("vmlinuz-{KERNEL}"), 400_000));
        }
        Variant::LargeSectors => parts.sector = 4096,
        Variant::PlainInitramfs => {
            let plain = [initramfs::microcode(), initramfs::unpacked(&parts.root)].concat();
            parts.put(&format!("boot/initrd.img-{KERNEL}"), plain);
        }
    }
    parts.assemble()
}

/// Writes the disk into a file with holes.
///
/// # Errors
/// When it cannot be written.
pub fn write(path: &Path, image: &[u8]) -> io::Result<()> {
    use std::os::unix::fs::FileExt as _;
    let mut file = fs::File::create(path)?;
    file.set_len(image.len() as u64)?;
    for (at, piece) in image.chunks(4096).enumerate().filter(|(_, piece)| piece.iter().any(|byte| *byte != 0)) {
        file.write_all_at(piece, at as u64 * 4096)?;
    }
    file.flush()
}
