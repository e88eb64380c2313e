//! The EFI partition: its files against those of packages, or against the checksums in their own signatures.

use super::efi_mend;
use super::fault::{Fault, Faults, NOT_KEPT, Stage};
use super::layout::Layout;
use super::mend::Mend;
use super::others::Others;
use super::packages::{NotUsable, PackageFiles};
use super::signers::{GRUB, SHIM, SIGNED, Signers, not_examined};
use super::table_proposal;
use crate::areas::{Checked, Examined};
use crate::devices::{FatEntry, FatFiles};
use crate::formats::boot::efi_program::{SelfProof, content_checksum, is_efi_program, self_proof};
use crate::model::{Authority, KnownBy, PackageId, SystemPath, Verdict, error_words};

/// The folder of what firmware starts from a disk that it does not know.
const REMOVABLE: &str = "boot";

/// An EFI partition, open.
pub(super) struct Efi<'a, 'b> {
    pub(super) layout: &'a Layout,
    pub(super) files: &'a PackageFiles<'b>,
    signers: &'a Signers,
    pub(super) others: &'a Others,
    pub(super) volume: usize,
    pub(super) fat: FatFiles,
    entries: Vec<FatEntry>,
    /// The signed programs that installed packages ship for it.
    pub(super) shipped: &'a [Shipped],
}

/// A signed program of a package.
pub(super) struct Shipped {
    /// Its name on the EFI partition, in lower case.
    pub(super) name: String,
    pub(super) path: SystemPath,
    pub(super) bytes: Result<Vec<u8>, NotUsable>,
    owner: Option<(PackageId, Authority)>,
}

/// The EFI partitions: first the one that fstab mounts at /boot/efi, then those of that type.
fn partitions(layout: &Layout, mounted: Option<usize>) -> Vec<usize> {
    let is_efi = |at: &usize| layout.volume(*at).partition.as_ref().is_some_and(|p| p.kind.is_efi_system());
    let others = (0..layout.set.volumes.len()).filter(is_efi).filter(|at| Some(*at) != mounted);
    mounted.into_iter().chain(others).collect()
}

/// The signed programs that installed packages ship for the EFI partition.
fn shipped(files: &PackageFiles<'_>) -> Vec<Shipped> {
    let mut all = Vec::new();
    for folder in std::iter::once(SHIM).chain(GRUB).map(SystemPath::literal) {
        for name in files.names(&folder).unwrap_or_default() {
            let Some(base) = name.strip_suffix(SIGNED).filter(|base| base.ends_with(b".efi")) else { continue };
            let Ok(path) = folder.child(&name) else { continue };
            let name = String::from_utf8_lossy(base).to_lowercase();
            // What starts from the network or from CDs is never on a disk.
            if name.starts_with("gcd") || name.starts_with("grubnet") {
                continue;
            }
            let read = files.get(&path).map(|file| file.bytes);
            let owner = files.owner(&path);
            all.push(Shipped { name, path, bytes: read, owner });
        }
    }
    all
}

