//! Sources of a repository's files: apt's own copies, a folder, the network.

use std::fs::File;
use std::io::Read;
use std::path::PathBuf;

use super::fetch::Fetcher;
use super::trouble::FetchError;
use crate::formats::deb::unpacked;
use crate::machine::Machine;
use crate::model::SystemPath;
use crate::platform::debian::apt::{FileSum, LISTS, file_name_of_uri};
use crate::trust::{Verified, verify_sum};

/// Extensions of the forms in which apt may keep an index.
pub(super) const KEPT_AS: [&str; 5] = ["", ".lz4", ".xz", ".gz", ".zst"];
/// Forms of an index, the smallest first.
pub(super) const OFFERED_AS: [&str; 5] = [".xz", ".zst", ".gz", ".lz4", ""];

/// A place that has a repository's files.
pub(super) enum ListSource<'a> {
    /// apt's own copies, named after their URL.
    Lists { machine: &'a Machine, uri: &'a str },
    /// A folder of the machine.
    OnMachine { machine: &'a Machine, folder: SystemPath },
    /// A folder of the host.
    OnHost { folder: PathBuf },
    /// The network.
    Network { fetcher: &'a Fetcher, uri: &'a str },
}

/// Why a source of lists cannot provide a file.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
pub(super) enum ListSourceError {
    #[error(transparent)]
    Fetch(#[from] FetchError),
    #[error("{0}")]
    Read(String),
}

impl ListSource<'_> {
    /// A file's content; `None` when it does not exist.
    pub(super) fn get(&self, path: &str, most: u64) -> Result<Option<Vec<u8>>, ListSourceError> {
        match self {
            Self::Lists { machine, uri } => {
                let name = file_name_of_uri(&format!("{uri}{path}"));
                let Ok(at) = SystemPath::literal(LISTS).join(name.as_bytes()) else { return Ok(None) };
                machine.read_up_to(&at, most).map_err(|e| ListSourceError::Read(crate::model::error_chain(&e)))
            }
            Self::OnMachine { machine, folder } => {
                let Ok(at) = folder.join(path.as_bytes()) else { return Ok(None) };
                machine.read_up_to(&at, most).map_err(|e| ListSourceError::Read(crate::model::error_chain(&e)))
            }
            Self::OnHost { folder } => match File::open(folder.join(path)) {
                Err(e) if e.kind() == std::io::ErrorKind::NotFound => Ok(None),
                Err(e) => Err(ListSourceError::Read(e.to_string())),
                Ok(file) => {
                    let mut bytes = Vec::new();
                    let read = file.take(most + 1).read_to_end(&mut bytes);
                    match read {
                        Ok(n) if n as u64 <= most => Ok(Some(bytes)),
                        Ok(_) => Err(ListSourceError::Read("exceeds the size limit".into())),
                        Err(e) => Err(ListSourceError::Read(e.to_string())),
                    }
                }
            },
            Self::Network { fetcher, uri } => Ok(fetcher.get(&format!("{uri}{path}"), most)?),
        }
    }

    /// apt's own copy of an index in its plain form, opened.
    pub(super) fn plain_file(&self, path: &str) -> Option<File> {
        let Self::Lists { machine, uri } = self else { return None };
        let name = file_name_of_uri(&format!("{uri}{path}"));
        let at = machine.resolve(&SystemPath::literal(LISTS).join(name.as_bytes()).ok()?).ok()?;
        let dir = machine.dir(&at.parent()?).ok()?;
        dir.disk().open_file(dir.fd(), at.name()).ok().map(File::from)
    }

    /// An index as text: the first of its forms that matches what was signed. `sum_of` returns a form's digest from the release
    /// file.
    pub(super) fn index(
        &self,
        folder: &str,
        name: &str,
        by_hash: bool,
        plain: &Verified<FileSum>,
        sum_of: &dyn Fn(&str) -> Option<FileSum>,
    ) -> Result<Option<Verified<Vec<u8>>>, ListSourceError> {
        let size = plain.get().size;
        let kept = matches!(self, Self::Lists { .. });
        let mut trouble = None;
        for form in if kept { KEPT_AS } else { OFFERED_AS } {
            let listed = sum_of(&format!("{name}{form}"));
            // Only apt's own copies may have a form that the repository does not offer.
            let most = match (listed, kept) {
                (Some(sum), false) => sum.size,
                (None, false) => continue,
                (_, true) => size.saturating_add(1 << 20),
            };
            let path = match (listed, by_hash && !kept) {
                (Some(sum), true) => {
                    let parent = name.rsplit_once('/').map_or(String::new(), |(p, _)| format!("{p}/"));
                    format!("{folder}{parent}by-hash/SHA256/{}", sum.hex())
                }
                _ => format!("{folder}{name}{form}"),
            };
            match self.get(&path, most) {
                // An older copy may be next to the right one, in another form.
                Ok(Some(bytes)) => match plain_text(bytes, form, size).map(|text| verify_sum(text, plain)) {
                    Ok(Ok(text)) => return Ok(Some(text)),
                    Ok(Err(_)) => {
                        trouble = Some(ListSourceError::Read("checksum differs from the signed release file".into()));
                        // A repository that is being updated is the same in every form.
                        if matches!(self, Self::Network { .. }) {
                            break;
                        }
                    }
                    Err(why) => trouble = Some(ListSourceError::Read(why)),
                },
                Ok(None) => {}
                Err(e) => trouble = Some(e),
            }
        }
        trouble.map_or(Ok(None), Err)
    }
}

