//! The built program killed: after each change log record, and at many other moments.

#[path = "../../veritum-demo/tests/support/holder.rs"]
mod holder;
#[path = "../../veritum-demo/tests/support/stand.rs"]
mod stand;
mod support;

use std::io::{BufRead as _, BufReader, Write as _};
use std::process::Stdio;
use std::time::Duration;

use support::Bench;
use veritum_core::testkit::Tree;
use veritum_demo::boot_disk::{boot_fault, disk};

/// Runs the program and kills it after its n-th record; false when it ended before that.
fn kill_after(bench: &Bench, words: &[&str], records: usize) -> bool {
    kill(bench.command(words), records)
}

fn kill(mut command: std::process::Command, records: usize) -> bool {
    command.env("VERITUM_TEST_PAUSE", "1").stdin(Stdio::piped()).stdout(Stdio::null()).stderr(Stdio::piped());
    let mut child = command.spawn().unwrap();
    let mut input = child.stdin.take().unwrap();
    let errors = BufReader::new(child.stderr.take().unwrap());
    let mut met = 0;
    for line in errors.lines().map_while(Result::ok).filter(|l| l.starts_with("recorded ")) {
        met += 1;
        if met == records {
            child.kill().unwrap();
            child.wait().unwrap();
            return true;
        }
        assert!(line.len() > 9);
        let _ = writeln!(input);
    }
    child.wait().unwrap();
    false
}

/// Recovery, twice, then all or nothing.
fn settled(bench: &Bench, what: &str, outcomes: [&Tree; 2]) -> usize {
    for _ in 0..2 {
        let said = bench.say(&["recover", "--yes"]);
        assert_eq!(said.status, 0, "{what}: {}{}", said.out, said.err);
    }
    let now = bench.tree();
    outcomes.iter().position(|t| t.differences(&now).is_empty()).unwrap_or_else(|| {
        panic!(
            "{what}: neither the one nor the other:\n{}\n--\n{}",
            outcomes[0].differences(&now).join("\n"),
            outcomes[1].differences(&now).join("\n")
        )
    })
}

/// A machine's folder as it is, to begin from again and again.
struct Start(std::path::PathBuf);

impl Start {
    fn keep(bench: &Bench) -> Self {
        let start = bench.folder().join("start");
        let copied =
            std::process::Command::new("cp").arg("-a").arg(bench.world.machine()).arg(&start).status().unwrap();
        assert!(copied.success());
        Self(start)
    }

    fn again(&self, bench: &Bench) {
        std::fs::remove_dir_all(bench.world.machine()).unwrap();
        let copied =
            std::process::Command::new("cp").arg("-a").arg(&self.0).arg(bench.world.machine()).status().unwrap();
        assert!(copied.success());
    }
}

fn prepared() -> (Bench, Tree, Tree) {
    let bench = Bench::damaged();
    let state = bench.world.at("/var/lib/veritum");
    std::os::unix::fs::DirBuilderExt::mode(&mut std::fs::DirBuilder::new(), 0o700).create(&state).unwrap();
    let damaged = bench.tree();
    let start = Start::keep(&bench);
    bench.say(&["repair", "--yes"]).expect(0, &["REPAIRED"]);
    let repaired = bench.tree();
    start.again(&bench);
    std::fs::remove_dir_all(&start.0).unwrap();
    (bench, damaged, repaired)
}

#[test]
fn killed_after_any_record_a_repair_and_its_undo_are_whole_or_not_at_all() {
    let (bench, damaged, repaired) = prepared();
    let start = Start::keep(&bench);
    let mut met = [0, 0];
    for records in 1.. {
        start.again(&bench);
        let killed = kill_after(&bench, &["repair", "--yes"], records);
        met[settled(&bench, &format!("repair, killed after record {records}"), [&damaged, &repaired])] += 1;
        if !killed {
            break;
        }
        bench.say(&["check"]);
    }
    assert!(met[0] >= 2 && met[1] >= 2, "{met:?}");
    start.again(&bench);
    bench.say(&["repair", "--yes"]).expect(0, &["REPAIRED"]);
    std::fs::remove_dir_all(&start.0).unwrap();
    let start = Start::keep(&bench);
    for records in 1.. {
        start.again(&bench);
        let killed = kill_after(&bench, &["undo", "1", "--yes"], records);
        settled(&bench, &format!("undo, killed after record {records}"), [&damaged, &repaired]);
        if !killed {
            break;
        }
    }
}

