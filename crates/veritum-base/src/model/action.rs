//! [`ActionKind`]: what is done about a finding, or at a place; and what came of it.

use super::words::word_enum;

/// One line for each kind: its word in JSON and in logs, what people read, and whether `undo` undoes it.
macro_rules! actions {
    ($($(#[$doc:meta])* $variant:ident = $word:literal, $label:literal, $undo:ident;)+) => {
        word_enum! {
            /// The kinds of action.
            pub enum ActionKind {
                $($(#[$doc])* $variant = $word,)+
            }
        }

        impl ActionKind {
            /// The words for people.
            #[must_use]
            pub fn label(self) -> &'static str {
                match self {
                    $(Self::$variant => $label,)+
                }
            }

            /// Whether what it did is kept, so that `undo` undoes it.
            #[must_use]
            pub fn is_undoable(self) -> bool {
                match self {
                    $(Self::$variant => actions!(@ $undo),)+
                }
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
    /// Put back what belongs there.
    Restore = "restore", "restore", undoable;
    /// Make it one file with its other names again.
    Relink = "relink", "re-create hard link", undoable;
    /// Set owner and mode.
    SetMode = "set-permissions", "set owner and permissions", undoable;
    /// It is restored with the folder that it is in.
    WithFolder = "with-folder", "restore with its folder", undoable;
    /// It is repaired with the files of its package.
    WithPackage = "with-package", "repaired with its package", undoable;
    /// Move it out of the way.
    SetAside = "set-aside", "set aside", undoable;
    /// Fetch it again.
    Renew = "renew", "download again", undoable;
    /// Put back what an earlier change displaced.
    BringBack = "restore-backup", "restore", undoable;
    /// Make free space by taking away what can be fetched again.
    Free = "free", "delete to free space", lasting;
    /// Hold a service for the time of the change.
    Pause = "pause", "stop during the repair", lasting;
    /// Have the service manager forget that it failed.
    ForgetFailure = "forget-failure", "reset failed state", lasting;
    /// Have the package tool finish its installation.
    Configure = "configure", "finish the installation", lasting;
    /// Have the desktop's own tool list it again.
    Register = "register", "rebuild the list", lasting;
}

word_enum! {
    /// What came of an action.
    pub enum ActionResult {
        /// It is only planned.
        Planned = "planned",
        /// It was done.
        Done = "done",
        /// It was tried, or could not be.
        Failed = "failed",
    }
}

impl ActionResult {
    /// Done where there is no reason why it failed.
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
