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

            /// What one such note is, and several are; `None` for problems, which are reported one by one.
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
    /// A known key's signature is on something that it has not signed.
    BadSignature = "bad-signature", problem;
    /// A folder where a file belongs, a link where a folder belongs, …
    WrongType = "wrong-type", problem;
    /// Nothing there.
    Missing = "missing", problem;
    /// It cannot be read: the medium gives an error.
    Unreadable = "unreadable", problem;
    /// A file system on which the kernel has counted errors.
    ErrorsRecorded = "errors-recorded", problem;
    /// A record that cannot be read as what it should be: cut off, or not even text.
    Corrupt = "corrupt", problem;
    /// Other content.
    Altered = "altered", problem;
    /// A download that ended too early.
    Truncated = "truncated", problem;
    /// Signed, but by no key that is known here and counts.
    KeyMissing = "key-missing", problem;
    /// Made in the future, by the clock: it is not accepted yet.
    FutureDated = "future-dated", problem;
    /// A lock whose holder does nothing.
    LockStuck = "lock-stuck", problem;
    /// A lock whose holder is gone.
    StaleLock = "stale-lock", problem;
    /// A repository that cannot be reached, or does not answer as one.
    Unreachable = "unreachable", problem;
    /// A repository that answers and has no such suite.
    NoSuchRelease = "no-such-release", problem;
    /// A repository that gives out something older than it did before.
    RolledBack = "rolled-back", problem;
    /// A service that ended with an error the last time.
    Failed = "failed", problem;
    /// Hardly any free space left, or too little for what is to come.
    DiskFull = "disk-full", problem;
    /// A file system that cannot be written, though it should be.
    ReadOnly = "read-only", problem;
    /// A record that contradicts others.
    Inconsistent = "inconsistent", problem;
    /// Something that the desktop does not know of, though it is there.
    NotRegistered = "not-registered", problem;
    /// A link that points elsewhere.
    WrongTarget = "wrong-target", problem;
    /// Another owner or group.
    WrongOwner = "wrong-owner", problem;
    /// Another mode or capability.
    WrongPermissions = "wrong-permissions", problem;
    /// A package whose installation was begun and not finished.
    Incomplete = "incomplete", problem;
    /// Two names that should be one file are two.
    HardlinkSplit = "hardlink-split", problem;
    /// A configuration file that was changed.
    ConfigModified = "config-modified", note("configuration file modified", "configuration files modified");
    /// A configuration file that was removed.
    ConfigRemoved = "config-removed", note("configuration file removed", "configuration files removed");
    /// A folder moved by an administrator, with a link left behind.
    Moved = "moved", note("folder moved by an administrator", "folders moved by an administrator");
    /// Owner or mode of a folder or configuration file was set by the system or an administrator.
    PermissionsCustomised = "permissions-customised", note("customised owner or permissions", "customised owners or permissions");
    /// Owned by no package.
    Unowned = "unowned", note("unowned file", "unowned files");
    /// A lock that a program at work holds, or an application that runs.
    Busy = "busy", note("lock in use", "locks in use");
    /// Lists that no longer count as new.
    Outdated = "outdated", note("outdated package list", "outdated package lists");
    /// A run of the package tools that failed, or was truncated.
    LastRunFailed = "last-run-failed", note("failed or interrupted package run", "failed or interrupted package runs");
    /// An administrator or a trusted key keeps it from being updated.
    HeldBack = "held-back", note("package held back from updates", "packages held back from updates");
    /// Something that would bring updates by itself is switched off.
    Disabled = "disabled", note("automatic updates disabled", "automatic update settings disabled");
    /// A setting that lowers the protection of updates.
    InsecureSetting = "insecure-setting", note("insecure APT setting", "insecure APT settings");
    /// The machine should be started again.
    RebootRequired = "reboot-required", note("reboot required", "reasons to reboot");
    /// A download under way, or left.
    Partial = "partial", note("partial download", "partial downloads");
    /// A download of a version that is no longer the newest.
    Superseded = "superseded", note("outdated download", "outdated downloads");
    /// Several applications depend on it, and something is wrong with it: it comes first.
    SharedCause = "shared-cause", note("problem shared by several applications", "problems shared by several applications");
    /// Nothing on the machine shows its icon.
    NoIcon = "no-icon", note("application without an icon", "applications without an icon");
    /// A newer version waits.
    UpdateAvailable = "update-available", note("application with an update available", "applications with an update available");
    /// Nothing says what it should be.
    Unverified = "unverified", note("unverified file", "unverified files");
    /// Named more than once.
    Duplicate = "duplicate", note("duplicate source", "duplicate sources");
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn problems_come_before_notes_and_only_notes_are_counted_in_words() {
        assert!(Verdict::ALL.is_sorted() && Verdict::ALL.is_sorted_by_key(|verdict| !verdict.is_problem()));
        assert!(Verdict::ALL.iter().all(|verdict| verdict.is_problem() == verdict.counted_as().is_none()));
        assert_eq!(serde_json::to_string(&Verdict::HardlinkSplit).unwrap(), "\"hardlink-split\"");
    }
}