/// Decompresses a text of known length, and not one byte more.
fn plain_text(packed: Vec<u8>, form: &str, size: u64) -> Result<Vec<u8>, String> {
    if form.is_empty() {
        return Ok(packed);
    }
    let mut text = Vec::with_capacity(usize::try_from(size.min(64 << 20)).unwrap_or(0));
    let unpacking = unpacked(&packed[..], form).map_err(|e| e.to_string())?;
    unpacking.take(size + 1).read_to_end(&mut text).map_err(|e| format!("cannot be decompressed ({e})"))?;
    Ok(text)
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::trust::testing;

    const TEXT: &[u8] = b"Package: quay\nVersion: 1\n";

    fn sum(size: usize) -> FileSum {
        FileSum { size: size as u64, sha256: [7; 32] }
    }

    /// What the release file says of the plain text.
    fn signed() -> Verified<FileSum> {
        let mut sha256 = [0; 32];
        sha256.copy_from_slice(aws_lc_rs::digest::digest(&aws_lc_rs::digest::SHA256, TEXT).as_ref());
        testing::verified(FileSum { size: TEXT.len() as u64, sha256 })
    }

    fn packed() -> Vec<u8> {
        use std::io::Write as _;
        let mut encoder = flate2::write::GzEncoder::new(Vec::new(), flate2::Compression::fast());
        encoder.write_all(TEXT).unwrap();
        encoder.finish().unwrap()
    }

    /// A folder of the host with these files in it.
    fn folder(files: &[(&str, &[u8])]) -> (tempfile::TempDir, ListSource<'static>) {
        let dir = tempfile::tempdir().unwrap();
        for (name, bytes) in files {
            let path = dir.path().join(name);
            std::fs::create_dir_all(path.parent().unwrap()).unwrap();
            std::fs::write(path, bytes).unwrap();
        }
        let list_source = ListSource::OnHost { folder: dir.path().to_owned() };
        (dir, list_source)
    }

    #[test]
    fn an_index_is_unpacked_to_its_length_and_not_one_byte_more() {
        let size = TEXT.len() as u64;
        assert_eq!(plain_text(TEXT.to_vec(), "", size).unwrap(), TEXT);
        assert_eq!(plain_text(packed(), ".gz", size).unwrap(), TEXT);
        assert_eq!(plain_text(packed(), ".gz", 3).unwrap().len(), 4, "too long a one is seen to be so");
        assert!(plain_text(packed()[..12].to_vec(), ".gz", size).is_err());
    }

    #[test]
    fn a_form_that_the_release_file_does_not_name_is_not_looked_at() {
        let (_keep, list_source) = folder(&[("dists/x/main/Packages.gz", &packed())]);
        let known = |names: &'static [&'static str]| {
            move |name: &str| names.contains(&name).then(|| sum(if name.ends_with(".gz") { 99 } else { TEXT.len() }))
        };
        let of = |names| list_source.index("dists/x/", "main/Packages", false, &signed(), &known(names));
        assert_eq!(of(&["main/Packages", "main/Packages.gz"]).unwrap().unwrap().get(), TEXT);
        assert!(of(&["main/Packages"]).unwrap().is_none());
    }

    #[test]
    fn an_index_can_lie_under_its_digest() {
        let name = format!("dists/x/main/by-hash/SHA256/{}", sum(1).hex());
        let (_keep, list_source) = folder(&[(&name, TEXT)]);
        let sums = |name: &str| (name == "main/Packages").then(|| sum(TEXT.len()));
        let of = |by_hash| list_source.index("dists/x/", "main/Packages", by_hash, &signed(), &sums).unwrap();
        assert_eq!(of(true).unwrap().get(), TEXT);
        assert!(of(false).is_none());
    }

    #[test]
    fn a_copy_of_another_day_does_not_hide_the_right_one() {
        let old = b"Package: quay\nVersion: 0\n";
        let sums = |name: &str| Some(if name.ends_with("Packages") { sum(TEXT.len()) } else { sum(99) });
        let of = |files: &[(&str, &[u8])]| {
            let (_keep, list_source) = folder(files);
            list_source.index("", "main/Packages", false, &signed(), &sums)
        };
        let right = packed();
        assert_eq!(of(&[("main/Packages", old), ("main/Packages.gz", &right)]).unwrap().unwrap().get(), TEXT);
        assert_eq!(of(&[("main/Packages.gz", b"no gz"), ("main/Packages", TEXT)]).unwrap().unwrap().get(), TEXT);
        assert!(
            of(&[("main/Packages", old)])
                .unwrap_err()
                .to_string()
                .contains("checksum differs from the signed release file")
        );
    }

    #[test]
    fn a_file_larger_than_is_sensible_is_refused_and_one_that_is_not_there_is_none() {
        let (_keep, list_source) = folder(&[("InRelease", &[b'x'; 100])]);
        assert_eq!(list_source.get("InRelease", 100).unwrap().map(|b| b.len()), Some(100));
        assert!(list_source.get("InRelease", 99).unwrap_err().to_string().contains("exceeds"));
        assert_eq!(list_source.get("Release", 100), Ok(None));
    }
}
