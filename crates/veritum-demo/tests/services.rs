//! Services that fetch updates: examined, held for the time of a repair, and put back whatever happens.

#[path = "support/holder.rs"]
mod holder;
#[path = "support/stand.rs"]
mod stand;
mod support;

use std::fs;
use std::path::PathBuf;
use std::process::Command;
use std::sync::{Arc, Mutex};

use holder::{Worker, hold};
use stand::{Stand, names};
use support::{folder, open};
use veritum_core::areas::UPDATES;
use veritum_core::event::{Event, Flow, NoObserver, Observer};
use veritum_core::model::{Scope, Verdict};
use veritum_core::platform::services::{Active, Masking, Services as _, UnitState};
use veritum_core::platform::stand_in::{StandIn, StandInUnit};
use veritum_core::report::ProofOutcome;
use veritum_core::testkit::{Accident, TestDisk};
use veritum_core::work::{Agreement, Engine, ServiceManager, Settings, WorkError};

const LOCK: &str = "/var/lib/apt/lists/lock";
const TIMER: &str = "apt-daily.timer";
const SERVICE: &str = "apt-daily.service";

/// A are with a damaged download and a folder of units.
struct Manned {
    stand: Stand,
    services: StandIn,
    folder: PathBuf,
}

/// Not a test: what a service at work is played by.
#[test]
#[ignore = "started by the others"]
fn holder() {
    hold();
}

fn unit(active: Active) -> StandInUnit {
    let state = UnitState { active, masking: Masking::None, enabled: true, result: None };
    StandInUnit { state, pid: None, refuses: Vec::new() }
}

impl Manned {
    fn new() -> Self {
        let stand = Stand::new();
        stand.lists("");
        stand.cache();
        let cache = stand.at("/var/cache/apt/archives");
        let quay = names(&cache).into_iter().find(|n| n.starts_with("quay_")).unwrap();
        fs::write(cache.join(quay), "cut").unwrap();
        for lock in ["/var/lib/dpkg/lock-frontend", "/var/lib/dpkg/lock", LOCK, "/var/cache/apt/archives/lock"] {
            stand.write(lock, b"");
        }
        let folder = stand.dir.path().join("services");
        let services = StandIn::in_folder(&folder);
        services.write(TIMER, &unit(Active::Running)).unwrap();
        services.write(SERVICE, &unit(Active::Idle)).unwrap();
        Self { stand, services, folder }
    }

    fn settings(&self) -> Settings {
        Settings { services: ServiceManager::StandIn(self.folder.clone()), ..self.stand.settings() }
    }

    fn now(&self, unit: &str) -> UnitState {
        self.services.look(unit).unwrap().unwrap()
    }

    /// The service at work: a program that holds these locks.
    fn at_work(&self, locks: &[&str]) -> Worker {
        let worker = Worker::start("holder", &locks.iter().map(|lock| self.stand.at(lock)).collect::<Vec<_>>());
        self.services.write(SERVICE, &StandInUnit { pid: Some(worker.0.id()), ..unit(Active::Running) }).unwrap();
        worker
    }
}

#[test]
fn a_failed_service_and_a_masked_timer_are_told_and_the_failure_is_forgotten_with_its_cause() {
    let manned = Manned::new();
    let failed = UnitState { result: Some("exit-code".into()), ..unit(Active::Failed).state };
    manned.services.write(SERVICE, &StandInUnit { state: failed, ..unit(Active::Failed) }).unwrap();
    let masked = UnitState { masking: Masking::Lasting, ..unit(Active::Idle).state };
    manned.services.write("apt-daily-upgrade.timer", &StandInUnit { state: masked, ..unit(Active::Idle) }).unwrap();
    let report = open(&manned.settings()).check(&Scope::only(UPDATES), &NoObserver).unwrap();
    let of = |name: &str| {
        let all = report.findings.iter().chain(&report.notes);
        all.filter(|f| f.subject.name() == Some(name))
            .map(|f| (f.verdict, f.cause.clone().unwrap()))
            .collect::<Vec<_>>()
    };
    let [(Verdict::Failed, cause)] = &of(SERVICE)[..] else { panic!("{:?}", of(SERVICE)) };
    assert!(cause.starts_with("failed on its last run (exit-code)"), "{cause}");
    assert_eq!(of("apt-daily-upgrade.timer"), [(Verdict::Disabled, "masked".to_owned())]);
    let report = support::try_renew(&manned.settings()).unwrap();
    assert_eq!(report.proof.as_ref().unwrap().outcome, ProofOutcome::Proved);
    assert!(report.area(UPDATES).unwrap().remaining.is_empty(), "{:#?}", report.area(UPDATES).unwrap());
    assert_eq!(manned.now(SERVICE).active, Active::Idle);
    assert_eq!(manned.now("apt-daily-upgrade.timer").masking, Masking::Lasting, "an administrator's word stands");
}

