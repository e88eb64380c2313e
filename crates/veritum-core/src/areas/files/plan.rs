//! From findings about files to actions.

use std::collections::{BTreeSet, HashMap, HashSet};

use super::{Fault, FilesCheck};
use crate::machine::ProtectionPolicy;
use crate::model::{
    Action, Authority, Digest, FileKind, Finding, Identity, LinkTarget, PackageId, Remedy, Stat, SystemPath, Verdict,
};
use crate::plan::{DiskDoubt, Item, ItemKind, Left, Operation, Plan, PlannedAction};
use crate::reference::{Expected, ExpectedKind, Meta, Reference};
use crate::supply::Availability;

/// More altered files, of more packages than [`MANY_COMPONENTS`], indicate a hardware problem.
const MANY_FILES: u64 = 50;
const MANY_PACKAGES: u64 = 5;

/// The prefix of dynamic loaders' names (ld.so(8)).
const LOADERS: [&[u8]; 3] = [b"ld-linux", b"ld-musl", b"ld.so."];

/// The input of the planning.
pub struct FileRules<'a> {
    /// Places that must not be changed.
    pub protection: &'a dyn ProtectionPolicy,
    /// Whether the available sources have a content.
    pub has_content: &'a dyn Fn(&Digest) -> bool,
    /// How a package is available, if a repair needs it.
    pub supply: &'a dyn Fn(&PackageId) -> Availability,
    /// Whether a path is excluded.
    pub left_out: &'a dyn Fn(&SystemPath) -> bool,
    /// Whether unreadable files are replaced, as the administrator requested.
    pub ignore_disk_errors: bool,
}

/// Plans the repair of findings; adds the remedy to each finding.
#[must_use]
pub fn plan_files(check: &mut FilesCheck, reference: &Reference, rules: &FileRules<'_>) -> Plan {
    let mut planner =
        Planner { reference, rules, plan: Plan::default(), metas: HashMap::new(), groups: HashMap::new() };
    for fault in in_order(&check.faults, reference) {
        let finding = &mut check.findings[fault.finding];
        match planner.remedy(fault, finding) {
            Ok(remedy) => {
                finding.action = finding.action.take().or_else(|| afterwards(fault, reference));
                finding.remedy = Some(remedy);
            }
            Err((reason, next)) => {
                finding.action = finding.action.take().or_else(|| next.clone());
                planner.plan.left.push(Left::new(finding, reason, next));
            }
        }
    }
    planner.plan.doubt = if rules.ignore_disk_errors { None } else { doubt(check) };
    planner.plan
}

fn doubt(check: &FilesCheck) -> Option<DiskDoubt> {
    let unreadable = check.findings.iter().filter(|f| f.verdict == Verdict::Unreadable).count() as u64;
    if unreadable > 0 {
        return Some(DiskDoubt::ReadErrors { files: unreadable });
    }
    // Findings with a known cause are not a sign of a failing disk.
    let of = |verdict| check.findings.iter().filter(move |f| f.verdict == verdict && f.cause.is_none());
    let altered = of(Verdict::Altered).count() as u64;
    let packages = of(Verdict::Altered).filter_map(|f| f.package.as_ref()).collect::<BTreeSet<_>>().len() as u64;
    (altered > MANY_FILES && packages > MANY_PACKAGES).then_some(DiskDoubt::ManyUnrelated { files: altered, packages })
}

/// The order of replacement: what every program needs to start comes last and in immediate succession, so that old and new
/// versions coexist only briefly.
fn in_order<'a>(faults: &'a [Fault], reference: &Reference) -> Vec<&'a Fault> {
    let of_loader = |fault: &&Fault| {
        let expected = &reference.expected[fault.expected];
        let name = expected.listed.name();
        LOADERS.iter().any(|l| name.starts_with(l)).then_some(expected.package)
    };
    let owners: BTreeSet<usize> = faults.iter().filter_map(|f| of_loader(&f)).collect();
    let last = |fault: &&Fault| {
        let expected = &reference.expected[fault.expected];
        owners.contains(&expected.package)
            || expected.listed.name().starts_with(b"libc.so.")
            || of_loader(fault).is_some()
    };
    let (runtime, others): (Vec<&Fault>, Vec<&Fault>) = faults.iter().partition(last);
    others.into_iter().chain(runtime).collect()
}

