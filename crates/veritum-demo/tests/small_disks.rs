//! A disk that is full or nearly so: what updates need is made free space for from what can be fetched again.

#[path = "support/mounts.rs"]
mod mounts;
#[path = "support/stand.rs"]
mod stand;
mod support;

use std::fs;
use std::path::PathBuf;

use stand::{Stand, flip, names};
use support::{STATE, assert_same, folder, open, undo};
use veritum_core::areas::{FILES, UPDATES};
use veritum_core::event::NoObserver;
use veritum_core::model::Scope;
use veritum_core::report::{ProofOutcome, ProofReport, RepairReport};
use veritum_core::testkit::Tree;
use veritum_core::work::{Agreement, Settings, WorkError};
use veritum_demo::mirror::Mischief;

const CACHE: &str = "/var/cache/apt/archives";

/// A are's machine on a small disk of its own, which is let go before the folder around it.
struct Small {
    mounted: mounts::Mounted,
    _dir: tempfile::TempDir,
}

impl Small {
    fn of(stand: &Stand) -> Self {
        let dir = folder();
        let size = ["-t", "tmpfs", "-o", "size=1500k,nr_inodes=400", "tmpfs"];
        let small = Self { mounted: mounts::Mounted::new(&dir.path().join("small"), &size), _dir: dir };
        let copied =
            std::process::Command::new("cp").arg("-a").arg(stand.world.machine()).arg(small.machine()).status();
        assert!(copied.unwrap().success());
        small
    }

    /// The disk itself.
    fn disk(&self) -> PathBuf {
        self.mounted.0.clone()
    }

    fn machine(&self) -> PathBuf {
        self.disk().join("machine")
    }
}

fn proof(report: &RepairReport) -> &ProofReport {
    report.proof.as_ref().unwrap()
}

#[test]
fn where_there_is_no_room_nothing_is_taken_away_that_no_repository_gives_again_just_now() {
    if !mounts::root_or_skip("a small disk") {
        return;
    }
    let stand = Stand::available();
    let small = Small::of(&stand);
    let machine = small.machine();
    let before = Tree::read(&machine, &[STATE]);
    let settings = Settings { root: machine.clone(), ..stand.settings() };
    stand.mirror.misbehave("InRelease", Mischief::Status(503), 99);
    for settings in [settings.clone(), Settings { repositories: stand.offline().repositories, ..settings }] {
        let report = support::renew(&settings);
        let left = &report.area(UPDATES).unwrap().remaining;
        assert!(
            left.iter().any(|l| l
                .reason
                .contains("downloads could be deleted, but no repository is reachable to get them again")),
            "{left:#?}"
        );
        assert_same("nothing is taken away", &before, &Tree::read(&machine, &[STATE]));
    }
}

#[test]
fn where_there_is_no_room_what_can_be_fetched_again_goes_first_and_it_is_said() {
    if !mounts::root_or_skip("a small disk") {
        return;
    }
    let stand = Stand::available();
    flip(&stand.list("main/binary-amd64/Packages"));
    fs::write(stand.at(CACHE).join("unheard-of_1_amd64.deb"), "nobody's").unwrap();
    for free in [0, 16, 64, 300] {
        let small = Small::of(&stand);
        let machine = small.machine();
        let room = rustix::fs::statvfs(&machine).unwrap();
        let filler = (room.f_bavail * room.f_frsize).saturating_sub(free * 1024);
        fs::write(small.disk().join("filler"), vec![1; usize::try_from(filler).unwrap()]).unwrap();
        let before = Tree::read(&machine, &[STATE]);
        let settings = Settings { root: machine.clone(), ..stand.settings() };
        let mut asked = Vec::new();
        let done = open(&settings).repair(&Scope::only(UPDATES), &NoObserver, &mut |preview| {
            asked.extend(preview.actions.iter().map(|a| (a.action, a.subject.to_string())));
            Agreement::Yes
        });
        match done {
            Ok(report) => {
                assert_eq!(proof(&report).outcome, ProofOutcome::Proved, "{free} KiB");
                assert!(
                    report.area(UPDATES).unwrap().remaining.iter().any(|l| l.reason.contains("free")),
                    "{report:#?}"
                );
            }
            Err(WorkError::Change(e)) => {
                fs::remove_file(small.disk().join("filler")).unwrap();
                open(&settings).recover(&NoObserver).unwrap();
                assert_same(&format!("{free} KiB: {e}"), &before, &Tree::read(&machine, &[STATE, "filler"]));
                continue;
            }
            Err(e) => panic!("{free} KiB: {e:?}"),
        }
        // With the lists as they should be, the downloads are known to be the repository's at the latest.
        let report = open(&settings).repair(&Scope::only(UPDATES), &NoObserver, &mut |preview| {
            asked.extend(preview.actions.iter().map(|a| (a.action, a.subject.to_string())));
            Agreement::Yes
        });
        let report = report.unwrap();
        assert_eq!(
            asked.iter().filter(|(action, _)| *action == veritum_core::model::ActionKind::Free).count(),
            2,
            "{asked:?}"
        );
        assert_eq!(proof(&report).outcome, ProofOutcome::Proved);
        let left = names(&machine.join(CACHE.trim_start_matches('/')));
        assert_eq!(left, ["partial", "unheard-of_1_amd64.deb"], "what nobody signed is not taken away");
        let told = undo(&settings, None).unwrap();
        let gone =
            told.changes.iter().flat_map(|c| &c.refused).filter(|r| r.why.contains("deleted to free space")).count();
        assert_eq!(gone, 2, "what does not come back is said: {told:?}");
    }
}

#[test]
fn what_was_unpacked_before_a_package_could_not_be_read_further_is_put_back_all_the_same() {
    if !mounts::root_or_skip("a small disk") {
        return;
    }
    let stand = Stand::available();
    let dir = folder();
    // Room for two contents next to the folder that they lie in.
    let scratch = mounts::Mounted::new(&dir.path().join("scratch"), &["-t", "tmpfs", "-o", "nr_inodes=4", "tmpfs"]);
    for path in ["quay/part-0", "quay/part-2", "quay/part-3", "pier/planks"] {
        fs::write(stand.at("/usr/share").join(path), "wrong\n").unwrap();
    }
    let settings = Settings { scratch: vec![scratch.0.clone()], ..stand.offline() };
    let report = support::repair(&settings);
    let files = report.area(FILES).unwrap();
    assert_eq!((files.repaired, files.remaining.len()), (2, 2), "{files:#?}");
    assert!(files.remaining.iter().all(|left| left.reason.to_lowercase().contains("no space")), "{files:#?}");
}
