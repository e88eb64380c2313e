//! Clearing the caches of updates, and the proof that updates come, against a server on loopback.

#[path = "support/stand.rs"]
mod stand;
mod support;

use std::fs;
use std::os::unix::fs::symlink;
use std::path::PathBuf;
use std::sync::Arc;

use stand::{SUITE, Stand, flip, names, packages};
use support::{STATE, assert_same, folder, open, undo};
use veritum_core::areas::UPDATES;
use veritum_core::event::NoObserver;
use veritum_core::machine::{Disk, LiveDisk};
use veritum_core::model::Scope;
use veritum_core::report::{ProofOutcome, ProofReport, RepairReport};
use veritum_core::testkit::{Accident, TestDisk, Tree};
use veritum_core::work::{Agreement, Engine, Settings, WorkError};
use veritum_demo::mirror::Mischief;
use veritum_demo::repository::Suite;
use veritum_demo::signing::{KeyShape, VendorKey};
use veritum_demo::{EXPIRES, NOW};

const CACHE: &str = "/var/cache/apt/archives";
const LISTS: &str = "/var/lib/apt/lists";

fn try_renew(settings: &Settings, wanted: &Scope, disk: Arc<dyn Disk>) -> Result<RepairReport, WorkError> {
    Engine::open(settings.clone(), disk)?.repair(wanted, &NoObserver, &mut |_| Agreement::Yes)
}

fn renew(settings: &Settings) -> RepairReport {
    try_renew(settings, &Scope::only(UPDATES), Arc::new(LiveDisk)).unwrap()
}

fn proof(report: &RepairReport) -> &ProofReport {
    report.proof.as_ref().unwrap()
}

fn tree(stand: &Stand) -> Tree {
    Tree::read(&stand.world.machine(), &[STATE])
}

/// The repository's next day: a newer quay.
fn next_day(stand: &Stand) -> Vec<veritum_demo::Package> {
    let mut newer = packages();
    newer[0].version = "1:1.0-2".into();
    let suite = Suite { made: NOW - 3600, ..Suite::new(SUITE, newer.iter().collect()) };
    stand.publish_by(&suite, &[&stand.key], suite.made);
    newer
}

fn download(stand: &Stand, name: &str) -> PathBuf {
    let all = names(&stand.at(CACHE));
    stand.at(CACHE).join(all.iter().find(|n| n.starts_with(name)).unwrap())
}

/// Damages a download, and what apt makes of the lists.
fn damage(stand: &Stand) {
    flip(&download(stand, "quay_"));
    fs::write(stand.at("/var/cache/apt/pkgcache.bin"), "nothing of apt's").unwrap();
}

#[test]
fn what_is_damaged_goes_aside_lists_come_afresh_and_updates_come() {
    let stand = Stand::available();
    damage(&stand);
    flip(&stand.list("main/binary-amd64/Packages"));
    let right = fs::read(download(&stand, "pier_")).unwrap();
    let before = tree(&stand);
    let report = renew(&stand.settings());
    let area = report.area(UPDATES).unwrap();
    // That the download is damaged comes to light with the new list, and counts.
    assert!(area.remaining.is_empty() && area.repaired == 3 && area.actions.len() == 3, "{area:#?}");
    assert_eq!(proof(&report).outcome, ProofOutcome::Proved);
    assert_eq!(fs::read(download(&stand, "pier_")).unwrap(), right, "what is right stays");
    assert_eq!(names(&stand.at(CACHE)).iter().filter(|n| n.starts_with("quay")).count(), 0);
    let again = open(&stand.settings()).check(&Scope::only(UPDATES), &NoObserver).unwrap();
    assert!(again.findings.is_empty(), "{:?}", again.findings);
    undo(&stand.settings(), None).unwrap();
    assert_same("all of it comes back", &before, &tree(&stand));
    assert_eq!(open(&stand.settings()).list_changes().unwrap().changes[1].area, Some(UPDATES));
}

#[test]
fn forged_lists_are_replaced_by_todays_and_what_waits_is_counted() {
    let stand = Stand::available();
    flip(&stand.list("InRelease"));
    next_day(&stand);
    let report = renew(&stand.settings());
    let told = proof(&report);
    assert_eq!((told.outcome, told.updates), (ProofOutcome::Proved, 1), "{told:#?}");
    let package = told.package.as_ref().unwrap();
    assert_eq!((package.package.version.as_str(), &package.why), ("1:1.0-2", &None));
    let index = fs::read(stand.list("main/binary-amd64/Packages")).unwrap();
    assert!(String::from_utf8(index).unwrap().contains("1:1.0-2"));
}

