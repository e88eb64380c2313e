//! The accepted keys of repositories: those built in, and those that the administrator has trusted.
//!
//! A machine's own keyrings provide keys, but do not decide which are accepted: anyone who can alter the machine's files can
//! alter its keyrings as well.

use std::path::{Path, PathBuf};

use super::openpgp::{Certificate, Keyring};
use super::pins::{PinError, write_bytes};

/// Keys that sign Debian's repositories (releases 8 to 13): primary keys' fingerprints, as Debian publishes them at
/// <https://ftp-master.debian.org/keys.html> and ships them in `debian-archive-keyring`.
const SHIPPED: [&str; 16] = [
    // 13, trixie
    "04B54C3CDCA79751B16BC6B5225629DF75B188BD",
    "5E04A1E3223A19A20706E20F9904613D4CCE68C6",
    "41587F7DB8C774BCCF131416762F67A0B2C39DE4",
    // 12, bookworm
    "B8B80B5B623EAB6AD8775C45B7C5D7D6350947F8",
    "05AB90340C0C5E797F44A8C8254CF3B5AEC0A8F0",
    "4D64FEC119C2029067D6E791F8D2585B8783D481",
    // 11, bullseye
    "1F89983E0081FDE018F3CC9673A4F27B8DD47936",
    "AC530D520F2F3269F5E98313A48449044AAD5C5D",
    "A4285295FC7B1A81600062A9605C66F00D6C9793",
    // 10, buster
    "80D15823B7FD1561F9F7BCDDDC30D7C23CBBABEE",
    "5E61B217265DA9807A23C5FF4DFAB270CAA96DFA",
    "6D33866EDD8FFA41C0143AEDDCC9EFBF77E11517",
    // 9, stretch
    "E1CF20DDFFE4B89E802658F1E0B11894F66AEC98",
    "6ED6F5CB5FA6FB2F460AE88EEDA0D2388AE22BA9",
    "067E3C456BAE240ACEE88F6FEF0F382A1A7B6500",
    // 8, jessie
    "126C0D24BD8A2942CC7DF8AC7638D0442B90D010",
];
/// Those keys themselves, without third-party signatures. If a machine's own keyring is damaged or missing, the chain to its
/// repository can still be followed. The keys are not protected by copyright.
const SHIPPED_KEYS: &[u8] = include_bytes!("debian-archive.gpg");
/// Larger trusted key files are refused.
const MAX_KEY: u64 = 16 << 20;

/// The accepted keys.
#[derive(Debug, Clone)]
pub struct VendorKeys {
    folder: PathBuf,
    pinned: Vec<String>,
    keyring: Keyring,
}

impl VendorKeys {
    /// The built-in keys and those in the administrator's trust folder; it need not exist.
    #[must_use]
    pub fn in_folder(trust: &Path) -> Self {
        let folder = trust.join("keys");
        let mut keyring = Keyring::read(SHIPPED_KEYS).unwrap_or_default();
        let mut pinned = Vec::new();
        for entry in std::fs::read_dir(&folder).into_iter().flatten().flatten() {
            let path = entry.path();
            let small = entry.metadata().is_ok_and(|m| m.is_file() && m.len() <= MAX_KEY);
            let Some(stem) = path.file_stem().and_then(|s| s.to_str()).filter(|_| small) else { continue };
            let read = std::fs::read(&path).ok().and_then(|bytes| Keyring::read(&bytes).ok());
            if let Some(mut read) = read {
                // The file name identifies the trusted key; other keys in the file are not trusted.
                read.keep(&[stem.to_owned()]);
                pinned.extend(read.certificates().iter().map(|c| c.fingerprint().to_owned()));
                keyring.extend(read);
            }
        }
        Self { folder, pinned, keyring }
    }

    /// Whether a primary key is accepted.
    #[must_use]
    pub fn knows(&self, fingerprint: &str) -> bool {
        SHIPPED.contains(&fingerprint) || self.pinned.iter().any(|p| p == fingerprint)
    }

    /// The keys themselves: built-in and trusted.
    #[must_use]
    pub fn keyring(&self) -> &Keyring {
        &self.keyring
    }

    /// Trusts a key of a keyring file.
    ///
    /// # Errors
    /// When the administrator's folder cannot be written.
    pub fn pin(&self, certificate: &Certificate) -> Result<(), PinError> {
        let path = self.folder.join(format!("{}.asc", certificate.fingerprint()));
        write_bytes(&self.folder, &path, certificate.armoured().as_bytes())
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn shipped_fingerprints_are_whole_and_none_is_there_twice() {
        let mut all = SHIPPED.to_vec();
        assert!(
            all.iter().all(|f| f.len() == 40 && f.bytes().all(|b| b.is_ascii_digit() || (b'A'..=b'F').contains(&b)))
        );
        all.sort_unstable();
        all.dedup();
        assert_eq!(all.len(), SHIPPED.len());
    }

    #[test]
    fn the_shipped_keys_are_those_of_the_fingerprints() {
        let keyring = Keyring::read(SHIPPED_KEYS).unwrap();
        let mut have: Vec<&str> = keyring.certificates().iter().map(Certificate::fingerprint).collect();
        let mut named = SHIPPED.to_vec();
        have.sort_unstable();
        named.sort_unstable();
        assert!(!keyring.is_damaged());
        assert_eq!(have, named);
    }
}
