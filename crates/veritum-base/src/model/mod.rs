//! Types that every module shares: paths, digests, packages, entries, findings.
//!
//! Nothing here accesses a disk or knows where data came from.

mod action;
mod area;
mod digest;
mod entry;
mod finding;
mod instruction;
mod package;
mod packed;
mod path;
mod place;
mod scope;
mod text;
mod verdict;
mod words;

pub use action::{ActionKind, ActionResult};
pub use area::AreaName;
pub use digest::{ContentHasher, Digest, DigestError, Md5};
pub use entry::{Entry, EntryKind, Owner};
pub use finding::{Authority, Finding, FindingId, Harm, KnownBy, Remedy, Severity, StartEffect, State, Subject};
pub use instruction::Action;
pub use package::{PackageId, PackageIdError};
pub use packed::{packed, unpacked};
pub use path::{LinkTarget, PathError, PathMap, PathSet, SystemPath};
pub use place::{FileKind, Identity, Instant, Stat};
pub use scope::{Reach, Scope, SurfaceExtent};
pub(crate) use text::from_readable;
pub use text::{ByteLines, byte_lines, error_chain, error_words, is_harmless, quoted, readable};
pub use verdict::Verdict;
pub use words::word_enum;
