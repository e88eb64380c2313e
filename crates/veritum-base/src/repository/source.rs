//! Follows one source's chain: release file, signature, indexes.

use std::collections::HashSet;

use super::list_source::{ListSource, ListSourceError};
use super::table::{Names, condensed, condensed_from};
use crate::machine::Machine;
use crate::model::SystemPath;
use crate::platform::debian::apt::{FileSum, Release, ReleaseError, Signers};
use crate::trust::openpgp::{Keyring, SignatureError, Signed, open_remembered};
use crate::trust::{FactKind, Facts, VendorKeys, Verified, derive_from_file, verify_file_again};

/// Larger release files are refused, in bytes.
pub(super) const MAX_RELEASE: u64 = 32 << 20;
/// Larger keyring files are refused.
const MAX_KEYRING: u64 = 16 << 20;
/// Larger indexes are refused, in bytes after decompression; the largest of Debian has a tenth of it.
const MAX_INDEX: u64 = 512 << 20;

/// The state of a source.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Standing {
    /// Its release file is signed by an accepted key.
    Verified {
        /// The primary key, by fingerprint.
        key: String,
        /// The date of the release.
        dated: Option<jiff::Timestamp>,
        /// Its expiry.
        valid_until: Option<jiff::Timestamp>,
        /// Indexes that differ from the signed ones, or cannot be read; with the reason.
        bad_indexes: Vec<(String, String)>,
        /// The number of its indexes that are not available.
        missing_indexes: usize,
    },
    /// Its signature is not accepted.
    Refused(SignatureError),
    /// Its release file is invalid.
    Unusable(String),
    /// There is no release file, or it cannot be read.
    Absent(String),
}

impl Standing {
    /// Whether it can verify packages.
    #[must_use]
    pub fn is_verified(&self) -> bool {
        matches!(self, Self::Verified { .. })
    }
}

/// The state of an index.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum IndexState {
    /// It is the signed one.
    Right,
    /// It does not exist.
    Missing,
    /// It differs, or cannot be read; with the reason.
    Wrong(String),
}

/// What following a chain needs.
pub(super) struct Follow<'a> {
    pub(super) vendors: &'a VendorKeys,
    pub(super) facts: &'a Facts,
    pub(super) now: jiff::Timestamp,
}

/// The wanted files of a suite.
pub(super) struct Wanted<'a> {
    /// The release file's folder, relative to the source of lists.
    pub(super) folder: &'a str,
    /// The suite's components; none for a folder of its own.
    pub(super) components: &'a [String],
    /// Architectures.
    pub(super) archs: &'a [String],
}

/// A valid release file.
#[derive(Debug, Clone)]
pub(super) struct OpenRelease {
    pub(super) release: Verified<Release>,
    pub(super) key: String,
}

impl OpenRelease {
    /// Its source, until an index was read.
    pub(super) fn standing(&self) -> Standing {
        let release = self.release.get();
        let (dated, valid_until) = (release.date, release.valid_until);
        Standing::Verified { key: self.key.clone(), dated, valid_until, bad_indexes: Vec::new(), missing_indexes: 0 }
    }
}

