//! [`ToolChange`]: what is changed other than by files: by one of the system's own tools, or on a disk itself; and how it is changed back.

use serde::{Deserialize, Serialize};

use super::{DiskWrite, FirmwareChange};
use crate::devices::ext4::MountCounts;
use crate::model::{ActionKind, SystemPath};
use crate::platform::efi_variables::VARIABLES;

/// What is changed other than by files; recorded before it is.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[serde(tag = "kind", rename_all = "kebab-case")]
pub enum ToolChange {
    /// How often a file system counts as mounted, and its maximum: that decides whether it is checked at the next start.
    MountCounts(CountsChange),
    /// The structure of a file system that is not mounted, by its own check.
    Correction(Correction),
    /// Bytes of a disk, by Veritum itself.
    Disk(DiskWrite),
    /// Variables of the firmware, by Veritum itself.
    Firmware(FirmwareChange),
}

/// A correction of a file system by its own check (e2fsck), or undoing one (e2undo).
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct Correction {
    /// The disk or image, by its path on the running system.
    pub disk: SystemPath,
    /// Where the file system begins on it, in bytes.
    pub offset: u64,
    /// Its size in bytes.
    pub size: u64,
    /// Its UUID.
    pub uuid: String,
    /// The file of what is overwritten, below the state folder.
    pub overwritten: String,
    /// The file of what an earlier correction overwrote, if this undoes one.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub undoes: Option<String>,
}

impl Correction {
    /// The change that undoes this one.
    #[must_use]
    pub fn inverse(&self) -> Self {
        Self { undoes: Some(self.overwritten.clone()), overwritten: String::new(), ..self.clone() }
    }
}

impl ToolChange {
    /// The state before, in words.
    #[must_use]
    pub fn before_words(&self) -> String {
        match self {
            Self::MountCounts(CountsChange { before: MountCounts { mounts, maximum }, .. }) => match maximum {
                ..=0 => format!("mounted {mounts} times since its last check, no maximum"),
                _ => format!("mounted {mounts} times since its last check, at most {maximum}"),
            },
            Self::Correction(Correction { undoes: None, .. }) => "damaged".to_owned(),
            Self::Correction(_) => "corrected".to_owned(),
            Self::Disk(_) | Self::Firmware(_) => "kept".to_owned(),
        }
    }

    /// What it does.
    #[must_use]
    pub fn kind(&self) -> ActionKind {
        match self {
            Self::MountCounts(change) if change.after.is_due() => ActionKind::ArrangeCheck,
            Self::MountCounts(_) => ActionKind::RestoreCounts,
            Self::Correction(Correction { undoes: None, .. }) => ActionKind::Correct,
            Self::Correction(_) => ActionKind::UndoCorrection,
            Self::Disk(_) => ActionKind::WriteDisk,
            Self::Firmware(_) => ActionKind::WriteFirmware,
        }
    }

    /// What was found meanwhile, where it sets something back.
    #[must_use]
    pub fn found(&self) -> Option<&str> {
        match self {
            Self::MountCounts(change) => change.found.as_deref(),
            Self::Correction(_) | Self::Disk(_) | Self::Firmware(_) => None,
        }
    }

    /// The place that it is about.
    #[must_use]
    pub fn place(&self) -> SystemPath {
        match self {
            Self::MountCounts(change) => change.place.clone(),
            Self::Correction(change) => change.disk.clone(),
            Self::Disk(write) => write.disk.path.clone(),
            Self::Firmware(_) => SystemPath::literal(VARIABLES),
        }
    }

    /// The same as a part of a change with this number: what it overwrites is kept in that change's folder.
    #[must_use]
    pub fn in_change(self, number: u64) -> Self {
        match self {
            Self::Correction(change) => {
                let overwritten = format!("changes/{number}/{}-{}.e2undo", change.uuid, change.offset);
                Self::Correction(Correction { overwritten, ..change })
            }
            other => other,
        }
    }
}

/// A change of a file system's mount counts.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct CountsChange {
    /// Its mount point.
    pub place: SystemPath,
    /// Its UUID: another file system may be mounted there later.
    pub uuid: String,
    /// The counts before.
    pub before: MountCounts,
    /// The counts that are set.
    pub after: MountCounts,
    /// When it had last been checked, in seconds since 1970.
    pub last_check: i64,
    /// What the check found that took place meanwhile, if this sets back what arranged it.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub found: Option<String>,
}

impl CountsChange {
    /// The change that undoes this one, where these are the counts by now; `None` if something else set another maximum since.
    /// Mounts since then are counted. After a check the count begins at 0 again, and only the maximum is set back.
    #[must_use]
    pub fn inverse(&self, now: MountCounts, last_check: i64) -> Option<Self> {
        if now.maximum != self.after.maximum {
            return None;
        }
        let since = now.mounts.checked_sub(self.after.mounts);
        let mounts = since.map_or(now.mounts, |since| self.before.mounts.saturating_add(since));
        let after = MountCounts { mounts, maximum: self.before.maximum };
        Some(Self { before: now, after, last_check, found: None, ..self.clone() })
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn mounts_since_are_counted_and_after_a_check_only_the_maximum_is_set_back() {
        let counts = |mounts, maximum| MountCounts { mounts, maximum };
        let place = SystemPath::literal("/home");
        let (before, set) = (counts(7, -1), counts(100, 50));
        let change = CountsChange { place, uuid: "u".into(), before, after: set, last_check: 5, found: None };
        let after = |now| change.inverse(now, 6).map(|back| back.after);
        assert_eq!(after(counts(100, 50)), Some(counts(7, -1)));
        assert_eq!(after(counts(102, 50)), Some(counts(9, -1)));
        assert_eq!(after(counts(1, 50)), Some(counts(1, -1)), "it was checked");
        assert_eq!(after(counts(1, 30)), None, "something else set it");
    }
}