#[test]
fn a_sound_machine_is_not_changed_and_updates_are_proved_all_the_same() {
    let stand = Stand::available();
    let before = tree(&stand);
    let report = try_renew(&stand.settings(), &Scope::only(UPDATES), Arc::new(LiveDisk)).unwrap();
    assert_eq!(proof(&report).outcome, ProofOutcome::Proved);
    assert_eq!(proof(&report).package.as_ref().unwrap().package.name, "pier", "the smallest of those that are there");
    assert!(report.area(UPDATES).unwrap().change.is_none());
    assert_same("it must be finished or rolled back first", &before, &tree(&stand));
    let wanted = Scope { everything: true, ..Scope::only(UPDATES) };
    let shown = open(&stand.settings()).plan_repair(&wanted, &NoObserver, &mut |_| {}).unwrap();
    assert!(shown.area(UPDATES).unwrap().actions.len() >= 3);
    assert_same("a plan changes nothing", &before, &tree(&stand));
}

#[test]
fn a_preview_tells_what_goes_what_comes_and_what_stays_and_no_changes_nothing() {
    let stand = Stand::available();
    damage(&stand);
    next_day(&stand);
    let before = tree(&stand);
    let mut seen = None;
    let report = open(&stand.settings())
        .repair(&Scope::only(UPDATES), &NoObserver, &mut |preview| {
            let actions: Vec<_> =
                preview.actions.iter().map(|a| (a.action.word().to_owned(), a.subject.to_string(), a.things)).collect();
            seen = Some((actions, preview.stays.clone()));
            Agreement::No
        })
        .unwrap();
    let (actions, stay) = seen.unwrap();
    let source = format!("{}/ {SUITE}", stand.mirror.url());
    let aside = |path: String| ("set-aside".to_owned(), path, 1);
    let quay = format!("{CACHE}/quay_1%3a1.0-1_amd64.deb");
    let expected = [aside(quay), aside("/var/cache/apt/pkgcache.bin".into()), ("renew".to_owned(), source, 2)];
    assert_eq!((actions.as_slice(), stay[0].things), (&expected[..], 1));
    assert!(report.plan_only && report.proof.is_none());
    assert_same("it must be finished or rolled back first", &before, &tree(&stand));
}

#[test]
fn everything_goes_aside_and_comes_afresh() {
    let stand = Stand::available();
    fs::write(stand.at(CACHE).join("partial/left_1_amd64.deb"), "begun").unwrap();
    fs::write(stand.at(LISTS).join("partial/left"), "begun").unwrap();
    fs::write(stand.at(LISTS).join("of_another_source_Packages"), "old").unwrap();
    fs::write(stand.at(CACHE).join("lock"), "").unwrap();
    let before = tree(&stand);
    let wanted = Scope { everything: true, ..Scope::only(UPDATES) };
    let report = try_renew(&stand.settings(), &wanted, Arc::new(LiveDisk)).unwrap();
    assert_eq!(proof(&report).outcome, ProofOutcome::Proved);
    assert_eq!(names(&stand.at(CACHE)), ["lock", "partial"]);
    assert!(names(&stand.at(CACHE).join("partial")).is_empty() && names(&stand.at(LISTS).join("partial")).is_empty());
    assert!(stand.list("InRelease").is_file() && !stand.at(LISTS).join("of_another_source_Packages").exists());
    undo(&stand.settings(), None).unwrap();
    assert_same("all of it comes back", &before, &tree(&stand));
}

#[test]
fn without_the_network_damage_goes_aside_and_nothing_is_called_proved() {
    let stand = Stand::available();
    damage(&stand);
    flip(&stand.list("InRelease"));
    let report = renew(&stand.offline());
    assert_eq!(proof(&report).outcome, ProofOutcome::NotTried);
    assert!(!stand.list("InRelease").exists() && !stand.at("/var/cache/apt/pkgcache.bin").exists());
    assert!(
        report.area(UPDATES).unwrap().remaining.iter().any(|left| left.reason.contains("network")),
        "{:#?}",
        report.area(UPDATES).unwrap()
    );
    assert!(stand.mirror.asked().is_empty());
}

