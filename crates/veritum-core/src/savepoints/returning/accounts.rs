//! Accounts in a return: what differs; and system users that returned files need are added again.

use std::collections::{BTreeMap, BTreeSet, HashMap};

use super::ReturnCase;
use super::compare::Difference;
use super::decide::{ACCOUNTS, Fate};
use crate::model::{Digest, SystemPath, byte_lines};
use crate::report::AccountChanges;
use crate::savepoints::manifest::{Entry, What};
use crate::store::Contents as _;

/// Larger files of accounts are not read, in bytes.
const MAX_FILE: u64 = 16 << 20;
/// Ids below this belong to the system (Debian Policy 9.2.2).
const FIRST_LOGIN: u32 = 1000;

/// The lines of a file by their first field.
type Lines = BTreeMap<Vec<u8>, Vec<Vec<u8>>>;

fn lines(text: &[u8]) -> Lines {
    let fields = |line: &[u8]| line.split(|byte| *byte == b':').map(<[u8]>::to_vec).collect::<Vec<_>>();
    let all = byte_lines(text).filter(|line| !line.is_empty()).map(fields);
    all.filter_map(|fields| Some((fields.first()?.clone(), fields))).collect()
}

/// The files of accounts, then and now.
struct Files {
    then: HashMap<&'static str, Vec<u8>>,
    now: HashMap<&'static str, Vec<u8>>,
}

impl Files {
    fn read(case: &ReturnCase<'_>, differences: &[Difference]) -> Self {
        let (mut then, mut now) = (HashMap::new(), HashMap::new());
        for file in ACCOUNTS {
            let path = SystemPath::literal(file);
            let current = case.context.machine.read_up_to(&path, MAX_FILE).ok().flatten().unwrap_or_default();
            let difference = differences.iter().find(|difference| difference.path == path);
            let earlier = match difference {
                None => current.clone(),
                Some(difference) => difference.then.as_ref().and_then(|entry| content(case, entry)).unwrap_or_default(),
            };
            then.insert(file, earlier);
            now.insert(file, current);
        }
        Self { then, now }
    }

    fn lines(&self, file: &str) -> (Lines, Lines) {
        (lines(&self.then[file]), lines(&self.now[file]))
    }
}

/// The content of a small file of the savepoint; `None` if it is not kept.
pub(super) fn content(case: &ReturnCase<'_>, entry: &Entry) -> Option<Vec<u8>> {
    let (digest, size) = entry.content().filter(|(_, size)| *size <= MAX_FILE)?;
    let mut bytes = Vec::new();
    case.pools
        .copy(&digest, size, &mut |piece| {
            bytes.extend_from_slice(piece);
            Ok(())
        })
        .ok()?;
    Some(bytes)
}

fn text(name: &[u8]) -> String {
    crate::model::readable(name)
}

/// Accounts that differ.
pub(super) fn changes(case: &ReturnCase<'_>, differences: &[Difference]) -> AccountChanges {
    if !case.wanted.packages.is_empty() {
        return AccountChanges::default();
    }
    let files = Files::read(case, differences);
    let (then, now) = files.lines("/etc/passwd");
    let (shadow_then, shadow_now) = files.lines("/etc/shadow");
    let (group_then, group_now) = files.lines("/etc/group");
    let missing =
        |a: &Lines, b: &Lines| a.keys().filter(|name| !b.contains_key(*name)).map(|name| text(name)).collect();
    let other_field = |a: &Lines, b: &Lines, field: usize| -> Vec<String> {
        let differs = |(name, fields): (&Vec<u8>, &Vec<Vec<u8>>)| {
            b.get(name).is_some_and(|other| other.get(field) != fields.get(field)).then(|| text(name))
        };
        a.iter().filter_map(differs).collect()
    };
    AccountChanges {
        added: missing(&now, &then),
        removed: missing(&then, &now),
        passwords: other_field(&shadow_then, &shadow_now, 1),
        groups: other_field(&group_then, &group_now, 3),
        added_again: Vec::new(),
    }
}

