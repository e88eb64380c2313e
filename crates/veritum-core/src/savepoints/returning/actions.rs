//! The actions of a return: trees that are missing come as a whole, and folders that go away go as a whole.

use std::collections::{BTreeMap, HashMap, HashSet};

use super::compare::Difference;
use super::decide::Fate;
use super::packages::Packages;
use crate::model::{PackageId, SystemPath};
use crate::plan::{Item, ItemKind, Operation, PlannedAction};
use crate::report::StayReason;
use crate::savepoints::manifest::{Entry, What};

/// Beginnings of the names of the files that every program needs to start: they are exchanged last, in immediate succession.
const RUNTIME: [&[u8]; 3] = [b"ld-linux", b"libc.so.", b"ld.so."];

/// Builds the actions. What cannot be done is added to what stays. `uncovered` has places that exist and that savepoints never
/// cover, or that could not be read: folders with them do not go.
pub(super) fn actions(
    packages: &Packages,
    uncovered: &[SystemPath],
    differences: &[Difference],
    fates: &[Fate],
    staying: &mut BTreeMap<SystemPath, StayReason>,
) -> Vec<PlannedAction> {
    let mut builder = Builder {
        packages,
        staying,
        whole: whole_folders(differences, fates, uncovered),
        tops: HashMap::new(),
        drafts: Vec::new(),
        created: HashMap::new(),
    };
    let mut replaced: HashSet<&SystemPath> = HashSet::new();
    for (difference, fate) in differences.iter().zip(fates) {
        match fate {
            Fate::Returns => {
                if difference.is_folder_now() && !difference.was_folder() {
                    replaced.insert(&difference.path);
                }
                builder.returns(difference);
            }
            Fate::SetAside => {
                let displaced = above(&difference.path).any(|folder| replaced.contains(&folder));
                if !displaced {
                    builder.set_aside(difference);
                }
            }
            Fate::Stays(_) | Fate::Ignored => {}
        }
    }
    let unchanged = |path: &SystemPath| differences.binary_search_by(|d| d.path.cmp(path)).is_err();
    builder.link(&unchanged);
    numbered(builder.drafts)
}

fn above(path: &SystemPath) -> impl Iterator<Item = SystemPath> {
    std::iter::successors(path.parent(), SystemPath::parent)
}

/// Folders of now in which nothing stays: they can go away, or be replaced, with everything in them.
fn whole_folders(differences: &[Difference], fates: &[Fate], uncovered: &[SystemPath]) -> HashSet<SystemPath> {
    let all = || differences.iter().zip(fates).filter(|(difference, _)| difference.now.is_some());
    let goes = |difference: &Difference, fate: &Fate| match fate {
        Fate::SetAside => true,
        Fate::Returns => !difference.was_folder(),
        Fate::Stays(_) | Fate::Ignored => false,
    };
    let folders = all().filter(|(difference, fate)| difference.is_folder_now() && goes(difference, fate));
    let mut whole: HashSet<SystemPath> = folders.map(|(difference, _)| difference.path.clone()).collect();
    let stays = all().filter(|(_, fate)| **fate != Fate::SetAside).map(|(difference, _)| &difference.path);
    for path in stays.chain(uncovered) {
        for folder in above(path) {
            whole.remove(&folder);
        }
    }
    whole
}

/// An action being built, with the recorded entries of its items.
struct Draft {
    action: PlannedAction,
    items: Vec<(Item, Entry)>,
}

struct Builder<'a> {
    packages: &'a Packages,
    staying: &'a mut BTreeMap<SystemPath, StayReason>,
    whole: HashSet<SystemPath>,
    /// Folders that are created with everything in them, each with its draft's position.
    tops: HashMap<SystemPath, usize>,
    drafts: Vec<Draft>,
    /// Where each recorded file is created: its draft's position and its path in that.
    created: HashMap<SystemPath, (usize, SystemPath)>,
}

