//! The trusted package store: signed manifests of packages, and contents by digest.
//!
//! ```text
//! STORE/
//!   store.json              format and version of the layout
//!   metadata/               signed: 1.root.json, N.targets.json, N.snapshot.json, timestamp.json
//!   targets/                SHA256.index.json: the signed index, package -> manifest digest
//!   manifests/ab/….json.zst one per package, named by BLAKE3 of its uncompressed content
//!   objects/ab/….zst        contents, named by BLAKE3 of the uncompressed content
//!   filled/                 records of added packages (read by `publish` only)
//!   incoming/               unfinished work of a running import
//!   set-aside/RUN/          what a repair of the store moved aside
//! ```
//!
//! Reading returns verified bytes or an error, never a stream of unverified bytes. Adding writes everything that a package
//! needs before the package is recorded anywhere, so an interruption leaves nothing incomplete.

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

/// The format of the layout; readers refuse any other.
pub const FORMAT: &str = "veritum.store/1";
/// The folders of a store.
const FOLDERS: [&str; 6] = ["metadata", "targets", "manifests", "objects", "filled", "incoming"];
/// The folder for damaged or unused files that a repair of the store moves aside.
const ASIDE: &str = "set-aside";
/// Larger manifests are refused, in bytes after decompression: a million entries need two thirds of it.
const MAX_MANIFEST: u64 = 256 << 20;
/// Larger records are refused.
const MAX_RECORDS: u64 = 64 << 20;

/// Why a store cannot be used.
#[derive(Debug, thiserror::Error)]
#[non_exhaustive]
pub enum StoreError {
    /// A file of the store cannot be read or written.
    #[error("{} cannot be used", path.display())]
    File {
        /// The path.
        path: PathBuf,
        /// The cause.
        source: io::Error,
    },
    /// There is no store.
    #[error("{} is not a store", path.display())]
    NotAStore {
        /// Its location.
        path: PathBuf,
    },
    /// There is something else already.
    #[error("{} is not empty", path.display())]
    Occupied {
        /// Its location.
        path: PathBuf,
    },
    /// A store on a web server cannot be used.
    #[error("the store {url} cannot be used")]
    Remote {
        /// Its URL.
        url: String,
        /// The cause.
        source: FetchFailure,
    },
    /// The signatures of a store on a web server have expired.
    #[error("the signatures of the store {url} expired on {}", expires.strftime("%Y-%m-%d"))]
    Expired {
        /// Its URL.
        url: String,
        /// The time of expiry.
        expires: jiff::Timestamp,
    },
    /// This command needs a store in a folder.
    #[error("{url} is a web address: a store on a web server is read-only")]
    NotAFolder {
        /// Its URL.
        url: String,
    },
    /// The store has the format of a newer Veritum.
    #[error("the store {} was written by a newer Veritum ({found})", path.display())]
    Newer {
        /// Its location.
        path: PathBuf,
        /// The format found.
        found: String,
    },
    /// The store has never been signed.
    #[error("the store {} has not been signed yet", path.display())]
    Unpublished {
        /// Its location.
        path: PathBuf,
    },
    /// The store's keys are not trusted.
    #[error("the store {} is not trusted yet", path.display())]
    NotTrusted {
        /// Its location.
        path: PathBuf,
        /// Whether a store at this location was trusted with other keys.
        other_keys: bool,
    },
    /// The store is older than a version seen before.
    #[error("the store {} is older than before ({role} version {found}, seen {seen})", path.display())]
    RolledBack {
        /// Its location.
        path: PathBuf,
        /// The role.
        role: &'static str,
        /// The version found.
        found: u64,
        /// The version seen before.
        seen: u64,
    },
    /// The chain of signatures is invalid.
    #[error("the store {} cannot be trusted", path.display())]
    Chain {
        /// Its location.
        path: PathBuf,
        /// The cause.
        source: MetadataError,
    },
    /// The trusted keys cannot be used.
    #[error("trusted keys cannot be read")]
    Pins(#[from] PinError),
    /// Keys cannot be used.
    #[error("the store's keys cannot be used")]
    Keys(#[from] KeysError),
    /// A manifest is missing, or differs from the signed one.
    #[error("the manifest of {package} is missing from the store or damaged")]
    Manifest {
        /// The package.
        package: Box<PackageId>,
        /// The cause.
        source: Box<dyn std::error::Error + Send + Sync>,
    },
    /// The record of an added package cannot be read.
    #[error("{} is damaged", path.display())]
    Pointer {
        /// The path.
        path: PathBuf,
    },
    /// Another store's signed files are not an intact copy of this one's.
    #[error("{} is not an intact copy of this store", path.display())]
    NotACopy {
        /// The other store's location.
        path: PathBuf,
    },
    /// A content is not in the store.
    #[error("the store does not have the content {digest}")]
    Absent {
        /// The digest.
        digest: Digest,
    },
    /// A content of the store differs from the signed one.
    #[error("the store's content {digest} is damaged")]
    Damaged {
        /// The digest.
        digest: Digest,
    },
    /// A package cannot be added.
    #[error("{} cannot be added to the store", path.display())]
    Deb {
        /// The path.
        path: PathBuf,
        /// The cause.
        source: DebError,
    },
    /// There is not enough free space for the packages to add.
    #[error("{} needs {} MiB more free space", path.display(), missing.div_ceil(1 << 20))]
    NoRoom {
        /// The store's folder.
        path: PathBuf,
        /// The number of missing bytes.
        missing: u64,
    },
    /// Another process is writing to the store.
    #[error("another process is using the store {}", path.display())]
    Busy {
        /// Its location.
        path: PathBuf,
    },
    /// The observer stopped the run.
    #[error("stopped")]
    Stopped,
}

fn at(path: &Path) -> impl FnOnce(io::Error) -> StoreError + '_ {
    move |source| StoreError::File { path: path.to_owned(), source }
}
