//! The firmware's boot entries: whether what they name exists.

use super::fault::{Fault, Faults, Stage};
use super::layout::Layout;
use crate::areas::Examined;
use crate::devices::FatFiles;
use crate::model::{KnownBy, Verdict};
use crate::platform::efi_variables::FirmwareEntries;

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
    for (number, entry) in &firmware.entries {
        let (Some(partition), Some(file)) = (&entry.partition, &entry.file) else { continue };
        examined.coverage.examined += 1;
        let name = format!("firmware entry Boot{number:04X} ({})", entry.name);
        let is_own = file.to_lowercase().starts_with(&format!("/efi/{own}/"));
        let volume = layout.set.named(&format!("PARTUUID={partition}"));
        is_own_disk |= volume == Some(efi);
        let Some(volume) = volume else {
            if is_own && is_live && layout.unread.is_empty() {
                let cause = format!("it names the partition {partition}, which is on none of the disks");
                faults.push(Fault::on_disk(Stage::Firmware, name, Verdict::Inconsistent, cause).latent());
            }
            continue;
        };
        let exists = FatFiles::open(&layout.volume(volume).bytes).and_then(|fat| fat.read(file));
        match exists {
            Ok(Some(_)) if is_own => starts_own |= entry.is_active,
            Ok(Some(_)) => starts_other |= entry.is_active,
            Ok(None) if is_own => {
                let cause = format!("it starts {file}, which does not exist on {}", layout.volume_name(volume));
                faults.push(Fault::on_disk(Stage::Firmware, name, Verdict::Inconsistent, cause).latent());
            }
            _ => {}
        }
    }
    if starts_own {
        return;
    }
    // A disk of another computer has no entry here.
    if !is_own_disk && !is_live {
        return examined.note_extent(format!("the firmware here has no entry for {}", layout.volume_name(efi)));
    }
    let cause = format!("no entry starts EFI/{own} on {}", layout.volume_name(efi));
    let fault = Fault::on_disk(Stage::Firmware, "firmware entries".to_owned(), Verdict::Missing, cause);
    // The running system was started by something: by another boot loader, if there is one.
    let is_started = is_removable(layout, efi, own).unwrap_or(false) || is_live && starts_other;
    faults.push(fault.known_by(KnownBy::Derived).breaks_if(!is_started && (is_own_disk || is_live)));
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
