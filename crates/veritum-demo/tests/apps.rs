//! Applications: which there are, whose they are, and how they are.

mod support;

use std::fs;
use std::os::unix::fs::MetadataExt as _;
use std::sync::atomic::{AtomicBool, AtomicU64, Ordering};

use support::test_home::{TestHome, reset};
use support::{Demo, check, open, told, undo};
use veritum_core::apps::Class;
use veritum_core::areas::{APPS, DATABASE, FILES};
use veritum_core::event::{Event, Flow, NoObserver, Observer, Phase};
use veritum_core::model::{AreaName, Scope};
use veritum_core::report::{AppLine, AppState, AppsReport, CheckReport, Outcome};
use veritum_core::work::{Agreement, Only, ResetWanted, Settings, WorkError};
use veritum_demo::by_name;

fn apps(settings: &Settings) -> AppsReport {
    open(settings).list_apps(false).unwrap()
}

fn of<'a>(report: &'a AppsReport, id: &str) -> &'a AppLine {
    report.apps.iter().find(|app| app.id == id).unwrap_or_else(|| panic!("{id}: {report:?}"))
}

/// A moment at which everything that was just made is old.
fn later(settings: &Settings) -> Settings {
    let now = jiff::Timestamp::from_second(jiff::Timestamp::now().as_second() + 60).unwrap();
    Settings { now, ..settings.clone() }
}

#[test]
fn applications_have_the_state_of_their_packages_at_the_last_check() {
    let demo = Demo::with(&[by_name("altered-library").unwrap(), by_name("missing-program").unwrap()]);
    let settings = later(&demo.settings());
    let before = apps(&settings);
    assert!(before.checked.is_none() && before.apps.len() > 10);
    assert!(before.apps.iter().all(|app| app.state == AppState::Unchecked && app.shown && app.trouble.is_none()));
    let line = of(&before, "berthbook");
    assert_eq!((line.name.as_str(), line.package.as_ref().unwrap().version.as_str()), ("Berthbook", "4.2-1"));
    assert_eq!(line.vendor.as_deref(), Some("Foreshore Packagers"));
    // Only a kept check says: the state folder must be there.
    check(&settings);
    let after = apps(&settings);
    assert!(after.checked.is_some());
    assert_eq!((of(&after, "gullmail").state, of(&after, "gullmail").problems), (AppState::Damaged, 1));
    assert_eq!(of(&after, "berthbook").state, AppState::Ok, "the library is another component");
    // dpkg writes a package's list again with each installation.
    let list = demo.machine().join("var/lib/dpkg/info/berthbook.list");
    fs::write(&list, fs::read(&list).unwrap()).unwrap();
    let soon = Settings { now: settings.now - jiff::SignedDuration::from_secs(3600), ..settings.clone() };
    check(&soon);
    assert_eq!(of(&apps(&settings), "berthbook").state, AppState::ChangedSince);
}

#[test]
fn entries_of_nobodys_and_unusable_ones_are_told_and_deleted_ones_are_not() {
    let demo = Demo::with(&[]);
    let folder = demo.machine().join("usr/local/share/applications");
    fs::create_dir_all(folder.join("sub")).unwrap();
    let put = |name: &str, text: &str| fs::write(folder.join(name), text).unwrap();
    put("own.desktop", "[Desktop Entry]\nType=Application\nName=Own \u{202e}\nExec=own\n");
    put("sub/below.desktop", "[Desktop Entry]\nType=Application\nName=Below\nExec=own\nNoDisplay=true\n");
    put("gone.desktop", "[Desktop Entry]\nType=Application\nName=Gone\nExec=own\nHidden=true\n");
    put("place.desktop", "[Desktop Entry]\nType=Link\nName=A place\nURL=x\n");
    put("tidewriter.desktop", "[Desktop Entry]\nType=Application\nName=Tide");
    let report = apps(&demo.settings());
    assert_eq!(of(&report, "own").state, AppState::Unowned);
    assert!(!of(&report, "sub-below").shown);
    assert!(!report.apps.iter().any(|app| app.id == "gone" || app.id == "place"));
    let spoilt = of(&report, "tidewriter");
    assert_eq!((spoilt.name.as_str(), spoilt.trouble.as_deref()), ("tidewriter", Some("no Exec")));
    assert!(spoilt.package.is_none(), "an administrator's entry goes before the component's");
}

fn look(settings: &Settings, scope: &Scope) -> CheckReport {
    open(settings).check(scope, &NoObserver).unwrap()
}

fn app(name: &str) -> Scope {
    Scope { selected: vec![(APPS, name.to_owned())], ..Scope::default() }
}

