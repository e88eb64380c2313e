//! What a return does in special places: pipes, files with holes, large files, homes, parts that are not mounted, and what a killed dpkg
//! left.

mod support;
#[path = "support/savepoints.rs"]
mod two_releases;

use std::fs;
use std::os::unix::fs::{FileExt as _, MetadataExt as _};
use std::process::Command;

use support::{assert_same, folder, open, undo};
use two_releases::{covered, exactly, kept, later, return_to, returned, savepoint, staying, world};
use veritum_core::event::NoObserver;
use veritum_core::report::StayReason;
use veritum_core::savepoints::{ReturnWanted, SavepointError};
use veritum_core::work::{Agreement, WorkError};

#[test]
fn pipes_files_with_holes_and_strange_names_come_back_as_they_were() {
    let dir = folder();
    let world = world(dir.path());
    let (pipe, sparse, odd) = (world.at("/etc/pipe"), world.at("/opt/image"), world.at("/usr/share/a\n\u{1b}[31m"));
    fs::create_dir(world.at("/opt")).unwrap();
    assert!(Command::new("mkfifo").args(["-m", "0664"]).arg(&pipe).status().unwrap().success());
    let image = fs::File::create(&sparse).unwrap();
    image.set_len(80 << 20).unwrap();
    image.write_all_at(b"in the middle", 20 << 20).unwrap();
    fs::create_dir(&odd).unwrap();
    fs::write(odd.join("- "), "odd").unwrap();
    let before = covered(&world);
    savepoint(&later(&world.settings(), 10));
    fs::remove_file(&pipe).unwrap();
    fs::remove_file(&sparse).unwrap();
    fs::remove_dir_all(&odd).unwrap();
    fs::write(&odd, "a file now").unwrap();
    returned(&later(&world.settings(), 20), &exactly());
    assert_same("returned", &before, &covered(&world));
    let kept = kept(&world, &fs::read(&sparse).unwrap());
    for file in [&sparse, &kept] {
        let blocks = fs::metadata(file).unwrap().blocks() * 512;
        assert!(blocks < 4 << 20, "{} takes {blocks} bytes", file.display());
    }
}

#[test]
fn a_file_that_became_large_is_no_longer_covered_and_stays() {
    let dir = folder();
    let world = world(dir.path());
    fs::create_dir(world.at("/opt")).unwrap();
    fs::write(world.at("/opt/image"), "small").unwrap();
    savepoint(&later(&world.settings(), 10));
    fs::File::options().write(true).open(world.at("/opt/image")).unwrap().set_len(2 << 30).unwrap();
    let settings = later(&world.settings(), 20);
    assert!(returned(&settings, &exactly()).actions.is_empty());
    let missing = savepoint(&settings).missing;
    assert_eq!((missing.len(), missing[0].path.to_string()), (1, "/opt/image".into()));
    fs::write(world.at("/opt/image"), "other").unwrap();
    let second = return_to(&open(&settings), 2, &exactly()).unwrap();
    assert!(second.actions.is_empty(), "what it was then is not known: {second:#?}");
    fs::create_dir(world.at("/opt/new")).unwrap();
    fs::write(world.at("/opt/new/part"), "part").unwrap();
    fs::File::create(world.at("/opt/new/image")).unwrap().set_len(2 << 30).unwrap();
    returned(&settings, &exactly());
    assert!(world.at("/opt/new/image").exists() && !world.at("/opt/new/part").exists());
}

#[test]
fn what_a_killed_dpkg_left_goes_and_what_people_put_beside_it_stays() {
    let dir = folder();
    let world = world(dir.path());
    let before = covered(&world);
    savepoint(&later(&world.settings(), 10));
    let kinds = ["/usr/lib/modules/9/kernel", "/usr/lib/keel", "/usr/share/mixed/inner"];
    for folder in kinds {
        fs::create_dir_all(world.at(folder)).unwrap();
        fs::write(world.at(folder).join("part.dpkg-new"), "part").unwrap();
    }
    fs::write(world.at("/etc/part.conf.dpkg-new"), "part").unwrap();
    fs::write(world.at("/usr/share/mixed/own"), "own").unwrap();
    let after = covered(&world);
    let settings = later(&world.settings(), 20);
    let report = returned(&settings, &ReturnWanted::default());
    assert_eq!(staying(&report).keys().collect::<Vec<_>>(), ["/usr/share/mixed", "/usr/share/mixed/own"]);
    undo(&settings, None).unwrap();
    assert_same("undone", &after, &covered(&world));
    fs::remove_file(world.at("/usr/share/mixed/own")).unwrap();
    assert!(staying(&returned(&settings, &ReturnWanted::default())).is_empty());
    assert_same("returned", &before, &covered(&world));
}

