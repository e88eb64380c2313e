//! The document of `list disks`.

use schemars::JsonSchema;
use serde::{Deserialize, Serialize};

use crate::model::word_enum;

word_enum! {
    /// What can be done with a volume from here.
    pub enum VolumeAccess {
        /// It is mounted: it is examined as part of the system that it is mounted in.
        Mounted = "mounted",
        /// It is read without being mounted: `--disk`.
        Direct = "direct",
        /// It is part of the boot chain, which `check bootchain` examines.
        Boot = "boot",
        /// It must be mounted first.
        Mount = "mount-first",
        /// It must be unlocked first, or its volume group or array be started.
        Open = "open-first",
        /// Nothing: it is swap space, another system's, or unknown.
        Nothing = "nothing",
    }
}

/// A partition, or a disk without a table.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
pub struct VolumeLine {
    /// The number of its partition; `None` for a whole disk.
    pub partition: Option<u32>,
    /// Where it begins on the disk, in bytes.
    pub start: u64,
    /// Its size in bytes.
    pub bytes: u64,
    /// What it contains: a file system, or what holds others; `None` if that is not known.
    pub contains: Option<String>,
    /// Its label; empty if it has none.
    pub label: String,
    /// Its UUID; empty if it has none.
    pub uuid: String,
    /// The id of its partition; empty if it has none.
    pub partition_uuid: String,
    /// Where it is mounted.
    pub mounted_at: Vec<String>,
    /// The system or the part of one that is on it, as far as that can be read.
    pub system: Option<String>,
    /// What can be done with it.
    pub access: VolumeAccess,
}

/// A disk or an image.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
pub struct DiskLine {
    /// Its path.
    pub path: String,
    /// Its size in bytes; 0 if it cannot be opened.
    pub bytes: u64,
    /// Its partition table: `gpt`, `mbr` or `none`.
    pub table: String,
    /// What is wrong with it, or why it cannot be read.
    pub trouble: Option<String>,
    /// Its partitions, or the whole of it.
    pub volumes: Vec<VolumeLine>,
}

/// What `list disks` prints (`veritum.disks/1`).
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
pub struct DisksReport {
    /// `veritum.disks/1`.
    pub format: String,
    /// The disks.
    pub disks: Vec<DiskLine>,
}

impl DisksReport {
    /// The format's name.
    pub const FORMAT: &'static str = "veritum.disks/1";
}
