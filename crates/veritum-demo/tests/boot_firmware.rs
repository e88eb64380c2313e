//! The firmware's boot entries against what is on the disks, and how they are repaired.

mod support;

use std::path::PathBuf;
use std::sync::Arc;

use support::{folder, open};

use veritum_core::areas::bootchain::examine_firmware;
use veritum_core::change::Recovered;
use veritum_core::devices::DiskSet;
use veritum_core::event::NoObserver;
use veritum_core::formats::boot::firmware_entries::{EntryTarget, FirmwareEntry, entry, new_entry, order_bytes};
use veritum_core::model::StartEffect::{self, BreaksStart, Latent};
use veritum_core::model::{ActionKind, Scope};
use veritum_core::platform::efi_variables::{BootEntry, FirmwareEntries, FirmwareVariables, entry_name};
use veritum_core::report::{RepairReport, UndoReport};
use veritum_core::work::{Agreement, Settings};
use veritum_demo::boot_disk::{Variant, disk, disk_as, write};
use veritum_demo::world::{World, add_file, package};

const SEED: u64 = 7;
const LOADER: &str = "/EFI/foreshore/shimx64.efi";

struct Bench {
    _folder: tempfile::TempDir,
    set: Arc<DiskSet>,
    efi: usize,
}

impl Bench {
    fn new(bytes: &[u8]) -> Self {
        let folder = tempfile::tempdir().unwrap();
        let image = folder.path().join("disk.img");
        write(&image, bytes).unwrap();
        let set = Arc::new(DiskSet::open(&[image]).unwrap());
        let is_efi =
            |v: &veritum_core::devices::DiskVolume| v.partition.as_ref().is_some_and(|p| p.kind.is_efi_system());
        let efi = set.volumes.iter().position(is_efi).unwrap();
        Self { _folder: folder, set, efi }
    }

    /// An entry for a file on the EFI partition.
    fn entry(&self, name: &str, file: &str) -> FirmwareEntry {
        let partition = self.set.volumes[self.efi].partition.as_ref().map(|partition| partition.id.clone());
        FirmwareEntry { is_active: true, name: name.to_owned(), partition, file: Some(file.to_owned()) }
    }

    /// What a check says of these entries: effects and causes.
    fn told(&self, is_live: bool, entries: &[FirmwareEntry]) -> Vec<(Option<StartEffect>, String)> {
        let of = |(number, entry): (u16, &FirmwareEntry)| BootEntry {
            number,
            is_tried: true,
            variable: vec![7, 0, 0, 0],
            entry: entry.clone(),
        };
        let entries = (0..).zip(entries).map(of).collect();
        let firmware = FirmwareEntries { entries, ..FirmwareEntries::default() };
        let examined = examine_firmware(self.set.clone(), ("foreshore", self.efi, is_live), &firmware);
        let told = |f: &veritum_core::model::Finding| {
            (f.effect, format!("{}: {}", f.subject, f.cause.clone().unwrap_or_default()))
        };
        examined.findings.iter().map(told).collect()
    }
}

fn elsewhere(entry: FirmwareEntry) -> FirmwareEntry {
    FirmwareEntry { partition: Some("42424242-4242-4242-4242-424242424242".into()), ..entry }
}

#[test]
fn an_entry_that_starts_the_system_is_enough() {
    let bench = Bench::new(&disk(SEED, &[]).unwrap());
    let (own, other) = (bench.entry("Foreshore", LOADER), elsewhere(bench.entry("Meridian", "/EFI/meridian/a.efi")));
    assert_eq!(bench.told(true, &[other.clone(), own.clone()]), []);
    assert_eq!(bench.told(false, &[own]), []);
    // The disk of another computer.
    assert_eq!(bench.told(false, &[other]), []);
}

