//! Servers that misbehave: reported apart, bounded in time and size, nothing of it kept.

#[path = "support/stand.rs"]
mod stand;
mod support;

use std::fs;
use std::time::{Duration, Instant};

use stand::{Stand, names};
use support::{check, repair};
use veritum_core::areas::FILES;
use veritum_core::repository::{Proxies, RepositorySettings};
use veritum_core::testkit::Tree;
use veritum_core::work::Settings;
use veritum_demo::mirror::{Mirror, Mischief};

const PACKAGE: &str = ".deb";
/// So long may even the worst server hold up a repair here; a person would say that it hangs.
const BOUND: Duration = Duration::from_secs(20);

fn damaged() -> Stand {
    let stand = Stand::new();
    fs::write(stand.at("/usr/share/quay/part-0"), "wrong\n").unwrap();
    stand
}

/// What is said of each way to misbehave.
fn mischiefs() -> Vec<(Mischief, &'static str)> {
    vec![
        (Mischief::NoAnswer, "stopped responding"),
        (Mischief::StallsAfter(200), "stopped responding"),
        (Mischief::Circle, "redirects in a loop"),
        (Mischief::Endless, "sent more data than the file size"),
        (Mischief::LoginPage, "a web page"),
        (Mischief::Status(503), "status 503"),
        (Mischief::Status(404), "status 404"),
        (Mischief::OtherBytes, "checksum differs from the signed index"),
        (Mischief::BreaksAfter(0), "was lost"),
    ]
}

#[test]
fn a_package_that_cannot_be_had_is_left_with_the_reason_and_nothing_is_kept_of_it() {
    for (how, words) in mischiefs() {
        let stand = damaged();
        let before = Tree::read(&stand.world.machine(), &["var/lib/veritum"]);
        stand.mirror.misbehave(PACKAGE, how.clone(), usize::MAX);
        let begun = Instant::now();
        let report = repair(&stand.settings());
        assert!(begun.elapsed() < BOUND, "{how:?} held it up");
        let [left] = report.area(FILES).unwrap().remaining.as_slice() else {
            panic!("{how:?}: {:?}", report.area(FILES).unwrap())
        };
        assert!(left.reason.contains(words), "{how:?}: {}", left.reason);
        assert!(report.before.downloads[0].failed.as_ref().unwrap().contains(words));
        let whole = names(&stand.downloads()).into_iter().find(|n| n.ends_with(".deb"));
        assert_eq!(whole, None, "{how:?}");
        let after = Tree::read(&stand.world.machine(), &["var/lib/veritum"]);
        assert_eq!(after.differences(&before), [""; 0], "{how:?}");
        // As soon as the server behaves, the same command does it.
        stand.mirror.behave();
        assert_eq!(repair(&stand.settings()).area(FILES).unwrap().repaired, 1, "{how:?}");
    }
}

#[test]
fn release_files_and_indexes_from_such_servers_are_told_apart_and_bounded() {
    for ending in ["InRelease", "Packages.xz"] {
        for (how, _) in mischiefs() {
            let stand = damaged();
            let suite = veritum_demo::repository::Suite { by_hash: false, forms: &[".xz"], ..stand.suite() };
            stand.publish(&suite);
            stand.mirror.misbehave(ending, how.clone(), usize::MAX);
            let begun = Instant::now();
            let report = check(&stand.settings());
            assert!(begun.elapsed() < BOUND, "{ending} {how:?} held it up");
            let source = &report.sources[0];
            assert!(report.downloads.is_empty(), "{ending} {how:?}: {source:?}");
            // An index that is simply not there is no fault of the repository's.
            let gone = ending == "Packages.xz" && how == Mischief::Status(404);
            assert!(gone || source.why.is_some(), "{ending} {how:?}: {source:?}");
            assert_eq!((report.findings.len(), report.left.len()), (1, 1));
        }
    }
}

#[test]
fn a_bomb_is_not_unpacked_further_than_the_release_file_says() {
    let stand = damaged();
    stand.publish(&veritum_demo::repository::Suite { by_hash: false, forms: &[".xz"], ..stand.suite() });
    let bomb = veritum_demo::repository::pack(&vec![0; 64 << 20], ".xz").unwrap();
    let listed = fs::metadata(stand.repositories().join("dists/saltwort/main/binary-amd64/Packages.xz")).unwrap().len();
    stand.mirror.misbehave("Packages.xz", Mischief::Bytes(bomb.clone()), usize::MAX);
    assert!(bomb.len() as u64 > listed);
    let why = check(&stand.settings()).sources[0].why.clone().unwrap();
    assert!(why.contains("sent more data than the file size"), "{why}");
    // One that is as small as the true one, on the machine itself.
    let stand = damaged();
    stand.lists("");
    let lists = stand.at("/var/lib/apt/lists");
    let index = names(&lists).into_iter().find(|n| n.ends_with("Packages")).unwrap();
    fs::remove_file(lists.join(&index)).unwrap();
    fs::write(lists.join(format!("{index}.xz")), &bomb).unwrap();
    let report = check(&stand.offline());
    assert!(report.sources[0].why.as_ref().unwrap().contains("checksum differs from the signed release file"));
}