impl Builder<'_> {
    fn returns(&mut self, difference: &Difference) {
        let Some(then) = &difference.then else { return };
        let before = difference.now.as_ref().map(|(_, stat)| *stat);
        if difference.was_folder() && difference.is_folder_now() {
            self.folder(then, difference);
            return;
        }
        if difference.is_folder_now() && !self.whole.contains(&then.path) {
            self.staying.insert(then.path.clone(), StayReason::ContainsStaying);
            return;
        }
        if then.locked != 0 && difference.now.as_ref().is_none_or(|(now, _)| now.locked != then.locked) {
            // Nothing that a return creates is immutable: an undo could not take it back.
            self.staying.insert(then.path.clone(), StayReason::Attributes);
            if difference.now.as_ref().is_some_and(|(now, _)| *now == Entry { locked: now.locked, ..then.clone() }) {
                return;
            }
        }
        let within = above(&then.path).find_map(|folder| Some((*self.tops.get(&folder)?, folder)));
        let (at, below) = match within {
            Some((at, top)) => {
                let below = then.path.below(&top).and_then(|below| SystemPath::below_root(below).ok());
                (at, below.unwrap_or_else(SystemPath::root))
            }
            None => {
                let operation = Operation::Put(Vec::new());
                let action = PlannedAction::new(then.path.clone(), before, operation);
                let action = PlannedAction { package: self.package(&then.path), ..action };
                self.drafts.push(Draft { action, items: Vec::new() });
                if then.what == What::Folder {
                    self.tops.insert(then.path.clone(), self.drafts.len() - 1);
                }
                (self.drafts.len() - 1, SystemPath::root())
            }
        };
        if matches!(then.what, What::File { .. }) {
            self.created.insert(then.path.clone(), (at, below.clone()));
        }
        self.drafts[at].items.push((item(then, below), then.clone()));
    }

    /// A folder that exists gets its owner and mode.
    fn folder(&mut self, then: &Entry, difference: &Difference) {
        let Some((now, stat)) = &difference.now else { return };
        if (then.mode, then.uid, then.gid) != (now.mode, now.uid, now.gid) {
            let operation = Operation::SetMeta { mode: then.mode, uid: then.uid, gid: then.gid };
            let action = PlannedAction::new(then.path.clone(), Some(*stat), operation);
            self.drafts.push(Draft { action, items: Vec::new() });
        }
        if (&then.attributes, then.locked) != (&now.attributes, now.locked) {
            self.staying.insert(then.path.clone(), StayReason::Attributes);
        }
    }

    fn set_aside(&mut self, difference: &Difference) {
        let path = &difference.path;
        let with_folder = above(path).any(|folder| self.whole.contains(&folder));
        if with_folder {
            return;
        }
        if difference.is_folder_now() && !self.whole.contains(path) {
            self.staying.insert(path.clone(), StayReason::ContainsStaying);
            return;
        }
        let before = difference.now.as_ref().map(|(_, stat)| *stat);
        let action = PlannedAction::new(path.clone(), before, Operation::SetAside);
        self.drafts.push(Draft { action, items: Vec::new() });
    }

    /// The package that a place belongs to after the return.
    fn package(&self, path: &SystemPath) -> Option<PackageId> {
        let id = |moving: &super::packages::Moving| {
            PackageId::new(&moving.change.package, moving.change.from.as_deref()?, &moving.change.arch).ok()
        };
        self.packages.owners_then(path).filter_map(id).next()
    }

    /// Makes names of one file names of one file again; `unchanged` is true for a place that is as it was.
    fn link(&mut self, unchanged: &dyn Fn(&SystemPath) -> bool) {
        let mut groups: BTreeMap<SystemPath, Vec<(usize, usize)>> = BTreeMap::new();
        for (at, draft) in self.drafts.iter().enumerate() {
            for (number, (_, entry)) in draft.items.iter().enumerate() {
                if let What::File { hard_link_of: Some(first), .. } = &entry.what {
                    groups.entry(first.clone()).or_default().push((at, number));
                }
            }
        }
        for (first, mut members) in groups {
            let mut leader = self.created.get(&first).cloned();
            if leader.is_none() && !unchanged(&first) {
                // The first name stays as it is: the next one is the file.
                let (at, number) = members.remove(0);
                leader = Some((at, self.drafts[at].items[number].0.below.clone()));
            }
            for (at, number) in members {
                let (item, entry) = &mut self.drafts[at].items[number];
                let Some((digest, _)) = entry.content() else { continue };
                item.kind = match &leader {
                    None => ItemKind::NameOf { place: first.clone(), digest },
                    Some((of, below)) if *of == at => ItemKind::NameOfItem { below: below.clone() },
                    Some((of, below)) => ItemKind::NameOfAction {
                        // The position; numbered at the end.
                        index: u32::try_from(*of).unwrap_or(u32::MAX),
                        below: (!below.is_root()).then(|| below.clone()),
                        digest,
                    },
                };
            }
        }
    }
}

fn item(entry: &Entry, below: SystemPath) -> Item {
    let kind = match &entry.what {
        What::File { size, digest, .. } => ItemKind::File { size: *size, digest: *digest },
        What::Folder => ItemKind::Folder,
        What::Link(target) => ItemKind::Link(target.clone()),
        What::Pipe => ItemKind::Fifo,
    };
    Item {
        nanos: entry.mtime.n,
        attributes: entry.attributes.clone(),
        complete: true,
        ..Item::new(below, kind, entry.mode, (entry.uid, entry.gid), entry.mtime.s)
    }
}

