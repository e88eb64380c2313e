//! Returning to a savepoint: exactly, or with what people made since; as a whole or not at all; and undone.

mod support;
#[path = "support/savepoints.rs"]
mod two_releases;

use std::fs;
use std::os::unix::fs::{MetadataExt as _, PermissionsExt as _, symlink};
use std::sync::Arc;

use support::{STATE, assert_same, folder, open, undo};
use two_releases::{covered, exactly, later, return_to, returned, savepoint, staying, update, updated, world};
use veritum_core::change::ChangeError;
use veritum_core::event::NoObserver;
use veritum_core::model::{ActionKind, SystemPath};
use veritum_core::report::StayReason;
use veritum_core::savepoints::ReturnWanted;
use veritum_core::testkit::{Accident, TestDisk, Tree};
use veritum_core::work::{Agreement, Engine, Settings, WorkError};
use veritum_demo::world::{World, add_file, package};

/// The tree without the boot loader's package, which never returns, and the database that has its entry.
fn but_loader(mut tree: Tree) -> Tree {
    let own = |path: &[u8]| {
        let text = String::from_utf8_lossy(path);
        text.contains("grub-demo.") || text.starts_with("usr/lib/grub/") || text.ends_with("lib/dpkg/status")
    };
    tree.0.retain(|path, _| !own(path));
    tree
}

#[test]
fn an_exact_return_is_exact_and_its_undo_too() {
    let dir = folder();
    let (world, settings, before, after) = updated(dir.path());
    assert!(before.differences(&after).len() > 10);
    let report = returned(&settings, &exactly());
    assert_eq!((report.change, report.lost.len()), (Some(1), 0), "{report:#?}");
    assert_same("returned", &but_loader(before.clone()), &but_loader(covered(&world)));
    // Equal files that were separate stay separate, and no inode of the pool has a name in the machine.
    let one = fs::metadata(world.at("/usr/lib/quay/one")).unwrap();
    assert_eq!((one.nlink(), one.ino()), (2, fs::metadata(world.at("/usr/lib/quay/two")).unwrap().ino()));
    assert_eq!(fs::metadata(world.at("/usr/bin/quay")).unwrap().nlink(), 1);
    let helper = fs::metadata(world.at("/usr/lib/quay/helper")).unwrap();
    assert_eq!(helper.permissions().mode() & 0o7777, 0o4755);
    undo(&settings, None).unwrap();
    assert_same("undone", &after, &covered(&world));
    undo(&settings, Some(2)).unwrap();
    assert_same("redone", &but_loader(before), &but_loader(covered(&world)));
    assert!(return_to(&open(&settings), 1, &exactly()).unwrap().actions.is_empty(), "there is nothing left to return");
}

#[test]
fn a_return_is_exact_where_var_is_a_link() {
    let to = "/data/var";
    let dir = folder();
    let world = world(dir.path());
    fs::create_dir_all(world.at(to).parent().unwrap()).unwrap();
    fs::rename(world.at("/var"), world.at(to)).unwrap();
    symlink(to, world.at("/var")).unwrap();
    // The renames here alter folders' times.
    let covered =
        || Tree::read(&world.machine(), &[&format!("{}/lib/veritum", &to[1..]), "home", "var"]).without_folder_times();
    let before = covered();
    savepoint(&later(&world.settings(), 10));
    fs::remove_file(world.at("/var")).unwrap();
    fs::rename(world.at(to), world.at("/var")).unwrap();
    world.upgrade(&update()).unwrap();
    fs::rename(world.at("/var"), world.at(to)).unwrap();
    symlink(to, world.at("/var")).unwrap();
    let after = covered();
    let settings = later(&world.settings(), 20);
    let report = returned(&settings, &exactly());
    assert!(report.change.is_some() && report.lost.is_empty(), "{to}: {report:#?}");
    assert_same(to, &but_loader(before), &but_loader(covered()));
    undo(&settings, None).unwrap();
    assert_same(to, &after, &covered());
}