/// What a package's own scripts have set on a file is kept, as long as it is visible and gives no more privilege than the
/// reference: privilege that only this machine records is never restored unasked.
fn kept_meta(expected: &Expected, meta: Meta, found: &Stat) -> Option<Meta> {
    let set = expected.configured && expected.overridden().is_none() && found.kind == FileKind::File;
    let more = found.mode & !meta.mode & 0o6022 != 0;
    (set && !more).then_some(Meta { mode: found.mode, uid: found.uid, gid: found.gid, ..meta })
}

/// What a person should do after a repair: no reference knows what a package's own scripts set.
fn afterwards(fault: &Fault, reference: &Reference) -> Option<Action> {
    let expected = &reference.expected[fault.expected];
    let content = matches!(expected.kind, ExpectedKind::File { .. });
    (expected.configured && content && !fault.only_meta).then(|| {
        let name = &reference.package_of(expected).name;
        let text = format!("{name} sets owner, permissions or capabilities itself when it is configured");
        Action::explained(text, format!("dpkg-reconfigure {name}"))
    })
}

type Refusal = (String, Option<Action>);

struct Planner<'a> {
    reference: &'a Reference,
    rules: &'a FileRules<'a>,
    plan: Plan,
    /// Inodes whose owner and mode are planned already: one inode may have several names.
    metas: HashMap<Identity, usize>,
    /// Hard-link groups whose content an action writes.
    groups: HashMap<u32, u32>,
}

fn refuse(reason: &str, action: impl Into<Action>) -> Refusal {
    (reason.to_owned(), Some(action.into()))
}

