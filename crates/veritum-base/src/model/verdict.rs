//! [`Verdict`]: what is said of a subject.

use super::words::word_enum;

/// One line for each verdict, gravest first: its word, and whether it is a problem, or a note that is counted in these words.
macro_rules! verdicts {
    ($($(#[$doc:meta])* $variant:ident = $word:literal, $rank:ident $(($one:literal, $many:literal))?;)+) => {
        word_enum! {
            /// What is said of a subject, gravest first.
            #[non_exhaustive]
            pub enum Verdict {
                $($(#[$doc])* $variant = $word,)+
            }
        }

        impl Verdict {
            /// Whether it is a problem; the others are notes.
            #[must_use]
            pub fn is_problem(self) -> bool {
                match self {
                    $(Self::$variant => verdicts!(@ $rank),)+
                }
            }

            /// What one such note is, and several are; `None` for problems, which are told one by one.
            #[must_use]
            pub fn counted_as(self) -> Option<(&'static str, &'static str)> {
                match self {
                    $(Self::$variant => verdicts!(@ $($one, $many)?),)+
                }
            }

            /// Every verdict, gravest first.
            pub const ALL: &'static [Self] = &[$(Self::$variant),+];
        }
    };
    (@ problem) => { true };
    (@ note) => { false };
    (@) => { None };
    (@ $one:literal, $many:literal) => { Some(($one, $many)) };
}

verdicts! {
    /// A known key's signature stands on something that it has not signed.
    BadSignature = "bad-signature", problem;
    /// A folder where a file belongs, a link where a folder belongs, …
    WrongKind = "wrong-kind", problem;
    /// Nothing there.
    Missing = "missing", problem;
    /// It cannot be read: the medium gives an error.
    Unreadable = "unreadable", problem;
    /// A file system on which the kernel has counted errors.
    ErrorsRecorded = "errors-recorded", problem;
    /// A record that cannot be read as what it should be: cut off, or not even text.
    Garbled = "garbled", problem;
    /// Other content.
    Altered = "altered", problem;
    /// A download that ended too early.
    CutShort = "cut-short", problem;
    /// Signed, but by no key that is known here and counts.
    NoKey = "no-key", problem;
    /// Made in the future, by the clock: it is not accepted yet.
    AheadOfClock = "ahead-of-clock", problem;
    /// A lock whose holder does nothing.
    Stuck = "stuck", problem;
    /// A lock whose holder is gone.
    Abandoned = "abandoned", problem;
    /// An archive that cannot be reached, or does not answer as one.
    Unreachable = "unreachable", problem;
    /// An archive that answers and has no such suite.
    Gone = "gone", problem;
    /// An archive that gives out something older than it did before.
    WentBack = "went-back", problem;
    /// A service that ended with an error the last time.
    Failed = "failed", problem;
    /// Hardly any room left, or too little for what is to come.
    DiskFull = "disk-full", problem;
    /// A file system that cannot be written, though it should be.
    ReadOnly = "read-only", problem;
    /// A record that contradicts others.
    AtOdds = "at-odds", problem;
    /// Something that the desktop does not know of, though it is there.
    Unregistered = "unregistered", problem;
    /// A link that leads elsewhere.
    Relinked = "relinked", problem;
    /// Another owner, mode or capability.
    WrongMode = "wrong-mode", problem;
    /// A component whose installation was begun and not finished.
    Incomplete = "incomplete", problem;
    /// Two names that should be one file are two.
    LinkCut = "link-cut", problem;
    /// A settings file that was changed.
    Edited = "edited", note("settings file edited", "settings files edited");
    /// A settings file that was removed.
    SettingsRemoved = "settings-removed", note("settings file removed", "settings files removed");
    /// A folder moved by an administrator, with a link left behind.
    Moved = "moved", note("folder moved by an administrator", "folders moved by an administrator");
    /// Owner or mode of a folder or settings file was set by the system or an administrator.
    Adjusted = "adjusted", note("owner or mode adjusted", "owners or modes adjusted");
    /// Owned by no component.
    Stray = "stray", note("thing that no component owns", "things that no component owns");
    /// A lock that a program at work holds, or an application that runs.
    Busy = "busy", note("lock held by a program at work", "locks held by programs at work");
    /// Lists that no longer count as new.
    Expired = "expired", note("list that no longer counts as new", "lists that no longer count as new");
    /// A run of the package tools that failed, or was cut short.
    RunFailed = "run-failed", note("last run that failed or was cut short", "last runs that failed or were cut short");
    /// An administrator or a pin keeps it from being updated.
    HeldBack = "held-back", note("thing held back from updates", "things held back from updates");
    /// Something that would bring updates by itself is switched off.
    SwitchedOff = "switched-off", note("thing switched off that would bring updates", "things switched off that would bring updates");
    /// A setting that lowers the protection of updates.
    Lowered = "lowered", note("setting that lowers protection", "settings that lower protection");
    /// The machine should be started again.
    RestartDue = "restart-due", note("reason to start the machine again", "reasons to start the machine again");
    /// A download under way, or left.
    Begun = "begun", note("download or list under way or left", "downloads or lists under way or left");
    /// A download of a version that is no longer the newest.
    Superseded = "superseded", note("download of an earlier version", "downloads of earlier versions");
    /// Several applications rest on it, and something is wrong with it: it comes first.
    SharedCause = "shared-cause", note("thing that several applications rest on", "things that several applications rest on");
    /// Nothing on the machine shows its icon.
    NoIcon = "no-icon", note("application without its icon", "applications without their icons");
    /// A newer version waits.
    NewerWaits = "newer-waits", note("application of which a newer version waits", "applications of which newer versions wait");
    /// Nothing tells what it should be.
    Unvouched = "unvouched", note("thing that no index tells of", "things that no index tells of");
    /// Named more than once.
    Doubled = "doubled", note("source named twice", "sources named twice");
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn problems_come_before_notes_and_only_notes_are_counted_in_words() {
        assert!(Verdict::ALL.is_sorted() && Verdict::ALL.is_sorted_by_key(|verdict| !verdict.is_problem()));
        assert!(Verdict::ALL.iter().all(|verdict| verdict.is_problem() == verdict.counted_as().is_none()));
        assert_eq!(serde_json::to_string(&Verdict::LinkCut).unwrap(), "\"link-cut\"");
    }
}
