//! Damage to the package database: named with its cause, repaired from packages, from earlier copies, and from what the
//! other records say; what only the machine knew is kept; and no record hides a damaged file.

mod support;

use std::fs;
use std::os::unix::fs::{PermissionsExt as _, symlink};
use std::path::PathBuf;

use support::{assert_same, check, folder, open, repair, told, undo};
use veritum_core::areas::DATABASE;
use veritum_core::areas::FILES;
use veritum_core::event::NoObserver;
use veritum_core::model::{Authority, Scope};
use veritum_core::report::{CheckReport, Outcome, RepairReport};
use veritum_core::testkit::Tree;
use veritum_core::work::Settings;
use veritum_demo::world::{World, add, add_file, package};
use veritum_demo::{Content, Package};

const STATUS: &str = "/var/lib/dpkg/status";

/// A machine of three packages with scripts, settings and triggers, and a store of them.
struct Harbour {
    _dir: tempfile::TempDir,
    world: World,
    whole: Tree,
}

fn harbour_package(name: &str) -> Package {
    let mut made = package(name, "1.0-1");
    add_file(&mut made, &format!("/usr/share/{name}/part"), &format!("right {name}\n"));
    add(&mut made, &format!("/usr/bin/{name}"), Content::File(vec![7; 900]), 0o755);
    add_file(&mut made, &format!("/usr/share/doc/{name}/changelog.gz"), &format!("{name} 1.0-1\n"));
    add_file(&mut made, &format!("/etc/{name}.conf"), "level = 1\n");
    if let Some(settings) = made.items.last_mut() {
        settings.settings = true;
    }
    made.fields.push("Depends: libc6 (>= 2.36)".into());
    let offers = match name {
        "berth" => {
            "for name in knot hitch; do\n  update-alternatives --install /usr/bin/$name $name /usr/bin/quay 20\ndone\n"
        }
        _ => "",
    };
    made.scripts.push(("postinst", format!("#!/bin/sh\nset -e\n{offers}")));
    made.scripts.push(("triggers", "interest-noawait /usr/share/icons\n".into()));
    made
}

impl Harbour {
    fn new() -> Self {
        let dir = folder();
        let world = World::new(&dir.path().join("world"), &["berth", "quay", "rope"].map(harbour_package));
        fs::create_dir_all(world.at(support::STATE)).unwrap();
        for name in ["berth", "quay", "rope"] {
            let triggers = world.at(&format!("/var/lib/dpkg/info/{name}.triggers"));
            fs::set_permissions(triggers, fs::Permissions::from_mode(0o644)).unwrap();
        }
        let lines: String = ["berth", "quay", "rope"].map(|n| format!("/usr/share/icons {n}/noawait\n")).concat();
        fs::write(world.at("/var/lib/dpkg/triggers/File"), lines).unwrap();
        let mut harbour = Self { _dir: dir, world, whole: Tree::default() };
        harbour.whole = harbour.tree();
        harbour
    }

    fn tree(&self) -> Tree {
        Tree::read(&self.world.machine(), &[support::STATE])
    }

    fn info(&self, name: &str) -> PathBuf {
        self.world.at("/var/lib/dpkg/info").join(name)
    }

    fn read(&self, path: &str) -> String {
        String::from_utf8_lossy(&fs::read(self.world.at(path)).unwrap()).into_owned()
    }

    fn write(&self, path: &str, bytes: impl AsRef<[u8]>) {
        let place = self.world.at(path);
        fs::create_dir_all(place.parent().unwrap()).unwrap();
        fs::write(place, bytes).unwrap();
    }

    fn change(&self, path: &str, from: &str, to: &str) {
        let text = self.read(path);
        assert!(text.contains(from), "{text}");
        self.write(path, text.replacen(from, to, 1));
    }

    fn check(&self) -> CheckReport {
        check(&self.world.settings())
    }

    /// Repairs; answers what of the records remained.
    fn repair(&self) -> RepairReport {
        let report = repair(&self.world.settings());
        assert_ne!(report.after.as_ref().unwrap().outcome, Outcome::Damaged, "{report:#?}");
        report
    }

