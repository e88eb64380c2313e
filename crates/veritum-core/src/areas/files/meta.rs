//! Owner, mode and capabilities: differences, and whether they are problems.

use crate::machine::Users;
use crate::model::{FileKind, Stat, SystemPath, Verdict};
use crate::reference::{Expected, ExpectedKind, Meta, Policy};
use crate::scan::Found;

/// The judgement of owner and mode.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(super) enum MetaVerdict {
    /// As expected, or set deliberately.
    Sound,
    /// Set by the system or an administrator; harmless.
    Adjusted,
    /// A problem.
    Wrong,
}

/// The system's own users (Debian Policy 9.2.2), without root.
const SYSTEM_IDS: std::ops::Range<u32> = 1..1000;

fn same(stat: &Stat, meta: &Meta, policy: &Policy) -> bool {
    let owner = policy.owner_of_root.is_some() || (stat.uid, stat.gid) == (meta.uid, meta.gid);
    stat.mode == meta.mode && owner
}

/// Judges owner, mode and capabilities of an entry of the expected type.
///
/// More privilege than the reference is accepted only if an override or the package's own scripts set it. For folders a
/// system user as owner is normal on running systems (dynamic users), and so are fewer permissions where only daemons and
/// the administrator have access; a folder of programs or libraries with fewer permissions locks users out, and a folder
/// that everyone can write, or that a login user owns, is a problem.
pub(super) fn judge(expected: &Expected, found: &Found, users: &Users, policy: &Policy) -> MetaVerdict {
    let Some(meta) = expected.meta else { return MetaVerdict::Sound };
    let stat = &found.stat;
    if found.capabilities && !expected.configured {
        return MetaVerdict::Wrong;
    }
    let known = [Some(meta), expected.overridden()].into_iter().flatten().chain(expected.other_metas().iter().copied());
    // The mode of a symlink has no meaning.
    let is_link = matches!(expected.kind, ExpectedKind::Link(_));
    let mut allowed = known.map(|m| if is_link { Meta { mode: stat.mode, ..m } } else { m });
    if allowed.any(|m| same(stat, &m, policy)) || expected.configured {
        return MetaVerdict::Sound;
    }
    if expected.settings {
        return MetaVerdict::Adjusted;
    }
    if expected.kind != ExpectedKind::Folder {
        return MetaVerdict::Wrong;
    }
    let open = stat.mode & 0o002 != 0 && stat.mode & 0o1000 == 0 && meta.mode & 0o002 == 0;
    let owner_judged = policy.owner_of_root.is_none();
    let a_person = owner_judged
        && (users.is_login(stat.uid) && stat.uid != meta.uid || users.is_login(stat.gid) && stat.gid != meta.gid);
    if open || a_person {
        return MetaVerdict::Wrong;
    }
    let owner_fine = !owner_judged
        || [(stat.uid, meta.uid), (stat.gid, meta.gid)]
            .iter()
            .all(|(is, should)| is == should || SYSTEM_IDS.contains(is));
    let fewer_bits = stat.mode & !meta.mode & 0o777 == 0;
    let special = (stat.mode ^ meta.mode) & 0o7000 != 0;
    if meta.mode & !stat.mode & 0o777 != 0 && is_for_everybody(&expected.listed) {
        return MetaVerdict::Wrong;
    }
    if owner_fine && (fewer_bits || special) { MetaVerdict::Adjusted } else { MetaVerdict::Wrong }
}

/// The differences of owner and permissions; `lost` if its file capabilities are missing.
pub(super) fn differences(expected: &Expected, found: &Found, policy: &Policy, lost: bool) -> Vec<Verdict> {
    let (meta, stat) = (expected.overridden().or(expected.meta), &found.stat);
    let owner = policy.owner_of_root.is_none() && meta.is_some_and(|meta| (stat.uid, stat.gid) != (meta.uid, meta.gid));
    let is_link = matches!(expected.kind, ExpectedKind::Link(_));
    let mode = !is_link && meta.is_some_and(|meta| stat.mode != meta.mode);
    let capabilities = lost || found.capabilities && !expected.configured;
    let permissions = mode || capabilities || !owner;
    let both = [(owner, Verdict::WrongOwner), (permissions, Verdict::WrongPermissions)];
    both.into_iter().filter(|(differs, _)| *differs).map(|(_, verdict)| verdict).collect()
}

/// Folders that all users must be able to enter. Below `/usr/local` the administrator decides.
fn is_for_everybody(folder: &SystemPath) -> bool {
    const PLACES: [&str; 7] = ["/usr", "/lib", "/lib32", "/lib64", "/libx32", "/bin", "/sbin"];
    folder.is_root()
        || PLACES.iter().any(|place| folder.is_within_place(place)) && !folder.is_within_place("/usr/local")
}