#[test]
fn killed_after_any_record_a_repair_of_a_disk_is_finished_from_the_state_folder_or_did_nothing() {
    let bench = Bench::damaged();
    // A file of the EFI partition would get the time of each run.
    let kinds = ["boot-code-zeroed", "table-backup", "menu-root"].map(|name| boot_fault(name).unwrap());
    let damaged = disk(42, &kinds).unwrap();
    let (image, state) = (bench.folder().join("disk.img"), bench.folder().join("stick"));
    let (disk, kept) = (image.to_str().unwrap(), state.to_str().unwrap());
    let begin = || {
        let _ = std::fs::remove_dir_all(&state);
        std::fs::write(&image, &damaged).unwrap();
    };
    let words = ["repair", "bootchain", "--disk", disk, "--state-dir", kept, "--yes"];
    begin();
    bench.say(&words).expect(0, &["REPAIRED  3 problems; none left"]);
    let repaired = std::fs::read(&image).unwrap();
    assert!(repaired != damaged);
    let mut met = [0, 0];
    for records in 1.. {
        begin();
        let killed = kill_after(&bench, &words, records);
        // The disk is on another computer by now, under another name.
        let moved = bench.folder().join("moved.img");
        std::fs::rename(&image, &moved).unwrap();
        for _ in 0..2 {
            let said = bench.say(&["recover", "--yes", "--state-dir", kept, "--disk", moved.to_str().unwrap()]);
            assert_eq!(said.status, 0, "record {records}: {}{}", said.out, said.err);
        }
        let now = std::fs::read(&moved).unwrap();
        assert!(now == damaged || now == repaired, "record {records}");
        met[usize::from(now == repaired)] += 1;
        std::fs::rename(&moved, &image).unwrap();
        if !killed {
            break;
        }
    }
    assert!(met[0] >= 1 && met[1] >= 2, "{met:?}");
}

#[test]
fn an_unfinished_change_is_told_and_nothing_else_is_changed_before_it_is_recovered() {
    let (bench, ..) = prepared();
    assert!(kill_after(&bench, &["repair", "--yes"], 3));
    bench.say(&["status"]).expect(1, &["change 1 was interrupted", "Next:  veritum recover"]);
    bench.say(&["check"]).expect(1, &["veritum recover"]);
    bench.say(&["list", "changes"]).expect(0, &["a change was interrupted", "unfinished", "veritum recover"]);
    let before = bench.tree();
    bench.say(&["repair"]).expect_err(2, &["--yes"]);
    bench.say(&["undo"]).expect_err(2, &["--yes"]);
    bench.say(&["recover"]).expect_err(2, &["--yes"]);
    assert_eq!(before.differences(&bench.tree()), Vec::<String>::new());
    bench.say(&["recover", "--yes"]).expect(0, &["change 1 was committed; now completed"]);
    bench.say(&["recover", "--yes"]).expect(0, &["Nothing to recover: no change was interrupted."]);
    // A command that writes recovers first, and says so.
    let (bench, ..) = prepared();
    assert!(kill_after(&bench, &["repair", "--yes"], 2));
    let words = ["change 1 was not committed; rolled back", "REPAIRED  3 problems; none left"];
    bench.say(&["repair", "--yes"]).expect(0, &words);
}

