//! Facts that were verified once and need not be verified again, kept with the operator under the digest of what they
//! came from.
//!
//! A fact is only as good as the folder it lies in: that of the operator's pins, never one of the machine looked at.

use std::path::{Path, PathBuf};

use super::Verified;
use super::pins::write_bytes;

/// Quicker than the usual ones: the very first look at a machine waits for it.
const LEVEL: i32 = -3;
/// Facts over this size, unpacked, are not used.
const MAX_FACT: u64 = 256 << 20;

/// A kind of fact; changing how one is written needs another word.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum FactKind {
    /// A signed text, by the SHA-256 of it, its signatures and the keyring.
    Signed,
    /// What an index lists, by the SHA-256 of the index.
    Index,
    /// What a package holds, by the SHA-256 of the package.
    Package,
    /// What the package database should hold for a package, by the SHA-256 of the package.
    Records,
}

impl FactKind {
    fn folder(self) -> &'static str {
        match self {
            Self::Signed => "signed-1",
            Self::Index => "index-1",
            Self::Package => "package-1",
            Self::Records => "records-1",
        }
    }
}

/// The operator's folder of verified facts.
#[derive(Debug, Clone)]
pub struct Facts {
    folder: PathBuf,
}

impl Facts {
    /// The facts in the operator's trust folder; it need not exist.
    #[must_use]
    pub fn in_folder(trust: &Path) -> Self {
        Self { folder: trust.join("facts") }
    }

    fn path(&self, kind: FactKind, from: &[u8; 32]) -> PathBuf {
        let name = hex::encode(from);
        self.folder.join(kind.folder()).join(&name[..2]).join(format!("{name}.zst"))
    }

    /// Whether anything of that kind was kept at all.
    #[must_use]
    pub fn has_any(&self, kind: FactKind) -> bool {
        std::fs::read_dir(self.folder.join(kind.folder())).is_ok_and(|mut all| all.next().is_some())
    }

    /// The fact that came from something with this SHA-256, when it is there and whole.
    #[must_use]
    pub fn get(&self, kind: FactKind, from: &[u8; 32]) -> Option<Verified<Vec<u8>>> {
        use std::io::Read as _;
        let file = std::fs::File::open(self.path(kind, from)).ok()?;
        // The frame's own checksum tells a fact that a failing stick has damaged.
        let decoder = zstd::Decoder::new(file).ok()?;
        let mut bytes = Vec::new();
        decoder.take(MAX_FACT + 1).read_to_end(&mut bytes).ok()?;
        (bytes.len() as u64 <= MAX_FACT).then_some(Verified(bytes))
    }

    /// Keeps a fact. Where nothing can be written the next run verifies again.
    pub fn keep(&self, kind: FactKind, from: &[u8; 32], fact: &Verified<Vec<u8>>) {
        let path = self.path(kind, from);
        let packed = || -> std::io::Result<Vec<u8>> {
            let mut encoder = zstd::Encoder::new(Vec::new(), LEVEL)?;
            encoder.include_checksum(true)?;
            std::io::Write::write_all(&mut encoder, fact.get())?;
            encoder.finish()
        };
        if let (Ok(packed), Some(folder)) = (packed(), path.parent()) {
            let _ = write_bytes(folder, &path, &packed);
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_fact_comes_back_and_a_damaged_one_does_not() {
        let dir = tempfile::tempdir().unwrap();
        let facts = Facts::in_folder(dir.path());
        let (from, fact) = ([7; 32], Verified(b"quay 1 all".repeat(50)));
        assert!(facts.get(FactKind::Index, &from).is_none());
        facts.keep(FactKind::Index, &from, &fact);
        assert_eq!(facts.get(FactKind::Index, &from).unwrap().get(), fact.get());
        assert!(facts.get(FactKind::Package, &from).is_none());
        let path = facts.path(FactKind::Index, &from);
        let mut bytes = std::fs::read(&path).unwrap();
        let middle = bytes.len() / 2;
        bytes[middle] ^= 1;
        std::fs::write(&path, bytes).unwrap();
        assert!(facts.get(FactKind::Index, &from).is_none());
    }
}
