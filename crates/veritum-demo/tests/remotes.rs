//! A store on a web server: only what is needed is fetched, nothing is believed because of where it came from.

mod support;

use std::fs;
use std::path::{Path, PathBuf};

use support::{check, folder, open, told, try_repair};
use veritum_core::areas::STORE;
use veritum_core::event::NoObserver;
use veritum_core::model::Scope;
use veritum_core::report::Outcome;
use veritum_core::repository::RepositorySettings;
use veritum_core::store::{self, Location, StoreError};
use veritum_core::work::{Engine, Settings, WorkError};
use veritum_demo::mirror::{Mirror, Mischief};
use veritum_demo::world::{World, add, add_file, package};
use veritum_demo::{Content, Seed};

/// A machine, and its store served over loopback.
struct Far {
    dir: tempfile::TempDir,
    world: World,
    mirror: Mirror,
}

impl Far {
    fn new() -> Self {
        let dir = folder();
        let mut packages = Vec::new();
        for (at, name) in ["berth", "quay", "rope"].iter().enumerate() {
            let mut made = package(name, "1.0-1");
            for n in 0..20 {
                add_file(&mut made, &format!("/usr/share/{name}/part-{n}"), &format!("right {name} {n}\n").repeat(200));
            }
            let noise = Seed::new(at as u64, name).bytes(40_000);
            add(&mut made, &format!("/usr/bin/{name}"), Content::File(noise), 0o755);
            packages.push(made);
        }
        let world = World::new(&dir.path().join("world"), &packages);
        let mirror = Mirror::serve(&world.store()).unwrap();
        Self { dir, world, mirror }
    }

    fn settings(&self) -> Settings {
        let repositories = RepositorySettings {
            network: true,
            limits: self.mirror.limits(),
            downloads: self.dir.path().join("downloads"),
            ..RepositorySettings::default()
        };
        Settings { store: Some(Location::Url(self.mirror.url().to_owned())), repositories, ..self.world.settings() }
    }

    fn damage(&self, path: &str) {
        fs::write(self.world.at(path), "wrong\n").unwrap();
    }

    /// What was asked for since so many questions, below a folder of the store.
    fn asked(&self, since: usize, below: &str) -> Vec<String> {
        self.mirror.asked().into_iter().skip(since).filter(|path| path.starts_with(below)).collect()
    }

    fn error(&self, settings: &Settings) -> WorkError {
        let mut engine = open(settings);
        engine.check(&Scope::default(), &NoObserver).unwrap_err()
    }
}

/// The object that a file's content is, below the store.
fn object_of(world: &World, path: &str) -> PathBuf {
    let hex = veritum_core::model::Digest::hash(&fs::read(world.at(path)).unwrap()).to_hex();
    Path::new("objects").join(&hex[..2]).join(format!("{}.zst", &hex[2..]))
}

#[test]
fn a_sound_machine_is_checked_without_fetching_one_content_of_a_file() {
    let far = Far::new();
    let report = check(&far.settings());
    assert_eq!(report.outcome, Outcome::Ok, "{report:#?}");
    assert!(report.reference.contains("http://127.0.0.1"), "{}", report.reference);
    // Only what the package database should hold was fetched: one a package.
    assert_eq!((far.asked(0, "manifests").len(), far.asked(0, "objects").len()), (3, 3));
    let before = far.mirror.asked().len();
    assert_eq!(check(&far.settings()).outcome, Outcome::Ok);
    assert_eq!(far.asked(before, "manifests").len() + far.asked(before, "objects").len(), 0, "they are kept");
    assert!(!far.asked(before, "metadata/timestamp.json").is_empty(), "what is new is asked for each time");
}

#[test]
fn a_repair_fetches_each_content_that_it_needs_once_and_no_other() {
    let far = Far::new();
    let damaged = ["/usr/share/quay/part-3", "/usr/share/rope/part-7", "/usr/bin/berth"];
    let objects = damaged.map(|path| object_of(&far.world, path));
    damaged.iter().for_each(|path| far.damage(path));
    assert_eq!(told(&check(&far.settings()).findings).len(), 3);
    let (before, sent) = (far.mirror.asked().len(), far.mirror.sent("objects"));
    let report = try_repair(&far.settings(), std::sync::Arc::new(veritum_core::machine::LiveDisk)).unwrap();
    assert_eq!(report.after.unwrap().outcome, Outcome::Ok);
    let mut asked = far.asked(before, "objects");
    asked.sort();
    let mut wanted: Vec<String> = objects.iter().map(|o| o.to_string_lossy().into_owned()).collect();
    wanted.sort();
    assert_eq!(asked, wanted);
    // In bytes, as the server counts them: just what the damaged ones have, packed.
    let size = |name: &String| fs::metadata(far.world.store().join(name)).unwrap().len();
    assert_eq!(far.mirror.sent("objects") - sent, wanted.iter().map(size).sum::<u64>());
}