#[test]
fn the_boot_loader_stays_with_its_entry_in_the_database() {
    let dir = folder();
    let (world, settings, ..) = updated(dir.path());
    let report = returned(&settings, &exactly());
    assert_eq!(fs::read(world.at("/usr/lib/grub/i386-pc/boot.img")).unwrap(), b"boot 2\n");
    let status = fs::read_to_string(world.at("/var/lib/dpkg/status")).unwrap();
    let entries: Vec<&str> =
        status.lines().filter(|l| l.starts_with("Package: ") || l.starts_with("Version: ")).collect();
    assert_eq!(
        entries,
        ["Package: quay", "Version: 1.0-1", "Package: grub-demo", "Version: 2.1-1", "Package: boat", "Version: 1"]
    );
    let [staying] = report.packages_staying.as_slice() else { panic!("{report:#?}") };
    assert_eq!((staying.package.package.as_str(), staying.reason), ("grub-demo", StayReason::BootLoader));
}

#[test]
fn what_people_made_and_changed_since_stays_and_is_named() {
    let dir = folder();
    let (world, settings, ..) = updated(dir.path());
    fs::write(world.at("/etc/printer"), "made since\n").unwrap();
    fs::write(world.at("/etc/hosts"), "127.0.0.1 counter\n").unwrap();
    fs::write(world.at("/etc/quay.conf"), "colour = mine\n").unwrap();
    fs::create_dir_all(world.at("/usr/share/rig/cache")).unwrap();
    fs::write(world.at("/usr/share/rig/cache/made"), "generated").unwrap();
    fs::write(world.at("/home/mirela/letter"), "own\n").unwrap();
    fs::create_dir_all(world.at("/etc/rig")).unwrap();
    fs::write(world.at("/etc/rig/key"), "own").unwrap();
    symlink("/usr/share/rig/inner/part", world.at("/etc/part")).unwrap();
    // A link of certificates that was made while packages were changed, and one of the administrator's.
    fs::create_dir_all(world.at("/etc/ssl/certs")).unwrap();
    for name in ["of-a-package.0", "own.0"] {
        symlink("some.pem", world.at("/etc/ssl/certs").join(name)).unwrap();
    }
    let made = fs::symlink_metadata(world.at("/etc/ssl/certs/of-a-package.0")).unwrap().mtime();
    let at = |seconds: i64| {
        let at = jiff::Timestamp::from_second(seconds).unwrap().to_zoned(jiff::tz::TimeZone::UTC);
        at.strftime("%Y-%m-%d %H:%M:%S").to_string()
    };
    fs::create_dir_all(world.at("/var/log")).unwrap();
    let log = format!("{} upgrade quay:amd64 1.0-1 2.0-1\n", at(made + 3600));
    fs::write(world.at("/var/log/dpkg.log"), log).unwrap();
    let time = rustix::fs::Timespec { tv_sec: made + 3601, tv_nsec: 0 };
    let times = rustix::fs::Timestamps { last_access: time, last_modification: time };
    let link = world.at("/etc/ssl/certs/of-a-package.0");
    rustix::fs::utimensat(rustix::fs::CWD, &link, &times, rustix::fs::AtFlags::SYMLINK_NOFOLLOW).unwrap();
    fs::write(world.at("/etc/ssh/ssh_host_rsa_key"), "identity").unwrap();
    let report = returned(&settings, &ReturnWanted::default());
    let told = staying(&report);
    assert_eq!(told.get("/etc/printer"), Some(&StayReason::MadeSince));
    assert_eq!(told.get("/etc/hosts"), Some(&StayReason::ConfigChanged));
    assert_eq!(told.get("/etc/quay.conf"), Some(&StayReason::ConfigChanged));
    assert_eq!(told.get("/etc/rig/key"), Some(&StayReason::MadeSince));
    for (path, content) in [
        ("/etc/printer", "made since\n"),
        ("/etc/hosts", "127.0.0.1 counter\n"),
        ("/etc/quay.conf", "colour = mine\n"),
        ("/etc/rig/key", "own"),
        ("/home/mirela/letter", "own\n"),
        ("/etc/ssh/ssh_host_rsa_key", "identity"),
    ] {
        assert_eq!(fs::read_to_string(world.at(path)).unwrap(), content, "{path}");
    }
    // What the package brought is gone, with what was generated in its folder and a symlink to it.
    assert_eq!(told.get("/etc/ssl/certs/own.0"), Some(&StayReason::MadeSince));
    for path in ["/usr/share/rig", "/etc/rig.conf", "/etc/part", "/etc/ssl/certs/of-a-package.0"] {
        assert!(world.at(path).symlink_metadata().is_err(), "{path}");
    }
    assert!(fs::read(world.at("/usr/bin/quay")).unwrap().starts_with(b"quay 1"));
    // Whatever differs now is what was named, or the boot loader's.
    let named: Vec<&str> = told.keys().map(String::as_str).collect();
    assert!(named.iter().all(|path| path.starts_with("/etc/") || path.contains("grub")), "{named:?}");
}