#[test]
fn a_signal_before_anything_took_effect_ends_with_its_own_status() {
    let bench = Bench::damaged();
    let before = bench.tree();
    let mut command = bench.command(&["repair", "--yes"]);
    command.env("VERITUM_TEST_PAUSE", "1").stdin(Stdio::piped()).stdout(Stdio::null()).stderr(Stdio::piped());
    let mut child = command.spawn().unwrap();
    let mut errors = BufReader::new(child.stderr.take().unwrap()).lines();
    assert_eq!(errors.next().unwrap().unwrap(), "recorded begin");
    assert!(std::process::Command::new("kill").args(["-TERM", &child.id().to_string()]).status().unwrap().success());
    std::thread::sleep(Duration::from_millis(50));
    let mut input = child.stdin.take().unwrap();
    let _ = input.write_all(b"\n\n\n\n\n\n\n\n");
    let said: Vec<String> = errors.map_while(Result::ok).collect();
    assert_eq!(child.wait().unwrap().code(), Some(143), "{said:?}");
    let now = Tree::read(&bench.world.machine(), &["var/lib/veritum"]);
    assert_eq!(before.differences(&now), Vec::<String>::new());
    bench.say(&["status"]).expect(0, &["counter-07"]);
}

/// Kills the command at many moments of its life; says how often each outcome was met.
fn killed_at_many_moments(bench: &Bench, words: &[&str], outcomes: [&Tree; 2]) -> [usize; 2] {
    let start = Start::keep(bench);
    let mut met = [0, 0];
    for moment in 0..60u64 {
        start.again(bench);
        let mut child = bench.command(words).stdout(Stdio::null()).stderr(Stdio::null()).spawn().unwrap();
        std::thread::sleep(Duration::from_micros(moment * 1_500));
        let _ = child.kill();
        child.wait().unwrap();
        met[settled(bench, &format!("{words:?} killed after {moment} times 1.5 ms"), outcomes)] += 1;
    }
    std::fs::remove_dir_all(&start.0).unwrap();
    met
}

#[test]
fn killed_at_any_moment_a_repair_recovers() {
    let (bench, damaged, repaired) = prepared();
    let met = killed_at_many_moments(&bench, &["repair", "--yes"], [&damaged, &repaired]);
    assert!(met[0] > 0, "{met:?}");
}

#[test]
fn killed_at_any_moment_an_undo_recovers() {
    let (bench, damaged, repaired) = prepared();
    bench.say(&["repair", "--yes"]).expect(0, &["REPAIRED"]);
    let met = killed_at_many_moments(&bench, &["undo", "1", "--yes"], [&repaired, &damaged]);
    assert!(met[0] > 0 && met[1] > 0, "{met:?}");
}

#[test]
fn a_killed_filling_leaves_a_store_that_can_be_filled() {
    let bench = Bench::new();
    let (store, keys) =
        (bench.folder().join("mine").display().to_string(), bench.folder().join("k").display().to_string());
    let pool = bench.world.pool().display().to_string();
    bench.say(&["store", "create", &store, "--keys", &keys]).expect(0, &[]);
    for moment in 0..40u64 {
        let mut child = bench
            .command(&["store", "add", &pool, "--store", &store])
            .stdout(Stdio::null())
            .stderr(Stdio::null())
            .spawn()
            .unwrap();
        std::thread::sleep(Duration::from_micros(moment * 700));
        let _ = child.kill();
        child.wait().unwrap();
        // Whatever is named must be whole: signing checks that nothing is missing.
        assert_eq!(
            bench.say(&["store", "sign", "--keys", &keys, "--store", &store]).status,
            0,
            "killed after {moment} times 0.7 ms"
        );
    }
    bench.say(&["store", "add", &pool, "--store", &store]).expect(0, &[]);
    bench.say(&["store", "sign", "--keys", &keys, "--store", &store]).expect(0, &[]);
    bench.say(&["store", "trust", &store, "--yes"]).expect(0, &[]);
    bench.say(&["check", "--store", &store]).expect(0, &["OK  "]);
}