fn findings(report: &CheckReport, area: AreaName) -> Vec<String> {
    let of_area = report.findings.iter().filter(|f| f.area == area);
    of_area.map(|f| format!("{} {}: {}", f.subject, f.verdict.word(), f.cause.as_deref().unwrap_or_default())).collect()
}

#[test]
fn an_application_is_looked_at_with_its_package_and_repaired_with_it() {
    let demo = Demo::with(&[by_name("missing-program").unwrap(), by_name("emptied-file").unwrap()]);
    let (settings, before) = (demo.settings(), demo.tree());
    let apps = Scope::only(APPS);
    let report = look(&settings, &apps);
    assert_eq!(findings(&report, APPS), ["gullmail missing: its program is missing: gullmail"]);
    assert_eq!((report.areas.len(), report.findings.len()), (1, 1), "nothing else is looked at");
    assert_eq!(
        report.findings[0].action.as_ref().map(ToString::to_string).as_deref(),
        Some("veritum repair app:gullmail")
    );
    assert!(report.left.iter().any(|left| left.finding == report.findings[0].id));
    // By its name in any spelling; the damage to another package is not its own.
    for name in ["gullmail", "Gullmail", "GULLMAIL"] {
        let report = look(&settings, &app(name));
        assert_eq!(findings(&report, APPS).len(), 1);
        assert_eq!(findings(&report, FILES), ["/usr/bin/gullmail missing: "]);
        assert!(report.left.is_empty() && report.limited);
        assert!(report.findings.iter().all(|f| f.remedy.is_some() && f.action.is_none()), "{:?}", report.findings);
    }
    let done = open(&settings).repair(&app("Gullmail"), &NoObserver, &mut |_| Agreement::Yes).unwrap();
    let after = done.after.unwrap();
    assert!(after.findings.is_empty() && after.outcome == Outcome::Ok, "{:?}", after.findings);
    assert!(done.areas.iter().all(|area| area.remaining.is_empty()) && done.areas.iter().any(|a| a.area == APPS));
    assert_eq!(told(&check(&settings).findings).len(), 1, "the other damage is left");
    undo(&settings, None).unwrap();
    support::assert_same("undone", &before, &demo.tree());
}

/// Counts how often an application is examined in a home.
#[derive(Default)]
struct Looks {
    in_homes: AtomicBool,
    count: AtomicU64,
}

impl Observer for Looks {
    fn on_event(&self, event: Event<'_>) -> Flow {
        match event {
            Event::Begin { phase, .. } => self.in_homes.store(phase == Phase::Homes, Ordering::Relaxed),
            Event::Advance { .. } if self.in_homes.load(Ordering::Relaxed) => {
                self.count.fetch_add(1, Ordering::Relaxed);
            }
            _ => {}
        }
        Flow::Continue
    }
}

#[test]
fn a_repair_of_an_application_looks_into_each_home_before_and_after_and_not_between() {
    // Damage to the package database has everything examined again between.
    let faults = ["missing-program", "emptied-file", "status-corrupt"].map(|name| by_name(name).unwrap());
    let demo = Demo::with(&faults);
    let settings = demo.settings();
    let looked = |scope: &Scope| {
        let looks = Looks::default();
        let done = open(&settings).repair(scope, &looks, &mut |_| Agreement::Yes).unwrap();
        assert!(done.areas.iter().any(|area| area.repaired > 0), "{:#?}", done.areas);
        looks.count.into_inner()
    };
    let homes = 2;
    assert_eq!(looked(&Scope { areas: vec![DATABASE], ..app("gullmail") }), 2 * homes);
}

#[test]
fn a_name_that_fits_none_or_several_is_refused_with_the_names_there_are() {
    let demo = Demo::with(&[]);
    let folder = demo.machine().join("usr/local/share/applications");
    fs::create_dir_all(&folder).unwrap();
    for id in ["org.quay.Own", "org.pier.Own"] {
        let text = "[Desktop Entry]\nType=Application\nName=Same\nExec=/usr/bin/gullmail\n";
        fs::write(folder.join(format!("{id}.desktop")), text).unwrap();
    }
    let refused = |name: &str| open(&demo.settings()).check(&app(name), &NoObserver).unwrap_err();
    for name in ["same", "own"] {
        let WorkError::SeveralApps { ids, .. } = refused(name) else { panic!("{name}") };
        assert_eq!(ids, ["org.pier.Own", "org.quay.Own"]);
    }
    let WorkError::Unknown { known, .. } = refused("gulmail") else { panic!() };
    assert!(known.iter().any(|name| name == "gullmail"));
    // One that belongs to no package: only whether it can be started is examined.
    let report = look(&demo.settings(), &app("org.quay.Own"));
    assert_eq!((report.areas.len(), report.area(APPS).is_some(), report.outcome), (1, true, Outcome::Ok));
}

