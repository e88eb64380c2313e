//! Where an archive's files are got from: apt's own copies, a folder, the network.

use std::io::Read;
use std::path::PathBuf;

use super::fetch::{FetchError, Fetcher};
use crate::model::SystemPath;
use crate::platform::debian::apt::{FileSum, file_name_of_uri};
use crate::platform::debian::unpacked;
use crate::target::Machine;

/// Where apt keeps release files and indexes.
const LISTS: &str = "/var/lib/apt/lists";
/// Endings of the forms in which apt may keep an index.
const KEPT_AS: [&str; 5] = ["", ".lz4", ".xz", ".gz", ".zst"];
/// Forms of an index, the smallest first.
const OFFERED_AS: [&str; 5] = [".xz", ".zst", ".gz", ".lz4", ""];

/// A place that has an archive's files.
pub(super) enum Shelf<'a> {
    /// apt's own copies, named after the URL they came from.
    Lists { machine: &'a Machine, uri: &'a str },
    /// A folder of the machine.
    OnMachine { machine: &'a Machine, folder: SystemPath },
    /// A folder of the host.
    OnHost { folder: PathBuf },
    /// The network.
    Network { fetcher: &'a Fetcher, uri: &'a str },
}

/// Why a shelf cannot give a file.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
pub(super) enum ShelfError {
    #[error(transparent)]
    Fetch(#[from] FetchError),
    #[error("{0}")]
    Read(String),
}

impl Shelf<'_> {
    /// A file's bytes; none when it is not there.
    pub(super) fn get(&self, path: &str, most: u64) -> Result<Option<Vec<u8>>, ShelfError> {
        match self {
            Self::Lists { machine, uri } => {
                let name = file_name_of_uri(&format!("{uri}{path}"));
                let Ok(at) = SystemPath::literal(LISTS).join(name.as_bytes()) else { return Ok(None) };
                machine.read_up_to(&at, most).map_err(|e| ShelfError::Read(crate::model::error_chain(&e)))
            }
            Self::OnMachine { machine, folder } => {
                let Ok(at) = folder.join(path.as_bytes()) else { return Ok(None) };
                machine.read_up_to(&at, most).map_err(|e| ShelfError::Read(crate::model::error_chain(&e)))
            }
            Self::OnHost { folder } => match std::fs::File::open(folder.join(path)) {
                Err(e) if e.kind() == std::io::ErrorKind::NotFound => Ok(None),
                Err(e) => Err(ShelfError::Read(e.to_string())),
                Ok(file) => {
                    let mut bytes = Vec::new();
                    let read = file.take(most + 1).read_to_end(&mut bytes);
                    match read {
                        Ok(n) if n as u64 <= most => Ok(Some(bytes)),
                        Ok(_) => Err(ShelfError::Read("it is larger than is sensible".into())),
                        Err(e) => Err(ShelfError::Read(e.to_string())),
                    }
                }
            },
            Self::Network { fetcher, uri } => Ok(fetcher.get(&format!("{uri}{path}"), most)?),
        }
    }

    /// An index as plain text, not verified yet: at most as long as the release file says. `sum_of` knows what the
    /// release file says of a form.
    pub(super) fn index(
        &self,
        folder: &str,
        name: &str,
        by_hash: bool,
        sum_of: &dyn Fn(&str) -> Option<FileSum>,
    ) -> Result<Option<Vec<u8>>, ShelfError> {
        let Some(plain) = sum_of(name) else { return Ok(None) };
        let kept = matches!(self, Self::Lists { .. });
        let mut trouble = None;
        for form in if kept { KEPT_AS } else { OFFERED_AS } {
            let listed = sum_of(&format!("{name}{form}"));
            // Only apt's own copies may have a form that the archive does not offer.
            let most = match (listed, kept) {
                (Some(sum), false) => sum.size,
                (None, false) => continue,
                (_, true) => plain.size.saturating_add(1 << 20),
            };
            let path = match (listed, by_hash && !kept) {
                (Some(sum), true) => {
                    let parent = name.rsplit_once('/').map_or(String::new(), |(p, _)| format!("{p}/"));
                    format!("{folder}{parent}by-hash/SHA256/{}", sum.hex())
                }
                _ => format!("{folder}{name}{form}"),
            };
            match self.get(&path, most) {
                Ok(Some(bytes)) => match plain_text(bytes, form, plain.size) {
                    Ok(text) => return Ok(Some(text)),
                    Err(why) => trouble = Some(ShelfError::Read(why)),
                },
                Ok(None) => {}
                Err(e) => trouble = Some(e),
            }
        }
        trouble.map_or(Ok(None), Err)
    }
}

/// Unpacks a text of a known length, not one byte more.
fn plain_text(packed: Vec<u8>, form: &str, size: u64) -> Result<Vec<u8>, String> {
    if form.is_empty() {
        return Ok(packed);
    }
    let mut text = Vec::with_capacity(usize::try_from(size.min(64 << 20)).unwrap_or(0));
    let unpacking = unpacked(&packed[..], form).map_err(|e| e.to_string())?;
    unpacking.take(size + 1).read_to_end(&mut text).map_err(|e| format!("it cannot be unpacked ({e})"))?;
    Ok(text)
}