#[test]
fn a_check_beside_a_running_change_says_so() {
    let bench = Bench::damaged();
    let mut command = bench.command(&["repair", "--yes"]);
    command.env("VERITUM_TEST_PAUSE", "1").stdin(Stdio::piped()).stdout(Stdio::null()).stderr(Stdio::piped());
    let mut child = command.spawn().unwrap();
    let mut errors = BufReader::new(child.stderr.take().unwrap()).lines();
    assert_eq!(errors.next().unwrap().unwrap(), "recorded begin");
    bench.say(&["check"]).expect_err(3, &["a change is in progress on this machine"]);
    bench.say(&["repair", "--yes"]).expect_err(3, &["another veritum is running on this machine"]);
    let _ = child.stdin.take().unwrap().write_all(b"\n\n\n\n\n\n\n\n");
    assert!(errors.map_while(Result::ok).count() >= 4);
    assert_eq!(child.wait().unwrap().code(), Some(0));
}

/// Makes one folder as another is.
fn copy(from: &std::path::Path, to: &std::path::Path) {
    let _ = std::fs::remove_dir_all(to);
    assert!(std::process::Command::new("cp").arg("-a").arg(from).arg(to).status().unwrap().success());
}

/// A machine with a damaged download and a damaged list, its repository, and settings for the program.
struct Caches {
    stand: stand::Stand,
    config: std::path::PathBuf,
}

impl Caches {
    fn damaged() -> Self {
        let stand = stand::Stand::new();
        stand.lists("");
        stand.cache();
        for (folder, part) in [("/var/cache/apt/archives", "quay_"), ("/var/lib/apt/lists", "_Packages")] {
            let name = stand::names(&stand.at(folder)).into_iter().find(|n| n.contains(part)).unwrap();
            std::fs::write(stand.at(folder).join(name), "damaged").unwrap();
        }
        for lock in LOCKS {
            stand.write(lock, b"");
        }
        std::fs::create_dir_all(stand.at("/var/lib/veritum")).unwrap();
        let config = stand.dir.path().join("veritum.toml");
        let mut text = String::from("root = \"world/machine\"\ncache-dir = \"downloads\"\nservices = \"services\"\n");
        if let Some((uid, gid)) = stand.world.settings().policy.owner_of_root {
            text.push_str(&format!("owner-of-root = \"{uid}:{gid}\"\n"));
        }
        std::fs::write(&config, text).unwrap();
        Self { stand, config }
    }

    fn command(&self, words: &[&str]) -> std::process::Command {
        support::program(words, &self.config, self.stand.dir.path())
    }

    fn say(&self, words: &[&str]) -> support::Said {
        support::said(self.command(words).output().unwrap())
    }

    fn tree(&self) -> Tree {
        Tree::read(&self.stand.world.machine(), &["var/lib/veritum"])
    }
}

const LOCKS: [&str; 4] =
    ["/var/lib/dpkg/lock-frontend", "/var/lib/dpkg/lock", "/var/lib/apt/lists/lock", "/var/cache/apt/archives/lock"];