#[test]
fn while_updates_do_not_come_a_failure_remains() {
    let manned = Manned::new();
    manned.services.write(SERVICE, &unit(Active::Failed)).unwrap();
    fs::remove_dir_all(manned.stand.repositories().join("dists")).unwrap();
    let report = support::try_renew(&manned.settings()).unwrap();
    assert_eq!(report.proof.as_ref().unwrap().outcome, ProofOutcome::Failed);
    assert_eq!(manned.now(SERVICE).active, Active::Failed);
}

/// Sees how the service is while files are changed.
struct Watching<'a> {
    manned: &'a Manned,
    held: Mutex<Option<(Masking, Active)>>,
}

impl Observer for Watching<'_> {
    fn on_event(&self, event: Event<'_>) -> Flow {
        if matches!(event, Event::Recorded("plan")) {
            *self.held.lock().unwrap() = Some((self.manned.now(TIMER).masking, self.manned.now(SERVICE).active));
        }
        Flow::Continue
    }
}

#[test]
fn a_service_that_fetches_is_held_and_put_back() {
    let manned = Manned::new();
    let mut worker = manned.at_work(&[LOCK, "/var/cache/apt/archives/lock"]);
    let mut asked = Vec::new();
    let watching = Watching { manned: &manned, held: Mutex::new(None) };
    let report = open(&manned.settings())
        .repair(&Scope::only(UPDATES), &watching, &mut |preview| {
            asked.extend(preview.actions.iter().map(|a| format!("{} {}", a.action.word(), a.subject)));
            assert!(preview.remarks.iter().any(|remark| remark.contains("again afterwards")), "{preview:#?}");
            Agreement::Yes
        })
        .unwrap();
    assert_eq!(asked[..2], [format!("pause {TIMER}"), format!("pause {SERVICE}")]);
    assert_eq!(asked.len(), 3, "and what is damaged, in the same question: {asked:?}");
    assert_eq!(watching.held.into_inner().unwrap(), Some((Masking::ThisRun, Active::Idle)));
    assert!(worker.ends());
    assert_eq!(report.proof.as_ref().unwrap().outcome, ProofOutcome::Proved);
    assert_eq!((manned.now(TIMER), manned.now(SERVICE)), (unit(Active::Running).state, unit(Active::Running).state));
    assert!(report.area(UPDATES).unwrap().remaining.is_empty() && report.area(UPDATES).unwrap().repaired == 1);
    assert!(open(&manned.settings()).interrupted().unwrap().is_empty());
}

#[test]
fn a_service_that_installs_is_never_stopped() {
    let manned = Manned::new();
    let mut worker = manned.at_work(&["/var/lib/dpkg/lock-frontend"]);
    let error = support::try_renew(&manned.settings()).unwrap_err();
    let WorkError::LockHeld { path, who, .. } = &error else { panic!("{error:?}") };
    assert_eq!(path.to_string(), "/var/lib/dpkg/lock-frontend");
    assert!(who.contains(SERVICE), "{who}");
    assert_eq!((manned.now(SERVICE).active, worker.0.try_wait().unwrap().is_none()), (Active::Running, true));
}

#[test]
fn what_began_to_install_while_somebody_thought_about_it_is_left_alone() {
    let manned = Manned::new();
    let mut first = Some(manned.at_work(&[LOCK]));
    let mut installs = None;
    let error = open(&manned.settings())
        .repair(&Scope::only(UPDATES), &NoObserver, &mut |_| {
            drop(first.take());
            installs = Some(manned.at_work(&["/var/lib/dpkg/lock"]));
            Agreement::Yes
        })
        .unwrap_err();
    assert!(matches!(error, WorkError::LockHeld { .. }), "{error:?}");
    assert!(installs.unwrap().0.try_wait().unwrap().is_none());
    assert_eq!((manned.now(TIMER), manned.now(SERVICE)), (unit(Active::Running).state, unit(Active::Running).state));
}