/// Without `--accounts`: system users and groups that returned files belong to are added again, and owners are translated where
/// a name has another id now.
pub(super) fn adapt(
    case: &ReturnCase<'_>,
    differences: &mut [Difference],
    fates: &mut [Fate],
    made: &mut HashMap<Digest, Vec<u8>>,
) -> Vec<String> {
    if case.wanted.accounts {
        return Vec::new();
    }
    let files = Files::read(case, differences);
    let mut owners = Owners::new(&files);
    for (difference, fate) in differences.iter_mut().zip(fates.iter()) {
        let (Some(entry), Fate::Returns) = (&mut difference.then, fate) else { continue };
        entry.uid = owners.users.translated(entry.uid);
        entry.gid = owners.groups.translated(entry.gid);
    }
    let mut names: Vec<String> = Vec::new();
    for (file, own) in [("/etc/passwd", true), ("/etc/shadow", true), ("/etc/group", false), ("/etc/gshadow", false)] {
        let wanted = if own { &owners.users.again } else { &owners.groups.again };
        let (then, now) = files.lines(file);
        let missing: Vec<&Vec<Vec<u8>>> =
            wanted.iter().filter(|name| !now.contains_key(*name)).filter_map(|name| then.get(name)).collect();
        if missing.is_empty() {
            continue;
        }
        names.extend(missing.iter().map(|fields| text(&fields[0])));
        let mut bytes = files.now[file].clone();
        if bytes.last().is_some_and(|byte| *byte != b'\n') {
            bytes.push(b'\n');
        }
        for fields in missing {
            bytes.extend_from_slice(&fields.join(&b':'));
            bytes.push(b'\n');
        }
        set_content(differences, fates, made, &SystemPath::literal(file), bytes);
    }
    names.sort();
    names.dedup();
    names
}

/// Lets a file become this content, with the metadata that it has now.
pub(super) fn set_content(
    differences: &mut [Difference],
    fates: &mut [Fate],
    made: &mut HashMap<Digest, Vec<u8>>,
    path: &SystemPath,
    bytes: Vec<u8>,
) {
    let Some(at) = differences.iter().position(|difference| difference.path == *path) else { return };
    let difference = &mut differences[at];
    let Some(like) = difference.now.as_ref().map(|(entry, _)| entry).or(difference.then.as_ref()) else { return };
    let digest = Digest::hash(&bytes);
    let what = What::File { size: bytes.len() as u64, digest, hard_link_of: None };
    let unchanged =
        difference.now.as_ref().and_then(|(entry, _)| entry.content()).is_some_and(|(now, _)| now == digest);
    difference.then = Some(Entry { what, ..like.clone() });
    fates[at] = if unchanged { Fate::Ignored } else { Fate::Returns };
    made.insert(digest, bytes);
}

/// Names and ids of users or groups, then and now.
struct Ids {
    then: HashMap<u32, Vec<u8>>,
    now: HashMap<u32, Vec<u8>>,
    now_by_name: HashMap<Vec<u8>, u32>,
    /// Names to add again.
    again: BTreeSet<Vec<u8>>,
}

struct Owners {
    users: Ids,
    groups: Ids,
}

impl Owners {
    fn new(files: &Files) -> Self {
        let ids = |file: &str| {
            let (then, now) = files.lines(file);
            let id = |(name, fields): (Vec<u8>, Vec<Vec<u8>>)| {
                Some((std::str::from_utf8(fields.get(2)?).ok()?.parse::<u32>().ok()?, name))
            };
            let then = then.into_iter().filter_map(id).collect();
            let now: HashMap<u32, Vec<u8>> = now.into_iter().filter_map(id).collect();
            let now_by_name = now.iter().map(|(id, name)| (name.clone(), *id)).collect();
            Ids { then, now, now_by_name, again: BTreeSet::new() }
        };
        Self { users: ids("/etc/passwd"), groups: ids("/etc/group") }
    }
}

impl Ids {
    /// The id of now for an id of then.
    fn translated(&mut self, id: u32) -> u32 {
        let Some(name) = self.then.get(&id) else { return id };
        if self.now.get(&id) == Some(name) {
            return id;
        }
        if let Some(now) = self.now_by_name.get(name) {
            return *now;
        }
        if !self.now.contains_key(&id) && id < FIRST_LOGIN {
            self.again.insert(name.clone());
        }
        id
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn files(then: &str, now: &str) -> Files {
        let all = |text: &str| -> HashMap<&'static str, Vec<u8>> {
            ACCOUNTS.iter().map(|file| (*file, if *file == "/etc/passwd" { text.into() } else { Vec::new() })).collect()
        };
        Files { then: all(then), now: all(now) }
    }

    #[test]
    fn an_id_is_translated_by_its_name_and_a_free_one_is_used_again() {
        let then =
            "root:x:0:0::/root:/bin/sh\npier:x:101:101::/:/bin/false\nquay:x:102:102::/:/bin/false\nrig:x:103:1::/:/\n";
        let now = "root:x:0:0::/root:/bin/sh\nquay:x:110:102::/:/bin/false\nboat:x:103:1::/:/\n";
        let mut owners = Owners::new(&files(then, now));
        let mut id = |id: u32| owners.users.translated(id);
        assert_eq!([id(0), id(101), id(102), id(103), id(999)], [0, 101, 110, 103, 999]);
        assert_eq!(owners.users.again, [b"pier".to_vec()].into(), "another account has the id of rig now");
    }
}
