//! Boot entries of UEFI firmware (UEFI 2.10, 3.1.3 and 10.3): variables `Boot####` and `BootOrder`.

use std::ops::Range;

use crate::formats::numbers::{array, guid, le16, le32};

/// A bit of an entry's attributes: the firmware tries it.
const ACTIVE: u32 = 1;
/// Larger variables are not read.
const MAX_VARIABLE: usize = 64 << 10;
const MEDIA: u8 = 4;
const END: u8 = 0x7f;
const HARD_DRIVE: u8 = 1;
const FILE_PATH: u8 = 4;

/// What an entry starts.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct FirmwareEntry {
    /// Whether the firmware tries it.
    pub is_active: bool,
    /// Its name.
    pub name: String,
    /// The id of the partition, as in `PARTUUID=`; `None` if it is not on a partition.
    pub partition: Option<String>,
    /// Its file on the partition, with `/` between names; `None` if it names none.
    pub file: Option<String>,
}

/// Reads the content of a variable `Boot####`, without the attributes that efivarfs puts first.
#[must_use]
pub fn entry(bytes: &[u8]) -> Option<FirmwareEntry> {
    if bytes.len() < 6 || bytes.len() > MAX_VARIABLE {
        return None;
    }
    let paths = usize::from(le16(bytes, 4));
    let (name, end) = text(bytes, 6..bytes.len())?;
    let list = bytes.get(end..end.checked_add(paths)?)?;
    let mut entry = FirmwareEntry { is_active: le32(bytes, 0) & ACTIVE != 0, name, partition: None, file: None };
    let mut at = 0;
    while at + 4 <= list.len() {
        let size = usize::from(le16(list, at + 2));
        let node = list.get(at..at.checked_add(size)?).filter(|_| size >= 4)?;
        match (node[0], node[1]) {
            (END, _) => break,
            (MEDIA, HARD_DRIVE) if size >= 42 => entry.partition = Some(partition(node)),
            (MEDIA, FILE_PATH) => {
                let part = text(node, 4..size)?.0.replace('\\', "/");
                entry.file.get_or_insert_default().push_str(&part);
            }
            _ => {}
        }
        at += size;
    }
    Some(entry)
}

/// The id of a partition: a GUID, or the signature of an MBR with the number.
fn partition(node: &[u8]) -> String {
    match node[41] {
        1 => format!("{:08x}-{:02x}", le32(node, 24), le32(node, 4)),
        _ => guid(&node[24..40]),
    }
}

/// UTF-16 up to a zero, or to the end of the range; with the position behind it.
fn text(bytes: &[u8], range: Range<usize>) -> Option<(String, usize)> {
    let mut units = Vec::new();
    let mut at = range.start;
    while at + 2 <= range.end {
        let unit = u16::from_le_bytes(array(bytes, at)?);
        at += 2;
        if unit == 0 {
            break;
        }
        units.push(unit);
    }
    Some((String::from_utf16_lossy(&units).chars().filter(|c| !c.is_control()).collect(), at))
}

/// Reads `BootOrder`: the numbers of entries, the first one tried first.
#[must_use]
pub fn order(bytes: &[u8]) -> Vec<u16> {
    bytes.chunks_exact(2).take(1000).map(|pair| le16(pair, 0)).collect()
}

#[cfg(test)]
mod tests {
    use super::*;

    pub(crate) fn sample() -> Vec<u8> {
        let wide = |text: &str| -> Vec<u8> { text.encode_utf16().chain([0]).flat_map(u16::to_le_bytes).collect() };
        let mut drive = vec![MEDIA, HARD_DRIVE, 42, 0, 1, 0, 0, 0];
        drive.extend(2048u64.to_le_bytes());
        drive.extend(100u64.to_le_bytes());
        drive.extend([0x28, 0x73, 0x2a, 0xc1, 0x1f, 0xf8, 0xd2, 0x11, 0xba, 0x4b, 0, 0xa0, 0xc9, 0x3e, 0xc9, 0x3b]);
        drive.extend([2, 2]);
        let file = wide("\\EFI\\boat\\grubx64.efi");
        let mut path = vec![MEDIA, FILE_PATH];
        path.extend((file.len() as u16 + 4).to_le_bytes());
        path.extend(file);
        let list = [drive, path, vec![END, 0xff, 4, 0]].concat();
        let mut bytes = 1u32.to_le_bytes().to_vec();
        bytes.extend((list.len() as u16).to_le_bytes());
        [bytes, wide("boat"), list].concat()
    }

    #[test]
    fn an_entry_names_a_partition_and_a_file() {
        let entry = entry(&sample()).unwrap();
        let expected = FirmwareEntry {
            is_active: true,
            name: "boat".into(),
            partition: Some("c12a7328-f81f-11d2-ba4b-00a0c93ec93b".into()),
            file: Some("/EFI/boat/grubx64.efi".into()),
        };
        assert_eq!(entry, expected);
        assert_eq!(order(&[3, 0, 1, 0, 9]), [3, 1]);
        assert!(super::entry(b"").is_none());
    }

    proptest::proptest! {
        #[test]
        fn a_damaged_entry_is_read_without_harm(seed: u64) {
            let _ = entry(&crate::testkit::mutated(&sample(), seed));
        }
    }
}