#[test]
fn configuration_files_return_when_asked_and_a_shipped_one_that_nobody_changed_always() {
    let dir = folder();
    let (world, settings, ..) = updated(dir.path());
    let conf = world.at("/etc/quay.conf");
    returned(&settings, &ReturnWanted::default());
    assert_eq!(fs::read_to_string(&conf).unwrap(), "colour = grey\n", "it was as its package shipped it");
    undo(&settings, None).unwrap();
    fs::write(&conf, "colour = mine\n").unwrap();
    fs::remove_file(world.at("/etc/hosts")).unwrap();
    let report = returned(&settings, &ReturnWanted { config: true, ..ReturnWanted::default() });
    assert_eq!(fs::read_to_string(&conf).unwrap(), "colour = grey\n");
    assert_eq!(fs::read_to_string(world.at("/etc/hosts")).unwrap(), "127.0.0.1 localhost\n");
    assert!(!staying(&report).contains_key("/etc/hosts"));
    undo(&settings, None).unwrap();
    assert_eq!(fs::read_to_string(&conf).unwrap(), "colour = mine\n");
    let report = returned(&settings, &ReturnWanted::default());
    assert_eq!(staying(&report).get("/etc/hosts"), Some(&StayReason::ConfigRemoved));
}

#[test]
fn accounts_stay_unless_asked_and_the_report_says_which_differ() {
    let dir = folder();
    let world = world(dir.path());
    let shadow = "root:old:19000::::::\nmirela:old:19000::::::\n";
    fs::write(world.at("/etc/shadow"), shadow).unwrap();
    let passwd = fs::read_to_string(world.at("/etc/passwd")).unwrap();
    fs::write(world.at("/etc/passwd"), format!("{passwd}pier:x:120:120::/:/usr/sbin/nologin\n")).unwrap();
    fs::create_dir_all(world.at("/opt/pier")).unwrap();
    fs::write(world.at("/opt/pier/own"), "of pier").unwrap();
    std::os::unix::fs::chown(world.at("/opt/pier/own"), Some(120), None).unwrap();
    savepoint(&later(&world.settings(), 10));
    fs::write(world.at("/etc/shadow"), shadow.replace("mirela:old", "mirela:new")).unwrap();
    fs::write(world.at("/etc/passwd"), format!("{passwd}oskar:x:1001:1001::/home/oskar:/bin/sh\n")).unwrap();
    fs::remove_file(world.at("/opt/pier/own")).unwrap();
    let settings = later(&world.settings(), 20);
    let report = returned(&settings, &ReturnWanted::default());
    let accounts = &report.accounts;
    assert_eq!((&accounts.added[..], &accounts.removed[..]), (&["oskar".to_owned()][..], &["pier".to_owned()][..]));
    assert_eq!(accounts.passwords, ["mirela"]);
    assert_eq!(accounts.added_again, ["pier"], "a returned file belongs to it");
    let now = fs::read_to_string(world.at("/etc/passwd")).unwrap();
    assert!(now.contains("oskar:x:1001") && now.ends_with("pier:x:120:120::/:/usr/sbin/nologin\n"), "{now}");
    assert!(fs::read_to_string(world.at("/etc/shadow")).unwrap().contains("mirela:new"));
    assert_eq!(fs::metadata(world.at("/opt/pier/own")).unwrap().uid(), 120);
    undo(&settings, None).unwrap();
    returned(&settings, &ReturnWanted { accounts: true, ..ReturnWanted::default() });
    assert_eq!(fs::read_to_string(world.at("/etc/shadow")).unwrap(), shadow);
    assert!(!fs::read_to_string(world.at("/etc/passwd")).unwrap().contains("oskar"));
}

