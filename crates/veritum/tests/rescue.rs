//! Wiring and words of `rescue`.

mod support;

use support::Bench;

#[test]
fn users_files_are_copied_verified_and_what_cannot_be_is_named() {
    let bench = Bench::new();
    veritum_demo::old_disk::make(bench.folder()).unwrap();
    let place = |name: &str| bench.folder().join(name).to_str().unwrap().to_owned();
    let (image, stick) = (place("old-disk.img"), place("stick"));
    bench
        .say(&["rescue", "--to", &stick, "--disk", &image])
        .expect_err(2, &["cannot write to", "is the disk mounted?"]);
    std::fs::create_dir(&stick).unwrap();
    bench.say(&["rescue", "--to", &stick, "--disk", &image, "--plan"]).expect(
        0,
        &["PLAN  pierhouse-01: 8 files", "would be copied to", "mirela", "left out", "Next:  veritum rescue --to"],
    );
    assert_eq!(std::fs::read_dir(&stick).unwrap().count(), 0);
    bench.say(&["rescue", "--to", &stick, "--disk", &image]).expect(
        1,
        &[
            "COPIED IN PART  pierhouse-01: 7 files",
            "read back and compared; 1 is incomplete or missing",
            "incomplete",
            "4.0 KiB of",
            "/home/mirela/Letters/harbour-office.txt",
            "Nothing was written to the users' homes",
        ],
    );
    bench
        .say(&["rescue", "--verify", &stick])
        .expect(1, &["INCOMPLETE  pierhouse-01", "7 files", "1 file was not readable whole"]);
    bench.say(&["rescue", "--deleted", "--disk", &image]).expect(0, &["1 file or folder is in the trash", "draft.txt"]);
    let copy = place("copy.img");
    std::fs::remove_file(place("old-disk.img.gaps")).unwrap();
    bench.say(&["rescue", "--image", &copy, "--disk", &image]).expect(
        0,
        &["COPIED  ", "all of it (6.0 MiB)", "Next:  veritum check volumes --disk", "veritum rescue --to DIR --disk"],
    );
    for (words, why) in [
        (&["rescue"][..], "rescue needs --to DIR"),
        (&["rescue", "--image", &copy], "--image copies one disk"),
        (&["rescue", "--verify", &stick, "--root", "/"], "--root has no effect with --verify"),
        (&["rescue", "--verify", &place("nothing")], "cannot use"),
        (&["rescue", "--to", &stick, "--disk", &image, "--root", "/"], "cannot be combined"),
        (&["rescue", "--to", &stick, "--disk", &image, "--user", "mirella"], "no such user: mirella"),
        (&["rescue", "--to", &stick, "--yes"], "--yes has no effect"),
    ] {
        bench.say(words).expect_err(2, &[why]);
    }
}

#[test]
fn rescued_files_are_restored_in_homes_after_a_question() {
    let bench = Bench::new();
    veritum_demo::old_disk::make(bench.folder()).unwrap();
    let place = |name: &str| bench.folder().join(name).to_str().unwrap().to_owned();
    let (image, stick) = (place("old-disk.img"), place("stick"));
    std::fs::create_dir(&stick).unwrap();
    bench.say(&["rescue", "--to", &stick, "--disk", &image]).expect(1, &["COPIED IN PART"]);
    std::fs::write(bench.world.at("/etc/passwd"), "root:x:0:0::/root:/bin/sh\n").unwrap();
    bench
        .say(&["rescue", "--back", &stick])
        .expect(1, &["NOT RESTORED  counter-07", "not restored", "there is no user of that name on this system"]);
    let id = rustix::process::geteuid().as_raw();
    let login = if id == 0 { 1000 } else { id };
    let passwd = format!("root:x:0:0::/root:/bin/sh\nmirela:x:{login}:{login}::/home/mirela:/bin/sh\n");
    std::fs::write(bench.world.at("/etc/passwd"), passwd).unwrap();
    let home = bench.world.at("/home/mirela");
    std::fs::create_dir_all(home.join("Letters")).unwrap();
    std::fs::write(home.join("Letters/insurance.txt"), "written since").unwrap();
    if id == 0 {
        veritum_demo::test_home::own(&home).unwrap();
    }
    bench.say(&["rescue", "--back", &stick, "--plan"]).expect(
        1,
        &[
            "PLAN  counter-07: 7 files",
            "would be restored",
            "newer than its copy",
            "Next:  veritum rescue --back",
            "--replace-newer",
        ],
    );
    bench.say(&["rescue", "--back", &stick]).expect(2, &["PLAN"]);
    assert!(!home.join("Letters/harbour-office.txt.incomplete").exists());
    bench.say(&["rescue", "--back", &stick, "--yes"]).expect(
        1,
        &[
            "RESTORED IN PART  counter-07: 7 files",
            "harbour-office.txt.incomplete",
            "Next:",
            "veritum undo",
            "undoes it",
        ],
    );
    assert!(home.join("Letters/harbour-office.txt.incomplete").is_file());
    bench.say(&["list", "changes"]).expect(0, &["restored files", "files of mirela"]);
    bench.say(&["explain", "1"]).expect(0, &["restored rescued files in a user's home"]);
    bench.say(&["undo", "--yes"]).expect(0, &["Undone: change 1", "7 files and 5 folders set aside"]);
    assert!(!home.join("Letters/harbour-office.txt.incomplete").exists());
    for (words, why) in [
        (&["rescue", "--back", &stick, "--user", "mirella"][..], "no such user: mirella"),
        (&["rescue", "--back", &place("nothing")], "cannot use"),
        (&["rescue", "--back", &stick, "--disk", &image], "--disk has no effect with --back"),
    ] {
        bench.say(words).expect_err(2, &[why]);
    }
}