impl Planner<'_> {
    fn remedy(&mut self, fault: &Fault, finding: &Finding) -> Result<Remedy, Refusal> {
        let expected = &self.reference.expected[fault.expected];
        if let Some(reason) = self.rules.protection.reason(&fault.physical) {
            return Err((format!("not changed: {reason}"), None));
        }
        if finding.verdict == Verdict::Unreadable && !self.rules.ignore_disk_errors {
            return Err(refuse("the disk reports read errors", "back up the users' files first, then test the disk"));
        }
        if fault.lost_capabilities {
            let name = &self.reference.package_of(expected).name;
            let reason = "its package sets file capabilities when it is configured";
            return Err((reason.into(), Some(Action::command(format!("dpkg-reconfigure {name}")))));
        }
        if fault.only_meta && expected.authority != Authority::Local {
            return self.set_meta(fault, expected, finding);
        }
        if let Some(bytes) = self.to_download(fault, expected)? {
            let (action, from) = (crate::model::ActionKind::Restore, Some("repository".into()));
            return Ok(Remedy { action, from, download: Some(bytes) });
        }
        let items = match &fault.alias {
            Some(target) => vec![self.alias(expected, target)?],
            None if fault.roots.is_empty() => vec![self.item(expected, fault)?],
            None => self.tree(fault)?,
        };
        let linked = matches!(items[0].kind, ItemKind::NameOf { .. } | ItemKind::NameOfAction { .. });
        let index = self.plan.next_index();
        if let (Some(group), ItemKind::File { .. }) = (expected.group, &items[0].kind) {
            self.groups.insert(group, index);
        }
        self.push(fault, expected, finding, Operation::Put(items));
        let action = if linked && finding.verdict == Verdict::HardlinkSplit {
            crate::model::ActionKind::Relink
        } else {
            crate::model::ActionKind::Restore
        };
        Ok(Remedy { action, from: Some(source_word(expected.authority).into()), download: None })
    }

    /// The size of the packages that must be downloaded before anything can be planned; `None` when all are available.
    fn to_download(&self, fault: &Fault, expected: &Expected) -> Result<Option<u64>, Refusal> {
        // A symlink or pipe has no content for which a package would be needed.
        let plain = fault.roots.is_empty() && plain_kind(&expected.kind).is_some();
        if expected.authority != Authority::Local && (plain || fault.alias.is_some()) {
            return Ok(None);
        }
        let mut bytes = 0;
        for package in needed_packages(fault, expected, self.reference) {
            match (self.rules.supply)(package) {
                Availability::AtHand => {}
                Availability::Download { bytes: more } => bytes += more,
                Availability::Refused { reason, next } => return Err((reason, next)),
            }
        }
        Ok((bytes > 0).then_some(bytes))
    }

    fn push(&mut self, fault: &Fault, expected: &Expected, finding: &Finding, operation: Operation) {
        self.plan.push(PlannedAction {
            findings: vec![finding.id.clone()],
            listed: expected.listed.clone(),
            package: Some(self.reference.package_of(expected).clone()),
            ..PlannedAction::new(fault.physical.clone(), fault.found, operation)
        });
    }

    fn set_meta(&mut self, fault: &Fault, expected: &Expected, finding: &Finding) -> Result<Remedy, Refusal> {
        let from = Some(source_word(expected.authority).into());
        let remedy = Remedy { action: crate::model::ActionKind::SetMode, from, download: None };
        let (Some(meta), Some(found)) = (wanted(expected), fault.found) else {
            return Err(("owner and permissions are unknown".into(), None));
        };
        if !matches!(found.kind, FileKind::File | FileKind::Folder) {
            // Symlinks and devices cannot be opened to set a mode: they are created again.
            let item = self.item(expected, fault)?;
            self.push(fault, expected, finding, Operation::Put(vec![item]));
            return Ok(remedy);
        }
        if let Some(at) = self.metas.get(&found.id) {
            self.plan.actions[*at].findings.push(finding.id.clone());
            return Ok(remedy);
        }
        self.metas.insert(found.id, self.plan.actions.len());
        self.push(fault, expected, finding, Operation::SetMeta { mode: meta.mode, uid: meta.uid, gid: meta.gid });
        Ok(remedy)
    }

    fn item(&self, expected: &Expected, fault: &Fault) -> Result<Item, Refusal> {
        let meta = wanted(expected).ok_or_else(|| ("owner and permissions are unknown".to_owned(), None))?;
        let meta = fault.found.and_then(|found| kept_meta(expected, meta, &found)).unwrap_or(meta);
        let kind = match &expected.kind {
            ExpectedKind::File { size, digest } => {
                let earlier = expected.group.and_then(|g| self.groups.get(&g));
                match (&fault.sibling, earlier) {
                    (Some(sibling), _) => ItemKind::NameOf { place: sibling.clone(), digest: *digest },
                    (None, Some(index)) => ItemKind::NameOfAction { index: *index, below: None, digest: *digest },
                    _ if !(self.rules.has_content)(digest) => return Err(lacking()),
                    _ => ItemKind::File { size: *size, digest: *digest },
                }
            }
            other => plain_kind(other).ok_or_else(|| ("its content is unknown".to_owned(), None))?,
        };
        Ok(item(SystemPath::root(), kind, meta))
    }

    /// The symlink for a top-level folder on a merged system; what is below it is examined in the next round.
    fn alias(&self, expected: &Expected, target: &[u8]) -> Result<Item, Refusal> {
        let meta = wanted(expected).ok_or_else(|| ("its owner is unknown".to_owned(), None))?;
        let kind = ItemKind::Link(LinkTarget(target.to_vec()));
        Ok(item(SystemPath::root(), kind, Meta { mode: 0o777, ..meta }))
    }

    /// A missing or blocked folder with everything expected below it, folders before their contents.
    fn tree(&self, fault: &Fault) -> Result<Vec<Item>, Refusal> {
        let mut found: HashMap<SystemPath, (&Expected, bool)> = HashMap::new();
        let mut needed: HashSet<SystemPath> = HashSet::new();
        for expected in &self.reference.expected {
            let Some(below) = fault.roots.iter().find_map(|root| expected.listed.below(root)) else { continue };
            let Ok(below) = SystemPath::below_root(below) else { continue };
            let out = (self.rules.left_out)(&expected.listed);
            if !out {
                let way = std::iter::successors(below.parent(), SystemPath::parent);
                needed.extend(way);
            }
            if !out || expected.kind == ExpectedKind::Folder {
                // Of two spellings of one path, the first package's counts.
                let kept = found.entry(below).or_insert((expected, out));
                if expected.package < kept.0.package {
                    *kept = (expected, out);
                }
            }
        }
        // An excluded folder is restored only if something in it was not excluded.
        found.retain(|below, (_, out)| !*out || needed.contains(below));
        let mut order: Vec<(SystemPath, (&Expected, bool))> = found.into_iter().collect();
        order.sort_by(|a, b| a.0.cmp(&b.0));
        let mut first_names: HashMap<u32, SystemPath> = HashMap::new();
        let mut items = Vec::with_capacity(order.len());
        for (below, (expected, _)) in order {
            let Some(meta) = wanted(expected) else {
                return Err(refuse(
                    "part of it is known from the local package database only",
                    "name a store that has all its packages: --store LOCATION",
                ));
            };
            let kind = match &expected.kind {
                ExpectedKind::File { size, digest } => match expected.group.and_then(|g| first_names.get(&g)) {
                    Some(first) => ItemKind::NameOfItem { below: first.clone() },
                    None if !(self.rules.has_content)(digest) => return Err(lacking()),
                    None => {
                        if let Some(group) = expected.group {
                            first_names.insert(group, below.clone());
                        }
                        ItemKind::File { size: *size, digest: *digest }
                    }
                },
                other => plain_kind(other).ok_or_else(|| ("part of its content is unknown".to_owned(), None))?,
            };
            items.push(item(below, kind, meta));
        }
        match items.first() {
            Some(first) if first.below.is_root() && first.kind == ItemKind::Folder => Ok(items),
            _ => Err(("the folder's owner and permissions are unknown".into(), None)),
        }
    }
}

