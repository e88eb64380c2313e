//! What can keep updates from coming: each thing named with its cause; and what was installed when.

mod support;

use std::fs;
use std::os::unix::fs::symlink;
use std::path::{Path, PathBuf};

use support::{Demo, assert_same, is_root, open};
use veritum_core::areas::UPDATES;
use veritum_core::event::NoObserver;
use veritum_core::model::{Finding, Scope, Verdict};
use veritum_core::report::{CheckReport, Outcome, UpdateKind};
use veritum_core::work::{Settings, UpdatesWanted};

fn check(settings: &Settings) -> CheckReport {
    open(settings).check(&Scope::only(UPDATES), &NoObserver).unwrap()
}

/// What is said, each with its subject and verdict, in order. The payments' vendor is known to the machine only, which is
/// always said.
fn said(findings: &[Finding]) -> Vec<(String, &'static str)> {
    let mut all: Vec<_> = findings.iter().map(|f| (f.subject.to_string(), f.verdict.word())).collect();
    all.retain(|(subject, verdict)| !(subject.contains("farebridge") && *verdict == "unverified"));
    all.sort();
    all
}

fn download(demo: &Demo, name: &str) -> PathBuf {
    let folder = demo.machine().join("var/cache/apt/archives");
    let of = |path: &PathBuf| path.file_name().is_some_and(|n| n.to_string_lossy().starts_with(name));
    fs::read_dir(folder).unwrap().flatten().map(|e| e.path()).find(of).unwrap()
}

fn list(demo: &Demo, part: &str) -> PathBuf {
    let of = |path: &PathBuf| path.file_name().is_some_and(|n| n.to_string_lossy().contains(part));
    fs::read_dir(demo.machine().join("var/lib/apt/lists")).unwrap().flatten().map(|e| e.path()).find(of).unwrap()
}

fn flip(path: &Path) {
    let mut bytes = fs::read(path).unwrap();
    let middle = bytes.len() / 2;
    bytes[middle] ^= 1;
    fs::write(path, bytes).unwrap();
}

fn in_status(demo: &Demo, package: &str, before: &str, after: &str) {
    let table = demo.machine().join("var/lib/dpkg/status");
    let text = fs::read_to_string(&table).unwrap();
    let entry = |status: &str| format!("Package: {package}\nStatus: {status}\n");
    assert!(text.contains(&entry(before)));
    fs::write(table, text.replace(&entry(before), &entry(after))).unwrap();
}

#[test]
fn an_undamaged_machine_can_be_updated_and_its_check_changes_nothing() {
    let demo = Demo::with(&[]);
    let before = demo.tree();
    let report = check(&demo.settings());
    assert_eq!((said(&report.findings), said(&report.notes)), (vec![], vec![]));
    assert_eq!(report.notes.len(), 2, "the payments' source and their download");
    assert!(report.unexamined.is_empty() && report.outcome >= Outcome::OkLimited, "{report:?}");
    let area = report.area(UPDATES).unwrap();
    assert!(area.area == UPDATES && area.bytes > 0 && area.examined > 50);
    assert!(area.extent.as_deref().unwrap().contains("no updates are waiting"));
    assert_same("a check changes nothing", &before, &demo.tree());
}

#[test]
fn each_download_is_held_against_the_signed_index() {
    let demo = Demo::with(&[]);
    let cache = demo.machine().join("var/cache/apt/archives");
    let partial = cache.join("partial");
    fs::create_dir_all(&partial).unwrap();
    let (gullmail, library) = (download(&demo, "gullmail_"), download(&demo, "libgunwale5_"));
    let whole = fs::read(&gullmail).unwrap();
    let name = |path: &Path| path.file_name().unwrap().to_string_lossy().into_owned();
    fs::write(partial.join(name(&library)), &fs::read(&library).unwrap()[..100]).unwrap();
    fs::write(partial.join(name(&gullmail)), vec![7; whole.len()]).unwrap();
    flip(&gullmail);
    fs::write(&library, &fs::read(&library).unwrap()[..500]).unwrap();
    fs::write(cache.join("berthbook_4.1-1_amd64.deb"), "of another release").unwrap();
    fs::write(cache.join("unheard-of_1_amd64.deb"), "nobody's").unwrap();
    symlink("/home/mirela", cache.join("led-out_1_amd64.deb")).unwrap();
    fs::write(cache.join("a\nname.deb"), "").unwrap();
    let before = demo.tree();
    let report = check(&demo.settings());
    let at = |rest: &str| format!("/var/cache/apt/archives/{rest}");
    let mut expected = vec![
        (at(&name(&gullmail)), "altered"),
        (at(&name(&library)), "truncated"),
        (at(&format!("partial/{}", name(&gullmail))), "altered"),
        (at("led-out_1_amd64.deb"), "wrong-type"),
    ];
    expected.sort();
    assert_eq!(said(&report.findings), expected);
    let mut expected = vec![
        (at("berthbook_4.1-1_amd64.deb"), "superseded"),
        (at(&format!("partial/{}", name(&library))), "partial"),
        (at("unheard-of_1_amd64.deb"), "unverified"),
        (at("a\nname.deb"), "unverified"),
    ];
    expected.sort();
    assert_eq!(said(&report.notes), expected);
    assert!(report.findings.iter().all(|f| f.cause.is_some() && f.remedy.is_some()));
    assert_same("a check changes nothing", &before, &demo.tree());
}

