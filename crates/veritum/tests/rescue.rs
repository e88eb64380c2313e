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