#[test]
fn a_broken_download_goes_on_where_it_broke_off() {
    let stand = damaged();
    stand.mirror.misbehave(PACKAGE, Mischief::BreaksAfter(300), 1);
    assert_eq!(repair(&stand.settings()).area(FILES).unwrap().repaired, 1);
    assert_eq!(stand.mirror.ranges(), ["bytes=300-"]);
    assert!(names(&stand.downloads()).iter().all(|n| n.ends_with(".deb")));

    // Over several runs as well.
    let stand = damaged();
    stand.mirror.misbehave(PACKAGE, Mischief::BreaksAfter(300), 1);
    stand.mirror.misbehave(PACKAGE, Mischief::Status(500), usize::MAX);
    assert_eq!(repair(&stand.settings()).area(FILES).unwrap().repaired, 0);
    assert!(names(&stand.downloads()).iter().any(|n| n.ends_with(".part")));
    stand.mirror.behave();
    assert_eq!(repair(&stand.settings()).area(FILES).unwrap().repaired, 1);
    assert!(stand.mirror.ranges().contains(&"bytes=300-".to_owned()));
}

#[test]
fn a_length_that_is_not_kept_does_no_harm_to_a_file_that_is_whole() {
    let stand = damaged();
    stand.mirror.misbehave(PACKAGE, Mischief::WrongLength, usize::MAX);
    assert_eq!(repair(&stand.settings()).area(FILES).unwrap().repaired, 1, "its digest says that it is whole");
    let stand = damaged();
    stand.mirror.misbehave("InRelease", Mischief::WrongLength, usize::MAX);
    assert!(check(&stand.settings()).sources[0].why.as_ref().unwrap().contains("was lost"));
}

#[test]
fn a_server_may_lead_to_another_one_whose_bytes_are_verified_all_the_same() {
    let stand = damaged();
    let other = Mirror::serve(&stand.repositories()).unwrap();
    let package = "pool/main/q/quay/quay_1.0-1_amd64.deb";
    stand.mirror.misbehave(PACKAGE, Mischief::LeadsTo(format!("{}/{package}", other.url())), usize::MAX);
    assert_eq!(repair(&stand.settings()).area(FILES).unwrap().repaired, 1);
    assert_eq!(other.asked(), [package]);
}

#[test]
fn a_server_that_leads_out_of_the_web_is_not_followed_and_that_is_the_reason() {
    for to in ["file:///etc/passwd", "file://localhost/etc/passwd", "ftp://quay.example/x", "http://"] {
        let stand = damaged();
        stand.mirror.misbehave(PACKAGE, Mischief::LeadsTo(to.to_owned()), usize::MAX);
        let report = repair(&stand.settings());
        let why = &report.area(FILES).unwrap().remaining[0].reason;
        assert!(why.contains("redirects to an address that is not allowed ("), "{to}: {why}");
    }
}

#[test]
fn a_server_that_is_not_there_is_asked_once() {
    let stand = damaged();
    stand.write(
        "/etc/apt/sources.list",
        b"deb [signed-by=/usr/share/keyrings/foreshore.gpg] http://127.0.0.1:9/a saltwort main\n\
          deb [signed-by=/usr/share/keyrings/foreshore.gpg] http://127.0.0.1:9/b saltwort main\n",
    );
    let report = check(&stand.settings());
    assert!(
        report
            .sources
            .iter()
            .all(|s| s.standing.word() == "absent" && s.why.as_ref().unwrap().contains("cannot be reached"))
    );
}

#[test]
fn proxies_are_used_as_apt_and_the_environment_name_them() {
    let stand = damaged();
    stand.write(
        "/etc/apt/sources.list",
        b"deb [signed-by=/usr/share/keyrings/foreshore.gpg] http://archive.foreshore.example/ saltwort main\n",
    );
    let through = |proxies: Proxies| {
        let settings = stand.settings();
        check(&Settings { repositories: RepositorySettings { proxies, ..settings.repositories.clone() }, ..settings })
    };
    let seen = || stand.mirror.asked().iter().any(|p| p.contains("archive.foreshore.example") || p.contains("dists/"));
    through(Proxies {
        http: Some(stand.mirror.url().into()),
        none_for: vec![".foreshore.example".into()],
        ..Proxies::default()
    });
    assert!(!seen(), "this host is to be reached directly");
    through(Proxies { http: Some(stand.mirror.url().into()), ..Proxies::default() });
    assert!(seen());

    let asked = stand.mirror.asked().len();
    stand.write("/etc/apt/apt.conf.d/95proxy", b"Acquire::http::Proxy \"DIRECT\";\n");
    through(Proxies { http: Some(stand.mirror.url().into()), ..Proxies::default() });
    assert_eq!(stand.mirror.asked().len(), asked, "apt's own word goes first");
}
