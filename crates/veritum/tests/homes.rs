//! The built program in users' homes: with their owners' rights, killed, and among people who are at work meanwhile.

#[path = "../../veritum-demo/tests/support/holder.rs"]
mod holder;
#[path = "../../veritum-demo/tests/support/stand.rs"]
mod stand;
mod support;

use std::fs;
#[cfg(feature = "testkit")]
use std::io::{BufRead as _, BufReader, Write as _};
use std::os::unix::fs::{PermissionsExt as _, symlink};
use std::path::{Path, PathBuf};
use std::process::Command;
#[cfg(feature = "testkit")]
use std::process::Stdio;
use std::sync::atomic::{AtomicBool, Ordering};
use std::time::Duration;

use support::{Said, folder, program, said};
use veritum_core::testkit::Tree;
use veritum_demo::test_home::{TestHome, texts};

struct Bench {
    dir: tempfile::TempDir,
    here: TestHome,
}

impl Bench {
    fn new() -> Self {
        let dir = folder();
        // Whoever's home it is must come to it.
        fs::set_permissions(dir.path(), fs::Permissions::from_mode(0o755)).unwrap();
        let here = TestHome::new(&dir.path().join("world"));
        let mut config = String::from("root = \"machine\"\nstore = \"store\"\ncards = \"cards\"\n");
        if let Some((uid, gid)) = here.world.settings().policy.owner_of_root {
            config.push_str(&format!("owner-of-root = \"{uid}:{gid}\"\n"));
        }
        fs::write(dir.path().join("world/veritum.toml"), config).unwrap();
        Self { dir, here }
    }

    fn command(&self, words: &[&str]) -> Command {
        program(words, &self.dir.path().join("world/veritum.toml"), self.dir.path())
    }

    fn say(&self, words: &[&str]) -> Said {
        said(self.command(words).output().unwrap())
    }

    fn tree(&self) -> Tree {
        let mut tree = Tree::read(&self.here.home(), &[]);
        // What is set aside is below a folder that is named after the moment.
        let (aside, rest): (Vec<_>, Vec<_>) =
            tree.0.into_iter().partition(|(path, _)| path.starts_with(b".veritum-set-aside"));
        tree.0 = rest.into_iter().collect();
        for (path, mut thing) in aside.into_iter().filter(|(_, thing)| thing.kind != 'd') {
            let below = path.split(|byte| *byte == b'/').skip(2).collect::<Vec<_>>().join(&b'/');
            thing.same_as = None;
            tree.0.insert([b"aside: ".as_slice(), &below].concat(), thing);
        }
        tree
    }

    fn keep(&self) -> PathBuf {
        let start = self.dir.path().join("start");
        copy(&self.here.world.machine(), &start);
        start
    }
}

fn copy(from: &Path, to: &Path) {
    let _ = fs::remove_dir_all(to);
    assert!(Command::new("cp").arg("-a").arg(from).arg(to).status().unwrap().success());
}

#[test]
fn a_reset_tells_what_goes_and_what_stays_and_is_undone() {
    let bench = Bench::new();
    let before = bench.tree();
    bench.say(&["reset", "quay", "--plan"]).expect(
        0,
        &[
            "Reset Quay for mirela. Nothing is deleted",
            "mirela  moved",
            "settings 5 files",
            "cache",
            "-> ~/.veritum-set-aside/",
            "kept",
            "user data: mail",
            "everything else in the home",
            "Next:  veritum reset quay",
        ],
    );
    bench.say(&["reset", "quay"]).expect(2, &["Reset Quay for mirela"]);
    assert_eq!(before.differences(&bench.tree()), Vec::<String>::new());
    bench.say(&["reset", "app:Quay", "--yes", "--prove"]).expect(
        0,
        &[
            "RESET  Quay for 1 user",
            "mirela  moved",
            "10 files",
            "-> /home/mirela/.veritum-set-aside/",
            "kept",
            "user data: 6 files",
            "unchanged (every file read)",
            "Undo: veritum undo 1",
        ],
    );
    bench.say(&["reset", "quay", "--yes"]).expect(0, &["Quay has nothing to move aside.", "veritum explain app:quay"]);
    bench.say(&["list", "changes"]).expect(0, &["reset", "done", "quay of mirela"]);
    bench.say(&["explain", "1"]).expect(
        0,
        &[
            "reset an application in a user's home",
            "/home/mirela/.cache/quay",
            "backup: /home/mirela/.veritum-set-aside/",
        ],
    );
    let json = bench.say(&["undo", "--yes", "--json"]);
    json.expect(0, &["\"unchanged\": true"]);
    assert_eq!(before.differences(&bench.tree()), Vec::<String>::new());
    bench.say(&["reset", "quay", "--keep", "nothing"]).expect_err(2, &["no such part: nothing", "known: settings"]);
    bench.say(&["reset", "quay", "--user", "oskar"]).expect_err(2, &["no such user: oskar", "known: mirela"]);
    bench.say(&["reset", "quai"]).expect_err(2, &["did you mean quay?"]);
}