impl Follow<'_> {
    /// Opens a suite's release file.
    pub(super) fn release(
        &self,
        list_source: &ListSource<'_>,
        folder: &str,
        keyring: &Keyring,
    ) -> Result<OpenRelease, Standing> {
        let get = |name: &str| {
            list_source.get(&format!("{folder}{name}"), MAX_RELEASE).map_err(|e| Standing::Absent(e.to_string()))
        };
        let known = |fingerprint: &str| self.vendors.knows(fingerprint);
        let signed: Result<Signed, SignatureError> = match get("InRelease")? {
            Some(bytes) => open_remembered(bytes, None, keyring, &known, self.now, self.facts),
            None => match (get("Release")?, get("Release.gpg")?) {
                (Some(text), Some(signature)) => {
                    open_remembered(text, Some(&signature), keyring, &known, self.now, self.facts)
                }
                (Some(_), None) => return Err(Standing::Unusable("the release file is not signed".into())),
                (None, _) => return Err(Standing::Absent("no release file on this system".into())),
            },
        };
        let signed = signed.map_err(Standing::Refused)?;
        let parse = |bytes: Vec<u8>| {
            let text = String::from_utf8(bytes).map_err(|_| ReleaseError::Shape)?;
            Release::parse(&text)
        };
        let release = signed.text.derive(parse).map_err(|e: ReleaseError| Standing::Unusable(e.to_string()))?;
        Ok(OpenRelease { release, key: signed.key })
    }

    /// A suite's indexes, condensed and reduced to the packages of interest, unless they were read before; errors are
    /// recorded in the state.
    pub(super) fn indexes(
        &self,
        list_source: &ListSource<'_>,
        wanted: &Wanted<'_>,
        names: &Names<'_>,
        open: &OpenRelease,
        read: &mut HashSet<String>,
        standing: &mut Standing,
    ) -> Vec<Verified<Vec<u8>>> {
        let release = open.release.get();
        let mut names_read = index_names(wanted, release.all_within);
        names_read.retain(|name| release.files.contains_key(name) && read.insert(name.clone()));
        let index = |name: &String| self.index(list_source, wanted.folder, name, names, open);
        let mut texts = Vec::new();
        // Two at a time: the lists of two architectures are about equally large.
        for pair in names_read.chunks(2) {
            let got = std::thread::scope(|threads| {
                let second = pair.get(1).map(|name| threads.spawn(move || index(name)));
                let first = index(&pair[0]);
                let second =
                    second.map(|second| second.join().unwrap_or_else(|panic| std::panic::resume_unwind(panic)));
                std::iter::once(first).chain(second).collect::<Vec<_>>()
            });
            for (name, got) in std::iter::zip(pair, got) {
                let Standing::Verified { bad_indexes, missing_indexes, .. } = &mut *standing else { continue };
                match got {
                    Ok(Some(text)) => texts.push(text),
                    Ok(None) if release.files.get(name).is_some_and(|sum| sum.size == 0) => {}
                    // That some indexes are not available is normal.
                    Ok(None) => *missing_indexes += 1,
                    Err(why) => bad_indexes.push((name.clone(), why)),
                }
            }
        }
        texts
    }

    fn index(
        &self,
        list_source: &ListSource<'_>,
        folder: &str,
        name: &str,
        names: &Names<'_>,
        open: &OpenRelease,
    ) -> Result<Option<Verified<Vec<u8>>>, String> {
        let release = open.release.get();
        let sum = open.release.clone().derive(|r| r.files.get(name).copied().ok_or(())).map_err(|()| String::new())?;
        // Reading all of a large index again would take longer than everything else that a short command does.
        let key = names.selection_of(sum.get());
        if let Some(known) = key.as_ref().and_then(|key| self.facts.get(FactKind::Selection, key)) {
            return Ok(Some(known));
        }
        let all = match self.facts.get(FactKind::Index, &sum.get().sha256) {
            Some(known) => known,
            None => {
                let Some(condensed) = condensed_index(list_source, folder, name, release, &sum)? else {
                    return Ok(None);
                };
                self.facts.keep(FactKind::Index, &sum.get().sha256, &condensed);
                condensed
            }
        };
        // Where no selection is kept, making one would save nothing.
        let Some(key) = key else { return Ok(Some(all)) };
        let selected = all.map(|all| names.select(&all));
        self.facts.keep(FactKind::Selection, &key, &selected);
        Ok(Some(selected))
    }
}

/// An index in its condensed form, if it is available and the signed one.
fn condensed_index(
    list_source: &ListSource<'_>,
    folder: &str,
    name: &str,
    release: &Release,
    sum: &Verified<FileSum>,
) -> Result<Option<Verified<Vec<u8>>>, String> {
    // Piece by piece where it can be: an index of a large repository has fifty million bytes.
    let file = list_source.plain_file(&format!("{folder}{name}")).filter(|_| sum.get().size <= MAX_INDEX);
    if let Some(Ok(Ok(condensed))) = file.map(|file| derive_from_file(file, sum, condensed_from)) {
        return Ok(Some(condensed));
    }
    let text = whole_index(list_source, folder, name, release, sum)?;
    Ok(text.map(|text| text.map(|text| condensed(&text))))
}

/// An index as text, if it is available and the signed one.
pub(super) fn whole_index(
    list_source: &ListSource<'_>,
    folder: &str,
    name: &str,
    release: &Release,
    sum: &Verified<FileSum>,
) -> Result<Option<Verified<Vec<u8>>>, String> {
    if sum.get().size > MAX_INDEX {
        return Err("exceeds the size limit".into());
    }
    let sum_of = |form: &str| -> Option<FileSum> { release.files.get(form).copied() };
    list_source.index(folder, name, release.by_hash, sum, &sum_of).map_err(|e: ListSourceError| e.to_string())
}