#[test]
fn a_system_user_whose_id_is_taken_gets_another_and_one_that_a_unit_names_is_added_too() {
    let dir = folder();
    let world = world(dir.path());
    let whole = |file: &str| fs::read_to_string(world.at(file)).unwrap_or_default();
    let (passwd, group) = (whole("/etc/passwd"), whole("/etc/group"));
    let accounts = |users: &str, groups: &str| {
        fs::write(world.at("/etc/passwd"), format!("{passwd}{users}")).unwrap();
        fs::write(world.at("/etc/group"), format!("{group}{groups}")).unwrap();
    };
    let (tamsin, oskar) = ("tamsin:x:1005:1005::/:/bin/sh\n", "oskar:x:1005:1005::/:/bin/sh\n");
    let system = "pier:x:120:120::/:/bin/false\nrig:x:121:121::/:/bin/false\n";
    accounts(&format!("{tamsin}{system}"), "pier:x:120:\nrig:x:121:\n");
    let (own, unit) = (world.at("/opt/pier/own"), world.at("/usr/lib/systemd/system/rigd.service"));
    for file in [&own, &unit] {
        fs::create_dir_all(file.parent().unwrap()).unwrap();
    }
    fs::write(&own, "of pier").unwrap();
    std::os::unix::fs::chown(&own, Some(120), Some(120)).unwrap();
    let of_person = world.at("/opt/pier/person");
    fs::write(&of_person, "of tamsin").unwrap();
    std::os::unix::fs::chown(&of_person, Some(1005), None).unwrap();
    fs::write(&unit, "[Service]\nUser=rig\n").unwrap();
    savepoint(&later(&world.settings(), 10));
    accounts(&format!("{oskar}boat:x:120:120::/:/bin/false\n"), "boat:x:120:\n");
    fs::remove_file(&own).unwrap();
    fs::remove_file(&of_person).unwrap();
    fs::remove_file(&unit).unwrap();
    let after = covered(&world);
    let report = returned(&later(&world.settings(), 20), &ReturnWanted::default());
    assert_eq!(report.accounts.added_again, ["pier", "rig"]);
    let again = "pier:x:100:100::/:/bin/false\nrig:x:121:121::/:/bin/false\n";
    assert!(
        whole("/etc/passwd").ends_with(&format!("boat:x:120:120::/:/bin/false\n{again}")),
        "{}",
        whole("/etc/passwd")
    );
    assert!(whole("/etc/group").ends_with("boat:x:120:\npier:x:100:\nrig:x:121:\n"), "{}", whole("/etc/group"));
    let owner = fs::metadata(&own).unwrap();
    assert_eq!((owner.uid(), owner.gid()), (100, 100), "never another user's");
    assert_eq!(fs::metadata(&of_person).unwrap().uid(), 65534);
    assert_eq!(report.accounts.without_owner, [SystemPath::literal("/opt/pier/person")]);
    undo(&later(&world.settings(), 30), None).unwrap();
    assert_same("undone", &after, &covered(&world));
}

