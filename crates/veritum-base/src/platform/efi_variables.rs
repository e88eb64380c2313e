//! The firmware's boot entries, as the kernel shows them (Documentation/filesystems/efivarfs.rst). Only this computer's own.

use std::fs;
use std::io::Read as _;
use std::path::Path;

use crate::formats::boot::firmware_entries::{FirmwareEntry, entry, order};

/// Where the kernel shows the firmware's variables.
const VARIABLES: &str = "/sys/firmware/efi/efivars";
/// The GUID of the variables that the specification defines (EFI_GLOBAL_VARIABLE).
const GLOBAL: &str = "8be4df61-93ca-11d2-aa0d-00e098032b8c";
/// The attributes in front of each content.
const ATTRIBUTES: usize = 4;
const MAX_VARIABLE: u64 = 64 << 10;

/// The firmware's boot entries.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct FirmwareEntries {
    /// Each with its number, in the order in which they are tried.
    pub entries: Vec<(u16, FirmwareEntry)>,
    /// Whether the firmware starts only what is signed.
    pub is_secure: bool,
}

/// Reads them; `None` where this computer was not started by UEFI firmware, or they cannot be read.
#[must_use]
pub fn firmware_entries() -> Option<FirmwareEntries> {
    read_in(Path::new(VARIABLES))
}

fn read_in(folder: &Path) -> Option<FirmwareEntries> {
    let tried = order(&variable(folder, "BootOrder")?);
    let entries =
        tried.into_iter().filter_map(|number| Some((number, entry(&variable(folder, &format!("Boot{number:04X}"))?)?)));
    let is_secure = variable(folder, "SecureBoot").is_some_and(|value| value == [1]);
    Some(FirmwareEntries { entries: entries.collect(), is_secure })
}

/// The content of a variable, without its attributes.
fn variable(folder: &Path, name: &str) -> Option<Vec<u8>> {
    let file = fs::File::open(folder.join(format!("{name}-{GLOBAL}"))).ok()?;
    let mut bytes = Vec::new();
    file.take(MAX_VARIABLE).read_to_end(&mut bytes).ok()?;
    bytes.get(ATTRIBUTES..).map(<[u8]>::to_vec)
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn entries_come_in_the_order_in_which_they_are_tried() {
        let dir = tempfile::tempdir().unwrap();
        let put = |name: &str, content: &[u8]| {
            fs::write(dir.path().join(format!("{name}-{GLOBAL}")), [&[7, 0, 0, 0], content].concat()).unwrap();
        };
        assert_eq!(read_in(dir.path()), None);
        put("BootOrder", &[2, 0, 1, 0, 9, 0]);
        for (number, name) in [(1, "a"), (2, "b")] {
            let content = [&[1, 0, 0, 0, 4, 0][..], name.as_bytes(), &[0, 0, 0, 0x7f, 0xff, 4, 0]].concat();
            put(&format!("Boot000{number}"), &content);
        }
        put("SecureBoot", &[1]);
        let found = read_in(dir.path()).unwrap();
        let told: Vec<_> = found.entries.iter().map(|(number, entry)| (*number, &*entry.name)).collect();
        assert_eq!((told, found.is_secure), (vec![(2, "b"), (1, "a")], true));
    }
}