#[test]
fn what_the_server_changes_is_never_used_and_is_fetched_once_more_when_it_was_kept() {
    let far = Far::new();
    let path = "/usr/share/quay/part-3";
    let object = object_of(&far.world, path);
    far.damage(path);
    far.mirror.misbehave(&object.to_string_lossy(), Mischief::OtherBytes, usize::MAX);
    let report = try_repair(&far.settings(), std::sync::Arc::new(veritum_core::machine::LiveDisk)).unwrap();
    assert_eq!(fs::read(far.world.at(path)).unwrap(), b"wrong\n");
    let in_store = report.before.findings.iter().find(|f| f.area == STORE).unwrap();
    assert_eq!(in_store.verdict.word(), "altered", "{report:#?}");
    assert!(
        report
            .areas
            .iter()
            .flat_map(|a| &a.remaining)
            .any(|l| l.reason.contains("a store on a web server is read-only")),
        "{report:#?}"
    );
    far.mirror.behave();
    try_repair(&far.settings(), std::sync::Arc::new(veritum_core::machine::LiveDisk)).unwrap();
    assert!(fs::read_to_string(far.world.at(path)).unwrap().starts_with("right quay 3"));
    // What is kept here may be damaged as well.
    let kept = fs::read_dir(far.dir.path().join("downloads/stores")).unwrap().next().unwrap().unwrap().path();
    fs::write(kept.join(&object), "damaged").unwrap();
    far.damage(path);
    try_repair(&far.settings(), std::sync::Arc::new(veritum_core::machine::LiveDisk)).unwrap();
    assert!(fs::read_to_string(far.world.at(path)).unwrap().starts_with("right quay 3"));
}

#[test]
fn a_connection_that_breaks_off_is_taken_up_again() {
    let far = Far::new();
    let object = object_of(&far.world, "/usr/bin/rope");
    far.damage("/usr/bin/rope");
    far.mirror.misbehave(&object.to_string_lossy(), Mischief::BreaksAfter(10_000), 1);
    let report = try_repair(&far.settings(), std::sync::Arc::new(veritum_core::machine::LiveDisk)).unwrap();
    assert_eq!(report.after.unwrap().outcome, Outcome::Ok);
    assert!(!far.mirror.ranges().is_empty());
}

#[test]
fn each_way_for_a_server_to_be_of_no_use_is_told_apart() {
    let told = |mischief: Mischief, ending: &str| {
        let far = Far::new();
        far.mirror.misbehave(ending, mischief, usize::MAX);
        veritum_core::model::error_chain(&far.error(&far.settings()))
    };
    let words = [
        (Mischief::NoAnswer, "timestamp.json", "stopped responding"),
        (Mischief::Status(503), "timestamp.json", "503"),
        (Mischief::LoginPage, "store.json", "login"),
        (Mischief::Endless, "timestamp.json", "sent more"),
        (Mischief::Circle, "store.json", "redirects in a loop"),
        (Mischief::LeadsTo("file:///etc/passwd".into()), "store.json", "redirects to an address that is not allowed ("),
        (Mischief::LeadsTo("file://localhost/etc/passwd".into()), "timestamp.json", "only http and https"),
        (Mischief::Bytes(b"{}".to_vec()), "timestamp.json", "cannot be read"),
        (Mischief::OtherBytes, "index.json", "checksum differs from the signed one"),
        (Mischief::Status(404), "store.json", "is not a store"),
        (Mischief::Status(404), "timestamp.json", "has not been signed yet"),
    ];
    for (mischief, ending, word) in words {
        let what = format!("{mischief:?}");
        let told = told(mischief, ending);
        assert!(told.contains(word), "{what}: {told}");
    }
    let far = Far::new();
    let mut settings = far.settings();
    settings.repositories.network = false;
    assert!(veritum_core::model::error_chain(&far.error(&settings)).contains("network use is disabled"));
    settings = far.settings();
    settings.store = Some(Location::Url("http://127.0.0.1:9".into()));
    assert!(veritum_core::model::error_chain(&far.error(&settings)).contains("cannot be reached"));
}

