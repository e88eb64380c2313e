//! [`Verdict`]: the judgement of a subject.

use super::words::word_enum;

/// One line for each verdict, most serious first: its word, and whether it is a problem, or a note with the words to count it.
macro_rules! verdicts {
    ($($(#[$doc:meta])* $variant:ident = $word:literal, $rank:ident $(($one:literal, $many:literal))?;)+) => {
        word_enum! {
            /// The judgement of a subject, most serious first.
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

            /// The words for one such note and for several; `None` for problems, which are listed one by one.
            #[must_use]
            pub fn counted_as(self) -> Option<(&'static str, &'static str)> {
                match self {
                    $(Self::$variant => verdicts!(@ $($one, $many)?),)+
                }
            }

            /// Every verdict, most serious first.
            pub const ALL: &'static [Self] = &[$(Self::$variant),+];
        }
    };
    (@ problem) => { true };
    (@ note) => { false };
    (@) => { None };
    (@ $one:literal, $many:literal) => { Some(($one, $many)) };
}

verdicts! {
    /// A known key's signature does not match the content.
    BadSignature = "bad-signature", problem;
    /// Another type of file, such as a folder where a file belongs.
    WrongType = "wrong-type", problem;
    /// It does not exist.
    Missing = "missing", problem;
    /// It cannot be read: the medium reports an error.
    Unreadable = "unreadable", problem;
    /// A file system on which the kernel has counted errors.
    ErrorsRecorded = "errors-recorded", problem;
    /// A record or file that cannot be parsed: truncated, or not even text.
    Corrupt = "corrupt", problem;
    /// Other content.
    Altered = "altered", problem;
    /// A download that ended early.
    Truncated = "truncated", problem;
    /// Signed, but by no known and accepted key.
    KeyMissing = "key-missing", problem;
    /// Dated in the future by the clock: not accepted yet.
    FutureDated = "future-dated", problem;
    /// A lock whose holder is not working.
    LockStuck = "lock-stuck", problem;
    /// A lock whose holder has ended.
    StaleLock = "stale-lock", problem;
    /// A repository that cannot be reached, or does not answer as a repository.
    Unreachable = "unreachable", problem;
    /// A repository without that suite.
    NoSuchRelease = "no-such-release", problem;
    /// A repository that serves older metadata than before.
    RolledBack = "rolled-back", problem;
    /// A service whose last run failed.
    Failed = "failed", problem;
    /// Hardly any free space, or too little for what is needed.
    DiskFull = "disk-full", problem;
    /// A file system that is read-only although it should be writable.
    ReadOnly = "read-only", problem;
    /// A record that contradicts others.
    Inconsistent = "inconsistent", problem;
    /// Something that exists but is not registered with the desktop.
    NotRegistered = "not-registered", problem;
    /// A symlink with another target.
    WrongTarget = "wrong-target", problem;
    /// Another owner or group.
    WrongOwner = "wrong-owner", problem;
    /// Another mode or capability.
    WrongPermissions = "wrong-permissions", problem;
    /// A package whose installation was started and not finished.
    Incomplete = "incomplete", problem;
    /// Two names that should be one file are two files.
    HardlinkSplit = "hardlink-split", problem;
    /// A drive that reports that it is failing.
    Failing = "failing", problem;
    /// A configuration file that was modified.
    ConfigModified = "config-modified", note("configuration file modified", "configuration files modified");
    /// A configuration file that was removed.
    ConfigRemoved = "config-removed", note("configuration file removed", "configuration files removed");
    /// A folder that an administrator moved, leaving a symlink behind.
    Moved = "moved", note("folder moved by an administrator", "folders moved by an administrator");
    /// The owner or mode of a folder or configuration file was set by the system or an administrator.
    PermissionsCustomised = "permissions-customised", note("customised owner or permissions", "customised owners or permissions");
    /// A file system that was not unmounted cleanly, or is mounted.
    NotUnmounted = "not-unmounted", note("file system mounted or not unmounted cleanly", "file systems mounted or not unmounted cleanly");
    /// A file system that is checked at the next start.
    CheckArranged = "check-arranged", note("file system to be checked at the next start", "file systems to be checked at the next start");
    /// A file system whose arranged check has taken place, while what arranged it is still set.
    CheckedAtStart = "checked-at-start", note("file system checked at a start", "file systems checked at a start");
    /// A drive that reports replaced sectors, errors that were not corrected, or wear.
    Worn = "worn", note("drive with signs of wear", "drives with signs of wear");
    /// Not owned by any package.
    Unowned = "unowned", note("unowned file", "unowned files");
    /// A lock held by a working program, or a running application.
    Busy = "busy", note("lock in use", "locks in use");
    /// Package lists that are out of date.
    Outdated = "outdated", note("outdated package list", "outdated package lists");
    /// A run of the package tools that failed or was interrupted.
    LastRunFailed = "last-run-failed", note("failed or interrupted package run", "failed or interrupted package runs");
    /// An administrator or a trusted key prevents its update.
    HeldBack = "held-back", note("package held back from updates", "packages held back from updates");
    /// Automatic updates are disabled by it.
    Disabled = "disabled", note("automatic updates disabled", "automatic update settings disabled");
    /// A setting that lowers the protection of updates.
    InsecureSetting = "insecure-setting", note("insecure APT setting", "insecure APT settings");
    /// A reboot is required.
    RebootRequired = "reboot-required", note("reboot required", "reasons to reboot");
    /// A partial download.
    Partial = "partial", note("partial download", "partial downloads");
    /// A download of a version that is no longer the newest.
    Superseded = "superseded", note("outdated download", "outdated downloads");
    /// A problem that several applications depend on: it is repaired first.
    SharedCause = "shared-cause", note("problem shared by several applications", "problems shared by several applications");
    /// No icon for it was found on the machine.
    NoIcon = "no-icon", note("application without an icon", "applications without an icon");
    /// A newer version is available.
    UpdateAvailable = "update-available", note("application with an update available", "applications with an update available");
    /// There is no reference for it.
    Unverified = "unverified", note("unverified file", "unverified files");
    /// Listed more than once.
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
