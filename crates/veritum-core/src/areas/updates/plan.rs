//! From problems of updates to actions: what is set aside, and which lists replace others. Pure.

use std::collections::BTreeMap;

use crate::machine::ProtectionPolicy;
use crate::model::{Action, Finding, FindingId, Stat, SystemPath, Verdict};
use crate::plan::{DiskDoubt, Item, ItemKind, Left, Operation, PlaceOf, Plan, PlannedAction};
use crate::repository::NewList;

/// At most this many files are set aside in one change: its change log must stay readable.
const MOST: usize = 50_000;

/// The input of the planning.
pub struct UpdateRules<'a> {
    /// Places that must not be changed.
    pub protection: &'a dyn ProtectionPolicy,
    /// The locations of files.
    pub place: &'a PlaceOf<'a>,
    /// User and group of the lists.
    pub owner: (u32, u32),
    /// Whether unreadable files are set aside nevertheless, as the administrator requested.
    pub ignore_disk_errors: bool,
}

/// A file to set aside, with the findings that it answers.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Aside {
    /// Its path.
    pub path: SystemPath,
    /// The findings.
    pub findings: Vec<FindingId>,
}

/// A new list, with the findings that it answers.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Coming<'a> {
    /// The list.
    pub list: &'a NewList,
    /// The findings.
    pub findings: Vec<FindingId>,
}

/// Plans what is set aside and what is written; what cannot be done is not repaired, with the reason.
#[must_use]
pub fn plan_updates(
    findings: &[Finding],
    all_asides: &[Aside],
    coming: &[Coming<'_>],
    rules: &UpdateRules<'_>,
) -> Plan {
    let mut plan = Plan::default();
    let unreadable = findings.iter().filter(|f| f.verdict == Verdict::Unreadable).count() as u64;
    if unreadable > 0 && !rules.ignore_disk_errors {
        plan.doubt = Some(DiskDoubt::ReadErrors { files: unreadable });
    }
    let old_forms = coming.iter().flat_map(|one| {
        one.list.instead_of.iter().map(|path| Aside { path: path.clone(), findings: one.findings.clone() })
    });
    let (new_folders, coming): (Vec<_>, Vec<_>) =
        coming.iter().partition(|one| (rules.place)(&one.list.path).is_none());
    let new_folders = by_folder(&new_folders);
    let replaced =
        |path: &SystemPath| coming.iter().any(|one| one.list.path == *path) || new_folders.contains_key(path);
    let asides: Vec<Aside> = all_asides.iter().filter(|one| !replaced(&one.path)).cloned().chain(old_forms).collect();
    let mut taken: Vec<SystemPath> = Vec::new();
    for aside in asides.iter().take(MOST) {
        let Some((place, Some(before))) = (rules.place)(&aside.path) else { continue };
        if taken.last() == Some(&place) {
            continue;
        }
        taken.push(place.clone());
        add(&mut plan, findings, rules, (&aside.path, &aside.findings), (place, Some(before)), Operation::SetAside);
    }
    for finding in asides.iter().skip(MOST).flat_map(|one| &one.findings) {
        leave(&mut plan, findings, finding, "too many files at once", Some(Action::command("veritum repair updates")));
    }
    for one in coming {
        let Some(spot) = (rules.place)(&one.list.path) else { continue };
        let item = item(one.list, SystemPath::root(), rules);
        add(&mut plan, findings, rules, (&one.list.path, &one.findings), spot, Operation::Put(vec![item]));
    }
    for (folder, lists) in &new_folders {
        let stands: Vec<FindingId> =
            all_asides.iter().filter(|one| one.path == *folder).flat_map(|one| one.findings.clone()).collect();
        put_folder(&mut plan, findings, rules, (folder, lists), stands);
    }
    plan
}

/// Lists by their folder.
fn by_folder<'a>(coming: &[&'a Coming<'a>]) -> BTreeMap<SystemPath, Vec<&'a Coming<'a>>> {
    let mut folders: BTreeMap<SystemPath, Vec<&Coming<'_>>> = BTreeMap::new();
    for one in coming {
        folders.entry(one.list.path.parent().unwrap_or_else(SystemPath::root)).or_default().push(one);
    }
    folders
}

