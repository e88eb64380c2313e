//! How the firmware gets an entry that starts the system: an own one is corrected, else a new one is made and tried first.

use super::layout::Layout;
use super::mend::{Mend, Target};
use crate::devices::FatFiles;
use crate::formats::boot::firmware_entries::{EntryTarget, activated, new_entry, order, order_bytes, with_target};
use crate::model::error_words;
use crate::plan::VariableChange;
use crate::platform::efi_variables::{ATTRIBUTES, BootEntry, FirmwareEntries, ORDER, entry_name};

/// Non-volatile, and seen by the boot loader and the running system (UEFI 2.10, 8.2).
const USUAL_ATTRIBUTES: [u8; ATTRIBUTES] = [7, 0, 0, 0];
/// What an entry starts, the usual one first: the one that is accepted where only signed programs are.
const PROGRAMS: [&str; 4] = ["shimx64.efi", "shimaa64.efi", "grubx64.efi", "grubaa64.efi"];

/// What gives the firmware an entry for the folder `own` of the EFI partition `efi`. `right` is an entry that starts the system and is not
/// tried, `wrong` one on this partition that starts nothing.
pub(super) fn mend(
    layout: &Layout,
    firmware: &FirmwareEntries,
    (own, efi): (&str, usize),
    (right, wrong): (Option<&BootEntry>, Option<&BootEntry>),
) -> Result<Mend, String> {
    let (number, before, content) = match (right, wrong) {
        (Some(entry), _) => (entry.number, Some(entry), activated(content(&entry.variable))),
        (None, Some(entry)) => {
            (entry.number, Some(entry), with_target(content(&entry.variable), &target(layout, own, efi)?))
        }
        (None, None) => (free_number(firmware)?, None, new_entry(own, &target(layout, own, efi)?)),
    };
    let content = content.ok_or("such an entry cannot be written")?;
    let attributes = before.and_then(|entry| entry.variable.get(..ATTRIBUTES)).unwrap_or(&USUAL_ATTRIBUTES);
    let before = before.map(|entry| entry.variable.clone());
    let entry = VariableChange { name: entry_name(number), before, after: Some([attributes, &content].concat()) };
    let variables = [Some(entry), first_in_order(firmware, number)].into_iter().flatten();
    let variables = variables.filter(|variable| variable.before != variable.after).collect();
    let source = format!("what is in EFI/{own} on {}", layout.volume_name(efi));
    Ok(Mend::new(Target::Firmware(variables), source))
}

fn content(variable: &[u8]) -> &[u8] {
    variable.get(ATTRIBUTES..).unwrap_or_default()
}

/// The order with this entry, which is tried first if it was not tried so far.
fn first_in_order(firmware: &FirmwareEntries, number: u16) -> Option<VariableChange> {
    let set = firmware.order.as_deref();
    let mut numbers = order(set.map_or(&[], content));
    if numbers.contains(&number) {
        return None;
    }
    numbers.insert(0, number);
    let attributes = set.and_then(|set| set.get(..ATTRIBUTES)).unwrap_or(&USUAL_ATTRIBUTES);
    let after = Some([attributes, &order_bytes(&numbers)].concat());
    Some(VariableChange { name: ORDER.to_owned(), before: firmware.order.clone(), after })
}

/// The first number without an entry.
fn free_number(firmware: &FirmwareEntries) -> Result<u16, String> {
    let is_free = |number: &u16| !firmware.entries.iter().any(|entry| entry.number == *number);
    let named = order(firmware.order.as_deref().map_or(&[], content));
    // A number in the order can be that of an entry that cannot be read.
    let free = (0..=u16::MAX).filter(|number| !named.contains(number)).find(is_free);
    free.ok_or_else(|| "the firmware has no room for another entry".to_owned())
}

/// The program in the system's folder, and where it is.
fn target(layout: &Layout, own: &str, efi: usize) -> Result<EntryTarget, String> {
    let volume = layout.volume(efi);
    let partition = volume.partition.as_ref().ok_or("the EFI partition is not in a partition table")?;
    let sector = layout.disk(volume.disk).gpt.sector;
    if sector != 512 {
        return Err(format!("the size of its sectors ({sector} bytes) is only guessed"));
    }
    let fat = FatFiles::open(&volume.bytes).map_err(|e| error_words(&e))?;
    let entries = fat.list().map_err(|e| error_words(&e))?;
    let is = |path: &str, name: &str| path.eq_ignore_ascii_case(&format!("EFI/{own}/{name}"));
    let found = PROGRAMS.iter().find_map(|name| entries.iter().find(|entry| !entry.is_folder && is(&entry.path, name)));
    let found = found.ok_or_else(|| format!("EFI/{own} contains no program to start; that comes first"))?;
    Ok(EntryTarget {
        partition: partition.number,
        start: partition.start / sector,
        sectors: partition.size / sector,
        id: partition.id.clone(),
        file: format!("/{}", found.path),
    })
}