#[test]
fn files_of_an_interrupted_installation_go_although_no_list_has_them() {
    let dir = folder();
    let world = world(dir.path());
    fs::create_dir_all(world.at("/var/log")).unwrap();
    let before = covered(&world);
    savepoint(&later(&world.settings(), -5));
    let at = jiff::Timestamp::now().strftime("%Y-%m-%d %H:%M:%S").to_string();
    // An earlier file is a folder in the new version; dpkg was killed before it wrote the list.
    fs::remove_file(world.at("/usr/share/quay/old-only")).unwrap();
    fs::create_dir(world.at("/usr/share/quay/old-only")).unwrap();
    fs::write(world.at("/usr/share/quay/old-only/inner"), "inner").unwrap();
    fs::write(world.at("/usr/lib/new"), "new").unwrap();
    fs::write(world.at("/etc/own"), "own").unwrap();
    // The new configuration file is in place with the package's time, and not recorded yet.
    fs::write(world.at("/etc/quay.conf"), "colour = blue\n").unwrap();
    let conf = fs::File::options().write(true).open(world.at("/etc/quay.conf")).unwrap();
    conf.set_modified(std::time::UNIX_EPOCH + std::time::Duration::from_secs(1_577_836_800)).unwrap();
    let half = |status: &str| status.replacen("install ok installed", "install reinstreq half-installed", 1);
    let status = world.at("/var/lib/dpkg/status");
    fs::write(&status, half(&fs::read_to_string(&status).unwrap())).unwrap();
    let named = |seconds: i64| {
        let settings = later(&world.settings(), seconds);
        let report = open(&settings).return_to(1, &ReturnWanted::default(), true, &NoObserver, &mut |_| Agreement::No);
        staying(&report.unwrap()).into_keys().collect::<Vec<_>>()
    };
    assert_eq!(named(20).len(), 5, "nothing says that packages were changed then");
    fs::write(
        world.at("/var/log/dpkg.log"),
        format!("{at} startup archives unpack\n{at} upgrade quay:amd64 1.0-1 2.0-1\n"),
    )
    .unwrap();
    assert_eq!(named(20), ["/etc/own"]);
    fs::remove_file(world.at("/etc/own")).unwrap();
    returned(&later(&world.settings(), 20), &ReturnWanted::default());
    assert_same("returned", &before, &covered(&world));
}

#[test]
fn a_home_in_a_covered_folder_is_not_part_of_the_system() {
    let dir = folder();
    let world = world(dir.path());
    let passwd = fs::read_to_string(world.at("/etc/passwd")).unwrap();
    fs::write(world.at("/etc/passwd"), format!("{passwd}app:x:1500:1500::/opt/app:/bin/sh\n")).unwrap();
    fs::create_dir_all(world.at("/opt/app")).unwrap();
    fs::write(world.at("/opt/app/data"), "earlier").unwrap();
    fs::write(world.at("/opt/part"), "earlier").unwrap();
    let made = savepoint(&later(&world.settings(), 10));
    assert!(made.excluded.iter().any(|place| place.place == "/opt/app"), "{made:#?}");
    for file in ["/opt/app/data", "/opt/app/new", "/opt/part"] {
        fs::write(world.at(file), "later").unwrap();
    }
    returned(&later(&world.settings(), 20), &exactly());
    let read = |file: &str| fs::read_to_string(world.at(file)).unwrap();
    assert_eq!(["/opt/app/data", "/opt/app/new", "/opt/part"].map(read), ["later", "later", "earlier"]);
}

#[test]
fn a_part_of_the_system_that_is_not_mounted_is_no_part_of_a_savepoint_and_nothing_returns_there() {
    let dir = folder();
    let world = world(dir.path());
    fs::create_dir(world.at("/opt")).unwrap();
    let settings = |seconds| later(&world.settings(), seconds);
    savepoint(&settings(10));
    fs::write(world.at("/etc/fstab"), "UUID=1 /opt ext4 defaults 0 2\nUUID=2 /boot/efi vfat defaults 0 1\n").unwrap();
    let refused = return_to(&open(&settings(20)), 1, &exactly());
    let WorkError::Savepoint(SavepointError::NotMounted(place)) = refused.unwrap_err() else { panic!("another error") };
    assert_eq!(place.to_string(), "/opt", "the boot loader's is not concerned");
    let missing: Vec<String> = savepoint(&settings(20)).missing.iter().map(|file| file.path.to_string()).collect();
    assert_eq!(missing, ["/opt"]);
    // As if it had been mounted since.
    fs::remove_file(world.at("/etc/fstab")).unwrap();
    fs::write(world.at("/opt/other"), "other").unwrap();
    let report = return_to(&open(&settings(30)), 2, &exactly()).unwrap();
    assert!(world.at("/opt/other").exists(), "{report:#?}");
    assert_eq!(staying(&report).get("/opt"), Some(&StayReason::NotRecorded));
}

#[test]
fn lines_for_disks_that_are_not_found_do_not_return_and_are_named() {
    let dir = folder();
    let world = world(dir.path());
    let fstab = world.at("/etc/fstab");
    let (gone, share) = ("/dev/no-such-disk9 /data ext4 rw 0 2\n", "host:/srv /mnt nfs rw 0 0\n");
    fs::write(&fstab, format!("{gone}{share}")).unwrap();
    savepoint(&later(&world.settings(), 10));
    fs::write(&fstab, "tmpfs /tmp tmpfs rw 0 0\n").unwrap();
    let with_config = ReturnWanted { config: true, ..ReturnWanted::default() };
    let report = returned(&later(&world.settings(), 20), &with_config);
    assert_eq!(fs::read_to_string(&fstab).unwrap(), share);
    assert_eq!(staying(&report).get("/etc/fstab"), Some(&StayReason::MissingDevices));
}
