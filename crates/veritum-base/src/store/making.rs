//! Creates a package's manifest while its .deb file is read.

use std::collections::{HashMap, HashSet};
use std::io::{self, Read};

use crate::formats::deb::{Deb, DebError, DebSink, RawEntry, RawKind, Scripts};
use crate::model::{Digest, Entry, EntryKind, SystemPath};

/// Converts a package's entries to a manifest's, and adds its contents.
///
/// `take` receives each file's path, size and content, and returns the content's digest.
pub struct ManifestMaker<F> {
    take: F,
    scripts: Scripts,
    settings: HashSet<SystemPath>,
    entries: Vec<Entry>,
    files: HashMap<SystemPath, usize>,
}

impl<F> ManifestMaker<F> {
    /// A maker that passes contents to `take`.
    pub fn new(take: F) -> Self {
        Self { take, scripts: Scripts::default(), settings: HashSet::new(), entries: Vec::new(), files: HashMap::new() }
    }

    /// The entries, in the package's order.
    pub fn into_entries(self) -> Vec<Entry> {
        self.entries
    }
}

impl<F: FnMut(&SystemPath, u64, &mut dyn Read) -> io::Result<Digest>> DebSink for ManifestMaker<F> {
    fn deb(&mut self, deb: &Deb) -> Result<(), DebError> {
        self.scripts = deb.scripts();
        self.settings = deb.settings.iter().cloned().collect();
        Ok(())
    }

    fn entry(&mut self, raw: RawEntry, content: &mut dyn Read) -> Result<(), DebError> {
        let mut entry = Entry {
            configured: self.scripts.configure(raw.path.as_bytes()),
            capable: self.scripts.give_capabilities(raw.path.as_bytes()),
            settings: self.settings.contains(&raw.path),
            path: raw.path,
            kind: EntryKind::Folder,
            mode: raw.mode,
            user: raw.user,
            group: raw.group,
            mtime: raw.mtime,
        };
        entry.kind = match raw.kind {
            RawKind::File { size } => {
                EntryKind::File { size, digest: (self.take)(&entry.path, size, content)?, same_as: None }
            }
            RawKind::HardLink { to } => {
                let first = self.files.get(&to).and_then(|at| self.entries.get(*at));
                let Some(first) = first else {
                    return Err(DebError::Shape(format!("the hard link {} has no target", entry.path)));
                };
                // All names of a file share its owner, mode and time, whatever this entry's own header contains.
                (entry.mode, entry.user, entry.group, entry.mtime) =
                    (first.mode, first.user.clone(), first.group.clone(), first.mtime);
                match &first.kind {
                    EntryKind::File { size, digest, same_as } => {
                        EntryKind::File { size: *size, digest: *digest, same_as: Some(same_as.clone().unwrap_or(to)) }
                    }
                    _ => return Err(DebError::Shape(format!("the hard link {} does not point to a file", entry.path))),
                }
            }
            RawKind::Folder => EntryKind::Folder,
            RawKind::Link { target } => EntryKind::Link { target },
            RawKind::Fifo => EntryKind::Fifo,
            RawKind::Device { block, major, minor } => EntryKind::Device { block, major, minor },
        };
        if matches!(entry.kind, EntryKind::File { .. }) {
            self.files.insert(entry.path.clone(), self.entries.len());
        }
        self.entries.push(entry);
        Ok(())
    }
}
