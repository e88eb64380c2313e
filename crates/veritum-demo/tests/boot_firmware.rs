//! The firmware's boot entries against what is on the disks.

use std::sync::Arc;

use veritum_core::areas::bootchain::examine_firmware;
use veritum_core::devices::DiskSet;
use veritum_core::formats::boot::firmware_entries::FirmwareEntry;
use veritum_core::model::StartEffect::{self, BreaksStart, Latent};
use veritum_core::platform::efi_variables::FirmwareEntries;
use veritum_demo::boot_disk::{Variant, disk, disk_as, write};

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
        let entries = (0..).zip(entries.iter().cloned()).collect();
        let firmware = FirmwareEntries { entries, is_secure: false };
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
    assert_eq!(removable.told(true, &[broken])[1].0, Some(Latent));
}