#[test]
fn each_reason_why_updates_do_not_come_is_told_apart() {
    type Trouble = dyn Fn(&Stand);
    let index_gone = |stand: &Stand| {
        next_day(stand);
        let folder = stand.repositories().join(format!("dists/{SUITE}/main/binary-amd64"));
        fs::remove_dir_all(folder).unwrap();
    };
    let wrong_index = |stand: &Stand| {
        next_day(stand);
        for path in
            fs::read_dir(stand.repositories().join(format!("dists/{SUITE}/main/binary-amd64/by-hash/SHA256"))).unwrap()
        {
            fs::write(path.unwrap().path(), "another veritum is running; results would be incomplete").unwrap();
        }
    };
    let other_key = |stand: &Stand| {
        let key = VendorKey::new(9, &KeyShape::default()).unwrap();
        stand.publish_by(&stand.suite(), &[&key], NOW - 3600);
    };
    let went_back = |stand: &Stand| {
        next_day(stand);
        assert_eq!(proof(&renew(&stand.settings())).outcome, ProofOutcome::Proved);
        stand.publish(&stand.suite());
    };
    let expired = |stand: &Stand| {
        let suite = Suite { made: NOW - 80_000, valid_until: NOW - 3600, ..stand.suite() };
        stand.publish(&suite);
    };
    let ahead = |stand: &Stand| {
        let suite = Suite { made: NOW + 9 * 86_400, valid_until: EXPIRES, ..stand.suite() };
        stand.publish_by(&suite, &[&stand.key], NOW - 3600);
    };
    let cut = |stand: &Stand| stand.mirror.misbehave("InRelease", Mischief::BreaksAfter(200), 99);
    let endless = |stand: &Stand| stand.mirror.misbehave("InRelease", Mischief::Endless, 99);
    let wrong_package = |stand: &Stand| stand.mirror.misbehave(".deb", Mischief::OtherBytes, 99);
    let package_gone = |stand: &Stand| fs::remove_dir_all(stand.repositories().join("pool")).unwrap();
    let gone = |stand: &Stand| fs::remove_dir_all(stand.repositories().join("dists")).unwrap();
    let mischief = |how: Mischief| move |stand: &Stand| stand.mirror.misbehave("InRelease", how.clone(), 99);
    let (silent, circle, login, forged, refuses) = (
        mischief(Mischief::NoAnswer),
        mischief(Mischief::Circle),
        mischief(Mischief::LoginPage),
        mischief(Mischief::OtherBytes),
        mischief(Mischief::Status(503)),
    );
    let cases: [(&Trouble, &str, &str); 16] = [
        (&silent, "stopped responding", "try again later"),
        (&circle, "redirects in a loop", "another mirror"),
        (&login, "sent a web page instead (does this network need a login?)", "log in to this network"),
        (&refuses, "status 503", "try again later"),
        (&cut, "was lost", "try again later"),
        (&endless, "sent more data than the file size", "proxy or mirror"),
        (&gone, "has no release file for this suite", "was archived"),
        (&forged, "not a signed text", "another network or mirror"),
        (&other_key, "not in the keyring", "keyring package"),
        (&went_back, "rolled back", "another mirror: this one is outdated"),
        (&expired, "expired on", "clock"),
        (&ahead, "in the future", "set the clock"),
        (&index_gone, "main/binary-amd64/Packages: listed in the release file", "15 minutes"),
        (&wrong_index, "main/binary-amd64/Packages:", "15 minutes"),
        (&wrong_package, "checksum differs from the signed index", "another mirror"),
        (&package_gone, "status 404", "another mirror"),
    ];
    for (trouble, why, advice) in cases {
        let stand = Stand::available();
        trouble(&stand);
        let before = tree(&stand);
        let report = renew(&stand.settings());
        let told = proof(&report);
        assert_eq!(told.outcome, ProofOutcome::Failed, "{why}: {told:#?}");
        let package = told.package.as_ref().and_then(|p| Some((p.why.clone()?, p.action.clone()?)));
        let found = told.sources[0].why.clone().zip(told.sources[0].action.clone()).or(package);
        let (found, what_to_do) = found.unwrap_or_else(|| panic!("{why}: {told:#?}"));
        assert!(found.contains(why) && what_to_do.contains(advice), "{why} / {advice}: {found} / {what_to_do}");
        assert_same(&format!("{why}: the lists that are there stay"), &before, &tree(&stand));
        stand.mirror.behave();
    }
}

