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
    let mut starts_own = false;
    let mut is_own_disk = false;
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
            Ok(Some(_)) => starts_own |= is_own && entry.is_active,
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
    let fat = FatFiles::open(&layout.volume(efi).bytes);
    let has_removable = fat.and_then(|fat| fat.list()).is_ok_and(|entries| {
        entries.iter().any(|entry| entry.path.to_lowercase().starts_with("efi/boot/boot") && !entry.is_folder)
    });
    let cause = format!("no entry starts EFI/{own} on {}", layout.volume_name(efi));
    let fault = Fault::on_disk(Stage::Firmware, "firmware entries".to_owned(), Verdict::Missing, cause);
    faults.push(fault.known_by(KnownBy::Derived).breaks_if(!has_removable && is_own_disk));
}