/// The actions in order, numbered: hard links after what they link to, the runtime last.
fn numbered(drafts: Vec<Draft>) -> Vec<PlannedAction> {
    let hangs = |draft: &Draft| draft.items.iter().any(|(item, _)| matches!(item.kind, ItemKind::NameOfAction { .. }));
    let is_runtime = |draft: &Draft| RUNTIME.iter().any(|name| draft.action.place.name().starts_with(name));
    let mut order: Vec<usize> = (0..drafts.len()).collect();
    order.sort_by_key(|at| (is_runtime(&drafts[*at]), hangs(&drafts[*at])));
    let mut numbers = vec![0; drafts.len()];
    for (number, at) in order.iter().enumerate() {
        numbers[*at] = u32::try_from(number + 1).unwrap_or(u32::MAX);
    }
    let mut drafts: Vec<Option<Draft>> = drafts.into_iter().map(Some).collect();
    let in_order = order.into_iter().filter_map(|at| Some((numbers[at], drafts[at].take()?)));
    let mut actions = Vec::new();
    for (index, Draft { mut action, items }) in in_order {
        if matches!(action.operation, Operation::Put(_)) {
            let mut items: Vec<Item> = items.into_iter().map(|(item, _)| item).collect();
            for item in &mut items {
                if let ItemKind::NameOfAction { index, .. } = &mut item.kind {
                    *index = numbers.get(*index as usize).copied().unwrap_or(0);
                }
            }
            action.operation = Operation::Put(items);
        }
        actions.push(PlannedAction { index, ..action });
    }
    actions
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::model::{Digest, FileKind, Identity, Instant, Stat};
    use crate::savepoints::returning::compare::Difference;

    fn entry(path: &str, what: What) -> Entry {
        let path = SystemPath::parse(path.as_bytes()).unwrap();
        let mtime = Instant { s: 1, n: 2 };
        Entry { path, what, mode: 0o755, uid: 0, gid: 0, mtime, attributes: Vec::new(), locked: 0 }
    }

    fn file(first: Option<&'static str>) -> What {
        What::File { size: 1, digest: Digest::hash(b"a"), hard_link_of: first.map(SystemPath::literal) }
    }

    fn now(path: &str, what: What) -> (Entry, Stat) {
        let time = Instant { s: 1, n: 2 };
        let kind = if what == What::Folder { FileKind::Folder } else { FileKind::File };
        let id = Identity { dev: 1, ino: 1 };
        let stat = Stat { kind, mode: 0o755, uid: 0, gid: 0, size: 1, mtime: time, ctime: time, id, names: 1, rdev: 0 };
        (entry(path, what), stat)
    }

    fn told(
        differences: &[(&str, Option<What>, Option<What>, Fate)],
    ) -> (Vec<String>, BTreeMap<SystemPath, StayReason>) {
        let fates: Vec<Fate> = differences.iter().map(|(.., fate)| fate.clone()).collect();
        let differences: Vec<Difference> = differences
            .iter()
            .map(|(path, was, is, _)| Difference {
                path: SystemPath::parse(path.as_bytes()).unwrap(),
                then: was.clone().map(|was| entry(path, was)),
                now: is.clone().map(|is| now(path, is)),
            })
            .collect();
        let mut staying = BTreeMap::new();
        let uncovered = [SystemPath::literal("/usr/k/key")];
        let actions = actions(&Packages::none(), &uncovered, &differences, &fates, &mut staying);
        let item = |item: &Item| match &item.kind {
            ItemKind::File { .. } => format!("{}", item.below),
            ItemKind::NameOf { place, .. } => format!("{}={place}", item.below),
            ItemKind::NameOfAction { index, below, .. } => {
                format!("{}=#{index}{}", item.below, below.as_ref().map(ToString::to_string).unwrap_or_default())
            }
            ItemKind::NameOfItem { below } => format!("{}={below}", item.below),
            _ => format!("{}+", item.below),
        };
        let action = |action: &PlannedAction| match &action.operation {
            Operation::Put(items) => {
                format!("{} {}", action.place, items.iter().map(item).collect::<Vec<_>>().join(" "))
            }
            Operation::SetAside => format!("{} aside", action.place),
            _ => format!("{} meta", action.place),
        };
        (actions.iter().map(action).collect(), staying)
    }

    #[test]
    fn what_is_missing_comes_as_a_whole_and_what_goes_goes_as_a_whole() {
        let (actions, _) = told(&[
            ("/usr/a", Some(What::Folder), None, Fate::Returns),
            ("/usr/a-b", Some(file(None)), Some(file(None)), Fate::Returns),
            ("/usr/a/x", Some(file(None)), None, Fate::Returns),
            ("/usr/k", None, Some(What::Folder), Fate::SetAside),
            ("/usr/k/z", None, Some(file(None)), Fate::SetAside),
            ("/usr/n", None, Some(What::Folder), Fate::SetAside),
            ("/usr/n/y", None, Some(file(None)), Fate::SetAside),
            ("/usr/s", None, Some(What::Folder), Fate::SetAside),
            ("/usr/s/own", None, Some(file(None)), Fate::Stays(StayReason::MadeSince)),
            ("/usr/s/z", None, Some(file(None)), Fate::SetAside),
        ]);
        assert_eq!(actions, ["/usr/a /+ /x", "/usr/a-b /", "/usr/k/z aside", "/usr/n aside", "/usr/s/z aside"]);
    }

    #[test]
    fn attributes_that_cannot_return_are_named() {
        let was = |path, what, locked| Entry { locked, mode: 0o700, ..entry(path, what) };
        let difference =
            |then: Entry, now: Option<(Entry, Stat)>| Difference { path: then.path.clone(), then: Some(then), now };
        let only_flag = Entry { mode: 0o755, ..was("/usr/f", file(None), 16) };
        let differences = [
            difference(was("/usr/d", What::Folder, 16), Some(now("/usr/d", What::Folder))),
            difference(was("/usr/e", What::Folder, 0), Some(now("/usr/e", What::Folder))),
            difference(only_flag, Some(now("/usr/f", file(None)))),
            difference(was("/usr/g", file(None), 16), Some(now("/usr/g", file(None)))),
        ];
        let mut staying = BTreeMap::new();
        let fates = vec![Fate::Returns; differences.len()];
        let actions = actions(&Packages::none(), &[], &differences, &fates, &mut staying);
        let places: Vec<String> = actions.iter().map(|action| action.place.to_string()).collect();
        assert_eq!(places, ["/usr/d", "/usr/e", "/usr/g"]);
        let named: Vec<String> = staying.keys().map(ToString::to_string).collect();
        assert_eq!(named, ["/usr/d", "/usr/f", "/usr/g"]);
    }

    #[test]
    fn a_folder_in_place_of_a_link_goes_with_it_unless_something_in_it_stays() {
        let link = || Some(What::Link(crate::model::LinkTarget(b"x".to_vec())));
        let (actions, _) = told(&[
            ("/usr/d", link(), Some(What::Folder), Fate::Returns),
            ("/usr/d/y", None, Some(file(None)), Fate::SetAside),
        ]);
        assert_eq!(actions, ["/usr/d /+"]);
        let (actions, staying) = told(&[
            ("/usr/d", link(), Some(What::Folder), Fate::Returns),
            ("/usr/d/y", None, Some(file(None)), Fate::Stays(StayReason::MadeSince)),
        ]);
        assert!(actions.is_empty() && staying.contains_key(&SystemPath::literal("/usr/d")));
    }

    #[test]
    fn names_of_one_file_are_linked_wherever_the_first_one_is() {
        let returns = Fate::Returns;
        let member = |first| (Some(file(Some(first))), None);
        let (was, is) = member("/usr/a");
        let (actions, _) = told(&[
            ("/usr/a", Some(file(None)), Some(file(None)), returns.clone()),
            ("/usr/t", Some(What::Folder), None, returns.clone()),
            ("/usr/t/b", was.clone(), is.clone(), returns.clone()),
            ("/usr/t/c", was.clone(), is.clone(), returns.clone()),
        ]);
        assert_eq!(actions, ["/usr/a /", "/usr/t /+ /b=#1 /c=#1"]);
        let inside = Some(file(Some("/usr/t/b")));
        let (actions, _) = told(&[
            ("/usr/t", Some(What::Folder), None, returns.clone()),
            ("/usr/t/b", Some(file(None)), None, returns.clone()),
            ("/usr/t/c", inside.clone(), None, returns.clone()),
            ("/usr/u", inside, None, returns.clone()),
        ]);
        assert_eq!(actions, ["/usr/t /+ /b /c=/b", "/usr/u /=#1/b"]);
        let (actions, _) = told(&[("/usr/b", was.clone(), is.clone(), returns.clone())]);
        assert_eq!(actions, ["/usr/b /=/usr/a"], "the first is as it was");
        let (actions, _) = told(&[
            ("/usr/a", Some(file(None)), Some(file(None)), Fate::Stays(StayReason::MadeSince)),
            ("/usr/b", was.clone(), is.clone(), returns.clone()),
            ("/usr/c", was, is, returns),
        ]);
        assert_eq!(actions, ["/usr/b /", "/usr/c /=#1"], "the first stays as it is");
    }

    #[test]
    fn the_runtime_is_exchanged_last() {
        let changed = |path| (path, Some(file(None)), Some(file(None)), Fate::Returns);
        let (actions, _) =
            told(&[changed("/usr/lib/ld-linux.so.2"), changed("/usr/lib/libc.so.6"), changed("/usr/lib/libz")]);
        assert_eq!(actions, ["/usr/lib/libz /", "/usr/lib/ld-linux.so.2 /", "/usr/lib/libc.so.6 /"]);
    }
}