#[test]
fn a_check_asks_the_repositories_and_tells_what_they_have_or_why_not() {
    let told = |stand: &Stand| {
        let report = open(&stand.settings()).check(&Scope::only(UPDATES), &NoObserver).unwrap();
        let words = report.findings.iter().map(|f| f.verdict.word()).collect::<Vec<_>>();
        assert!(report.findings.iter().all(|f| f.cause.is_some() && f.action.is_some()), "{:?}", report.findings);
        (words, report.area(UPDATES).unwrap().extent.clone().unwrap())
    };
    let fresh = Stand::available();
    assert!(told(&fresh).1.ends_with("all repositories have the same package lists"));
    next_day(&fresh);
    assert_eq!(
        told(&fresh),
        (
            vec![],
            "no updates are waiting, according to the cached package lists; 1 of 1 repositories have newer package lists".into()
        )
    );
    assert_eq!(proof(&renew(&fresh.settings())).outcome, ProofOutcome::Proved);
    fresh.publish(&fresh.suite());
    assert_eq!(told(&fresh).0, ["rolled-back"]);
    let silent = Stand::available();
    silent.mirror.misbehave("InRelease", Mischief::NoAnswer, 99);
    assert_eq!(told(&silent).0, ["unreachable"]);
    silent.mirror.behave();
    let gone = Stand::available();
    fs::remove_dir_all(gone.repositories().join("dists")).unwrap();
    assert_eq!(told(&gone).0, ["no-such-release"]);
    fs::remove_file(gone.list("InRelease")).unwrap();
    let report = open(&gone.settings()).check(&Scope::only(UPDATES), &NoObserver).unwrap();
    let [finding] = report.findings.as_slice() else { panic!("{:?}", report.findings) };
    assert_eq!(
        (finding.verdict.word(), finding.also[0].word(), &finding.remedy),
        ("missing", "no-such-release", &None)
    );
    let other_key = Stand::available();
    let key = VendorKey::new(9, &KeyShape::default()).unwrap();
    other_key.publish_by(&other_key.suite(), &[&key], NOW - 3600);
    assert_eq!(told(&other_key).0, ["key-missing"]);
}

#[test]
fn a_server_that_is_down_is_told_as_such() {
    let stand = Stand::available();
    let line = format!("deb [signed-by=/usr/share/keyrings/foreshore.gpg] http://127.0.0.1:9 {SUITE} main\n");
    stand.write("/etc/apt/sources.list", line.as_bytes());
    let report = renew(&stand.settings());
    let source = &proof(&report).sources[0];
    assert!(source.why.as_ref().unwrap().contains("cannot be reached"), "{source:?}");
    assert!(source.action.as_ref().unwrap().contains("cable"));
}

#[test]
fn a_lock_that_another_holds_is_respected_and_named() {
    let stand = Stand::available();
    damage(&stand);
    stand.write("/var/lib/apt/lists/lock", b"");
    let machine = veritum_core::machine::Machine::open(&stand.world.machine(), Arc::new(LiveDisk)).unwrap();
    let dir = machine.dir(&veritum_core::model::SystemPath::literal(LISTS)).unwrap();
    let held = veritum_core::machine::lock_exclusive(&dir, b"lock").unwrap();
    let before = tree(&stand);
    match try_renew(&stand.settings(), &Scope::only(UPDATES), Arc::new(LiveDisk)) {
        Err(WorkError::LockHeld { path, .. }) => assert_eq!(path.to_string(), "/var/lib/apt/lists/lock"),
        other => panic!("{other:?}"),
    }
    assert_same("it must be finished or rolled back first", &before, &tree(&stand));
    drop(held);
    assert_eq!(proof(&renew(&stand.settings())).outcome, ProofOutcome::Proved);
}