#[test]
fn what_an_application_keeps_is_told_home_by_home_and_nothing_is_touched() {
    let demo = Demo::with(&[]);
    let home = |user: &str| demo.machine().join("home").join(user);
    fs::write(home("mirela").join(".config/berthbook/season.odt"), "her own, wherever it lies").unwrap();
    let link = home("oskar").join(".config/gullmail");
    std::os::unix::fs::symlink("/etc", &link).unwrap();
    if support::is_root() {
        // What belongs to a person else is no one's to move.
        let ids = fs::metadata(home("oskar")).unwrap();
        std::os::unix::fs::lchown(&link, Some(ids.uid()), Some(ids.gid())).unwrap();
    }
    let before = demo.tree();
    let told = |name: &str| open(&demo.settings()).explain_app(name).unwrap();
    let parts = |report: &veritum_core::report::AppReport, user: &str| -> Vec<(Class, u64)> {
        let home = report.homes.iter().find(|home| home.user == user);
        home.into_iter().flat_map(|home| &home.parts).map(|part| (part.class, part.files)).collect()
    };
    let report = told("berthbook");
    assert_eq!(parts(&report, "mirela"), [(Class::Settings, 1), (Class::Own, 1)]);
    assert_eq!(parts(&report, "oskar"), [(Class::Settings, 1)]);
    assert!(report.finding.is_none() && report.card.from == veritum_core::report::CardOrigin::NoCard);
    // Mail is among the data: the user's own. A link is counted as a link.
    let report = told("gullmail");
    assert_eq!(parts(&report, "mirela"), [(Class::Own, 1)]);
    assert_eq!(parts(&report, "oskar"), [(Class::Settings, 1), (Class::Own, 1)]);
    assert!(told("tallyroll").homes.is_empty());
    support::assert_same("nothing is touched", &before, &demo.tree());
}

/// What is reported of things in homes.
fn in_homes(report: &CheckReport) -> Vec<String> {
    let told = |f: &veritum_core::model::Finding| {
        format!(
            "{} {}; {}",
            f.subject,
            f.verdict.word(),
            f.action.as_ref().map(ToString::to_string).as_deref().unwrap_or_default()
        )
    };
    let mut all: Vec<String> = report.findings.iter().filter(|f| f.subject.as_path().is_some()).map(told).collect();
    all.sort();
    all
}

#[test]
fn settings_that_cannot_be_read_and_locks_of_nobody_are_told_with_what_helps() {
    let here = TestHome::new();
    let settings = here.settings();
    let quay = |settings: &Settings| look(settings, &app("quay"));
    let lock = "/home/mirela/.quay/a/lock stale-lock; veritum reset quay --user mirela --only locks";
    assert_eq!(in_homes(&quay(&settings)), [lock], "nothing else is wrong");
    here.put(".config/quay/buttons.json", "{\"left\": ").unwrap();
    here.put(".quay/a/mail/inbox.json", "{ the user's own, and nobody's business").unwrap();
    here.put(".quay/a/look/zeros", "\0\0\0\0").unwrap();
    let before = here.tree();
    let report = quay(&settings);
    let garbled = "corrupt; veritum reset quay --user mirela --only settings";
    let expected = [
        format!("/home/mirela/.config/quay/buttons.json {garbled}"),
        lock.to_owned(),
        format!("/home/mirela/.quay/a/look/zeros {garbled}"),
    ];
    assert_eq!(in_homes(&report), expected);
    assert!(report.left.len() >= 3 && report.outcome == Outcome::Damaged, "{:?}", report.left);
    support::assert_same("only looked at", &before, &here.tree());
    reset(&settings, &ResetWanted { only: Some(Only::Locks), ..ResetWanted::default() });
    assert_eq!(in_homes(&quay(&settings)), [&*expected[0], &*expected[2]]);
    reset(&settings, &ResetWanted { only: Some(Only::Settings), ..ResetWanted::default() });
    assert!(in_homes(&quay(&settings)).is_empty());
}

#[test]
fn what_belongs_to_somebody_else_in_a_home_is_told() {
    if !support::is_root() {
        println!("SKIPPED: giving files away needs root");
        return;
    }
    let here = TestHome::new();
    std::os::unix::fs::lchown(here.home().join(".config/quay/rc"), Some(0), Some(0)).unwrap();
    std::os::unix::fs::lchown(here.home().join(".cache"), Some(0), Some(0)).unwrap();
    let told = in_homes(&look(&here.settings(), &app("quay")));
    for (path, verdict) in [(".config/quay/rc", "wrong-owner"), (".cache", "wrong-owner")] {
        let command = format!("chown --no-dereference mirela: /home/mirela/{path}");
        let is_it =
            |line: &String| line.starts_with(&format!("/home/mirela/{path} {verdict}; ")) && line.ends_with(&command);
        assert!(told.iter().any(is_it), "{command}: {told:?}");
    }
}

