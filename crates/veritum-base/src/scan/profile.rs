//! Problems of an application's data in a home: settings that cannot be read, wrong permissions, locks of an ended process,
//! no free space.

use serde::{Deserialize, Serialize};

use super::home::{HomeCase, Visit, each};
use super::readable::fault;
use crate::apps::{Class, RawCard};
use crate::machine::Dir;
use crate::model::{FileKind, SystemPath, Verdict};

/// Further faults of one home are counted, not listed.
const MAX_FAULTS: usize = 200;
/// At most so much is read of one home, in bytes.
const MAX_READ: u64 = 512 << 20;
/// With less free space an application cannot write its settings.
const LITTLE: u64 = 1 << 20;

/// A request to examine an application's data in a home.
#[derive(Debug, Serialize, Deserialize)]
pub struct ProfileQuestion {
    /// The application's card.
    pub card: RawCard,
    /// The home as the system names it.
    pub home: SystemPath,
    /// The owner of the home.
    pub owner: u32,
    /// The limit of names.
    pub most: u64,
    /// Whether databases are examined: not while the application writes them.
    pub databases: bool,
    /// The application's id, if it is sandboxed with a home of its own.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub sandbox: Option<String>,
}

/// Problems of an application's data in a home.
#[derive(Debug, Clone, Default, PartialEq, Eq, Serialize, Deserialize)]
pub struct Profile {
    /// The number of files and folders examined.
    pub looked: u64,
    /// The number of bytes read.
    pub bytes: u64,
    /// The faults, by path.
    pub faults: Vec<ProfileFault>,
    /// The number of faults not listed.
    pub more: u64,
    /// Lock files relative to the home: meaningless while the application runs.
    pub locks: Vec<Vec<u8>>,
    /// The user's free space in bytes, if it is too little.
    pub little_room: Option<u64>,
    /// Whether there are more names than the limit.
    pub too_many: bool,
}

/// One fault.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct ProfileFault {
    /// Its path relative to the home.
    pub path: Vec<u8>,
    /// Its class.
    pub class: Class,
    /// `corrupt`, `unreadable`, `wrong-owner` or `wrong-permissions`.
    pub verdict: Verdict,
    /// The reason.
    pub why: String,
    /// The mode that it needs, if the mode is wrong; `None` when it belongs to another user.
    pub needs: Option<u32>,
}

/// Examines the data.
pub(super) fn profile(home: &Dir, case: &HomeCase<'_>, databases: bool) -> Profile {
    let mut found = Profile::default();
    let room = home.disk().room(home.fd()).ok().map(|room| room.bytes);
    found.little_room = room.filter(|free| *free < LITTLE);
    if let Ok(stat) = home.look_self() {
        let met = Visit { dir: home, name: b"", path: b"", class: Class::Own, stat: &stat };
        found.faults.extend(rights_fault(&met, case.owner));
    }
    let too_many = each(home, case, &mut |met| {
        found.looked += 1;
        let told = rights_fault(&met, case.owner).or_else(|| content_fault(&met, databases, &mut found.bytes));
        match told {
            Some(_) if found.faults.len() >= MAX_FAULTS => found.more += 1,
            Some(fault) => found.faults.push(fault),
            None => {}
        }
        // Some applications leave an empty file after a regular end.
        let says = met.stat.kind == FileKind::Link || met.stat.kind == FileKind::File && met.stat.size > 0;
        if met.class == Class::Locks && says && found.locks.len() < MAX_FAULTS {
            found.locks.push(met.path.to_vec());
        }
    });
    found.too_many = too_many;
    found
}

/// What prevents the user from reading or writing it. Read-only settings may be intended.
fn rights_fault(met: &Visit<'_>, owner: u32) -> Option<ProfileFault> {
    let stat = met.stat;
    let blank =
        |verdict, why: String, needs| ProfileFault { path: met.path.to_vec(), class: met.class, verdict, why, needs };
    if stat.uid != owner {
        let whose = if stat.uid == 0 { "root".to_owned() } else { format!("user {}", stat.uid) };
        return Some(blank(Verdict::WrongOwner, format!("owned by {whose}"), None));
    }
    let needed = match stat.kind {
        FileKind::Folder => 0o700,
        FileKind::File => 0o400,
        _ => return None,
    };
    (owner != 0 && stat.mode & needed != needed).then(|| {
        blank(
            Verdict::WrongPermissions,
            format!("mode {:04o} denies access to the owner", stat.mode),
            Some(stat.mode | needed),
        )
    })
}