#[test]
fn nothing_outside_the_caches_is_touched_through_links() {
    let stand = Stand::available();
    let home = stand.at("/home/mirela");
    fs::create_dir_all(&home).unwrap();
    fs::write(home.join("letter.deb"), "dear").unwrap();
    fs::write(home.join("quay_1%3a1.0-1_amd64.deb"), "hers").unwrap();
    fs::remove_dir(stand.at(CACHE).join("partial")).unwrap();
    symlink("/home/mirela", stand.at(CACHE).join("partial")).unwrap();
    symlink("/home/mirela/letter.deb", stand.at(CACHE).join("pier_9_all.deb")).unwrap();
    fs::write(stand.at(CACHE).join("a\nname.deb"), "").unwrap();
    let before = Tree::read(&home, &[]);
    let wanted = Scope { everything: true, ..Scope::only(UPDATES) };
    let report = try_renew(&stand.settings(), &wanted, Arc::new(LiveDisk)).unwrap();
    assert_same("the home stays", &before, &Tree::read(&home, &[]));
    assert!(stand.at(CACHE).join("pier_9_all.deb").symlink_metadata().is_err(), "the link itself goes aside");
    assert!(
        report.area(UPDATES).unwrap().remaining.iter().any(|l| l.reason.contains("in a user's home")),
        "{:#?}",
        report.area(UPDATES).unwrap()
    );
}

#[test]
fn an_index_that_unpacks_to_far_more_than_was_signed_is_refused() {
    let stand = Stand::available();
    next_day(&stand);
    let bomb = veritum_demo::repository::pack(&vec![b'x'; 64 << 20], ".xz").unwrap();
    stand.mirror.misbehave("by-hash/SHA256", Mischief::Bytes(bomb), 0);
    let folder = stand.repositories().join(format!("dists/{SUITE}/main/binary-amd64/by-hash/SHA256"));
    for path in fs::read_dir(folder).unwrap() {
        let path = path.unwrap().path();
        let length = fs::metadata(&path).unwrap().len();
        let bomb = veritum_demo::repository::pack(&vec![b'x'; 64 << 20], ".xz").unwrap();
        fs::write(path, &bomb[..usize::try_from(length).unwrap().min(bomb.len())]).unwrap();
    }
    let before = tree(&stand);
    assert_eq!(proof(&renew(&stand.settings())).outcome, ProofOutcome::Failed);
    assert_same("the lists that are there stay", &before, &tree(&stand));
}

#[test]
fn an_installation_that_was_begun_is_left_with_the_exact_command_where_the_system_cannot_be_entered() {
    let stand = Stand::available();
    let table = stand.at("/var/lib/dpkg/status");
    let text = fs::read_to_string(&table).unwrap();
    fs::write(&table, text.replacen("install ok installed", "install ok unpacked", 1)).unwrap();
    let before = tree(&stand);
    let report = renew(&stand.settings());
    let [left] = report.area(UPDATES).unwrap().remaining.as_slice() else { panic!("{:#?}", report.areas) };
    let command = format!("chroot {} dpkg --configure -a", stand.world.machine().display());
    assert_eq!(left.action.as_ref().map(ToString::to_string).as_deref(), Some(command.as_str()));
    assert_eq!((proof(&report).outcome, report.areas.len()), (ProofOutcome::Proved, 1));
    assert_same("it must be finished or rolled back first", &before, &tree(&stand));
}

#[test]
fn cut_at_any_operation_it_is_all_there_or_all_as_before() {
    let stand = Stand::available();
    damage(&stand);
    fs::create_dir_all(stand.at("/var/lib/veritum")).unwrap();
    let here = folder();
    let machine = here.path().join("machine");
    let settings = Settings { root: machine.clone(), ..stand.settings() };
    let copy = || {
        let _ = fs::remove_dir_all(&machine);
        let done = std::process::Command::new("cp").arg("-a").arg(stand.world.machine()).arg(&machine).status();
        assert!(done.unwrap().success());
    };
    let look = || Tree::read(&machine, &[STATE]);
    copy();
    let before = look();
    let counting = Arc::new(TestDisk::new(Accident::None));
    try_renew(&settings, &Scope::only(UPDATES), counting.clone()).unwrap();
    let after = look();
    assert!(!before.differences(&after).is_empty());
    let mut met = [0, 0];
    for n in 0..counting.operations() {
        for accident in [Accident::Fail(n, 5), Accident::Cut(n), Accident::Fail(n, 28), Accident::Stop(n)] {
            copy();
            let disk = Arc::new(TestDisk::new(accident));
            let _ = try_renew(&settings, &Scope::only(UPDATES), disk);
            for _ in 0..2 {
                open(&settings).recover(&NoObserver).unwrap();
            }
            let now = look();
            let which = [&before, &after].iter().position(|t| t.differences(&now).is_empty());
            let which = which.unwrap_or_else(|| panic!("{accident:?}: {}", before.differences(&now).join("\n")));
            met[which] += 1;
        }
    }
    assert!(met[0] > 20 && met[1] > 10, "{met:?}");
}
