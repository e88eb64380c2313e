//! [`Verdict`]: what is said of a subject.

use serde::{Deserialize, Serialize};

/// What is said of a subject, gravest first.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash, PartialOrd, Ord, Serialize, Deserialize, schemars::JsonSchema)]
#[serde(rename_all = "kebab-case")]
#[non_exhaustive]
pub enum Verdict {
    /// A known key's signature stands on something that it has not signed.
    BadSignature,
    /// A folder where a file belongs, a link where a folder belongs, …
    WrongKind,
    /// Nothing there.
    Missing,
    /// It cannot be read: the medium gives an error.
    Unreadable,
    /// A record that cannot be read as what it should be: cut off, or not even text.
    Garbled,
    /// Other content.
    Altered,
    /// A download that ended too early.
    CutShort,
    /// Signed, but by no key that is known here and counts.
    NoKey,
    /// Made in the future, by the clock: it is not accepted yet.
    AheadOfClock,
    /// A lock whose holder does nothing.
    Stuck,
    /// A lock whose holder is gone.
    Abandoned,
    /// An archive that cannot be reached, or does not answer as one.
    Unreachable,
    /// An archive that answers and has no such suite.
    Gone,
    /// An archive that gives out something older than it did before.
    WentBack,
    /// A service that ended with an error the last time.
    Failed,
    /// Too little room for what is to come.
    NoRoom,
    /// A record that contradicts others.
    AtOdds,
    /// Something that the desktop does not know of, though it is there.
    Unregistered,
    /// A link that leads elsewhere.
    Relinked,
    /// Another owner, mode or capability.
    WrongMode,
    /// A component whose installation was begun and not finished.
    Incomplete,
    /// Two names that should be one file are two.
    LinkCut,
    /// Note: a settings file that was changed.
    Edited,
    /// Note: a settings file that was removed.
    SettingsRemoved,
    /// Note: a folder moved by an administrator, with a link left behind.
    Moved,
    /// Note: owner or mode of a folder or settings file was set by the system or an administrator.
    Adjusted,
    /// Note: owned by no component.
    Stray,
    /// Note: a lock that a program at work holds, or an application that runs.
    Busy,
    /// Note: lists that no longer count as new.
    Expired,
    /// Note: a run of the package tools that failed, or was cut short.
    RunFailed,
    /// Note: an administrator or a pin keeps it from being updated.
    HeldBack,
    /// Note: something that would bring updates by itself is switched off.
    SwitchedOff,
    /// Note: a setting that lowers the protection of updates.
    Lowered,
    /// Note: the machine should be started again.
    RestartDue,
    /// Note: a download under way, or left.
    Begun,
    /// Note: a download of a version that is no longer the newest.
    Superseded,
    /// Note: several applications rest on it, and something is wrong with it: it comes first.
    SharedCause,
    /// Note: nothing on the machine shows its icon.
    NoIcon,
    /// Note: a newer version waits.
    NewerWaits,
    /// Note: nothing tells what it should be.
    Unvouched,
    /// Note: named more than once.
    Doubled,
}

impl Verdict {
    /// Whether it is a problem; the others are notes.
    #[must_use]
    pub fn is_problem(self) -> bool {
        self <= Self::LinkCut
    }

    /// The word for people and for JSON.
    #[must_use]
    pub fn word(self) -> &'static str {
        match self {
            Self::BadSignature => "bad-signature",
            Self::WrongKind => "wrong-kind",
            Self::Missing => "missing",
            Self::Unreadable => "unreadable",
            Self::Garbled => "garbled",
            Self::Altered => "altered",
            Self::CutShort => "cut-short",
            Self::NoKey => "no-key",
            Self::AheadOfClock => "ahead-of-clock",
            Self::Stuck => "stuck",
            Self::Abandoned => "abandoned",
            Self::Unreachable => "unreachable",
            Self::Gone => "gone",
            Self::WentBack => "went-back",
            Self::Failed => "failed",
            Self::NoRoom => "no-room",
            Self::AtOdds => "at-odds",
            Self::Unregistered => "unregistered",
            Self::Relinked => "relinked",
            Self::WrongMode => "wrong-mode",
            Self::Incomplete => "incomplete",
            Self::LinkCut => "link-cut",
            Self::Edited => "edited",
            Self::SettingsRemoved => "settings-removed",
            Self::Moved => "moved",
            Self::Adjusted => "adjusted",
            Self::Stray => "stray",
            Self::Busy => "busy",
            Self::Expired => "expired",
            Self::RunFailed => "run-failed",
            Self::HeldBack => "held-back",
            Self::SwitchedOff => "switched-off",
            Self::Lowered => "lowered",
            Self::RestartDue => "restart-due",
            Self::Begun => "begun",
            Self::Superseded => "superseded",
            Self::SharedCause => "shared-cause",
            Self::NoIcon => "no-icon",
            Self::NewerWaits => "newer-waits",
            Self::Unvouched => "unvouched",
            Self::Doubled => "doubled",
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn only_the_problems_count_as_problems() {
        assert!(Verdict::LinkCut.is_problem() && Verdict::WrongKind.is_problem());
        assert!(!Verdict::Edited.is_problem() && !Verdict::Stray.is_problem());
    }
}
