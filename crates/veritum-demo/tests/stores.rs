//! Stores: filled, signed, opened, refused.

mod support;

use std::os::unix::fs::PermissionsExt as _;
use std::path::{Path, PathBuf};

use support::folder;
use veritum_core::event::{Event, Flow, NoObserver, Observer};
use veritum_core::model::{Digest, EntryKind, PackageId};
use veritum_core::store::{self, Contents as _, Reach, Store, StoreError};
use veritum_core::trust::{KeyPair, Pins, StoreKeys};
use veritum_demo::world::{add, add_file, package};
use veritum_demo::{Content, Package, write_deb};

struct Bench {
    dir: tempfile::TempDir,
    keys: StoreKeys,
}

impl Bench {
    fn new() -> Self {
        let dir = folder();
        let keys =
            StoreKeys { root: KeyPair::from_seed(&[1; 32]).unwrap(), publish: KeyPair::from_seed(&[2; 32]).unwrap() };
        let bench = Self { dir, keys };
        store::create(&bench.path(), &bench.dir.path().join("keys"), &bench.keys, bench.expires()).unwrap();
        bench
    }

    fn path(&self) -> PathBuf {
        self.dir.path().join("store")
    }

    fn scratch(&self) -> Vec<PathBuf> {
        vec![self.dir.path().to_owned()]
    }

    fn reach(&self) -> Reach {
        Reach::folders_only(self.scratch())
    }

    fn pins(&self) -> Pins {
        Pins::in_folder(&self.dir.path().join("trust"))
    }

    fn expires(&self) -> jiff::Timestamp {
        jiff::Timestamp::from_second(veritum_demo::EXPIRES).unwrap()
    }

    fn deb(&self, package: &Package) -> PathBuf {
        let path = self.dir.path().join(package.file_name());
        std::fs::write(&path, write_deb(package).unwrap()).unwrap();
        path
    }

    fn fill(&self, packages: &[Package]) -> store::FillSummary {
        let paths: Vec<PathBuf> = packages.iter().map(|p| self.deb(p)).collect();
        store::fill(&self.path(), &paths, 2, &NoObserver).unwrap()
    }

    fn publish(&self) -> store::PublishSummary {
        store::publish(&self.path(), &self.keys.publish, self.expires(), &self.scratch(), Default::default()).unwrap()
    }

    fn open(&self) -> Store {
        let candidate = store::candidate(&self.path().into(), &self.pins(), &self.reach()).unwrap();
        candidate.pin(&self.pins(), jiff::Timestamp::UNIX_EPOCH).unwrap();
        Store::open(&self.path().into(), &self.pins(), &self.reach(), jiff::Timestamp::UNIX_EPOCH).unwrap()
    }
}

fn quay(version: &str, text: &str) -> Package {
    let mut quay = package("quay", version);
    add_file(&mut quay, "/usr/share/quay/part", text);
    add_file(&mut quay, "/etc/quay.conf", "a = 1\n");
    quay.items.last_mut().unwrap().settings = true;
    add(&mut quay, "/usr/bin/quay", Content::File(vec![5; 3_000_000]), 0o755);
    add(&mut quay, "/usr/bin/quay-too", Content::Name("/usr/bin/quay".into()), 0o755);
    add(&mut quay, "/usr/bin/q", Content::Link("quay".into()), 0o777);
    quay.scripts.push(("postinst", "#!/bin/sh\nchmod 2755 /usr/bin/quay\n".into()));
    quay
}

fn id(version: &str) -> PackageId {
    PackageId::new("quay", version, "amd64").unwrap()
}

#[test]
fn a_manifest_tells_what_the_package_ships() {
    let bench = Bench::new();
    bench.fill(&[quay("1.0", "one\n")]);
    bench.publish();
    let manifest = bench.open().manifest(&id("1.0")).unwrap().unwrap().into_inner();
    let entry = |path: &str| manifest.entries.iter().find(|e| e.path.to_string() == path).unwrap();
    assert!(
        matches!(&entry("/usr/share/quay/part").kind, EntryKind::File { size: 4, digest, same_as: None } if *digest == Digest::hash(b"one\n"))
    );
    assert!(
        matches!(&entry("/usr/bin/quay-too").kind, EntryKind::File { same_as: Some(first), .. } if first.to_string() == "/usr/bin/quay")
    );
    assert!(matches!(&entry("/usr/bin/q").kind, EntryKind::Link { target } if target == b"quay"));
    assert!(entry("/etc/quay.conf").settings && !entry("/usr/bin/q").settings);
    assert!(entry("/usr/bin/quay").configured && !entry("/usr/share/quay/part").configured);
}

#[test]
fn several_versions_stand_side_by_side_and_filling_twice_changes_nothing() {
    let bench = Bench::new();
    let both = [quay("1.0", "one\n"), quay("2.0", "two\n")];
    assert_eq!(bench.fill(&both).added.len(), 2);
    let first = bench.publish();
    assert_eq!((first.packages, first.new, first.signed), (2, 2, true));
    let again = bench.fill(&both);
    assert_eq!((again.added.len(), again.known), (0, 2));
    assert!(!bench.publish().signed);
    let store = bench.open();
    assert!(store.has(&id("1.0")) && store.has(&id("2.0")) && !store.has(&id("3.0")));
    assert!(store.manifest(&id("3.0")).unwrap().is_none());
}