/// Judges the EFI partition of the system. `names` are the names that its folder there can have, `mounted` the position of the volume that
/// fstab(5) mounts at /boot/efi, `boots` that of the volume with /boot/grub, `checked` what other areas reported. Returns the position of
/// the partition with the folder, and the folder's name.
pub(super) fn judge(
    layout: &Layout,
    (files, signers, others): (&PackageFiles<'_>, &Signers, &Others),
    (names, mounted, boots, checked): (&[String], Option<usize>, Option<usize>, &Checked),
    faults: &mut Faults,
    examined: &mut Examined,
) -> Option<(usize, String)> {
    let (all, shipped) = (partitions(layout, mounted), shipped(files));
    let mut found = None;
    let mut is_unknown = false;
    for volume in all {
        let name = layout.volume_name(volume);
        let opened = FatFiles::open(&layout.volume(volume).bytes).and_then(|fat| Ok((fat.list()?, fat)));
        let (entries, fat) = match opened {
            Ok(opened) => opened,
            Err(e) => {
                is_unknown |= found.is_none();
                faults.push(unreadable(layout, volume, &e).breaks_if(found.is_none()));
                continue;
            }
        };
        efi_mend::marks(layout, volume, checked, faults);
        if layout.volume(volume).partition.as_ref().is_some_and(|p| !p.kind.is_efi_system()) {
            let cause =
                "its type in the partition table is not that of an EFI partition: some firmware does not start from it";
            let fault = Fault::on_disk(Stage::EfiPartition, name.clone(), Verdict::Inconsistent, cause);
            faults.push(fault.latent().known_by(KnownBy::SelfProof).mended(table_proposal::typed(layout, volume)));
        }
        examined.coverage.examined += 1;
        let efi = Efi { layout, files, signers, others, volume, fat, entries, shipped: &shipped };
        let own = names.iter().find(|name| efi.has_folder(name)).unwrap_or(&names[0]);
        if found.is_some() {
            // Another disk can have another system of the same name.
            if efi.has_folder(own) {
                examined.note_extent(format!(
                    "EFI/{own} on {name} not judged: the system's own one is on another partition"
                ));
            }
            efi.name_others(own, examined);
            continue;
        }
        if efi.has_folder(own) {
            efi.judge_own(own, boots, faults, examined);
            found = Some((volume, own.clone()));
        }
        efi.judge_removable(own, faults, examined);
        efi.name_others(own, examined);
    }
    match &found {
        // It can be on a disk that cannot be read.
        None if !is_unknown && layout.unread.is_empty() => {
            let shipped = (&shipped[..], files);
            missing(layout, &names[0], mounted, faults, &|volume| {
                efi_mend::folder(layout, volume, &names[0], shipped, boots)
            });
        }
        None if !is_unknown => examined.leave_out("the EFI partition: it is on none of the disks that can be read"),
        _ => {}
    }
    found
}

/// Judges the EFI partitions of disks without a system that can be read: only their file systems. `is_started_by_it` says whether nothing else
/// can start the machine.
pub(super) fn judge_bare(layout: &Layout, is_started_by_it: bool, faults: &mut Faults) {
    for volume in partitions(layout, None) {
        match FatFiles::open(&layout.volume(volume).bytes).and_then(|fat| fat.list()) {
            Ok(_) => efi_mend::marks(layout, volume, &Checked::default(), faults),
            Err(e) => faults.push(unreadable(layout, volume, &e).breaks_if(is_started_by_it)),
        }
    }
}

/// An EFI partition whose file system cannot be read.
fn unreadable(layout: &Layout, volume: usize, e: &std::io::Error) -> Fault {
    let cause = format!("its file system cannot be read: {}", error_words(e));
    let known = if e.raw_os_error().is_some() { KnownBy::Medium } else { KnownBy::SelfProof };
    let fault = Fault::on_disk(Stage::EfiPartition, layout.volume_name(volume), Verdict::Corrupt, cause);
    fault.known_by(known).mended(efi_mend::boot_sector(layout, volume))
}

fn missing(
    layout: &Layout,
    own: &str,
    mounted: Option<usize>,
    faults: &mut Faults,
    mends: &dyn Fn(usize) -> Result<Vec<Mend>, String>,
) {
    let all = partitions(layout, mounted);
    let mends = match all[..] {
        [only] => mends(only),
        [] => table_proposal::efi(layout).map(|mend| vec![mend]),
        [first, ..] if mounted == Some(first) => mends(first),
        _ => Err("which of the EFI partitions is the system's is not known".to_owned()),
    };
    let (name, cause) = match mounted {
        Some(at) => (layout.volume_name(at), format!("it does not contain the folder EFI/{own}")),
        None => {
            let disk = if layout.set.disks.is_empty() { "disks".to_owned() } else { layout.disk_name(0) };
            (format!("{disk}: EFI partition"), format!("no EFI partition contains the folder EFI/{own}"))
        }
    };
    faults.push(Fault::on_disk(Stage::EfiPartition, name, Verdict::Missing, cause).breaks().mended_by(mends));
}

impl Efi<'_, '_> {
    fn has_folder(&self, name: &str) -> bool {
        let path = format!("efi/{name}");
        self.entries.iter().any(|entry| entry.is_folder && entry.path.to_lowercase() == path)
    }

    fn has_file(&self, path: &str) -> bool {
        self.entries.iter().any(|entry| !entry.is_folder && entry.path.eq_ignore_ascii_case(path))
    }

    pub(super) fn fault(&self, path: &str, verdict: Verdict, cause: impl Into<String>) -> Fault {
        let name = format!("{}: {path}", self.layout.volume_name(self.volume));
        Fault::on_disk(Stage::EfiPartition, name, verdict, cause)
    }

    /// Judges the system's own folder.
    fn judge_own(&self, own: &str, boots: Option<usize>, faults: &mut Faults, examined: &mut Examined) {
        let shipped = self.shipped;
        let has_shim = shipped.iter().any(|program| program.name.starts_with("shim"));
        let has_grub = shipped.iter().any(|program| program.name.starts_with("grub"));
        for program in shipped {
            let is_started = program.name.starts_with("shim") || program.name.starts_with("grub");
            let path = format!("EFI/{own}/{}", program.name);
            // The manager of keys and the program that writes firmware entries are started only when they are needed.
            self.judge_program(&path, Some(program), is_started, faults, examined);
        }
        for entry in self.programs_in(own) {
            let name = entry.rsplit('/').next().unwrap_or_default().to_lowercase();
            if !shipped.iter().any(|program| program.name == name) {
                let is_started = name.starts_with("shim") || name.starts_with("grub");
                self.judge_program(&entry, None, is_started, faults, examined);
            }
        }
        if !has_shim && !has_grub && !self.programs_in(own).any(|path| path.to_lowercase().contains("/grub")) {
            let path = format!("EFI/{own}");
            let found = self.fault(&path, Verdict::Missing, "it contains no boot loader").breaks();
            faults.push(found.mended(self.program_mend(&format!("{path}/grubx64.efi"), None)));
        }
        if has_grub {
            self.judge_stub(own, boots, faults, examined);
        }
        self.judge_list(own, faults);
    }

    fn programs_in(&self, folder: &str) -> impl Iterator<Item = String> + '_ {
        let above = format!("efi/{folder}/");
        let is = move |path: &str| {
            let path = path.to_lowercase();
            path.strip_prefix(&above).is_some_and(|rest| !rest.contains('/') && rest.ends_with(".efi"))
        };
        self.entries.iter().filter(move |entry| !entry.is_folder && is(&entry.path)).map(|entry| entry.path.clone())
    }

    /// Judges a program: against the package's, or by its own signature.
    fn judge_program(
        &self,
        path: &str,
        shipped: Option<&Shipped>,
        is_started: bool,
        faults: &mut Faults,
        examined: &mut Examined,
    ) {
        let name = self.layout.volume_name(self.volume);
        let owner = shipped.and_then(|program| program.owner.clone());
        if !self.has_file(path) {
            if let Some(program) = shipped {
                let cause = format!("it is a copy of {}", program.path);
                let found = self.fault(path, Verdict::Missing, cause).package(owner).breaks_if(is_started);
                faults.push(found.mended(self.program_mend(path, shipped)));
            }
            return;
        }
        let bytes = match self.fat.read(path) {
            Ok(bytes) => bytes.unwrap_or_default(),
            Err(e) => {
                let known = if e.raw_os_error().is_some() { KnownBy::Medium } else { KnownBy::SelfProof };
                let cause = error_words(&e);
                let mend =
                    if known == KnownBy::Medium { Err(NOT_KEPT.to_owned()) } else { self.program_mend(path, shipped) };
                let found = self.fault(path, Verdict::Unreadable, cause).package(owner).breaks_if(is_started);
                faults.push(found.known_by(known).mended(mend));
                return;
            }
        };
        examined.coverage.examined += 1;
        examined.coverage.bytes += bytes.len() as u64;
        let right = shipped.and_then(|program| program.bytes.as_ref().ok());
        let is_right = right.is_some_and(|right| *right == bytes);
        let is_same = |one: &&Shipped| one.bytes.as_ref().is_ok_and(|shipped| *shipped == bytes);
        let other = self.shipped.iter().find(is_same).filter(|_| !is_right);
        // In the place of one that starts the system, another of the packages' programs does something else.
        if let (Some(program), Some(other)) = (shipped, other) {
            let cause = format!("it is not {}, but {}", program.path, other.path);
            let fault = self.fault(path, Verdict::Altered, cause).package(owner).known_by(KnownBy::Package);
            return faults.push(fault.breaks_if(is_started).mended(self.program_mend(path, shipped)));
        }
        if !is_right && let Some(issuer) = self.signers.stranger(&bytes) {
            let is_shipped = right.is_some_and(|right| content_checksum(right) == content_checksum(&bytes));
            let content = if is_shipped { ", its content is the package's" } else { "" };
            return examined.leave_out(not_examined(&format!("{name}: {path}{content}"), &issuer));
        }
        match shipped.map(|program| (program, &program.bytes)) {
            Some((program, Ok(_))) if is_right => {
                if let Some((_, authority)) = &program.owner {
                    *examined.coverage.verified_by.entry(*authority).or_default() += 1;
                }
            }
            Some((program, Ok(right))) => {
                let differ = super::difference(&bytes, right);
                // A program of another version proves itself, too.
                let proof = match self_proof(&bytes) {
                    SelfProof::Matches => "; by its own signature it is whole: of another version, or another program",
                    _ => "",
                };
                let cause = format!("it is not {}: {differ}{proof}", program.path);
                let fault = self.fault(path, Verdict::Altered, cause).package(owner).known_by(KnownBy::Package);
                let found = fault.breaks_if(is_started && proof.is_empty());
                faults.push(found.mended(self.program_mend(path, shipped)));
            }
            _ if is_started && self.is_generated(&bytes) => {}
            _ => match self_proof(&bytes) {
                SelfProof::Matches => {}
                SelfProof::Differs => {
                    let cause = "its content does not have the checksum in its own signature";
                    let found = self.fault(path, Verdict::Altered, cause).breaks_if(is_started);
                    faults.push(found.known_by(KnownBy::SelfProof).mended(self.program_mend(path, shipped)));
                }
                SelfProof::Invalid => {
                    let cause = "it is no program, or is cut off";
                    let found = self.fault(path, Verdict::Corrupt, cause).breaks_if(is_started);
                    faults.push(found.known_by(KnownBy::SelfProof).mended(self.program_mend(path, shipped)));
                }
                SelfProof::Unsigned if is_started && self.has_copies() => {
                    let cause = "it has no signature, and is not the machine's own copy in /boot/grub";
                    faults
                        .push(self.fault(path, Verdict::Altered, cause).breaks().mended(self.program_mend(path, None)));
                }
                SelfProof::Unsigned if is_efi_program(&bytes) => {
                    examined.leave_out(format!("{name}: {path} has no signature, and no package ships it"));
                }
                SelfProof::Unsigned => {}
            },
        }
    }

    /// The machine's own copies of a boot loader that was made on it, without a signature.
    pub(super) fn copies(&self) -> impl Iterator<Item = Vec<u8>> + '_ {
        let folders = ["x86_64-efi", "i386-efi", "arm64-efi", "arm-efi"].into_iter();
        let paths =
            folders.flat_map(|folder| ["core.efi", "grub.efi"].map(|name| format!("/boot/grub/{folder}/{name}")));
        paths.filter_map(|path| self.files.read(&SystemPath::parse(path.as_bytes()).ok()?).ok()?)
    }

    fn has_copies(&self) -> bool {
        self.copies().next().is_some()
    }

    fn is_generated(&self, bytes: &[u8]) -> bool {
        self.copies().any(|copy| copy == bytes)
    }

    /// Judges what firmware starts from a disk without an entry, if it is there.
    fn judge_removable(&self, own: &str, faults: &mut Faults, examined: &mut Examined) {
        for path in self.programs_in(REMOVABLE).collect::<Vec<_>>() {
            let name = path.rsplit('/').next().unwrap_or_default().to_lowercase();
            let read = match self.fat.read(&path) {
                Ok(read) => read.unwrap_or_default(),
                Err(e) => {
                    let cause = error_words(&e);
                    let found = self.fault(&path, Verdict::Unreadable, cause).latent().known_by(KnownBy::SelfProof);
                    faults.push(found.mended(self.removable_mend(&path)));
                    continue;
                }
            };
            examined.coverage.examined += 1;
            let same = |program: &Shipped| program.bytes.as_ref().is_ok_and(|bytes| *bytes == read);
            // A boot loader without a signature is the same as that of the system's own folder.
            let is_own =
                || self.programs_in(own).any(|own| self.fat.read(&own).is_ok_and(|own| own.as_deref() == Some(&read)));
            if self.shipped.iter().any(same) || is_own() {
                continue;
            }
            match self_proof(&read) {
                SelfProof::Matches if self.signers.stranger(&read).is_none() => {}
                SelfProof::Matches => examined.note_extent(format!("{path} is another system's, or its own")),
                SelfProof::Unsigned if is_efi_program(&read) => {
                    examined.note_extent(format!("{path} is another system's, or its own"));
                }
                proof => {
                    let cause = match proof {
                        SelfProof::Differs => "its content does not have the checksum in its own signature",
                        _ => "it is no program, or is cut off",
                    };
                    let fault = self.fault(
                        &path,
                        Verdict::Altered,
                        format!("{cause}; firmware without an entry for this system starts EFI/BOOT"),
                    );
                    // Whether the firmware has an entry is not known from the disk.
                    let is_started = name.starts_with("boot") || name.starts_with("fb") || name.starts_with("grub");
                    let mend = self.removable_mend(&path);
                    faults.push(fault.breaks_if(is_started).known_by(KnownBy::SelfProof).mended(mend));
                }
            }
        }
    }

    /// Names the folders of other systems, which are not judged.
    fn name_others(&self, own: &str, examined: &mut Examined) {
        let folders = self.entries.iter().filter(|entry| entry.is_folder);
        let below = folders.filter_map(|entry| Some(entry.path.split_once('/')?.1).filter(|name| !name.contains('/')));
        let others: Vec<&str> =
            below.filter(|name| !name.eq_ignore_ascii_case(own) && !name.eq_ignore_ascii_case(REMOVABLE)).collect();
        if !others.is_empty() {
            let names = others.join(", EFI/");
            examined.note_extent(format!(
                "EFI/{names} on {} not judged (not this system's)",
                self.layout.volume_name(self.volume)
            ));
        }
    }
}
