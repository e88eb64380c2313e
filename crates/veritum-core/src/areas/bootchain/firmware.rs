//! The firmware's boot entries: whether what they name exists.

use super::fault::{Fault, Faults, Stage};
use super::firmware_mend;
use super::layout::Layout;
use crate::areas::Examined;
use crate::devices::FatFiles;
use crate::model::{KnownBy, Verdict};
use crate::platform::efi_variables::{BootEntry, FirmwareEntries, entry_name};

/// Programs in the system's folder that do not start it: the manager of keys, and what writes new firmware.
const HELPERS: [&str; 2] = ["mm", "fwup"];

/// Judges the entries that name a file on one of the disks. `own` is the name of the system's folder on the EFI partition `efi`; `is_live`
/// says whether the system is the one that this firmware has started.
pub(super) fn judge(
    layout: &Layout,
    firmware: &FirmwareEntries,
    (own, efi, is_live): (&str, usize, bool),
    faults: &mut Faults,
    examined: &mut Examined,
) {
    let (mut starts_own, mut starts_other, mut is_own_disk) = (false, false, false);
    // Entries on the EFI partition: those that would start the system and are not tried, and those that start nothing.
    let (mut right, mut wrong) = (Vec::new(), Vec::new());
    for of in &firmware.entries {
        let BootEntry { number, is_tried, entry, .. } = of;
        let (Some(partition), Some(file)) = (&entry.partition, &entry.file) else { continue };
        examined.coverage.examined += 1;
        let name = format!("firmware entry {} ({})", entry_name(*number), entry.name);
        let (is_own, is_used) = (is_loader(file, own), entry.is_active && *is_tried);
        let volume = layout.set.named(&format!("PARTUUID={partition}"));
        is_own_disk |= volume == Some(efi);
        let Some(volume) = volume else {
            if is_own && is_live && *is_tried && layout.unread.is_empty() {
                let cause = format!("it names the partition {partition}, which is on none of the disks");
                let why = "it can be that of a disk that is not here";
                faults.push(stale(name, cause).mended(Err(why.to_owned())));
            }
            continue;
        };
        let exists = FatFiles::open(&layout.volume(volume).bytes).and_then(|fat| fat.read(file));
        match exists {
            Ok(Some(_)) if is_own => {
                starts_own |= is_used;
                right.extend((volume == efi).then_some(of));
            }
            Ok(Some(_)) => starts_other |= is_used,
            Ok(None) if is_own && *is_tried => {
                let cause = format!("it starts {file}, which does not exist on {}", layout.volume_name(volume));
                wrong.push((
                    of,
                    volume,
                    stale(name, cause).mended(Err("the firmware goes on with the next entry".to_owned())),
                ));
            }
            _ => {}
        }
    }
    // A disk of another computer has no entry here.
    let is_here = is_own_disk || is_live;
    let corrected = wrong.iter().position(|(_, volume, _)| *volume == efi && !starts_own);
    let corrected = corrected.map(|at| wrong.remove(at));
    wrong.into_iter().for_each(|(.., fault)| faults.push(fault));
    if starts_own {
        return;
    }
    if !is_here {
        return examined.note_extent(format!("the firmware here has no entry for {}", layout.volume_name(efi)));
    }
    let mut cause = format!("no entry starts EFI/{own} on {}", layout.volume_name(efi));
    if let Some((of, _, fault)) = &corrected {
        cause = format!("{cause}; {}: {}", entry_name(of.number), fault.cause);
    }
    let fault = Fault::on_disk(Stage::Firmware, "firmware entries".to_owned(), Verdict::Missing, cause);
    // The running system was started by something: by another boot loader, if there is one.
    let is_started = is_removable(layout, efi, own).unwrap_or(false) || is_live && starts_other;
    let known = (right.first().copied(), corrected.as_ref().map(|(of, ..)| *of));
    let mend = firmware_mend::mend(layout, firmware, (own, efi), known);
    faults.push(fault.known_by(KnownBy::Derived).breaks_if(!is_started).mended(mend));
}

/// An entry that leads nowhere.
fn stale(name: String, cause: String) -> Fault {
    let fault = Fault::on_disk(Stage::Firmware, name, Verdict::Inconsistent, cause).latent();
    fault.action("if no disk that is missing now has it: delete the entry in the firmware's own setup")
}

/// Whether a file is in the system's folder, and starts it.
fn is_loader(file: &str, own: &str) -> bool {
    let file = file.to_lowercase();
    let name = file.strip_prefix(&format!("/efi/{own}/"));
    name.is_some_and(|name| !HELPERS.iter().any(|helper| name.starts_with(helper)))
}

/// Whether what firmware starts from a disk without an entry is a program of the system's own folder.
fn is_removable(layout: &Layout, efi: usize, own: &str) -> std::io::Result<bool> {
    let fat = FatFiles::open(&layout.volume(efi).bytes)?;
    let entries = fat.list()?;
    let programs = |prefix: String| {
        let is = move |path: &str| path.starts_with(&prefix) && path.ends_with(".efi");
        let files = entries.iter().filter(move |entry| !entry.is_folder && is(&entry.path.to_lowercase()));
        files.filter_map(|entry| fat.read(&entry.path).ok()?)
    };
    let owns: Vec<Vec<u8>> = programs(format!("efi/{own}/")).collect();
    Ok(programs("efi/boot/boot".to_owned()).any(|program| owns.contains(&program)))
}