#[test]
fn over_a_network_neither_other_keys_nor_old_signatures_nor_an_older_copy_count() {
    let far = Far::new();
    let stranger = Settings { trust: far.dir.path().join("nobody"), ..far.settings() };
    assert!(matches!(far.error(&stranger), WorkError::Store(StoreError::NotTrusted { other_keys: false, .. })));
    let candidate = store::candidate(
        &Location::Url(far.mirror.url().to_owned()),
        &veritum_core::trust::Pins::in_folder(&stranger.trust),
        &stranger.reach(),
    );
    candidate.unwrap().pin(&veritum_core::trust::Pins::in_folder(&stranger.trust), stranger.now).unwrap();
    assert_eq!(check(&stranger).outcome, Outcome::Ok);

    // Expired: in a folder it still verifies, over a network it does not.
    let (store, keys) = (far.world.store(), far.world.keys());
    let old: Vec<(PathBuf, Vec<u8>)> = fs::read_dir(store.join("metadata"))
        .unwrap()
        .map(|e| e.unwrap().path())
        .map(|p| (p.clone(), fs::read(&p).unwrap()))
        .collect();
    let past = jiff::Timestamp::from_second(veritum_demo::NOW - 86_400).unwrap();
    let mut other = package("tug", "1.0");
    add_file(&mut other, "/usr/share/tug", "tug\n");
    let deb = far.dir.path().join(other.file_name());
    fs::write(&deb, veritum_demo::write_deb(&other).unwrap()).unwrap();
    store::fill(&store, &[deb], 2, &NoObserver).unwrap();
    store::publish(&store, &keys.publish, past, &far.world.scratch(), Default::default()).unwrap();
    assert!(matches!(far.error(&far.settings()), WorkError::Store(StoreError::Expired { .. })));
    assert_eq!(check(&far.world.settings()).outcome, Outcome::Ok);
    // Its maintainer can sign it again although nothing of it is new.
    let later = jiff::Timestamp::from_second(veritum_demo::EXPIRES).unwrap();
    assert!(store::publish(&store, &keys.publish, later, &far.world.scratch(), Default::default()).unwrap().signed);
    assert!(!store::publish(&store, &keys.publish, later, &far.world.scratch(), Default::default()).unwrap().signed);
    assert_eq!(check(&far.settings()).outcome, Outcome::Ok);
    old.iter().for_each(|(path, bytes)| fs::write(path, bytes).unwrap());
    assert!(matches!(far.error(&far.settings()), WorkError::Store(StoreError::RolledBack { .. })));
}

#[test]
fn a_whole_store_on_a_server_is_read_and_nothing_of_it_is_kept_or_written() {
    let far = Far::new();
    let whole = Scope::only(STORE);
    let report = open(&far.settings()).check(&whole, &NoObserver).unwrap();
    assert_eq!((report.outcome, report.findings.len(), report.notes.len()), (Outcome::Ok, 0, 0), "{report:#?}");
    let kept = |kind: &str| {
        let top = fs::read_dir(far.dir.path().join("downloads/stores")).unwrap().next().unwrap().unwrap().path();
        fs::read_dir(top.join(kind)).map_or(0, |d| d.flatten().flat_map(|e| fs::read_dir(e.path())).flatten().count())
    };
    assert_eq!(kept("objects"), 3, "what it says of records, and no content of a file");
    fs::write(far.world.store().join(object_of(&far.world, "/usr/bin/quay")), "damaged").unwrap();
    let report = open(&far.settings()).check(&whole, &NoObserver).unwrap();
    assert_eq!(report.findings.len(), 1);
    assert!(report.left[0].action.as_ref().unwrap().contains("on the web server itself"), "{:?}", report.left);
    assert!(matches!(
        Engine::open(far.settings(), std::sync::Arc::new(veritum_core::machine::LiveDisk))
            .unwrap()
            .fill_from_stores(true, &NoObserver),
        Err(WorkError::Store(StoreError::NotAFolder { .. }))
    ));
}