#[cfg(feature = "testkit")]
#[test]
fn killed_after_any_record_a_reset_and_its_undo_are_whole_or_not_at_all() {
    let bench = Bench::new();
    for words in [&["reset", "quay", "--yes"][..], &["undo", "1", "--yes"]] {
        let (start, before) = (bench.keep(), bench.tree());
        bench.say(words).expect(0, &[]);
        let after = bench.tree();
        assert!(!before.differences(&after).is_empty());
        for records in 1.. {
            copy(&start, &bench.here.world.machine());
            let killed = kill_after(&bench, words, records);
            for _ in 0..2 {
                bench.say(&["recover", "--yes"]).expect(0, &[]);
            }
            let now = bench.tree();
            let unlike = [&before, &after].map(|tree| tree.differences(&now));
            assert!(unlike.iter().any(Vec::is_empty), "{words:?}, killed after record {records}: {unlike:#?}");
            if !killed {
                assert!(records > 4, "only {records} records");
                break;
            }
        }
    }
}

/// Runs the program and kills it after its n-th record; false when it ended before that.
#[cfg(feature = "testkit")]
fn kill_after(bench: &Bench, words: &[&str], records: usize) -> bool {
    let mut command = bench.command(words);
    command.env("VERITUM_TEST_PAUSE", "1").stdin(Stdio::piped()).stdout(Stdio::null()).stderr(Stdio::piped());
    let mut child = command.spawn().unwrap();
    let mut input = child.stdin.take().unwrap();
    let lines = BufReader::new(child.stderr.take().unwrap()).lines();
    for (met, _) in lines.map_while(Result::ok).filter(|line| line.starts_with("recorded ")).enumerate() {
        if met + 1 == records {
            child.kill().unwrap();
            child.wait().unwrap();
            return true;
        }
        let _ = writeln!(input);
    }
    child.wait().unwrap();
    false
}

/// Ends the other thread, also when this one ends badly.
struct End<'a>(&'a AtomicBool);

impl Drop for End<'_> {
    fn drop(&mut self) {
        self.0.store(true, Ordering::Relaxed);
    }
}

/// A person who swaps folders of a home for links that lead outside, and back, until it is over.
fn swapping(home: &Path, outside: &Path, over: &AtomicBool) {
    let places = [".config/quay", ".cache/quay", ".quay/a", ".quay/a/look", ".veritum-set-aside", ".config"];
    for n in (0..).take_while(|_| !over.load(Ordering::Relaxed)) {
        let (place, away) = (home.join(places[n % places.len()]), home.join("Documents/away"));
        if fs::rename(&place, &away).is_ok() {
            if symlink(outside, &place).is_ok() {
                std::thread::sleep(Duration::from_micros(40 * (n as u64 % 9)));
                let _ = fs::remove_file(&place);
            }
            if fs::rename(&away, &place).is_err() {
                // A person made that folder again meanwhile: both stay.
                let _ = fs::rename(&away, home.join(format!("Documents/away-{n}")));
            }
        }
        std::thread::sleep(Duration::from_micros(300 * (n as u64 % 7)));
    }
}

#[test]
fn folders_that_are_swapped_for_links_meanwhile_lead_nowhere() {
    let bench = Bench::new();
    let home = bench.here.home();
    // What is outside has the names of what is inside, and only root may read it.
    let outside = bench.here.world.machine().with_file_name("vault");
    for path in ["rc", "deep/er/rc", "quay/rc", "look/one", "look/deep/two", "a/prefs", "a/look/one", "thumbs/1"] {
        fs::create_dir_all(outside.join(path).parent().unwrap()).unwrap();
        fs::write(outside.join(path), "of the vault").unwrap();
    }
    fs::set_permissions(&outside, fs::Permissions::from_mode(0o700)).unwrap();
    let (before, start) = (Tree::read(&outside, &[]), bench.keep());
    let (mut resets, mut undos) = (0, 0);
    // How many come through between two swaps is chance.
    for round in 0..100 {
        if round >= 25 && resets > 5 && undos > 3 {
            break;
        }
        copy(&start, &bench.here.world.machine());
        let over = AtomicBool::new(false);
        std::thread::scope(|threads| {
            threads.spawn(|| swapping(&home, &outside, &over));
            let _end = End(&over);
            resets += u32::from(bench.say(&["reset", "quay", "--yes", "--prove"]).out.contains("RESET  Quay"));
            undos += u32::from(bench.say(&["undo", "--yes"]).out.contains("Undone: "));
        });
        bench.say(&["recover", "--yes"]).expect(0, &[]);
        bench.say(&["status"]).expect(0, &[]);
        let now = Tree::read(&outside, &[]);
        assert_eq!(before.differences(&now), Vec::<String>::new());
        assert_eq!(before.touched(&now), Vec::<String>::new(), "not even their times of change");
        let found = texts(&home);
        assert!(!found.iter().any(|text| text == "of the vault"), "nothing from outside came in");
        for thing in veritum_demo::test_home::THINGS {
            assert!(found.iter().any(|text| text == thing), "round {round}: {thing} is lost");
        }
    }
    assert!(resets > 5 && undos > 3, "{resets} resets and {undos} undos of 100");
}