fn content_fault(met: &Visit<'_>, databases: bool, bytes: &mut u64) -> Option<ProfileFault> {
    // The application discards what it can create again.
    let looked_into = matches!(met.class, Class::Settings | Class::State | Class::Own);
    if !looked_into || met.stat.kind != FileKind::File || bytes.saturating_add(met.stat.size) > MAX_READ {
        return None;
    }
    // Of user data only databases are examined; the rest is private.
    if met.class == Class::Own && super::readable::Form::for_name(met.name) != super::readable::Form::Database {
        return None;
    }
    *bytes += met.stat.size;
    let (verdict, why) = match fault(met.dir, met.name, met.stat.size, databases) {
        Ok(None) => return None,
        Ok(Some(why)) => (Verdict::Corrupt, why),
        Err(e) if e.kind() == std::io::ErrorKind::NotFound => return None,
        Err(e) => (Verdict::Unreadable, crate::model::error_words(&e)),
    };
    Some(ProfileFault { path: met.path.to_vec(), class: met.class, verdict, why, needs: None })
}

#[cfg(test)]
mod tests {
    use std::fs;
    use std::os::unix::fs::{PermissionsExt as _, symlink};
    use std::path::Path;

    use super::super::example::{put, with_quay};
    use super::super::home::Choice;
    use super::*;

    fn look(home: &Path) -> Profile {
        with_quay(home, &Choice::default(), &|dir, case| profile(dir, case, true))
    }

    #[test]
    fn what_cannot_be_read_or_says_that_it_runs_is_told_and_documents_are_not_looked_into() {
        let home = tempfile::tempdir().unwrap();
        let home = home.path();
        put(home, ".config/quay/rc.json", "{\"a\": ");
        put(home, ".config/quay/sound.json", "{}");
        put(home, ".config/quay/zeros", "\0\0\0");
        put(home, ".quay/a/mail/inbox.json", "{ no json, and nobody's business");
        put(home, ".cache/quay/x.json", "{");
        put(home, "Documents/x.json", "{");
        symlink("127.0.1.1:+1", home.join(".quay/a/lock")).unwrap();
        let found = look(home);
        let told: Vec<String> = found
            .faults
            .iter()
            .map(|f| format!("{} {}: {}", String::from_utf8_lossy(&f.path), f.verdict.word(), f.why))
            .collect();
        assert_eq!(
            told,
            [
                ".config/quay/rc.json corrupt: truncated at line 1",
                ".config/quay/zeros corrupt: filled with zeros, as after a power cut",
            ]
        );
        assert_eq!(found.locks, [b".quay/a/lock".to_vec()]);
        assert!(found.little_room.is_none() && !found.too_many && found.looked > 5);
    }

    #[test]
    fn rights_that_keep_their_owner_out_are_told() {
        if rustix::process::geteuid().is_root() {
            println!("SKIPPED: nothing keeps root out");
            return;
        }
        let home = tempfile::tempdir().unwrap();
        put(home.path(), ".config/quay/rc", "1");
        put(home.path(), ".config/quay/deep/rc", "1");
        let mode = |path: &str, mode| fs::set_permissions(home.path().join(path), fs::Permissions::from_mode(mode));
        mode(".config/quay/rc", 0o200).unwrap();
        mode(".config/quay/deep", 0o500).unwrap();
        let told: Vec<(u32, String)> =
            look(home.path()).faults.into_iter().map(|f| (f.needs.unwrap(), f.why)).collect();
        assert_eq!(
            told,
            [(0o700, "mode 0500 keeps its owner out".into()), (0o600, "mode 0200 keeps its owner out".into())]
        );
        mode(".config/quay/deep", 0o700).unwrap();
    }
}