/// Whether capabilities that only the package's own configuration sets are missing, without another privilege instead.
pub(super) fn lost_capabilities(expected: &Expected, found: &Found) -> bool {
    let plain = found.stat.kind == FileKind::File && found.stat.mode & 0o6000 == 0 && found.stat.mode & 0o111 != 0;
    expected.capable && expected.overridden().is_none() && plain && !found.capabilities
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::model::{Authority, Identity, Instant};

    fn expected(kind: ExpectedKind, mode: u32) -> Expected {
        Expected {
            listed: SystemPath::literal("/usr/x"),
            package: 0,
            authority: Authority::Store,
            kind,
            meta: Some(Meta { mode, uid: 0, gid: 0, mtime: 0 }),
            settings: false,
            configured: false,
            capable: false,
            group: None,
            rare: None,
        }
    }

    fn found(kind: FileKind, mode: u32, uid: u32) -> Found {
        let time = Instant { s: 0, n: 0 };
        let stat = Stat {
            kind,
            mode,
            uid,
            gid: 0,
            size: 0,
            mtime: time,
            ctime: time,
            id: Identity { dev: 1, ino: 1 },
            names: 1,
            rdev: 0,
        };
        Found { stat, target: None, content: None, capabilities: false, mounted_over: false, unread: false }
    }

    fn verdict(expected: &Expected, found: &Found) -> MetaVerdict {
        judge(expected, found, &Users::default(), &Policy::default())
    }

    #[test]
    fn privilege_is_accepted_only_where_something_explains_it() {
        let mut file = expected(ExpectedKind::Something, 0o755);
        let setuid = found(FileKind::File, 0o4755, 0);
        assert_eq!(verdict(&file, &setuid), MetaVerdict::Wrong);
        file.configured = true;
        assert_eq!(verdict(&file, &setuid), MetaVerdict::Sound);
        file.configured = false;
        file.rare_mut().overridden = Some(Meta { mode: 0o4755, uid: 0, gid: 0, mtime: 0 });
        assert_eq!(verdict(&file, &setuid), MetaVerdict::Sound);
        let mut capable = found(FileKind::File, 0o755, 0);
        capable.capabilities = true;
        assert_eq!(verdict(&file, &capable), MetaVerdict::Wrong);
    }

    #[test]
    fn a_folder_may_be_closed_further_but_not_opened_to_all_or_given_away() {
        let mut folder = expected(ExpectedKind::Folder, 0o755);
        for (place, wanted) in [
            ("/etc/x", MetaVerdict::Adjusted),
            ("/var/lib/x", MetaVerdict::Adjusted),
            ("/boot", MetaVerdict::Adjusted),
            ("/usr/local/bin", MetaVerdict::Adjusted),
            ("/usr", MetaVerdict::Wrong),
            ("/lib/x", MetaVerdict::Wrong),
        ] {
            folder.listed = SystemPath::literal(place);
            assert_eq!(verdict(&folder, &found(FileKind::Folder, 0o700, 0)), wanted, "{place}");
        }
        folder.listed = SystemPath::root();
        assert_eq!(verdict(&folder, &found(FileKind::Folder, 0o700, 0)), MetaVerdict::Wrong);
        folder.rare_mut().overridden = Some(Meta { mode: 0o700, uid: 0, gid: 0, mtime: 0 });
        assert_eq!(verdict(&folder, &found(FileKind::Folder, 0o700, 0)), MetaVerdict::Sound);
        folder.rare_mut().overridden = None;
        assert_eq!(verdict(&folder, &found(FileKind::Folder, 0o755, 101)), MetaVerdict::Adjusted);
        assert_eq!(verdict(&folder, &found(FileKind::Folder, 0o777, 0)), MetaVerdict::Wrong);
        assert_eq!(verdict(&folder, &found(FileKind::Folder, 0o755, 1000)), MetaVerdict::Wrong);
    }

    #[test]
    fn capabilities_that_configuring_gives_are_missed_unless_another_privilege_replaces_them() {
        let mut file = expected(ExpectedKind::Something, 0o755);
        let plain = found(FileKind::File, 0o755, 0);
        assert!(!lost_capabilities(&file, &plain));
        file.capable = true;
        assert!(lost_capabilities(&file, &plain));
        assert!(!lost_capabilities(&file, &found(FileKind::File, 0o4755, 0)), "the other way of its script");
        let mut capable = plain.clone();
        capable.capabilities = true;
        assert!(!lost_capabilities(&file, &capable));
    }

    #[test]
    fn a_settings_file_with_another_mode_is_a_note() {
        let mut file = expected(ExpectedKind::Something, 0o644);
        file.settings = true;
        assert_eq!(verdict(&file, &found(FileKind::File, 0o600, 0)), MetaVerdict::Adjusted);
    }
}
