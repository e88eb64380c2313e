//! The firmware's variables, as the kernel shows them (Documentation/filesystems/efivarfs.rst). Only this computer's own.

use std::fs;
use std::io::{self, Read as _, Write as _};
use std::path::PathBuf;

use crate::formats::boot::firmware_entries::{FirmwareEntry, entry, order};

/// Where the kernel shows the firmware's variables.
pub const VARIABLES: &str = "/sys/firmware/efi/efivars";
/// The GUID of the variables that the specification defines (EFI_GLOBAL_VARIABLE).
const GLOBAL: &str = "8be4df61-93ca-11d2-aa0d-00e098032b8c";
/// The size of the attributes in front of each content, in bytes.
pub const ATTRIBUTES: usize = 4;
/// Larger variables are neither read nor written, in bytes.
const MAX_VARIABLE: u64 = 64 << 10;
/// The variable with the order in which entries are tried.
pub const ORDER: &str = "BootOrder";

/// One of the firmware's boot entries.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct BootEntry {
    /// Its number.
    pub number: u16,
    /// Whether it is in the order.
    pub is_tried: bool,
    /// Its variable, with attributes.
    pub variable: Vec<u8>,
    /// What it says.
    pub entry: FirmwareEntry,
}

/// The firmware's boot entries.
#[derive(Debug, Clone, PartialEq, Eq, Default)]
pub struct FirmwareEntries {
    /// Those that are tried, in their order, and then the others.
    pub entries: Vec<BootEntry>,
    /// The variable with the order, with attributes; `None` if there is none.
    pub order: Option<Vec<u8>>,
    /// Whether the firmware starts only what is signed.
    pub is_secure: bool,
}

/// The name of an entry's variable.
#[must_use]
pub fn entry_name(number: u16) -> String {
    format!("Boot{number:04X}")
}

/// The firmware's variables in a folder.
#[derive(Debug, Clone)]
pub struct FirmwareVariables(PathBuf);

impl FirmwareVariables {
    /// Those in this folder; without one, those of this computer.
    #[must_use]
    pub fn new(folder: Option<PathBuf>) -> Self {
        Self(folder.unwrap_or_else(|| VARIABLES.into()))
    }

    fn path(&self, name: &str) -> PathBuf {
        self.0.join(format!("{name}-{GLOBAL}"))
    }

    /// A variable with its attributes; `None` if there is none.
    ///
    /// # Errors
    /// When it cannot be read.
    pub fn read(&self, name: &str) -> io::Result<Option<Vec<u8>>> {
        let file = match fs::File::open(self.path(name)) {
            Err(e) if e.kind() == io::ErrorKind::NotFound => return Ok(None),
            other => other?,
        };
        let mut bytes = Vec::new();
        file.take(MAX_VARIABLE + 1).read_to_end(&mut bytes)?;
        match bytes.len() as u64 > MAX_VARIABLE {
            true => Err(io::ErrorKind::FileTooLarge.into()),
            false => Ok(Some(bytes)),
        }
    }

    /// Writes a variable with its attributes, or deletes it. The kernel passes each write to the firmware as a whole.
    ///
    /// # Errors
    /// When the firmware does not accept it.
    pub fn write(&self, name: &str, variable: Option<&[u8]>) -> io::Result<()> {
        let path = self.path(name);
        match variable {
            None => fs::remove_file(path),
            Some(bytes) => {
                let written =
                    fs::OpenOptions::new().write(true).create(true).truncate(true).open(path)?.write(bytes)?;
                if written == bytes.len() { Ok(()) } else { Err(io::ErrorKind::WriteZero.into()) }
            }
        }
    }

    /// Reads the boot entries; `None` where this computer was not started by UEFI firmware, or they cannot be read.
    #[must_use]
    pub fn entries(&self) -> Option<FirmwareEntries> {
        let is_number =
            |name: &str| name.len() == 4 && name.bytes().all(|b| b.is_ascii_digit() || (b'A'..=b'F').contains(&b));
        let number = |file: fs::DirEntry| {
            let name = file.file_name().into_string().ok()?;
            let name = name.strip_suffix(&format!("-{GLOBAL}"))?.strip_prefix("Boot")?.to_owned();
            u16::from_str_radix(&name, 16).ok().filter(|_| is_number(&name))
        };
        let mut all: Vec<u16> = fs::read_dir(&self.0).ok()?.filter_map(|file| number(file.ok()?)).collect();
        all.sort_unstable();
        let set = self.read(ORDER).ok()?.filter(|variable| variable.len() >= ATTRIBUTES);
        // The kernel shows the folder empty where it was not mounted.
        if set.is_none() && fs::read_dir(&self.0).ok()?.next().is_none() {
            return None;
        }
        let tried = order(set.as_deref().map_or(&[], |variable| &variable[ATTRIBUTES..]));
        let others = all.iter().filter(|number| !tried.contains(number)).map(|number| (*number, false));
        let named = tried.iter().map(|number| (*number, true)).chain(others);
        let entries = named.filter_map(|(number, is_tried)| {
            let variable = self.read(&entry_name(number)).ok()??;
            let entry = entry(variable.get(ATTRIBUTES..)?)?;
            Some(BootEntry { number, is_tried, variable, entry })
        });
        let is_secure = self.read("SecureBoot").ok()?.is_some_and(|value| value.get(ATTRIBUTES..) == Some(&[1]));
        Some(FirmwareEntries { entries: entries.collect(), order: set, is_secure })
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn entries_come_in_the_order_in_which_they_are_tried_and_then_the_others() {
        let dir = tempfile::tempdir().unwrap();
        let variables = FirmwareVariables::new(Some(dir.path().to_owned()));
        let put = |name: &str, content: &[u8]| {
            variables.write(name, Some(&[&[7, 0, 0, 0], content].concat())).unwrap();
        };
        assert_eq!(variables.entries(), None);
        put("BootOrder", &[2, 0, 1, 0, 9, 0]);
        for (number, name) in [(1, "a"), (2, "b"), (0xA, "c")] {
            let content = [&[1, 0, 0, 0, 4, 0][..], name.as_bytes(), &[0, 0, 0, 0x7f, 0xff, 4, 0]].concat();
            put(&entry_name(number), &content);
        }
        put("SecureBoot", &[1]);
        put("Boot00zz", &[1]);
        let found = variables.entries().unwrap();
        let told: Vec<_> = found.entries.iter().map(|one| (one.number, one.is_tried, &*one.entry.name)).collect();
        assert_eq!((told, found.is_secure), (vec![(2, true, "b"), (1, true, "a"), (10, false, "c")], true));
    }

    #[test]
    fn a_variable_is_written_whole_and_deleted() {
        let dir = tempfile::tempdir().unwrap();
        let variables = FirmwareVariables::new(Some(dir.path().to_owned()));
        assert_eq!(variables.read("BootNext").unwrap(), None);
        variables.write("BootNext", Some(b"a longer one")).unwrap();
        variables.write("BootNext", Some(b"quay")).unwrap();
        assert_eq!(variables.read("BootNext").unwrap().as_deref(), Some(&b"quay"[..]));
        variables.write("BootNext", None).unwrap();
        assert_eq!(variables.read("BootNext").unwrap(), None);
        variables.write("BootNext", Some(&vec![0; 70_000])).unwrap();
        assert!(variables.read("BootNext").is_err());
    }
}