#[test]
fn a_content_that_is_no_longer_kept_comes_from_the_store_or_nothing_is_done() {
    let dir = folder();
    let world = world(dir.path());
    savepoint(&later(&world.settings(), 10));
    fs::write(world.at("/usr/bin/quay"), "edited in place, and with it what was kept").unwrap();
    let edited = covered(&world);
    let settings = later(&world.settings(), 20);
    let alone = Settings { store: None, ..settings.clone() };
    let report = return_to(&open(&alone), 1, &exactly()).unwrap();
    assert_eq!((report.change, report.lost.len()), (None, 1), "{report:#?}");
    assert_same("nothing was done", &edited, &covered(&world));
    let report = return_to(&open(&settings), 1, &exactly()).unwrap();
    assert_eq!((report.change, report.lost.len()), (Some(1), 0), "{report:#?}");
    assert!(fs::read(world.at("/usr/bin/quay")).unwrap().starts_with(b"quay 1"));
}

#[test]
fn a_file_that_changes_in_the_meantime_undoes_the_whole_return() {
    let dir = folder();
    let (world, settings, ..) = updated(dir.path());
    let engine = open(&settings);
    let path = world.at("/usr/share/quay/notes");
    let result = engine.return_to(1, &exactly(), false, &NoObserver, &mut |_| {
        fs::write(&path, "written while the question was asked").unwrap();
        Agreement::Yes
    });
    assert!(matches!(result, Err(WorkError::Change(ChangeError::NotWhole { .. }))), "{result:?}");
    assert!(fs::read(world.at("/usr/bin/quay")).unwrap().starts_with(b"quay 2"));
    assert_eq!(fs::read_to_string(&path).unwrap(), "written while the question was asked");
    assert!(engine.interrupted().unwrap().is_empty());
    let report = returned(&settings, &exactly());
    assert!(report.change.is_some());
}

#[test]
fn an_undo_of_a_return_is_refused_as_a_whole_once_packages_changed_again() {
    let dir = folder();
    let (world, settings, ..) = updated(dir.path());
    returned(&settings, &exactly());
    world.upgrade(&update()).unwrap();
    let now = covered(&world);
    let report = undo(&settings, None).unwrap();
    assert!(report.changes[0].change.is_none() && !report.changes[0].refused.is_empty(), "{report:#?}");
    assert_same("nothing was undone", &now, &covered(&world));
}

#[test]
fn nothing_is_written_outside_what_a_savepoint_covers_whatever_its_manifest_says() {
    let dir = folder();
    let (world, settings, ..) = updated(dir.path());
    // A manifest that names a user's file: forged, with all digests right.
    let parts = world.at(&format!("/{STATE}/savepoints/parts"));
    let head_path = world.at(&format!("/{STATE}/savepoints/1"));
    let head = fs::read_to_string(&head_path).unwrap();
    let mut json: serde_json::Value = serde_json::from_str(head.rsplit_once("\nblake3 ").unwrap().0).unwrap();
    let hosts = veritum_core::model::Digest::hash(b"127.0.0.1 localhost\n").to_hex();
    fs::create_dir_all(world.at("/var/log")).unwrap();
    fs::write(world.at("/var/log/calls"), "a log\n").unwrap();
    let line = |path: &str| {
        format!(
            "{{\"path\":\"{path}\",\"kind\":\"file\",\"mode\":\"0644\",\"mtime\":1,\"size\":20,\"blake3\":\"{hosts}\"}}\n"
        )
    };
    let line = ["/home/mirela/letter", "/var/log/calls"].map(line).concat();
    let digest = veritum_core::model::Digest::hash(line.as_bytes()).to_hex();
    fs::write(parts.join(format!("{digest}.zst")), zstd::bulk::compress(line.as_bytes(), 3).unwrap()).unwrap();
    json["parts"] = serde_json::json!([{"blake3": digest, "bytes": line.len()}]);
    let text = serde_json::to_string_pretty(&json).unwrap();
    let seal = veritum_core::model::Digest::hash(text.as_bytes()).to_hex();
    fs::write(&head_path, format!("{text}\nblake3 {seal}\n")).unwrap();
    let report =
        open(&settings).return_to(1, &ReturnWanted::default(), true, &NoObserver, &mut |_| Agreement::No).unwrap();
    let is_outside = |path: &SystemPath| path.is_within_place("/home") || path.is_within_place("/var/log");
    assert!(report.actions.iter().all(|action| !is_outside(action.path.as_ref().unwrap())), "{report:#?}");
    assert_eq!(fs::read_to_string(world.at("/home/mirela/letter")).unwrap(), "private\n");
}

