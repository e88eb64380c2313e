//! Writing the bytes of a disk, cut at every sector and at every operation on the state folder: old or new bytes, never a third thing, and
//! recovery makes all of them the new ones or all the old ones.

mod support;

use std::path::Path;
use std::sync::{Arc, Mutex};

use support::{change_context, folder};
use veritum_core::areas::BOOTCHAIN;
use veritum_core::change::{
    ChangeContext, ChangeError, Disks, OpenChange, Purpose, RangeBytes, Recovered, StateFolder, Verb, recover,
    unfinished,
};
use veritum_core::devices::WriteAt;
use veritum_core::machine::{Disk, LiveDisk, Machine, Protection};
use veritum_core::model::{Digest, SystemPath};
use veritum_core::plan::{DiskIdentity, DiskRange, DiskWrite};
use veritum_core::platform::efi_variables::FirmwareVariables;
use veritum_core::testkit::{Accident, TestDevice, TestDisk};
use veritum_demo::world::{World, package};

const SIZE: usize = 64 * 512;
/// The written ranges: first byte, and sectors.
const RANGES: [(usize, usize); 3] = [(0, 1), (4 * 512, 3), (40 * 512, 2)];

struct One(Mutex<Option<Arc<TestDevice>>>);

impl Disks for One {
    fn open(&self, _: &DiskIdentity, _: bool) -> Result<Arc<dyn WriteAt>, String> {
        let device = self.0.lock().unwrap().clone();
        device.map(|device| device as Arc<dyn WriteAt>).ok_or_else(|| "it is not there".to_owned())
    }

    fn firmware(&self) -> FirmwareVariables {
        FirmwareVariables::new(Some("/nonexistent".into()))
    }
}

fn old() -> Vec<u8> {
    (0..SIZE).map(|at| (at * 7 % 251) as u8).collect()
}

fn new() -> Vec<u8> {
    let mut bytes = old();
    for (at, sectors) in RANGES {
        bytes[at..at + sectors * 512].iter_mut().for_each(|byte| *byte ^= 0x5a);
    }
    bytes
}

fn write() -> (DiskWrite, RangeBytes, RangeBytes) {
    let (old, new) = (old(), new());
    let part = |bytes: &[u8], (at, sectors): (usize, usize)| bytes[at..at + sectors * 512].to_vec();
    let (before, after): (RangeBytes, RangeBytes) =
        (RANGES.map(|range| part(&old, range)).into(), RANGES.map(|range| part(&new, range)).into());
    let range = |index: usize| DiskRange {
        at: RANGES[index].0 as u64,
        size: before[index].len() as u64,
        old: Digest::hash(&before[index]),
        new: Digest::hash(&after[index]),
    };
    let disk = DiskIdentity { path: SystemPath::literal("/dev/quay"), size: SIZE as u64, volumes: Vec::new() };
    let ranges = (0..RANGES.len()).map(range).collect();
    let write = DiskWrite { disk, parts: vec!["boot code".into()], ranges, kept: String::new(), only_start: true };
    (write, before, after)
}

struct Bench {
    world: World,
}

impl Bench {
    fn new(dir: &Path) -> Self {
        Self { world: World::new(dir, &[package("quay", "1.0")]) }
    }

    /// Works with the machine on this disk, and this device.
    fn with<T>(
        &self,
        disk: Arc<dyn Disk>,
        device: &Arc<TestDevice>,
        work: impl FnOnce(ChangeContext<'_>) -> T,
    ) -> Option<T> {
        let machine = Machine::open(&self.world.machine(), disk).ok()?;
        let state = StateFolder::make(&machine, None).ok()?;
        let (protection, disks) = (Protection::new(&machine), One(Mutex::new(Some(device.clone()))));
        Some(work(change_context(&machine, &state, &protection, &disks)))
    }

    fn repair(&self, disk: Arc<dyn Disk>, device: &Arc<TestDevice>) -> Option<Result<Option<String>, ChangeError>> {
        self.with(disk, device, |context| {
            let mut change = OpenChange::begin(context, Purpose::new(Verb::Repair, BOOTCHAIN), "run", now())?;
            let (write, before, after) = write();
            let why = change.write_disk(write, (&before, &after), ("boot code", None))?;
            change.end(1, 0, now())?;
            Ok(why)
        })
    }

    /// Recovers what was interrupted; how, if anything was.
    fn recover(&self, device: &Arc<TestDevice>) -> Result<Vec<Recovered>, ChangeError> {
        let work = |context: ChangeContext<'_>| {
            let mut all = Vec::new();
            for number in unfinished(context.state)? {
                all.extend(recover(context, number, now(), &mut || ())?.map(|done| done.result));
            }
            Ok(all)
        };
        self.with(Arc::new(LiveDisk), device, work).unwrap()
    }
}

fn now() -> jiff::Timestamp {
    jiff::Timestamp::from_second(veritum_demo::NOW).unwrap()
}

fn device(content: Vec<u8>, accident: Accident) -> Arc<TestDevice> {
    Arc::new(TestDevice::new(content, accident, || false))
}