#[test]
fn lists_are_told_apart_by_what_is_wrong_with_them() {
    type Damage = dyn Fn(&Demo);
    let key_gone = |demo: &Demo| fs::write(demo.machine().join("etc/apt/keyrings/farebridge.asc"), "").unwrap();
    let cases: [(&str, &Damage, &str, Verdict); 5] = [
        (
            "forged",
            &|d| {
                let path = list(d, "saltwort_InRelease");
                let text = fs::read_to_string(&path).unwrap();
                fs::write(&path, text.replacen("Codename: saltwort", "Codename: samphire", 1)).unwrap();
            },
            "saltwort",
            Verdict::BadSignature,
        ),
        (
            "cut",
            &|d| {
                let path = list(d, "saltwort_InRelease");
                let bytes = fs::read(&path).unwrap();
                fs::write(&path, &bytes[..bytes.len() / 2]).unwrap();
            },
            "saltwort",
            Verdict::Corrupt,
        ),
        ("missing", &|d| fs::remove_file(list(d, "stable_InRelease")).unwrap(), "stable", Verdict::Missing),
        ("index altered", &|d| flip(&list(d, "security_main_binary-amd64_Packages")), "security", Verdict::Altered),
        ("key gone", &key_gone, "stable", Verdict::KeyMissing),
    ];
    for (what, damage, source, verdict) in cases {
        let demo = Demo::with(&[]);
        damage(&demo);
        let report = check(&demo.settings());
        let found: Vec<_> = report.findings.iter().filter(|f| f.subject.to_string().contains(source)).collect();
        assert!(found.iter().any(|f| f.verdict == verdict), "{what}: {:?}", said(&report.findings));
        assert!(found.iter().all(|f| f.cause.is_some() && (f.remedy.is_some() || f.action.is_some())), "{what}");
        assert_eq!(report.outcome, Outcome::Damaged, "{what}");
        assert!(
            report
                .area(UPDATES)
                .unwrap()
                .extent
                .as_deref()
                .unwrap()
                .starts_with("available updates unknown (package lists are damaged or missing);"),
            "{what}"
        );
    }
}

#[test]
fn old_lists_are_a_note_and_lists_from_the_future_a_problem_of_the_clock() {
    let demo = Demo::with(&[]);
    let at = |text: &str| Settings { now: text.parse().unwrap(), ..demo.settings() };
    let report = check(&at("2127-01-01T00:00:00Z"));
    assert!(report.findings.is_empty(), "{:?}", said(&report.findings));
    assert!(report.notes.iter().any(|n| n.verdict == Verdict::Outdated));
    let report = check(&at("2020-01-01T00:00:00Z"));
    assert!(report.findings.iter().any(|f| f.verdict == Verdict::FutureDated), "{:?}", said(&report.findings));
}

#[test]
fn what_an_administrator_set_and_what_was_begun_is_told() {
    let demo = Demo::with(&[]);
    let etc = demo.machine().join("etc/apt");
    in_status(&demo, "berthbook", "install ok installed", "hold ok installed");
    in_status(&demo, "gullmail", "install ok installed", "install ok unpacked");
    in_status(&demo, "driftlook", "install ok installed", "install reinstreq half-installed");
    fs::write(etc.join("sources.list"), "deb http://archive.foreshore.example/foreshore\nnonsense\n").unwrap();
    let sources = fs::read_to_string(etc.join("sources.list.d/foreshore.sources")).unwrap();
    fs::write(etc.join("sources.list.d/twice.sources"), sources).unwrap();
    fs::write(etc.join("preferences"), "Package: *\nPin: release a=saltwort\nPin-Priority: -1\n").unwrap();
    fs::create_dir_all(etc.join("apt.conf.d")).unwrap();
    fs::write(etc.join("apt.conf.d/10periodic"), "APT::Periodic::Enable \"0\";\n").unwrap();
    let report = check(&demo.settings());
    assert_eq!(
        said(&report.findings),
        [
            ("/etc/apt/sources.list".to_owned(), "corrupt"),
            ("driftlook".to_owned(), "incomplete"),
            ("gullmail".to_owned(), "incomplete"),
        ]
    );
    assert_eq!(
        said(&report.notes),
        [
            ("/etc/apt/preferences".to_owned(), "held-back"),
            ("/etc/apt/sources.list.d/twice.sources".to_owned(), "duplicate"),
            ("APT::Periodic::Enable".to_owned(), "disabled"),
            ("berthbook".to_owned(), "held-back"),
        ]
    );
}

