//! What leads from the EFI partition to the boot menu, and the list by which firmware entries are written again.

use super::efi::Efi;
use super::efi_mend;
use super::fault::{Faults, NOT_KEPT};
use super::mend::Mend;
use crate::areas::Examined;
use crate::formats::boot::menu::searched_file_system;
use crate::model::{KnownBy, SystemPath, Verdict, error_words};

impl Efi<'_, '_> {
    /// Judges the three lines by which a signed GRUB finds its menu.
    pub(super) fn judge_stub(&self, own: &str, boots: Option<usize>, faults: &mut Faults, examined: &mut Examined) {
        let path = format!("EFI/{own}/grub.cfg");
        let found = match self.fat.read(&path) {
            Ok(Some(found)) => found,
            Ok(None) => {
                let found = self.fault(&path, Verdict::Missing, "GRUB finds its menu by it").breaks();
                faults.push(found.mended(efi_mend::stub(self.layout, self.volume, own, boots)));
                return;
            }
            Err(e) => {
                let found = self.fault(&path, Verdict::Unreadable, error_words(&e)).breaks().known_by(KnownBy::Medium);
                faults.push(found.mended(Err(NOT_KEPT.to_owned())));
                return;
            }
        };
        let uuid = boots.and_then(|at| self.layout.volume(at).contains.as_ref()).map(|found| found.uuid.clone());
        let place = self.layout.find(&SystemPath::literal("/boot/grub"));
        let (Some(uuid), Some((_, folder))) = (uuid.filter(|uuid| !uuid.is_empty()), place) else {
            let name = self.layout.volume_name(self.volume);
            return examined.leave_out(format!("{name}: {path}: the file system with /boot/grub is not known"));
        };
        let folder = String::from_utf8_lossy(&folder).into_owned();
        let text = String::from_utf8_lossy(&found);
        let told = searched_file_system(&text);
        let prefix =
            text.lines().find_map(|line| line.strip_prefix("set prefix=")).map(|text| text.replace(['\'', '"'], ""));
        let elsewhere = told.filter(|told| *told != uuid);
        if let Some(other) = elsewhere.and_then(|told| self.others.searched(self.layout, told)) {
            let (name, whose) = (self.layout.volume_name(self.volume), self.layout.volume_name(other));
            return examined
                .leave_out(format!("{name}: {path}: it leads to {whose}, which this system does not mount"));
        }
        let has_menu = text.lines().any(|line| line.starts_with("configfile "));
        let cause = match (told, prefix) {
            (None, _) if !text.contains("search") => Some("it names no file system to search for".to_owned()),
            (Some(told), _) if told != uuid => {
                Some(format!("it searches for the file system {told}, but /boot/grub is on {uuid}"))
            }
            (_, None) => Some("it names no folder with the menu".to_owned()),
            (_, Some(prefix)) if prefix != format!("($root)/{folder}") => {
                Some(format!("it names the folder {prefix}, which is ($root)/{folder} here"))
            }
            _ if !has_menu => Some("it does not open the menu".to_owned()),
            _ => None,
        };
        examined.coverage.examined += 1;
        if let Some(cause) = cause {
            let mend = efi_mend::stub(self.layout, self.volume, own, boots);
            faults.push(self.fault(&path, Verdict::Inconsistent, cause).breaks().mended(mend));
        }
    }

    /// Judges the list by which missing firmware entries are written again.
    pub(super) fn judge_list(&self, own: &str, faults: &mut Faults) {
        let from = SystemPath::literal("/usr/lib/shim/BOOTX64.CSV");
        let path = format!("EFI/{own}/BOOTX64.CSV");
        let (Ok(right), Ok(Some(found))) = (self.files.get(&from), self.fat.read(&path)) else { return };
        // The package's names the distribution; that of another is derived from it.
        let text = |bytes: &[u8]| -> String {
            let units: Vec<u16> = bytes.chunks_exact(2).map(|pair| u16::from_le_bytes([pair[0], pair[1]])).collect();
            String::from_utf16_lossy(&units)
        };
        if right.bytes != found && !text(&found).to_lowercase().contains("shim") {
            let cause = format!("it is not {from}");
            let fault =
                self.fault(&path, Verdict::Altered, cause).package(Some(right.owner)).known_by(KnownBy::Package);
            let mend = Mend::efi_file(self.volume, &path, right.bytes, from.to_string());
            faults.push(fault.latent().mended(Ok(mend)));
        }
    }
}
