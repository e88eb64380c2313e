//! [`ActionKind`]: what Veritum does about a finding or at a place, and the result.

use super::words::word_enum;

/// One line for each kind: its word in JSON and logs, its text for people, and whether `undo` undoes it.
macro_rules! actions {
    ($($(#[$doc:meta])* $variant:ident = $word:literal, $label:literal, $undo:ident;)+) => {
        word_enum! {
            /// The kinds of action.
            pub enum ActionKind {
                $($(#[$doc])* $variant = $word,)+
            }
        }

        impl ActionKind {
            /// The text for people.
            #[must_use]
            pub fn label(self) -> &'static str {
                match self {
                    $(Self::$variant => $label,)+
                }
            }

            /// Whether `undo` undoes it: replaced data is kept.
            #[must_use]
            pub fn is_undoable(self) -> bool {
                match self {
                    $(Self::$variant => actions!(@ $undo),)+
                }
            }

            /// Whether one of the system's own tools does it, also when it is undone.
            #[must_use]
            pub fn is_of_tool(self) -> bool {
                matches!(self, Self::ArrangeCheck | Self::RestoreCounts | Self::Correct | Self::UndoCorrection | Self::Regenerate)
            }

            /// The kind of that word; `None` for a word of a newer version.
            #[must_use]
            pub fn from_word(word: &str) -> Option<Self> {
                match word {
                    $($word => Some(Self::$variant),)+
                    _ => None,
                }
            }
        }
    };
    (@ undoable) => { true };
    (@ lasting) => { false };
}

actions! {
    /// Restore the expected object.
    Restore = "restore", "restore", undoable;
    /// Link it to its other names again.
    Relink = "relink", "re-create hard link", undoable;
    /// Set the owner and mode.
    SetMode = "set-permissions", "set owner and permissions", undoable;
    /// It is restored with the folder that contains it.
    WithFolder = "with-folder", "restore with its folder", undoable;
    /// It is repaired with the files of its package.
    WithPackage = "with-package", "repaired with its package", undoable;
    /// Move it aside.
    SetAside = "set-aside", "set aside", undoable;
    /// Download it again.
    Renew = "renew", "download again", undoable;
    /// Restore what an earlier change replaced.
    BringBack = "restore-backup", "restore", undoable;
    /// Free disk space by deleting what can be downloaded again.
    Free = "free", "delete to free space", lasting;
    /// Stop a service during the change.
    Pause = "pause", "stop during the repair", lasting;
    /// Reset a service's failed state in the service manager.
    ForgetFailure = "forget-failure", "reset failed state", lasting;
    /// Let the package tool finish its installation.
    Configure = "configure", "finish the installation", lasting;
    /// Let the desktop's own tool register it again.
    Register = "register", "rebuild the list", lasting;
    /// Have the system's own tools generate files again.
    Regenerate = "regenerate", "generate again (dpkg's triggers)", lasting;
    /// Have a file system checked at the next start.
    ArrangeCheck = "arrange-check", "check at the next start", undoable;
    /// Set back after how many mounts a file system is checked.
    RestoreCounts = "restore-mount-counts", "set its mount counts back", undoable;
    /// Have a file system's own check correct it.
    Correct = "correct-file-system", "correct with its own check (e2fsck)", undoable;
    /// Undo what a file system's own check corrected.
    UndoCorrection = "undo-correction", "undo what its own check corrected", undoable;
    /// Have the system's own generator make it, verify it and put it in place.
    Generate = "generate", "have it generated and verified", undoable;
    /// Write bytes of a disk.
    WriteDisk = "write-disk", "write", undoable;
    /// Write variables of the firmware.
    WriteFirmware = "write-firmware", "write to the firmware", undoable;
}

word_enum! {
    /// The result of an action.
    pub enum ActionResult {
        /// It is only planned.
        Planned = "planned",
        /// It was done.
        Done = "done",
        /// It failed, or was not possible.
        Failed = "failed",
    }
}

impl ActionResult {
    /// Done, unless there is a reason why it failed.
    #[must_use]
    pub fn from_failure(why: Option<&str>) -> Self {
        if why.is_none() { Self::Done } else { Self::Failed }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_word_names_its_kind_and_one_of_a_newer_version_names_none() {
        assert_eq!(ActionKind::from_word(ActionKind::ForgetFailure.word()), Some(ActionKind::ForgetFailure));
        assert_eq!(ActionKind::from_word("rebuild-image"), None);
        assert_eq!(serde_json::to_string(&ActionKind::SetMode).unwrap(), "\"set-permissions\"");
        assert!(ActionKind::SetAside.is_undoable() && !ActionKind::Configure.is_undoable());
    }
}
