//! What is wrong with what an application keeps in a home: settings that cannot be read, rights that keep it out, locks of a
//! process that is gone, no free space.

use serde::{Deserialize, Serialize};

use super::home::{HomeCase, Visit, each};
use super::readable::fault;
use crate::apps::{Class, RawCard};
use crate::machine::Dir;
use crate::model::{FileKind, SystemPath, Verdict};

/// More faults of one home are counted, not reported.
const MAX_FAULTS: usize = 200;
/// So much is read of one home.
const MAX_READ: u64 = 512 << 20;
/// With less free space than this an application cannot write its settings.
const LITTLE: u64 = 1 << 20;

/// What is wrong with what an application keeps in a home.
#[derive(Debug, Serialize, Deserialize)]
pub struct ProfileQuestion {
    /// The application's card.
    pub card: RawCard,
    /// The home as the system names it.
    pub home: SystemPath,
    /// Whose home it is.
    pub owner: u32,
    /// More names than this are not examined.
    pub most: u64,
    /// Whether databases are looked into: not while the application writes them.
    pub databases: bool,
    /// The application's id, when it takes a folder of its own for a home.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub sandbox: Option<String>,
}

/// What is wrong with what an application keeps in a home.
#[derive(Debug, Clone, Default, PartialEq, Eq, Serialize, Deserialize)]
pub struct Profile {
    /// How many things were examined.
    pub looked: u64,
    /// How many bytes were read.
    pub bytes: u64,
    /// The faults, by path.
    pub faults: Vec<ProfileFault>,
    /// Faults that are not reported.
    pub more: u64,
    /// Things that say that the application runs, below the home: of no meaning where it does.
    pub locks: Vec<Vec<u8>>,
    /// Bytes that are free for the user, where there is too little.
    pub little_room: Option<u64>,
    /// Whether there were more names than are examined.
    pub too_many: bool,
}

/// One fault.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct ProfileFault {
    /// Where, below the home.
    pub path: Vec<u8>,
    /// What it is to the application.
    pub class: Class,
    /// `corrupt`, `unreadable`, `wrong-owner` or `wrong-permissions`.
    pub verdict: Verdict,
    /// The reason.
    pub why: String,
    /// The mode that it needs, when that is what it lacks; none when it belongs to a person else.
    pub needs: Option<u32>,
}

/// Looks.
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
        // A file without content is left for good by some that end properly.
        let says = met.stat.kind == FileKind::Link || met.stat.kind == FileKind::File && met.stat.size > 0;
        if met.class == Class::Locks && says && found.locks.len() < MAX_FAULTS {
            found.locks.push(met.path.to_vec());
        }
    });
    found.too_many = too_many;
    found
}

/// What keeps the user from reading or writing it. Settings that no one may write are a person's wish.
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
    // What it makes again by itself it also throws away by itself.
    let looked_into = matches!(met.class, Class::Settings | Class::State | Class::Own);
    if !looked_into || met.stat.kind != FileKind::File || bytes.saturating_add(met.stat.size) > MAX_READ {
        return None;
    }
    // Of the user's own only databases are looked into: what else is in there is no one's business.
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