#[test]
fn entries_that_lead_nowhere_are_named() {
    let bench = Bench::new(&disk(SEED, &[]).unwrap());
    let own = bench.entry("Foreshore", LOADER);
    let told = bench.told(true, &[bench.entry("Foreshore", "/EFI/foreshore/absent.efi"), own.clone()]);
    assert_eq!(told.len(), 1, "{told:?}");
    assert_eq!(told[0].0, Some(Latent));
    assert!(told[0].1.contains("Boot0000 (Foreshore): it starts /EFI/foreshore/absent.efi"), "{told:?}");
    let told = bench.told(true, &[elsewhere(own.clone()), own.clone()]);
    assert!(told[0].1.contains("which is on none of the disks"), "{told:?}");
    assert_eq!(bench.told(false, &[elsewhere(own.clone()), own]), [], "it can be on a disk that is not here");
}

#[test]
fn without_an_entry_the_system_starts_only_by_what_firmware_starts_of_its_own() {
    let bench = Bench::new(&disk(SEED, &[]).unwrap());
    let broken = bench.entry("Foreshore", "/EFI/foreshore/absent.efi");
    let inactive = FirmwareEntry { is_active: false, ..bench.entry("Foreshore", LOADER) };
    for entries in [vec![], vec![broken.clone()], vec![inactive]] {
        let told = bench.told(true, &entries);
        let last = told.iter().find(|(_, text)| text.contains("no entry starts EFI/foreshore"));
        assert_eq!(last.map(|told| told.0), Some(Some(BreaksStart)), "{told:?}");
    }
    // Another boot loader here can have started it, when it runs.
    let with_other = Bench::new(&disk_as(SEED, Variant::OtherLoader).unwrap());
    let entries = [with_other.entry("Ferry", "/EFI/ferry/ferry.efi")];
    assert_eq!(with_other.told(true, &entries)[0].0, Some(Latent));
    assert_eq!(with_other.told(false, &entries)[0].0, Some(BreaksStart));
    // Its own program in EFI/BOOT is started without an entry.
    let removable = Bench::new(&disk_as(SEED, Variant::Removable).unwrap());
    assert_eq!(removable.told(true, &[broken])[0].0, Some(Latent));
}

#[test]
fn a_program_that_only_helps_does_not_start_the_system() {
    let bench = Bench::new(&disk(SEED, &[]).unwrap());
    let told = bench.told(true, &[bench.entry("Keys", "/EFI/foreshore/mmx64.efi")]);
    assert!(told[0].1.contains("no entry starts EFI/foreshore"), "{told:?}");
}

/// The firmware's variables: names of files, and contents.
type Variables = Vec<(String, Vec<u8>)>;

/// A mounted system, with its disk and a folder as the firmware.
struct Mounted {
    _folder: tempfile::TempDir,
    world: World,
    settings: Settings,
    firmware: FirmwareVariables,
    target: EntryTarget,
}

const ATTRIBUTES: [u8; 4] = [7, 0, 0, 0];

impl Mounted {
    fn new() -> Self {
        let dir = folder();
        let mut system = package("grub-efi-amd64", "2.06");
        add_file(&mut system, "/usr/lib/os-release", "ID=foreshore\n");
        let world = World::new(dir.path(), &[system]);
        let image = dir.path().join("disk.img");
        write(&image, &disk(SEED, &[]).unwrap()).unwrap();
        let set = DiskSet::open(std::slice::from_ref(&image)).unwrap();
        let efi = set.volumes.iter().filter_map(|volume| volume.partition.as_ref());
        let efi = efi.clone().find(|partition| partition.kind.is_efi_system()).unwrap();
        let target = EntryTarget {
            partition: efi.number,
            start: efi.start / 512,
            sectors: efi.size / 512,
            id: efi.id.clone(),
            file: LOADER.to_owned(),
        };
        let variables: PathBuf = dir.path().join("variables");
        std::fs::create_dir(&variables).unwrap();
        let settings =
            Settings { store: None, disks: vec![image], firmware: Some(variables.clone()), ..world.settings() };
        let firmware = FirmwareVariables::new(Some(variables));
        Self { _folder: dir, world, settings, firmware, target }
    }

