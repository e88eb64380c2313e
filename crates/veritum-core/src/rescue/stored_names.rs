//! [`StoredNames`]: the names under which files are stored, where the destination's file system has no room for their own.

use std::collections::{HashMap, HashSet};

use crate::model::{Digest, SystemPath};

/// The longest stored name: FAT and NTFS count 255 units of UTF-16, most others 255 bytes.
const MAX_NAME: usize = 240;
/// More files of one name in one folder are not stored.
const MAX_SAME: usize = 100_000;

/// How the destination treats names.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default)]
pub struct NameRules {
    /// Whether it refuses some characters, or bytes that are not text.
    pub restricted: bool,
    /// Whether names that differ only in case are the same name.
    pub folds_case: bool,
}

/// The stored names, by the path of their folders.
#[derive(Debug, Default)]
pub struct StoredNames {
    rules: NameRules,
    /// Stored folders, by the path of the folder on the machine.
    folders: HashMap<SystemPath, SystemPath>,
    /// Stored paths in use, as the destination compares them.
    used: HashSet<Vec<u8>>,
}

impl StoredNames {
    /// No names yet.
    #[must_use]
    pub fn new(rules: NameRules) -> Self {
        Self { rules, ..Self::default() }
    }

    /// Records the stored path of a file or folder, as an earlier run chose it.
    pub fn record(&mut self, path: &SystemPath, stored: &SystemPath, is_folder: bool) {
        self.used.insert(self.compared(stored.as_bytes()));
        if is_folder {
            self.folders.insert(path.clone(), stored.clone());
        }
    }

    /// The stored path of a folder.
    #[must_use]
    pub fn folder(&self, path: &SystemPath) -> Option<&SystemPath> {
        self.folders.get(path)
    }

    /// Chooses a free stored path in a stored folder for this name; `None` if there is none.
    pub fn choose(&mut self, folder: &SystemPath, name: &[u8]) -> Option<SystemPath> {
        let fitting = if self.rules.restricted { restricted(name) } else { name.to_vec() };
        (1..MAX_SAME).find_map(|number| {
            let stored = folder.child(&numbered(&fitting, number)).ok()?;
            let is_free = self.used.insert(self.compared(stored.as_bytes()));
            is_free.then_some(stored)
        })
    }

    /// Makes a stored path free again.
    pub fn release(&mut self, stored: &SystemPath) {
        let compared = self.compared(stored.as_bytes());
        self.used.remove(&compared);
    }

    fn compared(&self, path: &[u8]) -> Vec<u8> {
        match std::str::from_utf8(path) {
            Ok(text) if self.rules.folds_case => text.to_lowercase().into(),
            _ => path.to_vec(),
        }
    }
}

/// A name with a number before its end: `letter~2.odt`.
fn numbered(name: &[u8], number: usize) -> Vec<u8> {
    if number == 1 {
        return name.to_vec();
    }
    let end = name.iter().rposition(|byte| *byte == b'.').filter(|at| *at > 0).unwrap_or(name.len());
    [&name[..end], format!("~{number}").as_bytes(), &name[end..]].concat()
}

/// A name of characters that FAT and NTFS accept: others as `%` and two hexadecimal digits for each byte.
fn restricted(name: &[u8]) -> Vec<u8> {
    let mut fitting = Vec::with_capacity(name.len());
    for chunk in name.utf8_chunks() {
        for c in chunk.valid().chars() {
            let is_refused = c.is_control() || "\"*/:<>?\\|%".contains(c) || u32::from(c) > 0xffff;
            let mut bytes = [0; 4];
            let bytes = c.encode_utf8(&mut bytes).as_bytes();
            if is_refused { escape(&mut fitting, bytes) } else { fitting.extend_from_slice(bytes) }
        }
        escape(&mut fitting, chunk.invalid());
    }
    // A dot or a space at the end is dropped by FAT.
    if let Some(last @ (b'.' | b' ')) = fitting.last().copied() {
        fitting.pop();
        escape(&mut fitting, &[last]);
    }
    if fitting.len() > MAX_NAME {
        let short = Digest::hash(name).to_hex();
        let end = (0..=MAX_NAME - 9).rev().find(|at| std::str::from_utf8(&fitting[..*at]).is_ok()).unwrap_or(0);
        fitting.truncate(end);
        fitting.push(b'~');
        fitting.extend_from_slice(&short.as_bytes()[..8]);
    }
    fitting
}

fn escape(to: &mut Vec<u8>, bytes: &[u8]) {
    bytes.iter().for_each(|byte| to.extend_from_slice(format!("%{byte:02X}").as_bytes()));
}

#[cfg(test)]
mod tests {
    use super::*;

    const VFAT: NameRules = NameRules { restricted: true, folds_case: true };

    #[test]
    fn a_name_is_kept_where_the_destination_accepts_it() {
        let mut names = StoredNames::new(NameRules::default());
        let top = SystemPath::literal("/mirela");
        for name in [&b"a:b?"[..], b"\xff\n", b"Letter", b"letter", b"end."] {
            assert_eq!(names.choose(&top, name).unwrap().name(), name);
        }
    }

    #[test]
    fn what_a_destination_refuses_is_escaped_and_what_it_takes_for_the_same_is_numbered() {
        let mut names = StoredNames::new(VFAT);
        let top = SystemPath::literal("/mirela");
        let mut stored = |name: &[u8]| String::from_utf8(names.choose(&top, name).unwrap().name().to_vec()).unwrap();
        assert_eq!(stored(b"what? 10:30.odt"), "what%3F 10%3A30.odt");
        assert_eq!(stored(b"caf\xe9\n"), "caf%E9%0A");
        assert_eq!(stored(b"100%"), "100%25");
        assert_eq!(stored(b"end."), "end%2E");
        assert_eq!(stored(b"Letter.odt"), "Letter.odt");
        assert_eq!(stored(b"letter.odt"), "letter~2.odt");
        assert_eq!(stored(b"LETTER.odt"), "LETTER~3.odt");
        let long = "\u{20ac}".repeat(85);
        assert!(stored(long.as_bytes()).len() <= MAX_NAME);
        let mut again = StoredNames::new(VFAT);
        again.record(&SystemPath::literal("/home/mirela/x"), &SystemPath::literal("/mirela/LETTER.odt"), false);
        assert_eq!(again.choose(&top, b"letter.odt").unwrap().name(), b"letter~2.odt");
    }

    proptest::proptest! {
        #[test]
        fn no_two_files_have_the_same_stored_name(names: std::collections::BTreeSet<Vec<u8>>) {
            let mut stored = StoredNames::new(VFAT);
            let top = SystemPath::root();
            let plain = names.iter().filter(|name| top.child(name).is_ok());
            let chosen: Vec<SystemPath> = plain.filter_map(|name| stored.choose(&top, name)).collect();
            let folded: HashSet<Vec<u8>> = chosen.iter().map(|path| stored.compared(path.as_bytes())).collect();
            proptest::prop_assert_eq!(folded.len(), chosen.len());
            for path in &chosen {
                let name = std::str::from_utf8(path.name()).unwrap();
                proptest::prop_assert!(!name.contains(['"', '*', ':', '<', '>', '?', '\\', '|']) && name.len() <= 255);
            }
        }
    }
}