#[test]
fn without_its_locks_nothing_of_the_area_is_changed_when_more_would_have_to_be_stopped_and_the_user_says_no() {
    let manned = Manned::new();
    let mut worker = manned.at_work(&[LOCK]);
    let cache = || names(&manned.stand.at("/var/cache/apt/archives"));
    let before = cache();
    let mut questions = 0;
    let report = open(&manned.settings())
        .repair(&Scope::only(UPDATES), &NoObserver, &mut |_| {
            questions += 1;
            // Meanwhile another unit that starts the service has come.
            manned.services.write("apt-daily.path", &unit(Active::Running)).unwrap();
            if questions == 1 { Agreement::Yes } else { Agreement::No }
        })
        .unwrap();
    assert_eq!(questions, 2);
    assert_eq!(cache(), before, "a service at work holds the lock");
    let [left] = report.area(UPDATES).unwrap().remaining.as_slice() else { panic!("{report:#?}") };
    assert!(left.reason.contains("lock"), "{left:?}");
    assert_eq!((report.area(UPDATES).unwrap().repaired, manned.now(SERVICE).active), (0, Active::Running));
    assert!(worker.0.try_wait().unwrap().is_none());
}

#[test]
fn what_cannot_be_held_is_named_and_nothing_is_changed() {
    let manned = Manned::new();
    let worker = manned.at_work(&[LOCK]);
    let refuses = StandInUnit { pid: Some(worker.0.id()), refuses: vec!["stop".into()], ..unit(Active::Running) };
    manned.services.write(SERVICE, &refuses).unwrap();
    let error = support::try_renew(&manned.settings()).unwrap_err();
    assert!(error.to_string().contains(SERVICE), "{error}");
    assert_eq!((manned.now(TIMER), manned.now(SERVICE)), (unit(Active::Running).state, unit(Active::Running).state));
    assert!(open(&manned.settings()).interrupted().unwrap().is_empty());
}

#[test]
fn what_cannot_be_put_back_stays_unfinished_until_it_can() {
    let manned = Manned::new();
    let mut worker = manned.at_work(&[LOCK]);
    manned.services.write(TIMER, &StandInUnit { refuses: vec!["let-go".into()], ..unit(Active::Running) }).unwrap();
    let error = support::try_renew(&manned.settings()).unwrap_err();
    assert!(error.to_string().contains(TIMER), "{error}");
    assert!(worker.ends());
    assert_eq!(manned.now(SERVICE).active, Active::Running, "the other one is put back all the same");
    assert_eq!(open(&manned.settings()).interrupted().unwrap(), [1]);
    let held = manned.now(TIMER);
    manned.services.write(TIMER, &StandInUnit { state: held, ..unit(Active::Running) }).unwrap();
    open(&manned.settings()).recover(&NoObserver).unwrap();
    assert_eq!(manned.now(TIMER), unit(Active::Running).state);
}

#[test]
fn cut_at_any_operation_services_run_again_after_recovery() {
    let manned = Manned::new();
    fs::create_dir_all(manned.stand.at("/var/lib/veritum")).unwrap();
    let here = folder();
    let start = here.path().join("start");
    let machine = manned.stand.world.machine();
    let copy = |from: &std::path::Path, to: &std::path::Path| {
        let _ = fs::remove_dir_all(to);
        assert!(Command::new("cp").arg("-a").arg(from).arg(to).status().unwrap().success());
    };
    copy(&machine, &start);
    let mut cut = 0;
    for n in (0..).step_by(3) {
        copy(&start, &machine);
        manned.services.write(TIMER, &unit(Active::Running)).unwrap();
        let _worker = manned.at_work(&[LOCK]);
        let disk = Arc::new(TestDisk::new(Accident::Cut(n)));
        let done = Engine::open(manned.settings(), disk.clone())
            .and_then(|mut w| w.repair(&Scope::only(UPDATES), &NoObserver, &mut |_| Agreement::Yes));
        for _ in 0..2 {
            open(&manned.settings()).recover(&NoObserver).unwrap();
        }
        let states = (manned.now(TIMER), manned.now(SERVICE));
        assert_eq!(states, (unit(Active::Running).state, unit(Active::Running).state), "cut at {n}");
        if done.is_ok() && !disk.happened() {
            break;
        }
        cut += 1;
    }
    assert!(cut > 20, "{cut}");
}
