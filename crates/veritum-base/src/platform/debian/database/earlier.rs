//! Earlier copies of dpkg's tables: its own `…-old`, and the daily copies in `/var/backups`.

use std::io::Read;

use super::{MAX_STATUS, Stanza, stanza};
use crate::machine::Machine;
use crate::model::SystemPath;

/// The number of daily copies that are searched for; the usual rotation keeps seven.
const MAX_COPIES: usize = 14;

/// An earlier copy of a table.
#[derive(Debug, Clone)]
pub struct Earlier {
    /// Its path.
    pub path: SystemPath,
    /// Its text.
    pub text: Vec<u8>,
}

impl Earlier {
    /// The readable entries, if it is a copy of `status`.
    #[must_use]
    pub fn stanzas(&self) -> Vec<Stanza> {
        stanza::pieces(&self.text).into_iter().filter_map(|raw| Stanza::of_status(raw).ok()).collect()
    }
}

/// The copies of one of dpkg's tables (`status`, `diversions`, …), newest first.
#[must_use]
pub fn earlier_copies(machine: &Machine, table: &str) -> Vec<Earlier> {
    let own = SystemPath::parse(format!("/var/lib/dpkg/{table}-old").as_bytes()).ok();
    let mut all: Vec<Earlier> = own.and_then(|path| read(machine, path)).into_iter().collect();
    all.extend(backups(machine, &format!("dpkg.{table}")));
    all
}

/// The rotated copies `NAME.0`, `NAME.1.gz`, … in `/var/backups`, newest first.
#[must_use]
pub fn backups(machine: &Machine, name: &str) -> Vec<Earlier> {
    let path = |number: usize, ending: &str| {
        SystemPath::parse(format!("/var/backups/{name}.{number}{ending}").as_bytes()).ok()
    };
    let one = |number| ["", ".gz", ".xz"].iter().find_map(|ending| read(machine, path(number, ending)?));
    (0..MAX_COPIES).filter_map(one).collect()
}

/// Reads a copy that exists and is not empty; decompression is limited.
fn read(machine: &Machine, path: SystemPath) -> Option<Earlier> {
    let packed = machine.read_up_to(&path, MAX_STATUS).ok()??;
    let ending = [".gz", ".xz"].into_iter().find(|e| path.as_bytes().ends_with(e.as_bytes()));
    let mut text = match ending {
        None => packed,
        Some(ending) => {
            let mut text = Vec::new();
            let unpacked = crate::formats::deb::unpacked(&packed[..], ending).ok()?;
            unpacked.take(MAX_STATUS).read_to_end(&mut text).ok()?;
            text
        }
    };
    // A copy that passed through another system may have its line ends.
    if text.windows(2).any(|two| two == b"\r\n") {
        text = text
            .split(|b| *b == b'\n')
            .map(|line| line.strip_suffix(b"\r").unwrap_or(line))
            .collect::<Vec<_>>()
            .join(&b'\n');
    }
    // The last line may lack its end.
    if text.last().is_some_and(|last| *last != b'\n') {
        text.push(b'\n');
    }
    (!text.is_empty()).then_some(Earlier { path, text })
}

/// A copy of update-alternatives' record of that name, from the newest archive in `/var/backups`.
#[must_use]
pub fn alternatives_backup(machine: &Machine, name: &[u8]) -> Option<Vec<u8>> {
    backups(machine, "alternatives.tar").into_iter().find_map(|copy| {
        let mut archive = tar::Archive::new(&copy.text[..]);
        for entry in archive.entries().ok()? {
            let mut entry = entry.ok()?;
            let path = entry.path_bytes().into_owned();
            if path.rsplit(|b| *b == b'/').next() == Some(name) && entry.header().entry_type().is_file() {
                let mut bytes = Vec::new();
                entry.by_ref().take(1 << 20).read_to_end(&mut bytes).ok()?;
                return Some(bytes);
            }
        }
        None
    })
}