#[test]
fn what_several_applications_rest_on_comes_first() {
    let demo = Demo::with(&[by_name("altered-library").unwrap()]);
    let settings = later(&demo.settings());
    let entries = demo.machine().join("usr/share/applications");
    // A second entry of the same package.
    let second = fs::read(entries.join("gullmail.desktop")).unwrap();
    fs::write(entries.join("gullmail-compose.desktop"), second).unwrap();
    let list = demo.machine().join("var/lib/dpkg/info/gullmail.list");
    let mut lines = fs::read_to_string(&list).unwrap();
    lines.push_str("/usr/share/applications/gullmail-compose.desktop\n");
    fs::write(&list, lines).unwrap();
    fs::write(demo.machine().join("usr/bin/gullmail"), "damaged").unwrap();
    let both =
        Scope { selected: ["gullmail", "gullmail-compose"].map(|id| (APPS, id.to_owned())).into(), ..Scope::default() };
    let report = look(&settings, &both);
    let shared: Vec<_> = report.notes.iter().filter(|note| note.verdict.word() == "shared-cause").collect();
    assert_eq!(shared.len(), 1, "{:?}", report.notes);
    assert_eq!(shared[0].action.as_ref().map(ToString::to_string).as_deref(), Some("veritum repair package:gullmail"));
    assert!(shared[0].cause.as_deref().is_some_and(|cause| cause.contains("used by 2 applications")));
}

#[test]
fn damage_in_homes_is_told_of_the_application_and_a_reset_helps() {
    let faults: Vec<_> = veritum_demo::FAULTS.iter().filter(|fault| fault.in_homes).collect();
    assert_eq!(faults.len(), 2);
    let demo = Demo::with(&faults);
    let cards = demo.machine().with_file_name("cards");
    fs::create_dir(&cards).unwrap();
    for (name, text) in veritum_demo::CARDS {
        fs::write(cards.join(name), text).unwrap();
    }
    let settings = Settings { cards: Some(cards), ..demo.settings() };
    let before = demo.tree();
    let all = Scope::only(APPS);
    let told = in_homes(&look(&settings, &all));
    assert_eq!(
        told,
        [
            "/home/mirela/.config/tidewriter/settings.json corrupt; veritum reset tidewriter --user mirela --only settings",
            "/home/mirela/.gullmail/harbour.box/lock stale-lock; veritum reset gullmail --user mirela --only locks",
        ]
    );
    for (app, only) in [("tidewriter", Only::Settings), ("gullmail", Only::Locks)] {
        let wanted = ResetWanted { user: Some("mirela".into()), only: Some(only), ..ResetWanted::default() };
        let report = open(&settings).reset(app, &wanted, false, &NoObserver, &mut |_| Agreement::Yes).unwrap();
        assert!(report.homes[0].own.as_ref().unwrap().unchanged);
    }
    assert!(in_homes(&look(&settings, &all)).is_empty());
    for number in [1, 2] {
        undo(&settings, Some(number)).unwrap();
    }
    support::assert_same("undone", &before, &demo.tree());
}

#[test]
fn how_much_an_application_takes_is_told_by_what_it_is() {
    let here = TestHome::new();
    let settings = here.settings();
    let of = |sizes: bool| {
        let report = open(&settings).list_apps(sizes).unwrap();
        report.apps.iter().find(|app| app.id == "quay").unwrap().sizes
    };
    assert!(of(false).is_none());
    let sizes = of(true).unwrap();
    // A thing's text is its path; the lock is a link, as long as what it says.
    let length = |paths: &[&str]| paths.iter().map(|path| path.len() as u64).sum::<u64>();
    assert_eq!(sizes.cache, length(&[".cache/quay/thumbs/1", ".quay/a/mail/index/1"]));
    assert_eq!(sizes.own, length(&[".quay/a/mail/inbox"]));
    let rest = [
        ".config/quay/rc",
        ".config/quay/deep/er/rc",
        ".config/quay/toolbar/buttons",
        ".quay/a/prefs",
        ".quay/a/look/one",
        ".quay/a/look/deep/two",
        ".local/state/quay/window",
        "127.0.1.1:+1",
    ];
    assert_eq!(sizes.settings, length(&rest));
}
