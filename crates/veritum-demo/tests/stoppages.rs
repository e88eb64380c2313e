//! Each kind of damage that keeps updates from coming, alone and all together: named, repaired, proved, undone.

#[path = "support/mounts.rs"]
mod mounts;
mod support;

use std::collections::BTreeSet;
use std::path::{Path, PathBuf};
use std::process::Command;

use support::{STATE, assert_same, folder, open, pristine, undo};
use veritum_core::areas::{APPS, DATABASE, FILES, UPDATES};
use veritum_core::event::NoObserver;
use veritum_core::model::{ActionKind, ActionResult, Finding, FindingId, Scope};
use veritum_core::platform::services::Services as _;
use veritum_core::report::ProofOutcome;
use veritum_core::repository::Proxies;
use veritum_core::testkit::Tree;
use veritum_core::work::{Agreement, ServiceManager, Settings};
use veritum_demo::mirror::Mirror;
use veritum_demo::{FAULTS, Fault, apply, apply_to_store, apply_to_updates, by_name, services};

/// A copy of the whole demo, its repositories served under their own names.
struct Served {
    dir: tempfile::TempDir,
    mirror: Mirror,
}

impl Served {
    fn with(faults: &[&Fault]) -> Self {
        let dir = folder();
        let copied = Command::new("cp").arg("-a").arg(pristine().join("demo")).arg(dir.path()).status().unwrap();
        assert!(copied.success());
        let demo = dir.path().join("demo");
        faults.iter().for_each(|fault| apply_to_updates(&demo, fault).unwrap());
        let mirror = Mirror::serve(&demo.join("served")).unwrap();
        Self { dir, mirror }
    }

    fn demo(&self) -> PathBuf {
        self.dir.path().join("demo")
    }

    fn settings(&self) -> Settings {
        let demo = self.demo();
        let plain = support::Demo::with(&[]).settings();
        let proxies = Proxies { http: Some(self.mirror.url().to_owned()), ..Proxies::default() };
        let repositories = veritum_core::repository::RepositorySettings {
            network: true,
            proxies,
            downloads: demo.join("downloads"),
            cache: demo.join("cache"),
            ..plain.repositories.clone()
        };
        Settings {
            root: demo.join("machine"),
            store: Some(demo.join("store").into()),
            trust: demo.join("trust"),
            scratch: vec![demo.clone()],
            services: ServiceManager::StandIn(demo.join("services")),
            repositories,
            ..plain
        }
    }

    fn tree(&self) -> Tree {
        Tree::read(&self.demo().join("machine"), &[STATE])
    }
}

fn all() -> Vec<&'static Fault> {
    FAULTS.iter().filter(|fault| fault.in_updates && !fault.mounts).collect()
}

fn has(findings: &[Finding], fault: &Fault) -> bool {
    findings.iter().any(|f| f.verdict.word() == fault.verdict && f.subject.to_string().contains(fault.path))
}

/// The downloads that are there and were not damaged.
fn right(demo: &Path, faults: &[&Fault]) -> Vec<(String, Vec<u8>)> {
    let cache = demo.join("machine/var/cache/apt/archives");
    let mut all: Vec<_> = std::fs::read_dir(cache).unwrap().flatten().filter(|e| e.path().is_file()).collect();
    all.retain(|e| {
        !faults.iter().any(|f| f.path.ends_with(e.file_name().to_string_lossy().split_inclusive('_').next().unwrap()))
    });
    let mut all: Vec<_> =
        all.iter().map(|e| (e.file_name().to_string_lossy().into_owned(), std::fs::read(e.path()).unwrap())).collect();
    all.sort();
    all
}

