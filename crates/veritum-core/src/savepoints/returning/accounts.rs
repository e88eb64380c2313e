//! Accounts in a return: what differs; and system users that returned files need are added again.

use std::collections::{BTreeMap, BTreeSet, HashMap};

use super::ReturnCase;
use super::compare::Difference;
use super::decide::{ACCOUNTS, Fate, is_info};
use super::owners::{self, Ids};
use crate::model::{Digest, SystemPath, byte_lines};
use crate::report::AccountChanges;
use crate::savepoints::manifest::{Entry, What};
use crate::store::Contents as _;

/// Larger files of accounts are not read, in bytes.
const MAX_FILE: u64 = 16 << 20;
/// Larger files are not searched for names, in bytes.
const MAX_NAMING: u64 = 256 << 10;
/// Folders of files that name users: units, their configuration, policies of D-Bus.
const NAMING: [&str; 6] =
    ["/etc", "/usr/lib/systemd", "/lib/systemd", "/usr/lib/sysusers.d", "/usr/lib/tmpfiles.d", "/usr/share/dbus-1"];

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

    /// The names and ids in one of them: the third field.
    fn ids(&self, file: &str) -> Ids {
        let id = |(name, fields): (Vec<u8>, Vec<Vec<u8>>)| Some((number(fields.get(2)?)?, name));
        let (then, now) = self.lines(file);
        Ids::new(then.into_iter().filter_map(id).collect(), now.into_iter().filter_map(id).collect())
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
        ..AccountChanges::default()
    }
}

/// Without `--accounts`: system users and groups that returned files belong to, or name, are added again, and owners are translated
/// where a name has another id now. Returns the names that are added, and the places whose owner's number another account has now.
pub(super) fn adapt(
    case: &ReturnCase<'_>,
    differences: &mut [Difference],
    fates: &mut [Fate],
    made: &mut HashMap<Digest, Vec<u8>>,
) -> (Vec<String>, Vec<SystemPath>) {
    let mut without_owner = Vec::new();
    if case.wanted.accounts {
        return (Vec::new(), without_owner);
    }
    let files = Files::read(case, differences);
    let (mut users, mut groups) = (files.ids("/etc/passwd"), files.ids("/etc/group"));
    for name in named(case, &users, &groups, differences, fates) {
        users.need(&name);
        groups.need(&name);
    }
    for (difference, fate) in differences.iter_mut().zip(fates.iter()) {
        let (Some(entry), Fate::Returns) = (&mut difference.then, fate) else { continue };
        let there = difference.now.as_ref().map(|(now, _)| (now.uid, now.gid));
        let ids = (
            users.translated_at(entry.uid, there.map(|(uid, _)| uid)),
            groups.translated_at(entry.gid, there.map(|(_, gid)| gid)),
        );
        let is_lost = |then: u32, id: u32| id != then && id == owners::UNOWNED;
        if is_lost(entry.uid, ids.0) || is_lost(entry.gid, ids.1) {
            without_owner.push(entry.path.clone());
        }
        (entry.uid, entry.gid) = ids;
    }
    // Each user needs its own group.
    let (accounts, _) = files.lines("/etc/passwd");
    let own_group = |name: &Vec<u8>| accounts.get(name).and_then(|fields| number(fields.get(3)?));
    let own: Vec<u32> = users.again.keys().filter_map(own_group).collect();
    for gid in own {
        groups.translated(gid);
    }
    let mut names: BTreeSet<String> = BTreeSet::new();
    for file in ["/etc/passwd", "/etc/shadow", "/etc/group", "/etc/gshadow"] {
        let wanted = if matches!(file, "/etc/passwd" | "/etc/shadow") { &users.again } else { &groups.again };
        let (then, now) = files.lines(file);
        let missing = wanted.iter().filter(|(name, _)| !now.contains_key(*name));
        let missing: Vec<(&Vec<Vec<u8>>, u32)> =
            missing.filter_map(|(name, id)| Some((then.get(name)?, *id))).collect();
        if missing.is_empty() {
            continue;
        }
        names.extend(missing.iter().map(|(fields, _)| text(&fields[0])));
        let mut bytes = files.now[file].clone();
        if bytes.last().is_some_and(|byte| *byte != b'\n') {
            bytes.push(b'\n');
        }
        for (fields, id) in missing {
            let mut fields = fields.clone();
            if matches!(file, "/etc/passwd" | "/etc/group") {
                set_number(&mut fields, 2, id);
            }
            if let Some(gid) = fields.get(3).and_then(|field| number(field)).filter(|_| file == "/etc/passwd") {
                set_number(&mut fields, 3, groups.translated(gid));
            }
            bytes.extend_from_slice(&fields.join(&b':'));
            bytes.push(b'\n');
        }
        set_content(differences, fates, made, &SystemPath::literal(file), bytes);
    }
    (names.into_iter().collect(), without_owner)
}

fn number(field: &[u8]) -> Option<u32> {
    std::str::from_utf8(field).ok()?.parse().ok()
}

fn set_number(fields: &mut [Vec<u8>], at: usize, number: u32) {
    if let Some(field) = fields.get_mut(at) {
        *field = number.to_string().into_bytes();
    }
}

/// Names of missing system users and groups that returned files contain: units, policies, maintainer scripts.
fn named(
    case: &ReturnCase<'_>,
    users: &Ids,
    groups: &Ids,
    differences: &[Difference],
    fates: &[Fate],
) -> BTreeSet<Vec<u8>> {
    let missing: BTreeSet<&[u8]> = users.missing().chain(groups.missing()).collect();
    let mut found = BTreeSet::new();
    if missing.is_empty() {
        return found;
    }
    let returning = differences.iter().zip(fates).filter(|(_, fate)| **fate == Fate::Returns).map(|(d, _)| d);
    for entry in returning.filter_map(|difference| difference.then.as_ref()).filter(|entry| may_name(&entry.path)) {
        if entry.content().is_none_or(|(_, size)| size > MAX_NAMING) {
            continue;
        }
        let text = content(case, entry).unwrap_or_default();
        found.extend(missing.iter().filter(|name| owners::names(&text, name)).map(|name| name.to_vec()));
    }
    found
}

/// Whether a file may name users under whose ids programs run.
fn may_name(path: &SystemPath) -> bool {
    let script = is_info(path) && path.name().ends_with(b".postinst");
    script || NAMING.iter().any(|folder| path.is_within_place(folder))
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