    /// What is damaged is found as that, is restored as it was, and the repair can be undone; times do not count.
    #[track_caller]
    fn lives(&self, what: &str, expected: &[(&str, &str)]) {
        let damaged = self.tree();
        let report = self.check();
        let found = told(&report.findings);
        let expected: Vec<_> = expected.iter().map(|(path, verdict)| ((*path).to_owned(), *verdict)).collect();
        assert_eq!(found.iter().map(|(p, v)| (p.clone(), *v)).collect::<Vec<_>>(), expected, "{what}: {report:#?}");
        assert!(report.findings.iter().all(|f| f.area != DATABASE || f.remedy.is_some()), "{what}: {report:#?}");
        assert_same(&format!("{what}: a check changes nothing"), &damaged, &self.tree());
        self.repair();
        let bare = |tree: Tree| {
            let mut tree = tree;
            tree.0.values_mut().for_each(|t| t.mtime = (0, 0));
            tree
        };
        assert_same(&format!("{what}: repaired"), &bare(self.whole.clone()), &bare(self.tree()));
        undo(&self.world.settings(), None).unwrap();
        assert_same(&format!("{what}: undone"), &damaged, &self.tree());
    }
}

#[test]
fn an_intact_database_is_ok_and_verified() {
    let report = Harbour::new().check();
    let records = report.areas.iter().find(|a| a.area == DATABASE).unwrap();
    assert_eq!((report.outcome, records.examined), (Outcome::Ok, 3), "{report:#?}");
    assert_eq!(records.verified_by.get(&Authority::Store), Some(&3));
}

#[test]
fn a_damaged_table_of_packages_is_restored_from_its_copy_to_the_byte() {
    type Damage = fn(&Harbour, Vec<u8>);
    let kinds: [(&str, &str, Damage); 6] = [
        ("cut", "corrupt", |h, text| h.write(STATUS, &text[..text.len() - 40])),
        ("a block of zeros", "corrupt", |h, mut text| {
            text[150..300].fill(0);
            h.write(STATUS, text);
        }),
        ("emptied", "corrupt", |h, _| h.write(STATUS, "")),
        ("gone", "missing", |h, _| fs::remove_file(h.world.at(STATUS)).unwrap()),
        ("an entry is gone", "inconsistent", |h, text| {
            let text = String::from_utf8(text).unwrap();
            let at = text.find("Package: quay").unwrap();
            let end = at + text[at..].find("\n\n").unwrap() + 2;
            h.write(STATUS, format!("{}{}", &text[..at], &text[end..]));
        }),
        ("a folder in its place", "wrong-type", |h, _| {
            fs::remove_file(h.world.at(STATUS)).unwrap();
            fs::create_dir(h.world.at(STATUS)).unwrap();
        }),
    ];
    for (what, verdict, damage) in kinds {
        let harbour = Harbour::new();
        damage(&harbour, fs::read(harbour.world.at(STATUS)).unwrap());
        harbour.lives(what, &[(STATUS, verdict)]);
    }
}

#[test]
fn holds_and_wishes_that_only_the_machine_knew_are_kept() {
    let harbour = Harbour::new();
    harbour.change("/var/lib/dpkg/status-old", "Package: rope\nStatus: install", "Package: rope\nStatus: hold");
    harbour.change(STATUS, "Package: quay\nStatus: install", "Package: quay\nStatus: hold");
    let text = fs::read(harbour.world.at(STATUS)).unwrap();
    harbour.write(STATUS, &text[..text.len() - 40]);
    harbour.repair();
    let text = harbour.read(STATUS);
    assert!(
        text.contains("Package: quay\nStatus: hold ok") && text.contains("Package: rope\nStatus: hold ok"),
        "{text}"
    );
    assert!(text.contains("Package: berth\nStatus: install ok installed"), "{text}");
}

#[test]
fn with_no_copy_at_all_the_signed_packages_say_what_is_installed() {
    let harbour = Harbour::new();
    fs::remove_file(harbour.world.at(STATUS)).unwrap();
    fs::remove_file(harbour.world.at("/var/lib/dpkg/status-old")).unwrap();
    harbour.write("/usr/share/quay/part", "wrong\n");
    let report = harbour.check();
    assert_eq!(
        told(&report.findings),
        [("/usr/share/quay/part".to_owned(), "altered"), (STATUS.to_owned(), "missing")],
        "{report:#?}"
    );
    assert_eq!(report.machine.packages, 3);
    harbour.repair();
    assert_eq!(harbour.check().outcome, Outcome::Ok);
    let text = harbour.read(STATUS);
    assert!(text.contains("Conffiles:\n /etc/quay.conf "), "{text}");
    assert_eq!(harbour.read("/usr/share/quay/part"), "right quay\n");
}