#[test]
fn the_same_files_in_another_compression_are_known_and_other_files_of_the_same_name_are_refused() {
    let bench = Bench::new();
    bench.fill(&[quay("1.0", "one\n")]);
    let other = Package { compression: ".xz", ..quay("1.0", "one\n") };
    assert_eq!(bench.fill(&[other]).known, 1);
    let clash = bench.fill(&[quay("1.0", "forged\n")]);
    assert!(
        clash.added.is_empty() && clash.refused[0].why.to_string().contains("cannot be added to the store"),
        "{clash:?}"
    );
    bench.publish();
    let manifest = bench.open().manifest(&id("1.0")).unwrap().unwrap();
    assert!(
        manifest
            .get()
            .entries
            .iter()
            .any(|e| matches!(&e.kind, EntryKind::File { digest, .. } if *digest == Digest::hash(b"one\n")))
    );
}

#[test]
fn contents_are_handed_on_only_whole_and_right() {
    let bench = Bench::new();
    bench.fill(&[quay("1.0", "one\n")]);
    bench.publish();
    let store = bench.open();
    let copy = |digest: &Digest, size: u64| {
        let mut got = Vec::new();
        let result = store.copy(digest, size, &mut |piece| {
            got.extend_from_slice(piece);
            Ok(())
        });
        (result, got)
    };
    let big = vec![5; 3_000_000];
    assert_eq!(copy(&Digest::hash(&big), 3_000_000).1, big);
    assert!(matches!(copy(&Digest::hash(&big), 2_999_999), (Err(StoreError::Damaged { .. }), got) if got.is_empty()));
    assert!(matches!(copy(&Digest::hash(b"nowhere"), 7), (Err(StoreError::Absent { .. }), _)));
}

#[test]
fn an_incomplete_store_is_not_signed() {
    let bench = Bench::new();
    bench.fill(&[quay("1.0", "one\n")]);
    let hex = Digest::hash(b"one\n").to_hex();
    std::fs::remove_file(bench.path().join("objects").join(&hex[..2]).join(format!("{}.zst", &hex[2..]))).unwrap();
    let result =
        store::publish(&bench.path(), &bench.keys.publish, bench.expires(), &bench.scratch(), Default::default());
    assert!(matches!(result, Err(StoreError::Absent { .. })), "{result:?}");
}

#[test]
fn only_the_publishing_key_of_this_store_signs_it() {
    let bench = Bench::new();
    bench.fill(&[quay("1.0", "one\n")]);
    for key in [&bench.keys.root, &KeyPair::generate().unwrap()] {
        assert!(store::publish(&bench.path(), key, bench.expires(), &bench.scratch(), Default::default()).is_err());
    }
    bench.publish();
    let keys = bench.dir.path().join("keys");
    for file in [StoreKeys::root_file(&keys), StoreKeys::publish_file(&keys)] {
        assert_eq!(std::fs::metadata(&file).unwrap().permissions().mode() & 0o777, 0o600);
        KeyPair::read(&file).unwrap();
    }
    let again = store::create(&bench.dir.path().join("other"), &keys, &bench.keys, bench.expires());
    assert!(matches!(again, Err(StoreError::Keys(_))), "keys are never overwritten: {again:?}");
    let occupied = store::create(&bench.path(), &bench.dir.path().join("keys2"), &bench.keys, bench.expires());
    assert!(matches!(occupied, Err(StoreError::Occupied { .. })));
}

#[test]
fn an_expired_store_still_verifies_what_was_installed() {
    let bench = Bench::new();
    bench.fill(&[quay("1.0", "one\n")]);
    let past = jiff::Timestamp::from_second(1_000_000_000).unwrap();
    store::publish(&bench.path(), &bench.keys.publish, past, &bench.scratch(), Default::default()).unwrap();
    let store = bench.open();
    assert_eq!(store.expires(), past);
    assert!(store.manifest(&id("1.0")).unwrap().is_some());
}

#[test]
fn no_store_an_unsigned_one_and_a_newer_one_are_told_apart() {
    let bench = Bench::new();
    let open =
        |path: &Path| Store::open(&path.to_owned().into(), &bench.pins(), &bench.reach(), jiff::Timestamp::UNIX_EPOCH);
    assert!(matches!(open(Path::new("/nowhere")), Err(StoreError::NotAStore { .. })));
    assert!(matches!(open(&bench.path()), Err(StoreError::NotTrusted { other_keys: false, .. })));
    std::fs::write(bench.path().join("store.json"), "{\"format\":\"veritum.store/7\"}").unwrap();
    assert!(matches!(open(&bench.path()), Err(StoreError::Newer { found, .. }) if found == "veritum.store/7"));
}

#[test]
fn a_filling_that_is_stopped_names_nothing() {
    struct No;
    impl Observer for No {
        fn on_event(&self, event: Event<'_>) -> Flow {
            if matches!(event, Event::Advance { .. }) { Flow::Stop } else { Flow::Continue }
        }
    }
    let bench = Bench::new();
    let path = bench.deb(&quay("1.0", "one\n"));
    assert!(matches!(store::fill(&bench.path(), &[path], 1, &No), Err(StoreError::Stopped)));
    assert_eq!(bench.publish().packages, 0);
    assert_eq!(std::fs::read_dir(bench.path().join("incoming")).unwrap().count(), 0);
}

#[test]
fn a_package_with_a_device_node_is_not_taken_in_and_the_others_are() {
    let bench = Bench::new();
    let mut pier = package("pier", "1");
    add(&mut pier, "/usr/lib/pier/port", Content::Device(1, 3), 0o666);
    let done = bench.fill(&[pier, quay("1", "one\n")]);
    assert_eq!((done.added, done.refused.len()), (vec![id("1")], 1));
    let why = veritum_core::model::error_chain(&done.refused[0].why);
    assert!(why.contains("contains a device node: /usr/lib/pier/port"), "{why}");
    bench.publish();
    assert_eq!(bench.open().packages().count(), 1);
}
