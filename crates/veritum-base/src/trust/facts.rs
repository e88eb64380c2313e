//! Verified facts that need not be verified again, kept by the administrator under the digest of their source.
//!
//! A fact is only as trustworthy as its folder: the administrator's own cache, never on the machine examined, and
//! not writable by others.

use std::path::{Path, PathBuf};

use super::Verified;

/// Faster than the default level: the first check of a machine waits for it.
const LEVEL: i32 = -3;
/// Larger facts are not used, in bytes after decompression.
const MAX_FACT: u64 = 256 << 20;

/// A kind of fact; a new encoding needs another word.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum FactKind {
    /// A signed text, by the SHA-256 of the text, its signatures and the keyring.
    Signed,
    /// The contents of an index, by its SHA-256.
    Index,
    /// Those of them that concern some packages, by the SHA-256 of the index's SHA-256 and the packages' names.
    Selection,
    /// The contents of a package, by its SHA-256.
    Deb,
    /// The expected entries of the package database, by the SHA-256 of the package.
    Records,
    /// The BLAKE3 of a content, by its SHA-256: comparing that takes a tenth of the time.
    Sum,
}

impl FactKind {
    fn folder(self) -> &'static str {
        match self {
            Self::Signed => "signed-1",
            Self::Index => "index-1",
            Self::Selection => "selection-1",
            Self::Deb => "package-1",
            Self::Records => "records-1",
            Self::Sum => "sum-1",
        }
    }
}

/// The administrator's folder of verified facts.
#[derive(Debug, Clone)]
pub struct Facts {
    folder: Option<PathBuf>,
}

impl Facts {
    /// The facts in a folder of the administrator's cache; it need not exist. A folder that others can write, or of another
    /// user than root, is not used.
    #[must_use]
    pub fn in_folder(cache: &Path) -> Self {
        let folder = cache.join("facts");
        let usable = [cache, &folder].into_iter().all(is_private);
        Self { folder: usable.then_some(folder) }
    }

    fn path(&self, kind: FactKind, from: &[u8; 32]) -> Option<PathBuf> {
        let name = hex::encode(from);
        Some(self.folder.as_ref()?.join(kind.folder()).join(&name[..2]).join(format!("{name}.zst")))
    }

    /// Whether any fact of that kind exists.
    #[must_use]
    pub fn has_any(&self, kind: FactKind) -> bool {
        self.folder.as_ref().is_some_and(|folder| {
            std::fs::read_dir(folder.join(kind.folder())).is_ok_and(|mut all| all.next().is_some())
        })
    }

    /// The fact from the source with this SHA-256, if it exists and is intact.
    #[must_use]
    pub fn get(&self, kind: FactKind, from: &[u8; 32]) -> Option<Verified<Vec<u8>>> {
        use std::io::Read as _;
        let file = std::fs::File::open(self.path(kind, from)?).ok()?;
        // A power cut may leave an empty file, which a decoder would accept as an empty fact.
        file.metadata().ok().filter(|found| found.len() > 0)?;
        // The frame's own checksum detects damage on a failing stick.
        let decoder = zstd::Decoder::new(file).ok()?;
        let mut bytes = Vec::new();
        decoder.take(MAX_FACT + 1).read_to_end(&mut bytes).ok()?;
        (bytes.len() as u64 <= MAX_FACT).then_some(Verified(bytes))
    }

    /// Saves a fact. Where nothing can be written, the next run verifies again.
    pub fn keep(&self, kind: FactKind, from: &[u8; 32], fact: &Verified<Vec<u8>>) {
        let Some(path) = self.path(kind, from) else { return };
        let packed = || -> std::io::Result<Vec<u8>> {
            let mut encoder = zstd::Encoder::new(Vec::new(), LEVEL)?;
            encoder.include_checksum(true)?;
            std::io::Write::write_all(&mut encoder, fact.get())?;
            encoder.finish()
        };
        // Nothing is synced: a fact torn by a power cut is detected by its checksum and verified again, and a first check saves
        // thousands of facts.
        let written = |packed: Vec<u8>| -> std::io::Result<()> {
            let folder = path.parent().unwrap_or(&path);
            std::fs::create_dir_all(folder)?;
            let mut file = tempfile::NamedTempFile::new_in(folder)?;
            std::io::Write::write_all(&mut file, &packed)?;
            file.persist(&path).map(drop).map_err(|e| e.error)
        };
        let _ = packed().and_then(written);
    }
}

/// Whether only root and the current user can write a folder; a missing one will be created so.
fn is_private(folder: &Path) -> bool {
    use std::os::unix::fs::MetadataExt as _;
    match std::fs::metadata(folder) {
        Ok(found) => {
            let owned = [0, rustix::process::geteuid().as_raw()].contains(&found.uid());
            found.is_dir() && owned && found.mode() & 0o022 == 0
        }
        Err(e) => e.kind() == std::io::ErrorKind::NotFound,
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_fact_is_read_again_and_a_damaged_one_is_not() {
        let dir = tempfile::tempdir().unwrap();
        let facts = Facts::in_folder(dir.path());
        let (from, fact) = ([7; 32], Verified(b"quay 1 all".repeat(50)));
        assert!(facts.get(FactKind::Index, &from).is_none());
        facts.keep(FactKind::Index, &from, &fact);
        assert_eq!(facts.get(FactKind::Index, &from).unwrap().get(), fact.get());
        assert!(facts.get(FactKind::Deb, &from).is_none());
        let path = facts.path(FactKind::Index, &from).unwrap();
        let bytes = std::fs::read(&path).unwrap();
        for length in 0..bytes.len() {
            std::fs::write(&path, &bytes[..length]).unwrap();
            assert!(facts.get(FactKind::Index, &from).is_none(), "cut at {length}");
        }
        for at in 0..bytes.len() {
            let mut damaged = bytes.clone();
            damaged[at] ^= 1;
            std::fs::write(&path, damaged).unwrap();
            assert!(facts.get(FactKind::Index, &from).is_none_or(|read| read.get() == fact.get()), "changed at {at}");
        }
    }

    #[test]
    fn facts_that_others_could_have_written_are_not_used() {
        use std::os::unix::fs::PermissionsExt;
        let dir = tempfile::tempdir().unwrap();
        let (from, fact) = ([7; 32], Verified(b"quay".to_vec()));
        Facts::in_folder(dir.path()).keep(FactKind::Index, &from, &fact);
        assert!(Facts::in_folder(dir.path()).has_any(FactKind::Index));
        let open = |path: &Path| std::fs::set_permissions(path, PermissionsExt::from_mode(0o775)).unwrap();
        open(&dir.path().join("facts"));
        let facts = Facts::in_folder(dir.path());
        assert!(!facts.has_any(FactKind::Index) && facts.get(FactKind::Index, &from).is_none());
    }
}