#[test]
fn of_what_nobody_knows_the_name_is_told_with_what_to_do() {
    let harbour = Harbour::new();
    fs::remove_file(harbour.world.at(STATUS)).unwrap();
    fs::remove_file(harbour.world.at("/var/lib/dpkg/status-old")).unwrap();
    let settings = Settings { store: None, trust: harbour.world.at("/nobody"), ..harbour.world.settings() };
    let report = check(&settings);
    assert_eq!(told(&report.findings), [(STATUS.to_owned(), "missing")]);
    let advice = report.findings[0].action.as_ref().unwrap();
    assert!(advice.contains("berth and 2 more") && advice.contains("--reinstall berth"), "{advice}");
    assert!(report.unexamined.iter().any(|u| u.count == 3), "{:?}", report.unexamined);
}

#[test]
fn a_record_altered_with_its_file_hides_nothing() {
    let harbour = Harbour::new();
    let (file, sums) = ("/usr/share/quay/part", "/var/lib/dpkg/info/quay.md5sums");
    let right = harbour.read(sums);
    harbour.write(file, "wrong quay\n");
    let line = |bytes: &[u8]| veritum_core::model::Md5::hash(bytes).to_hex();
    harbour.change(sums, &line(b"right quay\n"), &line(b"wrong quay\n"));
    let expected = [(file.to_owned(), "altered"), (sums.to_owned(), "altered")];
    assert_eq!(told(&harbour.check().findings), expected);
    let cause = harbour.check().findings.into_iter().find(|f| f.area == DATABASE).unwrap().cause.unwrap();
    assert_eq!(cause, "the checksum of /usr/share/quay/part differs from the package");
    harbour.repair();
    assert_eq!((harbour.read(file).as_str(), harbour.read(sums)), ("right quay\n", right));
}

#[test]
fn a_version_that_the_other_records_contradict_hides_nothing() {
    for logged in [false, true] {
        let harbour = Harbour::new();
        harbour.write("/usr/share/quay/part", "wrong quay\n");
        harbour.change(
            STATUS,
            "Version: 1.0-1\nDepends: libc6 (>= 2.36)\nConffiles:\n /etc/quay",
            "Version: 1.0-9\nDepends: libc6 (>= 2.36)\nConffiles:\n /etc/quay",
        );
        let sums = "/var/lib/dpkg/info/quay.md5sums";
        let line = |bytes: &[u8]| veritum_core::model::Md5::hash(bytes).to_hex();
        harbour.change(sums, &line(b"right quay\n"), &line(b"wrong quay\n"));
        if logged {
            // Not even the history of changes is left, but the log knows.
            harbour.write(sums, "");
            harbour.write("/var/log/dpkg.log", "2026-01-12 09:00:00 install quay:amd64 <none> 1.0-1\n");
        }
        let found = told(&harbour.check().findings);
        let expected = [("/usr/share/quay/part", "altered"), (sums, "altered"), (STATUS, "altered")];
        assert_eq!(found, expected.map(|(p, v)| (p.to_owned(), v)), "{logged}");
        harbour.repair();
        assert!(harbour.read(STATUS).matches("Version: 1.0-1").count() == 3, "{logged}");
        assert_eq!(harbour.read("/usr/share/quay/part"), "right quay\n");
    }
}

#[test]
fn a_package_that_is_said_to_be_removed_is_still_examined_while_its_records_are_there() {
    let harbour = Harbour::new();
    harbour.change(
        STATUS,
        "Package: quay\nStatus: install ok installed",
        "Package: quay\nStatus: deinstall ok config-files",
    );
    harbour.write("/usr/share/quay/part", "wrong\n");
    let expected = [("/usr/share/quay/part", "altered"), (STATUS, "inconsistent")];
    assert_eq!(told(&harbour.check().findings), expected.map(|(p, v)| (p.to_owned(), v)));
    harbour.repair();
    assert!(harbour.read(STATUS).contains("Package: quay\nStatus: install ok installed"));
}

#[test]
fn each_record_of_a_package_is_restored_whatever_is_in_its_place() {
    type Damage = fn(&Harbour, &PathBuf);
    let kinds: [(&str, &str, Damage); 5] = [
        ("gone", "missing", |_, at| fs::remove_file(at).unwrap()),
        ("emptied", "", |_, at| fs::write(at, "").unwrap()),
        ("noise", "", |_, at| fs::write(at, [0, 159, 146, 150, 10]).unwrap()),
        ("a folder", "wrong-type", |_, at| {
            fs::remove_file(at).unwrap();
            fs::create_dir(at).unwrap();
        }),
        ("a link into a home", "wrong-type", |h, at| {
            fs::remove_file(at).unwrap();
            symlink(h.world.at("/home/mirela/letter"), at).unwrap();
        }),
    ];
    let records = [
        ("list", "corrupt"),
        ("md5sums", "altered"),
        ("conffiles", "altered"),
        ("postinst", "altered"),
        ("triggers", "altered"),
    ];
    for (record, verdict_of_content) in records {
        for (what, verdict, damage) in kinds {
            let harbour = Harbour::new();
            damage(&harbour, &harbour.info(&format!("quay.{record}")));
            let path = format!("/var/lib/dpkg/info/quay.{record}");
            let verdict = if verdict.is_empty() { verdict_of_content } else { verdict };
            harbour.lives(&format!("{record}: {what}"), &[(&path, verdict)]);
            assert_eq!(harbour.read("/home/mirela/letter"), "private\n");
        }
    }
}