    fn put(&self, name: &str, content: &[u8]) {
        self.firmware.write(name, Some(&[&ATTRIBUTES[..], content].concat())).unwrap();
    }

    /// An entry for a file on this partition.
    fn entry(&self, number: u16, name: &str, file: &str, partition: &str) {
        let target = EntryTarget { file: file.to_owned(), id: partition.to_owned(), ..self.target.clone() };
        self.put(&entry_name(number), &new_entry(name, &target).unwrap());
    }

    fn all(&self) -> Variables {
        let folder = self.settings.firmware.as_ref().unwrap();
        let mut all: Vec<_> = std::fs::read_dir(folder)
            .unwrap()
            .flatten()
            .map(|file| (file.file_name().into_string().unwrap(), std::fs::read(file.path()).unwrap()))
            .collect();
        all.sort();
        all
    }

    fn repair(&self) -> RepairReport {
        let scope = Scope::only(veritum_core::areas::BOOTCHAIN);
        open(&self.settings).repair(&scope, &NoObserver, &mut |_| Agreement::Yes).unwrap()
    }

    fn undo(&self) -> UndoReport {
        open(&self.settings).undo(None, false, &NoObserver, &mut |_| Agreement::Yes).unwrap()
    }
}

const ELSEWHERE: &str = "42424242-4242-4242-4242-424242424242";
const FERRY: &str = "/EFI/ferry/ferry.efi";

