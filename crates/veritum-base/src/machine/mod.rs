//! The machine as files: the only access to its disk.
//!
//! Nothing leaves the folder that was named: not through symlinks, mounts, or names that change during the work. Every
//! handle is opened from the root's own handle, by a path without symlinks
//! ([`Machine::dir`]); where symlinks may be followed, [`Machine::resolve`] resolves them inside the root.
//! All access goes through one small trait ([`Disk`]), so that tests can make any operation fail.

mod btrfs;
mod computer;
mod dir;
mod disk;
mod extent;
mod files;
mod health;
mod holder;
mod identity;
mod live;
mod lock;
mod programs;
mod protect;
mod raw_disk;
mod raw_systems;
mod sparse;
mod time_zone;
mod volumes;

pub use btrfs::mounted_folder;
pub use computer::Computer;
pub use dir::{Dir, read_to_limit};
pub use disk::{Disk, Exchange, FreeSpace, Name, Node, RawPlaces};
pub use extent::{Extent, MountProblem};
pub use files::{Machine, MachineError};
pub use health::marked_errors;
pub use holder::{LockHolder, Worker, lock_holder, worker};
pub use identity::{Account, Identified, Users};
pub use live::LiveDisk;
pub use lock::{Held, LockError, lock_exclusive, lock_shared};
pub use programs::{Holders, Program, Running, holders, running};
pub use protect::{Protection, ProtectionPolicy};
pub use raw_disk::RawDisk;
pub use raw_systems::{LoaderFolder, boot_volume, loader_folders, raw_systems, started_system};
pub use sparse::SparseWriter;
pub use time_zone::MachineTimeZone;
pub use volumes::{Mounted, Volume, volumes};