#[test]
fn a_script_that_no_package_has_goes_aside_and_one_that_cannot_run_is_made_to() {
    let harbour = Harbour::new();
    harbour.write("/var/lib/dpkg/info/rope.prerm", "#!/bin/sh\nrm -rf /home\n");
    fs::set_permissions(harbour.info("quay.postinst"), fs::Permissions::from_mode(0o644)).unwrap();
    let expected =
        [("/var/lib/dpkg/info/quay.postinst", "wrong-permissions"), ("/var/lib/dpkg/info/rope.prerm", "altered")];
    harbour.lives("scripts", &expected);
}

#[test]
fn the_smaller_tables_are_restored_from_copies_and_from_what_the_packages_say() {
    let harbour = Harbour::new();
    // A diversion whose file still is where it was moved to, and its entry gone.
    let diverted = "/usr/bin/quay\n/usr/bin/quay.real\n:\n";
    harbour.write("/var/lib/dpkg/diversions", diverted);
    harbour.write("/var/lib/dpkg/diversions-old", diverted);
    fs::rename(harbour.world.at("/usr/bin/quay"), harbour.world.at("/usr/bin/quay.real")).unwrap();
    harbour.write("/usr/bin/quay", "#!/bin/sh\n");
    let over = "root root 0750 /usr/share/rope\n";
    harbour.write("/var/lib/dpkg/statoverride", over);
    harbour.write("/var/lib/dpkg/statoverride-old", over);
    fs::set_permissions(harbour.world.at("/usr/share/rope"), fs::Permissions::from_mode(0o750)).unwrap();
    let marks = "Package: rope\nArchitecture: amd64\nAuto-Installed: 1\n\n";
    harbour.write("/var/lib/apt/extended_states", marks);
    harbour.write("/var/backups/apt.extended_states.0", marks);
    let before = harbour.check();
    assert_eq!(told(&before.findings), [], "{before:#?}");

    harbour.write("/var/lib/dpkg/diversions", "");
    harbour.write("/var/lib/dpkg/statoverride", &over[..14]);
    harbour.write("/var/lib/apt/extended_states", b"Package: rope\n\0\0\0");
    harbour.write("/var/lib/dpkg/triggers/File", "/usr/share/icons berth/noawait\n");
    harbour.write("/var/lib/dpkg/updates/0007", b"\0\0\0\0");
    harbour.write("/var/lib/dpkg/available", b"\0\0\0\0");
    let found = harbour.check();
    let expected = [
        ("/var/lib/apt/extended_states", "corrupt"),
        ("/var/lib/dpkg/available", "corrupt"),
        ("/var/lib/dpkg/diversions", "inconsistent"),
        ("/var/lib/dpkg/statoverride", "corrupt"),
        ("/var/lib/dpkg/triggers/File", "altered"),
        ("/var/lib/dpkg/updates/0007", "corrupt"),
    ];
    let of_records: Vec<_> = found.findings.iter().filter(|f| f.area == DATABASE).cloned().collect();
    assert_eq!(told(&of_records), expected.map(|(p, v)| (p.to_owned(), v)), "{found:#?}");
    harbour.repair();
    assert_eq!(harbour.read("/var/lib/dpkg/diversions"), diverted);
    assert_eq!(harbour.read("/var/lib/dpkg/statoverride"), over);
    assert_eq!(harbour.read("/var/lib/apt/extended_states"), marks);
    assert_eq!(harbour.read("/var/lib/dpkg/triggers/File").lines().count(), 3);
    assert!(!harbour.world.at("/var/lib/dpkg/updates/0007").exists());
    assert_eq!(harbour.read("/usr/bin/quay"), "#!/bin/sh\n", "the administrator's own stands");
    assert_eq!(harbour.check().findings.len(), 0);
}