/// The packages that must be known to repair a finding: its own, and for a folder all that have entries in it.
pub fn needed_packages<'a>(fault: &Fault, expected: &'a Expected, reference: &'a Reference) -> BTreeSet<&'a PackageId> {
    let mut needed = BTreeSet::from([reference.package_of(expected)]);
    if !fault.roots.is_empty() && fault.alias.is_none() {
        let below = reference.expected.iter().filter(|e| fault.roots.iter().any(|root| e.listed.is_within(root)));
        // A folder that several packages share needs only one of them.
        let things = below.filter(|e| e.kind != ExpectedKind::Folder);
        needed.extend(things.map(|e| reference.package_of(e)));
    }
    needed
}

fn source_word(authority: Authority) -> &'static str {
    if authority == Authority::Repository { "repository" } else { "store" }
}

fn lacking() -> Refusal {
    refuse(
        "the store does not have its content",
        Action::explained(
            "add the package to the store, from the repository or its .deb file",
            "veritum store add --installed",
        ),
    )
}

fn wanted(expected: &Expected) -> Option<Meta> {
    expected.overridden().map(|o| Meta { mtime: expected.meta.map_or(o.mtime, |m| m.mtime), ..o }).or(expected.meta)
}

fn plain_kind(want: &ExpectedKind) -> Option<ItemKind> {
    Some(match want {
        ExpectedKind::Folder => ItemKind::Folder,
        ExpectedKind::Link(target) => ItemKind::Link(LinkTarget(target.clone())),
        ExpectedKind::Fifo => ItemKind::Fifo,
        ExpectedKind::Device { block, major, minor } => {
            ItemKind::Device { block: *block, major: *major, minor: *minor }
        }
        ExpectedKind::File { .. } | ExpectedKind::Recorded(_) | ExpectedKind::Something => return None,
    })
}

fn item(below: SystemPath, kind: ItemKind, meta: Meta) -> Item {
    Item::new(below, kind, meta.mode, (meta.uid, meta.gid), meta.mtime)
}