/// No sector is a third thing.
fn require_old_or_new(what: &str, bytes: &[u8]) {
    let (old, new) = (old(), new());
    for (at, sector) in bytes.chunks(512).enumerate() {
        let own = at * 512..(at + 1) * 512;
        assert!(sector == &old[own.clone()] || sector == &new[own], "{what}: sector {at} is a third thing");
    }
}

#[test]
fn a_write_that_is_cut_at_any_sector_is_finished_by_recovery() {
    let counting = device(old(), Accident::None);
    let dir = folder();
    assert_eq!(Bench::new(dir.path()).repair(Arc::new(LiveDisk), &counting).unwrap().unwrap(), None);
    assert!(counting.after_restart() == new());
    let steps = counting.operations();
    assert_eq!(steps, 7, "six sectors and a sync");
    for n in 0..steps {
        for accident in [Accident::Stop(n), Accident::Cut(n)] {
            let what = format!("{accident:?}");
            let dir = folder();
            let bench = Bench::new(dir.path());
            let first = device(old(), accident);
            let done = bench.repair(Arc::new(LiveDisk), &first).unwrap();
            assert!(matches!(done, Err(ChangeError::Unfinished { .. })), "{what}: {done:?}");
            require_old_or_new(&what, &first.after_restart());
            // Recovery is cut, too.
            for again in 0..steps {
                let second = device(first.after_restart(), Accident::Cut(again));
                assert!(bench.recover(&second).is_err(), "{what}, {again}");
                require_old_or_new(&what, &second.after_restart());
            }
            let last = device(first.after_restart(), Accident::None);
            assert_eq!(bench.recover(&last).unwrap(), [Recovered::Finished], "{what}");
            assert!(last.after_restart() == new(), "{what}");
            assert_eq!(bench.recover(&last).unwrap(), [], "{what}: nothing is left to do");
        }
    }
}

#[test]
fn a_fault_of_the_state_folder_at_any_operation_leaves_all_old_or_all_new_bytes() {
    let dir = folder();
    let counting = Arc::new(TestDisk::new(Accident::None));
    Bench::new(dir.path()).repair(counting.clone(), &device(old(), Accident::None)).unwrap().unwrap();
    let mut met = [0; 2];
    for n in 0..counting.operations() {
        for accident in [Accident::Fail(n, 5), Accident::Fail(n, 28), Accident::Stop(n), Accident::Cut(n)] {
            let what = format!("{accident:?}");
            let dir = folder();
            let bench = Bench::new(dir.path());
            let disk = Arc::new(TestDisk::new(accident));
            let seen = disk.clone();
            let ends = matches!(accident, Accident::Stop(_) | Accident::Cut(_));
            let first = Arc::new(TestDevice::new(old(), Accident::None, move || ends && seen.happened()));
            let done = bench.repair(disk, &first);
            let last = device(first.after_restart(), Accident::None);
            require_old_or_new(&what, &last.after_restart());
            bench.recover(&last).unwrap_or_else(|e| panic!("{what}: {e}"));
            let is_new = last.after_restart() == new();
            assert!(is_new || last.after_restart() == old(), "{what}");
            // What was reported as done is done.
            assert!(is_new || !matches!(done, Some(Ok(None))), "{what}");
            met[usize::from(is_new)] += 1;
        }
    }
    assert!(met[0] > 20 && met[1] > 5, "{met:?}");
}

#[test]
fn a_sector_that_cannot_be_written_brings_the_old_bytes_back() {
    let dir = folder();
    let bench = Bench::new(dir.path());
    let bad = Arc::new(TestDevice::new(old(), Accident::None, || false).with_bad(41 * 512..42 * 512));
    let why = bench.repair(Arc::new(LiveDisk), &bad).unwrap().unwrap().unwrap();
    assert!(why.contains("all of it is as it was"), "{why}");
    assert!(bad.after_restart() == old());
    let once = Arc::new(TestDevice::new(old(), Accident::Fail(3, 5), || false));
    let dir = folder();
    let bench = Bench::new(dir.path());
    let why = bench.repair(Arc::new(LiveDisk), &once).unwrap().unwrap().unwrap();
    assert!(why.contains("all of it is as it was"), "{why}");
    assert!(once.after_restart() == old());
    assert_eq!(bench.recover(&once).unwrap(), [], "nothing is left to do");
}

#[test]
fn what_something_else_wrote_meanwhile_is_neither_overwritten_nor_undone() {
    let dir = folder();
    let bench = Bench::new(dir.path());
    let mut other = old();
    other[4 * 512 + 9] ^= 1;
    let changed = device(other.clone(), Accident::None);
    let why = bench.repair(Arc::new(LiveDisk), &changed).unwrap().unwrap().unwrap();
    assert!(why.contains("changed since it was examined"), "{why}");
    assert!(changed.after_restart() == other);
    // In the middle of a write that was cut.
    let first = device(old(), Accident::Stop(3));
    assert!(bench.repair(Arc::new(LiveDisk), &first).unwrap().is_err());
    let mut other = first.after_restart();
    other[40 * 512] ^= 0x11;
    let last = device(other.clone(), Accident::None);
    let why = bench.recover(&last).unwrap_err();
    assert!(matches!(&why, ChangeError::Disk { why, .. } if why.contains("something else wrote to it")), "{why}");
    assert!(last.after_restart() == other, "nothing was changed");
}