/// The state of one of a suite's lists in a source of lists: all of it is read, even if it was verified before.
pub(super) fn look_at_index(
    list_source: &ListSource<'_>,
    folder: &str,
    name: &str,
    open: &OpenRelease,
    facts: &Facts,
) -> Option<IndexState> {
    let release = open.release.get();
    let sum = open.release.clone().derive(|r| r.files.get(name).copied().ok_or(())).ok()?;
    let file = list_source.plain_file(&format!("{folder}{name}"));
    if let Some(Ok(Ok(()))) = file.map(|file| verify_file_again(file, &sum, facts)) {
        return Some(IndexState::Right);
    }
    Some(match whole_index(list_source, folder, name, release, &sum) {
        Ok(Some(_)) => IndexState::Right,
        Ok(None) if sum.get().size == 0 => IndexState::Right,
        Ok(None) => IndexState::Missing,
        Err(why) => IndexState::Wrong(why),
    })
}

/// The indexes of a suite for these architectures, relative to the release file's folder. If a source names its
/// architectures, or its release file does not list `all`, apt downloads no index for `all`.
pub(super) fn index_names(wanted: &Wanted<'_>, all_within: bool) -> Vec<String> {
    if wanted.components.is_empty() {
        return vec!["Packages".into()];
    }
    let mut archs: Vec<&str> = wanted.archs.iter().map(String::as_str).collect();
    if !all_within {
        archs.push("all");
    }
    archs.dedup();
    let of = |package: &String| archs.iter().map(|a| format!("{package}/binary-{a}/Packages")).collect::<Vec<_>>();
    wanted.components.iter().flat_map(of).collect()
}

/// apt's common keyrings (apt-secure(8)).
pub(super) fn common_keyring(machine: &Machine) -> Keyring {
    let mut keyring = Keyring::default();
    let folder = SystemPath::literal("/etc/apt/trusted.gpg.d");
    let names = machine.resolve(&folder).and_then(|f| machine.dir(&f)).and_then(|d| d.disk().list(d.fd()));
    let mut names: Vec<Vec<u8>> = names.unwrap_or_default().into_iter().map(|(name, _)| name).collect();
    names.sort();
    let fits = |name: &&Vec<u8>| name.ends_with(b".gpg") || name.ends_with(b".asc");
    let files = names.iter().filter(fits).filter_map(|n| folder.child(n).ok());
    for file in [SystemPath::literal("/etc/apt/trusted.gpg")].into_iter().chain(files) {
        keyring.extend(keyring_at(machine, &file));
    }
    keyring
}

/// A keyring file of the machine; empty when it is missing or cannot be read.
fn keyring_at(machine: &Machine, file: &SystemPath) -> Keyring {
    let bytes = machine.read_up_to(file, MAX_KEYRING).ok().flatten().unwrap_or_default();
    Keyring::read(&bytes).unwrap_or_default()
}

/// The keys that may sign for a source, as the source lists them. If they are missing or damaged, or the source uses the
/// system's common keyrings, the administrator's own keys are included.
pub(super) fn keyring_of(machine: &Machine, signers: &Signers, common: &Keyring, vendors: &VendorKeys) -> Keyring {
    let files = signers.keyrings.iter().map(|file| keyring_at(machine, file));
    let texts = signers.embedded.iter().map(|text| Keyring::read(text.as_bytes()).unwrap_or_default());
    let named: Vec<Keyring> = files.chain(texts).collect();
    let lacking = |keyring: &Keyring| keyring.is_damaged() || keyring.certificates().is_empty();
    let mut keyring = Keyring::default();
    if signers.is_common() {
        keyring.extend(common.clone());
    }
    if signers.is_common() || named.iter().any(lacking) {
        keyring.extend(vendors.keyring().clone());
    }
    named.into_iter().for_each(|one| keyring.extend(one));
    if !signers.fingerprints.is_empty() {
        keyring.keep(&signers.fingerprints);
    }
    // The administrator's copy of a key may record that it was revoked.
    keyring.refresh(vendors.keyring());
    keyring
}

/// All available keys, for repositories that no source lists: the machine's keyrings and the administrator's own.
pub(super) fn all_keys(machine: &Machine, common: &Keyring, vendors: &VendorKeys) -> Keyring {
    let mut keyring = common.clone();
    let folder = SystemPath::literal("/usr/share/keyrings");
    let names = machine.dir(&folder).and_then(|d| d.disk().list(d.fd())).unwrap_or_default();
    for (name, _) in names.into_iter().filter(|(n, _)| n.ends_with(b".gpg") || n.ends_with(b".asc")).take(100) {
        if let Ok(file) = folder.child(&name) {
            keyring.extend(keyring_at(machine, &file));
        }
    }
    keyring.extend(vendors.keyring().clone());
    keyring
}