#[test]
fn alternatives_get_their_links_back_and_what_somebody_chose_stays() {
    let harbour = Harbour::new();
    harbour.write("/var/lib/dpkg/alternatives/knot", "auto\n/usr/bin/knot\n\n/usr/bin/quay\n20\n/usr/bin/rope\n10\n\n");
    fs::create_dir_all(harbour.world.at("/etc/alternatives")).unwrap();
    let link = |at: &str, to: &str| {
        let _ = fs::remove_file(harbour.world.at(at));
        symlink(to, harbour.world.at(at)).unwrap();
    };
    let leads = |at: &str| fs::read_link(harbour.world.at(at)).unwrap();
    link("/etc/alternatives/knot", "/usr/bin/rope");
    link("/usr/bin/knot", "/etc/alternatives/knot");
    assert_eq!(told(&harbour.check().findings), [], "the second best, chosen by somebody");
    link("/etc/alternatives/knot", "/usr/bin/gone");
    fs::remove_file(harbour.world.at("/usr/bin/knot")).unwrap();
    let expected = [("/etc/alternatives/knot", "wrong-target"), ("/usr/bin/knot", "missing")];
    assert_eq!(told(&harbour.check().findings), expected.map(|(p, v)| (p.to_owned(), v)));
    harbour.repair();
    assert_eq!(leads("/etc/alternatives/knot"), PathBuf::from("/usr/bin/quay"));
    assert_eq!(leads("/usr/bin/knot"), PathBuf::from("/etc/alternatives/knot"));
}

#[test]
fn a_link_of_alternatives_is_made_only_where_a_script_that_is_as_shipped_asks_for_it() {
    let harbour = Harbour::new();
    fs::create_dir_all(harbour.world.at("/etc/alternatives")).unwrap();
    for (name, link) in [("knot", "/usr/share/rope/knot"), ("hitch", "/usr/bin/hitch")] {
        harbour.write(&format!("/var/lib/dpkg/alternatives/{name}"), format!("auto\n{link}\n\n/usr/bin/quay\n20\n\n"));
    }
    let report = harbour.check();
    let left: Vec<String> = report.left.iter().map(|left| left.subject.to_string()).collect();
    assert_eq!(left, ["/usr/share/rope/knot"], "{report:#?}");
    assert!(
        report.left[0]
            .reason
            .contains("no script of an installed package creates this link; only the alternatives database names it")
    );
    // An altered script is restored first, and does not count until then.
    harbour.change("/var/lib/dpkg/info/berth.postinst", "knot hitch", "knot cleat");
    harbour.write("/var/lib/dpkg/alternatives/cleat", "auto\n/usr/bin/cleat\n\n/usr/bin/quay\n20\n\n");
    support::repair(&harbour.world.settings());
    assert!(!harbour.world.at("/usr/share/rope/knot").is_symlink() && !harbour.world.at("/usr/bin/cleat").is_symlink());
    support::repair(&harbour.world.settings());
    assert!(harbour.world.at("/usr/bin/hitch").is_symlink());
}

#[test]
fn a_package_or_a_record_can_be_named_and_explained() {
    let harbour = Harbour::new();
    harbour.change("/var/lib/dpkg/info/quay.postinst", "set -e", "set -x");
    fs::remove_file(harbour.info("rope.list")).unwrap();
    let named = |scope: Scope| told(&open(&harbour.world.settings()).check(&scope, &NoObserver).unwrap().findings);
    let quay = ("/var/lib/dpkg/info/quay.postinst".to_owned(), "altered");
    assert_eq!(named(Scope { packages: vec!["quay".into()], ..Scope::default() }), vec![quay.clone()]);
    let path = veritum_core::model::SystemPath::parse(quay.0.as_bytes()).unwrap();
    assert_eq!(named(Scope { paths: vec![path.clone()], ..Scope::default() }), [quay]);
    let sound = veritum_core::model::SystemPath::literal("/var/lib/dpkg/info/berth.list");
    let report =
        open(&harbour.world.settings()).check(&Scope { paths: vec![sound], ..Scope::default() }, &NoObserver).unwrap();
    assert_eq!((report.outcome, report.unexamined.len()), (Outcome::Ok, 0), "{report:#?}");
    assert_eq!(named(Scope::only(FILES)), []);
    let told = open(&harbour.world.settings()).explain_path(&path, &NoObserver).unwrap();
    let differs = told.differs.unwrap();
    assert_eq!((differs.line, differs.expected_lines[0].as_str()), (Some(2), "set -e"));
    assert_eq!(differs.found_lines[0], "set -x");
    assert!(told.chain.iter().any(|l| l.what.contains("trusted by you")), "{:?}", told.chain);
    let id = told.finding.unwrap().id;
    let again = open(&harbour.world.settings()).explain_finding(id.as_str(), &NoObserver).unwrap();
    assert_eq!(again.subject.as_path(), Some(&path));
}
