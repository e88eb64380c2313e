//! What answers damage of the EFI partition: its files from packages, the lines by which GRUB finds its menu, and the parts that its file
//! system has twice.

use super::efi::{Efi, Shipped};
use super::fault::{Fault, Faults, Stage};
use super::layout::Layout;
use super::mend::{Mend, Target};
use super::packages::{PackageFiles, why};
use super::superblocks::is_reported;
use crate::areas::Checked;
use crate::devices::table_writer::Placed;
use crate::devices::{Mark, VolumeKind, fat_repair};
use crate::formats::boot::efi_program::is_efi_program;
use crate::model::{KnownBy, SystemPath, Verdict};

/// The list by which firmware entries are written again.
const LIST: &str = "/usr/lib/shim/BOOTX64.CSV";

impl Efi<'_, '_> {
    /// A program, from its package; without one, from the machine's own copy of what was made on it.
    pub(super) fn program_mend(&self, path: &str, shipped: Option<&Shipped>) -> Result<Mend, String> {
        if let Some(program) = shipped {
            let bytes = program.bytes.as_ref().map_err(|not| why(&program.path, not))?;
            return Ok(Mend::efi_file(self.volume, path, bytes.clone(), program.path.to_string()));
        }
        if !path.to_lowercase().contains("/grub") {
            return Err("no installed package ships it".to_owned());
        }
        let copy = self.copies().find(|copy| is_efi_program(copy));
        let copy = copy.ok_or("no installed package ships it, and the machine has no copy of its own")?;
        Ok(Mend::efi_file(self.volume, path, copy, "the machine's own copy in /boot/grub"))
    }

    /// A program of those that firmware starts without an entry: the first one is there by another name.
    pub(super) fn removable_mend(&self, path: &str) -> Result<Mend, String> {
        let name = path.rsplit('/').next().unwrap_or_default().to_lowercase();
        let own = name.strip_prefix("boot").map_or_else(|| name.clone(), |rest| format!("shim{rest}"));
        match self.shipped.iter().find(|program| program.name == own) {
            Some(program) => self.program_mend(path, Some(program)),
            None => Err("no installed package ships it".to_owned()),
        }
    }
}

/// The three lines by which GRUB finds its menu.
pub(super) fn stub(layout: &Layout, volume: usize, own: &str, boots: Option<usize>) -> Result<Mend, String> {
    let unknown = "the file system with /boot/grub is not known";
    let uuid = boots.and_then(|at| layout.volume(at).contains.as_ref()).map(|found| found.uuid.clone());
    let uuid = uuid.filter(|uuid| !uuid.is_empty()).ok_or(unknown)?;
    let (_, folder) = layout.find(&SystemPath::literal("/boot/grub")).ok_or(unknown)?;
    let folder = String::from_utf8_lossy(&folder).into_owned();
    let text = format!("search.fs_uuid {uuid} root \nset prefix=($root)'/{folder}'\nconfigfile $prefix/grub.cfg\n");
    let source = "where /boot/grub is on the disks";
    Ok(Mend::efi_file(volume, &format!("EFI/{own}/grub.cfg"), text.into_bytes(), source))
}

/// The whole of the system's folder.
pub(super) fn folder(
    layout: &Layout,
    volume: usize,
    own: &str,
    (shipped, files): (&[Shipped], &PackageFiles<'_>),
    boots: Option<usize>,
) -> Result<Vec<Mend>, String> {
    let has = |start: &str| shipped.iter().any(|program| program.name.starts_with(start));
    if !has("shim") || !has("grub") {
        return Err("no installed packages ship the programs that belong there (shim and GRUB, signed)".to_owned());
    }
    let mut all = Vec::new();
    for program in shipped {
        let bytes = program.bytes.as_ref().map_err(|not| why(&program.path, not))?;
        all.push(Mend::efi_file(
            volume,
            &format!("EFI/{own}/{}", program.name),
            bytes.clone(),
            program.path.to_string(),
        ));
    }
    let list = SystemPath::literal(LIST);
    if let Ok(file) = files.get(&list) {
        all.push(Mend::efi_file(volume, &format!("EFI/{own}/BOOTX64.CSV"), file.bytes, LIST));
    }
    all.push(stub(layout, volume, own, boots)?);
    Ok(all)
}

/// The boot sector of an EFI partition whose file system cannot be read.
pub(super) fn boot_sector(layout: &Layout, volume: usize) -> Result<Mend, String> {
    let placed = fat_repair::boot_sector(&layout.volume(volume).bytes)?;
    Ok(structure(volume, placed, "the copy of its boot sector"))
}

fn structure(volume: usize, placed: Placed, source: &'static str) -> Mend {
    Mend::new(Target::Volume(volume, vec![placed]), source)
}

/// What the boot sector and the tables of the file system show.
pub(super) fn marks(layout: &Layout, volume: usize, checked: &Checked, faults: &mut Faults) {
    let found = layout.volume(volume);
    let Some(contains) = found.contains.as_ref().filter(|contains| contains.kind == VolumeKind::Vfat) else { return };
    let name = layout.volume_name(volume);
    for mark in contains.marks(&found.bytes) {
        let mend = match &mark {
            Mark::Differs(what) if what.contains("boot sector") => {
                fat_repair::boot_copy(&found.bytes).map(|placed| structure(volume, placed, "its boot sector"))
            }
            Mark::Differs(_) => fat_repair::allocation_table(&found.bytes)
                .map(|placed| structure(volume, placed, "that table with which all files can be read")),
            _ => Err("the file system's own check decides about it".to_owned()),
        };
        let (verdict, what, cause) = match mark {
            Mark::Differs(what) => (Verdict::Inconsistent, what, "they differ; the first is used"),
            Mark::Damaged(what) => (Verdict::Corrupt, what, "it cannot be used, or not be read"),
            Mark::Errors => (Verdict::ErrorsRecorded, String::new(), "the kernel has marked it with errors"),
            Mark::NotClean | Mark::NeedsRepair => continue,
        };
        let part = if what.is_empty() { name.clone() } else { format!("{name}: {what}") };
        if !is_reported(checked, &part) {
            let fault = Fault::on_disk(Stage::EfiPartition, part, verdict, cause).latent();
            faults.push(fault.known_by(KnownBy::SelfProof).mended(mend));
        }
    }
}