fn item(list: &NewList, below: SystemPath, rules: &UpdateRules<'_>) -> Item {
    let kind = ItemKind::File { size: list.size, digest: list.digest };
    Item::new(below, kind, 0o644, rules.owner, list.mtime)
}

/// A missing folder, or one with another object in its place, with its lists.
fn put_folder(
    plan: &mut Plan,
    findings: &[Finding],
    rules: &UpdateRules<'_>,
    (folder, lists): (&SystemPath, &[&Coming<'_>]),
    mut answers: Vec<FindingId>,
) {
    answers.extend(lists.iter().flat_map(|one| one.findings.clone()));
    answers.sort();
    answers.dedup();
    let Some(spot) = (rules.place)(folder) else {
        let next = Action::command(format!("mkdir -p {folder}"));
        for finding in &answers {
            leave(plan, findings, finding, "the parent folder of the package lists does not exist", Some(next.clone()));
        }
        return;
    };
    let mtime = lists.iter().map(|one| one.list.mtime).max().unwrap_or_default();
    let mut items = vec![Item::new(SystemPath::root(), ItemKind::Folder, 0o755, rules.owner, mtime)];
    for one in lists {
        let Ok(below) = SystemPath::below_root(one.list.path.name()) else { continue };
        items.push(item(one.list, below, rules));
    }
    add(plan, findings, rules, (folder, &answers), spot, Operation::Put(items));
}

fn add(
    plan: &mut Plan,
    findings: &[Finding],
    rules: &UpdateRules<'_>,
    (listed, answers): (&SystemPath, &[FindingId]),
    (place, before): (SystemPath, Option<Stat>),
    operation: Operation,
) {
    if let Some(reason) = rules.protection.reason(&place) {
        for finding in answers {
            leave(plan, findings, finding, &format!("not changed: {reason}"), None);
        }
        return;
    }
    plan.push(PlannedAction {
        findings: answers.to_vec(),
        listed: listed.clone(),
        ..PlannedAction::new(place, before, operation)
    });
}

fn leave(plan: &mut Plan, findings: &[Finding], id: &FindingId, reason: &str, next: Option<Action>) {
    let known = plan.left.iter().any(|left| left.finding == *id);
    if let Some(finding) = findings.iter().find(|f| f.id == *id && !known) {
        plan.left.push(Left::new(finding, reason.to_owned(), next));
    }
}

/// Plans what is deleted to free space: files that can be downloaded again.
#[must_use]
pub fn plan_room(files: &[SystemPath], findings: &[FindingId], rules: &UpdateRules<'_>) -> Plan {
    let mut plan = Plan::default();
    for file in files.iter().take(MOST) {
        let Some((place, Some(before))) = (rules.place)(file) else { continue };
        add(&mut plan, &[], rules, (file, findings), (place, Some(before)), Operation::Free);
    }
    plan
}

/// Records findings without an action, each with what a person should do.
pub fn leave_the_rest(plan: &mut Plan, findings: &[Finding]) {
    for finding in findings.iter().filter(|f| f.remedy.is_none()) {
        let reason = finding.cause.as_deref().unwrap_or("needs your decision");
        leave(plan, findings, &finding.id, reason, finding.action.clone());
    }
}

#[cfg(test)]
mod tests {
    use super::super::UPDATES;
    use super::*;
    use crate::model::{Digest, FileKind, Identity, Instant, Remedy};

    struct Home;

    impl ProtectionPolicy for Home {
        fn reason(&self, physical: &SystemPath) -> Option<String> {
            physical.is_within(&SystemPath::literal("/home")).then(|| "in a user's home".to_owned())
        }

        fn guards_below(&self, _: &SystemPath) -> bool {
            false
        }
    }

    fn stat() -> Stat {
        let now = Instant { s: 1, n: 0 };
        let id = Identity { dev: 1, ino: 1 };
        Stat {
            kind: FileKind::File,
            mode: 0o644,
            uid: 0,
            gid: 0,
            size: 3,
            mtime: now,
            ctime: now,
            id,
            names: 1,
            rdev: 0,
        }
    }

    fn altered(path: &'static str) -> Finding {
        Finding {
            remedy: Some(Remedy { action: crate::model::ActionKind::SetAside, from: None, download: None }),
            ..Finding::on_path(UPDATES, &SystemPath::literal(path), Verdict::Altered)
        }
    }

    fn list(path: &'static str, instead_of: &[&'static str]) -> NewList {
        let instead_of = instead_of.iter().map(|p| SystemPath::literal(p)).collect();
        NewList { path: SystemPath::literal(path), size: 3, digest: Digest::hash(b"new"), mtime: 5, instead_of }
    }

    fn planned(findings: &[Finding], asides: &[Aside], coming: &[Coming<'_>]) -> Plan {
        // One folder of the cache is a link into a home.
        let place = |path: &SystemPath| {
            let led = path.below(&SystemPath::literal("/cache/led")).map(|rest| [b"/home/mirela/", rest].concat());
            let place = led.and_then(|p| SystemPath::parse(&p).ok()).unwrap_or_else(|| path.clone());
            Some((place, (path.name() != b"gone").then(stat)))
        };
        let rules = UpdateRules { protection: &Home, place: &place, owner: (0, 0), ignore_disk_errors: false };
        plan_updates(findings, asides, coming, &rules)
    }

    #[test]
    fn a_list_takes_the_place_of_a_damaged_one_and_its_other_forms_go_aside() {
        let new = list("/lists/quay", &["/lists/quay.lz4"]);
        let aside = |path: &'static str| Aside { path: SystemPath::literal(path), findings: Vec::new() };
        let asides = [aside("/lists/quay"), aside("/cache/x.deb"), aside("/cache/gone")];
        let plan = planned(&[], &asides, &[Coming { list: &new, findings: Vec::new() }]);
        let told: Vec<_> =
            plan.actions.iter().map(|a| (a.place.to_string(), a.operation == Operation::SetAside)).collect();
        let told: Vec<_> = told.iter().map(|(place, aside)| (place.as_str(), *aside)).collect();
        assert_eq!(told, [("/cache/x.deb", true), ("/lists/quay.lz4", true), ("/lists/quay", false)]);
        assert_eq!(plan.actions.iter().map(|a| a.index).collect::<Vec<_>>(), [1, 2, 3]);
    }

    #[test]
    fn what_leads_into_a_home_and_what_the_disk_cannot_read_stays() {
        let finding = altered("/cache/led/letter");
        let aside = Aside { path: SystemPath::literal("/cache/led/letter"), findings: vec![finding.id.clone()] };
        let plan = planned(std::slice::from_ref(&finding), &[aside], &[]);
        assert!(plan.actions.is_empty() && plan.left[0].reason.contains("in a user's home"));
        let unreadable = Finding::on_path(UPDATES, &SystemPath::literal("/cache/x"), Verdict::Unreadable);
        assert_eq!(planned(&[unreadable], &[], &[]).doubt, Some(DiskDoubt::ReadErrors { files: 1 }));
    }

    #[test]
    fn what_no_action_answers_is_left_with_its_advice() {
        let lock = Finding { remedy: None, action: Some("look".into()), ..altered("/lock") };
        let mut plan = Plan::default();
        leave_the_rest(&mut plan, &[lock, altered("/cache/x")]);
        assert_eq!((plan.left.len(), plan.left[0].action.clone()), (1, Some("look".into())));
    }
}