#[test]
fn one_subject_is_one_finding_and_every_finding_can_be_explained() {
    let demo = Demo::with(&[]);
    fs::write(demo.machine().join("etc/apt/sources.list"), "nonsense\nmore of it\n").unwrap();
    flip(&download(&demo, "gullmail_"));
    let report = check(&demo.settings());
    let garbled = report.findings.iter().find(|f| f.verdict == Verdict::Corrupt).unwrap();
    let cause = garbled.cause.as_deref().unwrap();
    assert!(cause.contains("line 1") && cause.contains("line 2"), "{cause}");
    for finding in report.findings.iter().chain(&report.notes) {
        let told = open(&demo.settings()).explain_finding(finding.id.as_str(), &NoObserver).unwrap();
        assert_eq!(told.finding.as_ref(), Some(finding));
    }
}

#[test]
fn what_may_not_be_looked_into_is_said() {
    use std::os::unix::fs::PermissionsExt as _;
    if is_root() {
        return;
    }
    let demo = Demo::with(&[]);
    let partial = demo.machine().join("var/cache/apt/archives/partial");
    fs::create_dir_all(&partial).unwrap();
    fs::set_permissions(&partial, fs::Permissions::from_mode(0o000)).unwrap();
    let report = check(&demo.settings());
    fs::set_permissions(&partial, fs::Permissions::from_mode(0o700)).unwrap();
    assert!(
        report.unexamined.iter().any(|u| u.reason.contains("locks: only root can see them")),
        "{:?}",
        report.unexamined
    );
}

#[test]
fn a_lock_that_another_holds_is_told_and_one_that_is_merely_there_is_not() {
    let demo = Demo::with(&[]);
    let machine =
        veritum_core::machine::Machine::open(&demo.machine(), std::sync::Arc::new(veritum_core::machine::LiveDisk))
            .unwrap();
    let dir = machine.dir(&veritum_core::model::SystemPath::literal("/var/lib/dpkg")).unwrap();
    let held = veritum_core::machine::lock_exclusive(&dir, b"lock").unwrap();
    let report = check(&demo.settings());
    assert_eq!(said(&report.notes), [("/var/lib/dpkg/lock".to_owned(), "busy")]);
    drop(held);
    assert!(said(&check(&demo.settings()).notes).is_empty());
}

#[test]
fn thousands_of_leftovers_are_counted_and_not_listed() {
    let demo = Demo::with(&[]);
    let partial = demo.machine().join("var/cache/apt/archives/partial");
    fs::create_dir_all(&partial).unwrap();
    for number in 0..3000 {
        fs::write(partial.join(format!("left-{number}")), "").unwrap();
    }
    let report = check(&demo.settings());
    let listed = report.notes.iter().filter(|n| n.subject.as_path().is_some()).count();
    // With the payments' download.
    assert_eq!((listed, report.unexamined.len(), report.unexamined[0].count), (1000, 1, 2001));
}

#[test]
fn what_was_installed_is_told_run_by_run() {
    let demo = Demo::with(&[]);
    let list = |wanted: UpdatesWanted| open(&demo.settings()).list_updates(&wanted);
    let report = list(UpdatesWanted { trouble: "2026-03-02T23:59:59".parse().ok(), ..UpdatesWanted::default() });
    let [update, first] = report.runs.as_slice() else { panic!("{:?}", report.runs) };
    assert!(update.before_trouble && !first.before_trouble && first.lines.len() > 50);
    assert_eq!((update.by.as_deref(), update.command.as_deref()), (Some("oskar"), Some("apt-get upgrade")));
    let told: Vec<_> = update.lines.iter().map(|l| (l.package.as_str(), l.kind)).collect();
    let ordinary = Some(UpdateKind::Ordinary);
    // The payments' vendor is no one that the administrator knows.
    assert_eq!(told, [("libgunwale5", Some(UpdateKind::Security)), ("farebridge", None), ("gullmail", ordinary)]);
    let since = list(UpdatesWanted { since: "2026-02-01T00:00".parse().ok(), ..UpdatesWanted::default() });
    assert_eq!(since.runs.len(), 1);
    let one = list(UpdatesWanted { package: Some("berthbook".into()), ..UpdatesWanted::default() });
    assert_eq!((one.runs.len(), one.runs[0].lines.len()), (1, 1));
}