fn lives(faults: &[&'static Fault]) {
    let names: Vec<&str> = faults.iter().map(|f| f.name).collect();
    let what = names.join(", ");
    let served = Served::with(faults);
    let (before, untouched) = (served.tree(), right(&served.demo(), faults));
    let updates = Scope::only(UPDATES);
    let report = open(&served.settings()).check(&updates, &NoObserver).unwrap();
    // By forged lists no one can say what a download should be: that comes to light with the new ones.
    let hidden = |fault: &&&Fault| !names.contains(&"list-forged") || !fault.path.starts_with("/var/cache");
    for fault in faults.iter().filter(hidden) {
        let told = if fault.note { &report.notes } else { &report.findings };
        assert!(has(told, fault), "{what}: {}: {:?} {:?}", fault.name, report.findings, report.notes);
    }
    let report = support::renew(&served.settings());
    let proof = report.proof.as_ref().unwrap();
    assert_eq!((proof.outcome, proof.updates, proof.security), (ProofOutcome::Proved, 1, 1), "{what}: {proof:#?}");
    assert!(
        report.area(UPDATES).unwrap().remaining.is_empty(),
        "{what}: {:#?}",
        report.area(UPDATES).unwrap().remaining
    );
    // Proxies for repositories commonly let no one through to their ports, and answer for whole URLs.
    let (whole, tunnels) = served.mirror.as_proxy();
    assert!(whole >= 3 && tunnels == 0, "{what}: {whole} whole URLs, {tunnels} ways through");
    assert_eq!(right(&served.demo(), faults), untouched, "{what}: what was right is there, byte for byte");
    let again = open(&served.settings()).check(&updates, &NoObserver).unwrap();
    assert!(again.findings.is_empty(), "{what}: {:?}", again.findings);
    let manned = services(&served.demo());
    for unit in ["apt-daily.timer", "apt-daily.service", "apt-daily-upgrade.timer", "apt-daily-upgrade.service"] {
        let sound = services(&pristine().join("demo")).look(unit).unwrap();
        assert_eq!(manned.look(unit).unwrap(), sound, "{what}: {unit}");
    }
    undo(&served.settings(), None).unwrap();
    assert_same(&format!("{what}: taken back"), &before, &served.tree());
}

#[test]
fn each_kind_alone_is_named_and_repaired() {
    for fault in all() {
        lives(&[fault]);
    }
}

#[test]
fn all_kinds_together_are_named_and_repaired() {
    lives(&all());
}

#[test]
fn a_full_disk_is_named_and_updates_come_nevertheless() {
    if !mounts::root_or_skip("a small disk") {
        return;
    }
    let faults = ["disk-full", "download-altered"].map(|name| by_name(name).unwrap());
    let served = Served::with(&[faults[1], faults[0]]);
    let _mounted = mounts::Mounted(served.demo().join("machine"));
    let filler = served.demo().join("machine/home/mirela/Videos/harbour-day.mkv");
    let film = std::fs::read(&filler).unwrap();
    let before = served.tree();
    let updates = Scope::only(UPDATES);
    let report = open(&served.settings()).check(&updates, &NoObserver).unwrap();
    faults.iter().for_each(|fault| assert!(has(&report.findings, fault), "{}: {:?}", fault.name, report.findings));
    let cause = report.findings.iter().find(|f| has(std::slice::from_ref(f), faults[0])).unwrap().cause.clone();
    assert!(cause.unwrap().contains("KiB free, 64 MiB needed"));
    let report = support::renew(&served.settings());
    assert_eq!(report.proof.as_ref().unwrap().outcome, ProofOutcome::Proved);
    let [left] = report.area(UPDATES).unwrap().remaining.as_slice() else {
        panic!("{:?}", report.area(UPDATES).unwrap().remaining)
    };
    assert!(left.reason.contains("of downloads is not enough") || left.reason.contains("free"), "{left:?}");
    assert_eq!(report.area(UPDATES).unwrap().repaired, 1);
    assert!(
        report.area(UPDATES).unwrap().actions.iter().any(|a| a.action == ActionKind::Free),
        "{:?}",
        report.area(UPDATES).unwrap().actions
    );
    assert!(std::fs::read(&filler).unwrap() == film, "what a user has is not taken away");
    let told = undo(&served.settings(), None).unwrap();
    let gone: Vec<_> = told.changes.iter().flat_map(|c| &c.refused).collect();
    assert!(!gone.is_empty() && gone.iter().all(|r| r.why.contains("deleted to free space")), "{gone:?}");
    // What was deleted does not be restored, and the folder around it says so by its time.
    let differs = before.without_folder_times().differences(&served.tree().without_folder_times());
    let lost: Vec<String> =
        gone.iter().map(|r| format!("{}: gone", r.path).trim_start_matches('/').to_owned()).collect();
    assert_eq!(differs, lost);
}

/// Holds what is reported against itself: nothing that was found is neither planned nor left, and nothing goes uncounted.
fn adds_up(what: &str, settings: &Settings, scope: &Scope) {
    let planned = open(settings).plan_repair(scope, &NoObserver, &mut |_| {}).unwrap();
    let found: BTreeSet<&FindingId> = planned.before.findings.iter().map(|f| &f.id).collect();
    let left: BTreeSet<&FindingId> =
        planned.areas.iter().flat_map(|a| &a.remaining).map(|left| &left.finding).collect();
    let answers: BTreeSet<&FindingId> =
        planned.areas.iter().flat_map(|a| &a.actions).flat_map(|action| &action.findings).collect();
    let neither: Vec<_> = found.iter().filter(|id| !left.contains(**id) && !answers.contains(**id)).collect();
    // What is known of the files before the database is right is known again after it.
    assert!(neither.is_empty(), "{what}: {neither:?}: {:#?}", planned.before.findings);
    let done = open(settings).repair(scope, &NoObserver, &mut |_| Agreement::Yes).unwrap();
    let after = done.after.as_ref().unwrap_or(&done.before);
    let before: BTreeSet<&FindingId> = done.before.findings.iter().map(|f| &f.id).collect();
    let now: BTreeSet<&FindingId> = after.findings.iter().map(|f| &f.id).collect();
    let remaining: Vec<&FindingId> = done.areas.iter().flat_map(|a| &a.remaining).map(|left| &left.finding).collect();
    assert_eq!(remaining.iter().copied().collect::<BTreeSet<_>>(), now, "{what}: what is there remains, each named");
    assert_eq!(remaining.len(), now.len(), "{what}: each once");
    let right: u64 = done.areas.iter().map(|a| a.repaired).sum();
    let actions = done.areas.iter().flat_map(|a| &a.actions).filter(|action| action.result == ActionResult::Done);
    let acted: BTreeSet<&FindingId> = actions.flat_map(|action| &action.findings).collect();
    let new = now.union(&acted).filter(|id| !before.contains(*id)).count();
    // A thing that is wrong in another way now is no new problem, and not repaired.
    let same = |f: &Finding, n: &Finding| n.area == f.area && n.subject == f.subject && !before.contains(&n.id);
    let is_another = |f: &&Finding| !now.contains(&f.id) && after.findings.iter().any(|n| same(f, n));
    let others = done.before.findings.iter().filter(is_another).count();
    assert_eq!(right as usize + remaining.len(), before.len() + new - others, "{what}: {:#?}", done.areas);
}

#[test]
fn what_is_told_of_a_repair_adds_up() {
    let scopes = [
        Scope::default(),
        Scope::only(UPDATES),
        Scope::only(DATABASE),
        Scope::only(APPS),
        Scope { areas: vec![FILES, UPDATES, APPS], ..Scope::default() },
        Scope { selected: vec![(APPS, "gullmail".into())], ..Scope::default() },
    ];
    for scope in scopes {
        let served = Served::with(&all());
        let demo = served.demo();
        let machine = demo.join("machine");
        for fault in
            FAULTS.iter().filter(|f| !f.in_updates && !f.mounts && (f.name != "wrong-owner" || support::is_root()))
        {
            match fault.in_store {
                true => apply_to_store(&machine, &demo.join("store"), fault).unwrap(),
                false => apply(&machine, fault).unwrap(),
            }
        }
        adds_up(&format!("{scope:?}"), &served.settings(), &scope);
    }
}