#[test]
fn what_makes_a_return_impossible_is_said_before_the_question() {
    let dir = folder();
    let (world, settings, _, after) = updated(dir.path());
    let full = Engine::open(settings, Arc::new(TestDisk::new(Accident::None).with_free(0))).unwrap();
    for plan_only in [true, false] {
        let refused = full.return_to(1, &exactly(), plan_only, &NoObserver, &mut |_| unreachable!());
        assert!(matches!(refused, Err(WorkError::Change(ChangeError::NoRoom { .. }))), "{refused:#?}");
    }
    assert_same("refused", &after, &covered(&world));
}

#[test]
fn services_of_packages_that_return_and_the_initramfs_are_named() {
    let dir = folder();
    let with_service = |version: &str| {
        let mut quay = package("quay", version);
        add_file(&mut quay, "/usr/lib/systemd/system/quay.service", "[Service]\n");
        add_file(&mut quay, "/usr/sbin/quayd", version);
        quay
    };
    let mut oar = package("oar", "1");
    add_file(&mut oar, "/usr/lib/systemd/system/oar.service", "[Service]\n");
    let world = World::new(&dir.path().join("world"), &[with_service("1"), oar.clone()]);
    for folder in [STATE, "/boot"] {
        fs::create_dir(world.at(folder)).unwrap();
    }
    fs::write(world.at("/boot/initrd.img-6"), "1").unwrap();
    savepoint(&later(&world.settings(), 10));
    world.upgrade(&[with_service("2"), oar]).unwrap();
    fs::write(world.at("/boot/initrd.img-6"), "22").unwrap();
    let engine = open(&later(&world.settings(), 20));
    let report = engine.return_to(1, &ReturnWanted::default(), true, &NoObserver, &mut |_| unreachable!()).unwrap();
    let found = &report.consequences;
    assert_eq!(found.services, ["quay.service"], "its program changed, its unit did not");
    assert_eq!(found.initramfs, [SystemPath::literal("/boot/initrd.img-6")]);
    assert!(found.kernels.is_empty() && found.restart.is_empty(), "{found:#?}");
}

#[test]
fn a_plan_writes_nothing_and_names_what_would_be_done() {
    let dir = folder();
    let (world, settings, _, after) = updated(dir.path());
    let report = open(&settings).return_to(1, &exactly(), true, &NoObserver, &mut |_| unreachable!()).unwrap();
    assert!(report.plan_only && report.change.is_none());
    let of = |kind| report.actions.iter().filter(|action| action.action == kind).count();
    assert!(of(ActionKind::Restore) > 4 && of(ActionKind::SetAside) > 1, "{report:#?}");
    assert_same("a plan", &after, &covered(&world));
    assert!(matches!(
        open(&settings).return_to(7, &exactly(), true, &NoObserver, &mut |_| Agreement::No),
        Err(WorkError::Unknown { what: "savepoint", .. })
    ));
}