#[test]
fn the_firmware_gets_an_entry_that_starts_the_system_and_an_undo_is_exact() {
    /// What the variables are, and which are written: the entry and the new order.
    type Case = (&'static str, fn(&Mounted), &'static str, &'static [u16]);
    let cases: [Case; 5] = [
        (
            "one that names a file that is not there is corrected",
            |bench| {
                bench.entry(0, "Foreshore", "/EFI/foreshore/absent.efi", &bench.target.id);
                bench.put("BootOrder", &order_bytes(&[3, 0]));
            },
            "Boot0000",
            &[3, 0],
        ),
        (
            "one that is not active becomes active",
            |bench| {
                bench.entry(1, "Foreshore", LOADER, &bench.target.id);
                let mut variable = bench.firmware.read("Boot0001").unwrap().unwrap();
                variable[4] = 0;
                bench.firmware.write("Boot0001", Some(&variable)).unwrap();
                bench.put("BootOrder", &order_bytes(&[1]));
            },
            "Boot0001",
            &[1],
        ),
        (
            "one that is not tried is tried first",
            |bench| {
                bench.entry(0xA, "Foreshore", LOADER, &bench.target.id);
                bench.entry(2, "Ferry", FERRY, ELSEWHERE);
                bench.put("BootOrder", &order_bytes(&[2]));
            },
            "Boot000A",
            &[0xA, 2],
        ),
        (
            "a new one is made and tried first",
            |bench| {
                bench.entry(0, "Ferry", FERRY, &bench.target.id);
                bench.put("BootOrder", &order_bytes(&[0, 1]));
            },
            "Boot0002",
            &[2, 0, 1],
        ),
        (
            "so it is where there is no order",
            |bench| bench.entry(7, "Ferry", FERRY, &bench.target.id),
            "Boot0000",
            &[0],
        ),
    ];
    for (told, damage, name, order) in cases {
        let bench = Mounted::new();
        damage(&bench);
        let before = bench.all();
        let report = bench.repair();
        let actions = report.areas.iter().flat_map(|area| &area.actions);
        let done: Vec<_> = actions.filter(|action| action.action == ActionKind::WriteFirmware).collect();
        assert_eq!(done.len(), 1, "{told}: {report:?}");
        assert_eq!(done[0].why, None, "{told}");
        let content = |name: &str| bench.firmware.read(name).unwrap().unwrap();
        assert_eq!(content("BootOrder"), [&ATTRIBUTES[..], &order_bytes(order)].concat(), "{told}");
        let now = entry(&content(name)[4..]).unwrap();
        let of = (now.is_active, now.partition.as_deref(), now.file.as_deref());
        assert_eq!(of, (true, Some(&*bench.target.id), Some(LOADER)), "{told}");
        let after = report.after.unwrap();
        assert!(!after.findings.iter().any(|f| f.subject.to_string().starts_with("firmware")), "{told}: {after:?}");
        let undone = bench.undo();
        assert_eq!((bench.all(), undone.changes[0].refused.len()), (before, 0), "{told}");
    }
}

#[test]
fn what_the_firmware_changed_since_is_not_undone() {
    let bench = Mounted::new();
    bench.entry(0, "Ferry", FERRY, &bench.target.id);
    bench.put("BootOrder", &order_bytes(&[0]));
    bench.repair();
    bench.put("BootOrder", &order_bytes(&[0, 1]));
    let before = bench.all();
    let undone = bench.undo();
    assert_eq!(bench.all(), before);
    let why: Vec<_> = undone.changes.iter().flat_map(|change| &change.refused).map(|refused| &*refused.why).collect();
    assert_eq!(why, ["the firmware's entries changed since, or this is another computer"]);
}

#[test]
fn the_firmware_of_a_computer_that_never_started_the_disk_is_left_alone() {
    let bench = Mounted::new();
    bench.entry(0, "Ferry", FERRY, ELSEWHERE);
    bench.put("BootOrder", &order_bytes(&[0]));
    let before = bench.all();
    bench.repair();
    assert_eq!(bench.all(), before);
}

/// A repair that was interrupted when the entry was written, and the order was not; with what the variables were before, and after.
fn interrupted() -> (Mounted, Variables, Variables) {
    let bench = Mounted::new();
    bench.entry(0, "Ferry", FERRY, &bench.target.id);
    bench.put("BootOrder", &order_bytes(&[0]));
    let before = bench.all();
    bench.repair();
    let done = bench.all();
    bench.put("BootOrder", &order_bytes(&[0]));
    let log = bench.world.at("/var/lib/veritum/changes/1/journal");
    let text = std::fs::read_to_string(&log).unwrap();
    let until = text.find("\"record\":\"delegated-done\"").and_then(|at| text[..at].rfind('\n')).unwrap();
    std::fs::write(&log, &text[..=until]).unwrap();
    std::fs::remove_file(bench.world.at("/var/lib/veritum/changes.index")).unwrap();
    (bench, before, done)
}

#[test]
fn a_write_to_the_firmware_that_was_interrupted_is_finished_and_undone() {
    let (bench, before, done) = interrupted();
    let report = open(&bench.settings).recover(&NoObserver).unwrap();
    assert_eq!(report.changes.iter().map(|change| change.result).collect::<Vec<_>>(), [Recovered::Finished]);
    assert_eq!(bench.all(), done);
    bench.undo();
    assert_eq!(bench.all(), before);
}

#[test]
fn on_another_computer_its_firmware_is_left_alone_and_that_is_said() {
    let (bench, before, _) = interrupted();
    let order = bench.firmware.read("BootOrder").unwrap();
    bench.put("BootOrder", &order_bytes(&[7]));
    let others = bench.all();
    let report = open(&bench.settings).recover(&NoObserver).unwrap();
    assert_eq!(report.changes[0].result, Recovered::Closed);
    let why = report.changes[0].why.clone().unwrap();
    assert_eq!(why, "it is not known whether this was done: firmware entries: write to the firmware");
    bench.undo();
    assert_eq!(bench.all(), others);
    // Back on its own, what was written is undone.
    bench.firmware.write("BootOrder", order.as_deref()).unwrap();
    bench.undo();
    assert_eq!(bench.all(), before);
}