#[test]
fn killed_after_any_record_clearing_updates_is_whole_or_not_at_all_and_its_locks_are_free() {
    let caches = Caches::damaged();
    let machine = caches.stand.world.machine();
    let start = caches.stand.dir.path().join("start");
    copy(&machine, &start);
    let damaged = caches.tree();
    caches.say(&["repair", "updates", "--yes"]).expect(0, &["UPDATES WORK", "REPAIRED", "none left"]);
    let right = caches.tree();
    assert!(!damaged.differences(&right).is_empty());
    let mut met = [0, 0];
    for records in 1.. {
        copy(&start, &machine);
        let killed = kill(caches.command(&["repair", "updates", "--yes"]), records);
        let place =
            veritum_core::machine::Machine::open(&machine, std::sync::Arc::new(veritum_core::machine::LiveDisk));
        let place = place.unwrap();
        for lock in LOCKS.map(veritum_core::model::SystemPath::literal) {
            let dir = place.dir(&lock.parent().unwrap()).unwrap();
            assert!(veritum_core::machine::lock_exclusive(&dir, lock.name()).is_ok(), "{lock} after record {records}");
        }
        for _ in 0..2 {
            caches.say(&["recover", "--yes"]).expect(0, &[]);
        }
        let now = caches.tree();
        // With the new list the damaged download comes to light, in a round of its own.
        let rounds = [&damaged, &right].into_iter().position(|t| t.differences(&now).is_empty());
        match rounds {
            Some(which) => met[which] += 1,
            None => {
                let list = stand::names(&caches.stand.at("/var/lib/apt/lists"));
                let list = list.iter().find(|n| n.contains("_Packages")).unwrap();
                let text = std::fs::read(caches.stand.at("/var/lib/apt/lists").join(list)).unwrap();
                assert!(text.starts_with(b"Package:"), "after record {records} the list is neither");
            }
        }
        caches.say(&["repair", "updates", "--yes"]).expect(0, &["UPDATES WORK"]);
        assert_eq!(right.differences(&caches.tree()), Vec::<String>::new(), "after record {records}");
        if !killed {
            break;
        }
    }
    assert!(met[0] >= 2 && met[1] >= 2, "{met:?}");
}

/// Not a test: what a service at work is played by.
#[test]
#[ignore = "started by another"]
fn holder() {
    holder::hold();
}

#[test]
fn killed_after_any_record_a_service_that_was_held_runs_again_after_recovery() {
    use veritum_core::platform::services::{Active, Masking, Services as _, UnitState};
    use veritum_core::platform::stand_in::{StandIn, StandInUnit};
    let caches = Caches::damaged();
    let machine = caches.stand.world.machine();
    let start = caches.stand.dir.path().join("start");
    copy(&machine, &start);
    let services = StandIn::in_folder(&caches.stand.dir.path().join("services"));
    let state = UnitState { active: Active::Running, masking: Masking::None, enabled: true, result: None };
    let unit = |pid: Option<u32>| StandInUnit { state: state.clone(), pid, refuses: Vec::new() };
    let mut killed_often = 0;
    for records in 1.. {
        copy(&start, &machine);
        let worker = holder::Worker::start("holder", &[caches.stand.at("/var/lib/apt/lists/lock")]);
        services.write("apt-daily.timer", &unit(None)).unwrap();
        services.write("apt-daily.service", &unit(Some(worker.0.id()))).unwrap();
        let killed = kill(caches.command(&["repair", "updates", "--yes"]), records);
        for _ in 0..2 {
            caches.say(&["recover", "--yes"]).expect(0, &[]);
        }
        for name in ["apt-daily.timer", "apt-daily.service"] {
            assert_eq!(services.look(name).unwrap().unwrap(), state, "{name}, killed after record {records}");
        }
        if !killed {
            break;
        }
        killed_often += 1;
    }
    assert!(killed_often >= 6, "{killed_often}");
}

#[test]
fn a_guard_waits_for_the_process_that_it_was_given_and_for_no_other_of_that_number() {
    let bench = Bench::damaged();
    let mut process = std::process::Command::new("sleep").arg("60").spawn().unwrap();
    let pid = process.id().to_string();
    let stat = std::fs::read_to_string(format!("/proc/{pid}/stat")).unwrap();
    let begun = stat.rsplit_once(')').unwrap().1.split_ascii_whitespace().nth(19).unwrap().to_owned();
    let said = bench.say(&["guard", &pid, "1"]);
    assert_eq!(said.status, 0, "another process has that number: {}", said.err);
    let mut guard = bench.command(&["guard", &pid, &begun]).spawn().unwrap();
    std::thread::sleep(Duration::from_millis(500));
    assert!(guard.try_wait().unwrap().is_none(), "the process still runs");
    process.kill().unwrap();
    process.wait().unwrap();
    assert!(guard.wait().unwrap().success());
}
