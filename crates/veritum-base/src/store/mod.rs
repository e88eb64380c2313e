//! The trusted package store: signed manifests of packages, and contents by digest.
//!
//! ```text
//! STORE/
//!   store.json              format and version of the layout
//!   metadata/               signed: 1.root.json, N.targets.json, N.snapshot.json, timestamp.json
//!   targets/                SHA256.index.json: the signed index, package -> manifest digest
//!   manifests/ab/….json.zst one per package, named by BLAKE3 of its plain content
//!   objects/ab/….zst        contents, named by BLAKE3 of the plain content
//!   filled/                 what was taken in and waits for the next signing (read by `publish` only)
//!   incoming/               unfinished work of a running fill
//!   set-aside/RUN/          what a repair of the store took out of use
//! ```
//!
//! Reading gives verified bytes or an error, never a stream of unverified ones. Filling writes everything that a
//! package needs before the package is named anywhere, so an interruption leaves nothing half-there.

mod audit;
mod fault;
mod files;
mod fill;
mod head;
mod incoming;
mod index;
mod inventory;
mod location;
mod making;
mod manifest;
mod pointers;
mod publish;
mod read;
mod records;
mod remote;
mod repair;
mod unpack;
mod unverified;

pub use audit::{Audit, Listing};
pub use fault::{Part, StoreFault, Trouble, manifest_fault};
pub use fill::{FillRules, FillSummary, Parcel, Refused, fill, fill_from, take_over};
pub use index::{DebRef, Index, IndexEntry};
pub use location::Location;
pub use making::ManifestMaker;
pub use manifest::{Manifest, ManifestError, RawManifest};
pub use pointers::{room_for, taken_in};
pub use publish::{PublishSummary, create, publish};
pub use read::{Contents, NoContents, Store, TrustCandidate, candidate, seen};
pub use records::{RecordMember, Records, RecordsRef};
pub use remote::{Fetch, FetchFailure, Reach};
pub use repair::{StoreRepair, known};
pub use unverified::{UnverifiedStore, unverified_store};

use std::io;
use std::path::{Path, PathBuf};

use crate::formats::deb::DebError;
use crate::model::{Digest, PackageId};
use crate::trust::{KeysError, MetadataError, PinError};

/// The layout's format; a reader refuses any other.
pub const FORMAT: &str = "veritum.store/1";
/// The folders of a store.
const FOLDERS: [&str; 6] = ["metadata", "targets", "manifests", "objects", "filled", "incoming"];
/// Where what was damaged or unused goes when a store is repaired.
const ASIDE: &str = "set-aside";
/// Decompressed manifests over this size are refused: a million entries need two thirds of it.
const MAX_MANIFEST: u64 = 256 << 20;
/// Records over this size are refused.
const MAX_RECORDS: u64 = 64 << 20;

/// Why a store cannot be used, or not for this.
#[derive(Debug, thiserror::Error)]
#[non_exhaustive]
pub enum StoreError {
    /// A file of the store cannot be read or written.
    #[error("{} cannot be used", path.display())]
    File {
        /// The path.
        path: PathBuf,
        /// The source.
        source: io::Error,
    },
    /// There is no store.
    #[error("{} is not a store", path.display())]
    NotAStore {
        /// The place.
        path: PathBuf,
    },
    /// There is something else already.
    #[error("{} is not empty", path.display())]
    Occupied {
        /// The place.
        path: PathBuf,
    },
    /// A store on a web server cannot be used.
    #[error("the store {url} cannot be used")]
    Remote {
        /// Its URL.
        url: String,
        /// The source.
        source: FetchFailure,
    },
    /// The signatures of a store on a web server are no longer new.
    #[error("the signatures of the store {url} expired on {}", expires.strftime("%Y-%m-%d"))]
    Expired {
        /// Its URL.
        url: String,
        /// The expires.
        expires: jiff::Timestamp,
    },
    /// The store must lie in a folder for this.
    #[error("{url} is a web address: a store on a web server is read-only")]
    NotAFolder {
        /// Its URL.
        url: String,
    },
    /// The store was written in a format of a newer Veritum.
    #[error("the store {} was written by a newer Veritum ({found})", path.display())]
    Newer {
        /// The place.
        path: PathBuf,
        /// The format met.
        found: String,
    },
    /// The store has never been signed.
    #[error("the store {} has not been signed yet", path.display())]
    Unpublished {
        /// The place.
        path: PathBuf,
    },
    /// No one has said that this store's keys are to be trusted.
    #[error("the store {} is not trusted yet", path.display())]
    NotTrusted {
        /// The place.
        path: PathBuf,
        /// Whether a store at this very place was trusted with other keys.
        other_keys: bool,
    },
    /// The store is older than what was seen of it before.
    #[error("the store {} is older than before ({role} version {found}, seen {seen})", path.display())]
    RolledBack {
        /// The place.
        path: PathBuf,
        /// Which role.
        role: &'static str,
        /// The version found.
        found: u64,
        /// The version seen before.
        seen: u64,
    },
    /// The chain of signatures does not hold.
    #[error("the store {} cannot be trusted", path.display())]
    Chain {
        /// The place.
        path: PathBuf,
        /// The source.
        source: MetadataError,
    },
    /// The trusted keys cannot be used.
    #[error("trusted keys cannot be read")]
    Pins(#[from] PinError),
    /// Keys cannot be used.
    #[error("the store's keys cannot be used")]
    Keys(#[from] KeysError),
    /// A manifest is missing, or is not the one that was signed.
    #[error("the manifest of {package} is missing from the store or damaged")]
    Manifest {
        /// The package.
        package: Box<PackageId>,
        /// The source.
        source: Box<dyn std::error::Error + Send + Sync>,
    },
    /// What says that a package was taken in cannot be read.
    #[error("{} is damaged", path.display())]
    Pointer {
        /// The path.
        path: PathBuf,
    },
    /// Another store's signed files are not a intact copy of this one's.
    #[error("{} is not an intact copy of this store", path.display())]
    NotACopy {
        /// The other place.
        path: PathBuf,
    },
    /// A content is not in the store.
    #[error("the store does not have the content {digest}")]
    Absent {
        /// The digest.
        digest: Digest,
    },
    /// A content in the store is not the one that was signed.
    #[error("the store's content {digest} is damaged")]
    Damaged {
        /// The digest.
        digest: Digest,
    },
    /// A package cannot be taken.
    #[error("{} cannot be added to the store", path.display())]
    Deb {
        /// The path.
        path: PathBuf,
        /// The source.
        source: DebError,
    },
    /// There is not enough free space for what is to be taken in.
    #[error("{} needs {} MiB more free space", path.display(), missing.div_ceil(1 << 20))]
    NoRoom {
        /// The store.
        path: PathBuf,
        /// Bytes that are missing.
        missing: u64,
    },
    /// A person else works on the store.
    #[error("another process is using the store {}", path.display())]
    Busy {
        /// The place.
        path: PathBuf,
    },
    /// The observer interrupted the run.
    #[error("stopped")]
    Stopped,
}

fn at(path: &Path) -> impl FnOnce(io::Error) -> StoreError + '_ {
    move |source| StoreError::File { path: path.to_owned(), source }
}
