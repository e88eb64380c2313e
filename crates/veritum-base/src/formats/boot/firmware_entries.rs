//! Boot entries of UEFI firmware (UEFI 2.10, 3.1.3 and 10.3): variables `Boot####` and `BootOrder`.

use std::ops::Range;

use crate::formats::numbers::{array, guid, guid_bytes, le16, le32};

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

/// What an entry is made to start.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct EntryTarget {
    /// The partition's number, from 1.
    pub partition: u32,
    /// Where it begins, in sectors.
    pub start: u64,
    /// Its size in sectors.
    pub sectors: u64,
    /// Its id, as in `PARTUUID=`.
    pub id: String,
    /// The file on it, with `/` between names.
    pub file: String,
}

impl EntryTarget {
    /// The device path of the partition and the file; `None` if one of them cannot be written so.
    fn device_path(&self) -> Option<Vec<u8>> {
        let (signature, format, kind) = match self.id.split_once('-') {
            Some((disk, number)) if disk.len() == 8 && number.len() == 2 => {
                let mut signature = [0; 16];
                signature[..4].copy_from_slice(&u32::from_str_radix(disk, 16).ok()?.to_le_bytes());
                (signature, 1, 1)
            }
            _ => (guid_bytes(&self.id)?, 2, 2),
        };
        let mut list = vec![MEDIA, HARD_DRIVE, 42, 0];
        list.extend(self.partition.to_le_bytes());
        list.extend(self.start.to_le_bytes());
        list.extend(self.sectors.to_le_bytes());
        list.extend(signature);
        list.extend([format, kind]);
        let file = wide(&self.file.replace('/', "\\"));
        list.extend([MEDIA, FILE_PATH]);
        list.extend(u16::try_from(file.len() + 4).ok()?.to_le_bytes());
        list.extend(file);
        list.extend([END, 0xff, 4, 0]);
        Some(list)
    }
}

fn wide(text: &str) -> Vec<u8> {
    text.encode_utf16().chain([0]).flat_map(u16::to_le_bytes).collect()
}

/// The content of a new entry that the firmware tries; `None` if the target cannot be written so.
#[must_use]
pub fn new_entry(name: &str, target: &EntryTarget) -> Option<Vec<u8>> {
    let list = target.device_path()?;
    let head = [&ACTIVE.to_le_bytes()[..], &u16::try_from(list.len()).ok()?.to_le_bytes()].concat();
    Some([head, wide(name), list].concat())
}

/// The content of an entry that starts this instead, with its name, and what follows its device path.
#[must_use]
pub fn with_target(bytes: &[u8], target: &EntryTarget) -> Option<Vec<u8>> {
    let list = target.device_path()?;
    let (_, end) = text(bytes, 6..bytes.len())?;
    let data = bytes.get(end.checked_add(usize::from(le16(bytes, 4)))?..)?;
    let head = [bytes.get(..4)?, &u16::try_from(list.len()).ok()?.to_le_bytes()].concat();
    activated(&[&head, bytes.get(6..end)?, &list, data].concat())
}

/// The content of an entry that the firmware tries.
#[must_use]
pub fn activated(bytes: &[u8]) -> Option<Vec<u8>> {
    let attributes = (le32(bytes, 0) | ACTIVE).to_le_bytes();
    Some([&attributes[..], bytes.get(4..)?].concat())
}

/// The content of `BootOrder`.
#[must_use]
pub fn order_bytes(numbers: &[u16]) -> Vec<u8> {
    numbers.iter().flat_map(|number| number.to_le_bytes()).collect()
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

    fn target() -> EntryTarget {
        let id = "c12a7328-f81f-11d2-ba4b-00a0c93ec93b".to_owned();
        EntryTarget { partition: 1, start: 2048, sectors: 100, id, file: "/EFI/boat/grubx64.efi".into() }
    }

    /// As firmware writes it: the specification's example of a drive (10.3.5.1), and a file.
    fn sample() -> Vec<u8> {
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
    fn a_new_entry_is_as_firmware_writes_it_and_another_one_keeps_the_rest() {
        assert_eq!(new_entry("boat", &target()), Some(sample()));
        let mut other = [&sample()[..], b"data"].concat();
        other[0] = 0;
        let ferry = EntryTarget { id: "deadbeef-01".into(), file: "/EFI/ferry/shimx64.efi".into(), ..target() };
        let changed = with_target(&other, &ferry).unwrap();
        assert!(changed.ends_with(b"data"));
        let told = entry(&changed).unwrap();
        let expected = FirmwareEntry {
            is_active: true,
            name: "boat".into(),
            partition: Some("deadbeef-01".into()),
            file: Some("/EFI/ferry/shimx64.efi".into()),
        };
        assert_eq!(told, expected);
        assert_eq!(activated(&other).unwrap(), [&sample()[..], b"data"].concat());
        assert_eq!(new_entry("boat", &EntryTarget { id: "quay".into(), ..target() }), None);
        assert_eq!(order(&order_bytes(&[3, 1])), [3, 1]);
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
            let bytes = crate::testkit::mutated(&sample(), seed);
            let _ = (entry(&bytes), with_target(&bytes, &target()), activated(&bytes));
        }
    }
}
