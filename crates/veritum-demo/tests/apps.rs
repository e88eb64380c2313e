//! Applications: which there are, whose they are, and how they stand.

mod support;

use std::fs;

use support::{Demo, check, open};
use veritum_core::report::{AppLine, AppState, AppsReport};
use veritum_core::work::Settings;
use veritum_demo::by_name;

fn apps(settings: &Settings) -> AppsReport {
    open(settings).list_apps().unwrap()
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
fn applications_stand_as_the_last_check_found_their_components() {
    let demo = Demo::with(&[by_name("altered-library").unwrap(), by_name("missing-program").unwrap()]);
    let settings = later(&demo.settings());
    let before = apps(&settings);
    assert!(before.checked.is_none() && before.apps.len() > 10);
    assert!(before.apps.iter().all(|app| app.state == AppState::Unchecked && app.shown && app.trouble.is_none()));
    let line = of(&before, "berthbook");
    assert_eq!((line.name.as_str(), line.component.as_ref().unwrap().version.as_str()), ("Berthbook", "4.2-1"));
    assert_eq!(line.vendor.as_deref(), Some("Foreshore Packagers"));
    // Only a kept check tells: the state folder must be there.
    check(&settings);
    let after = apps(&settings);
    assert!(after.checked.is_some());
    assert_eq!((of(&after, "gullmail").state, of(&after, "gullmail").problems), (AppState::Problems, 1));
    assert_eq!(of(&after, "berthbook").state, AppState::Sound, "the library is another component");
    // dpkg writes a component's list anew with each installation.
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
    assert_eq!((spoilt.name.as_str(), spoilt.trouble.as_deref()), ("tidewriter", Some("it has no Exec")));
    assert!(spoilt.component.is_none(), "an administrator's entry goes before the component's");
}
