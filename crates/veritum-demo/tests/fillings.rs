//! Filling a store from what is installed, and from another store; stores without contents.

#[path = "support/stand.rs"]
mod stand;
mod support;

use std::fs;
use std::path::PathBuf;

use stand::{Stand, names};
use support::{check, files_of, open, repair};
use veritum_core::areas::{DATABASE, STORE};
use veritum_core::event::{Event, Flow, NoObserver, Observer};
use veritum_core::model::{Authority, Scope};
use veritum_core::report::{Outcome, StoreAddReport};
use veritum_core::store::{self, Reach, Store};
use veritum_core::trust::{Pins, Versions};
use veritum_core::work::{Agreement, Settings, Supplier};

/// A are with an empty store next to it.
struct Place {
    stand: Stand,
}

impl Place {
    fn new() -> Self {
        let place = Self { stand: Stand::new() };
        place.make("mine");
        place
    }

    fn store(&self, name: &str) -> PathBuf {
        self.stand.dir.path().join(name)
    }

    fn make(&self, name: &str) {
        let keys = self.stand.dir.path().join(format!("{name}-keys"));
        store::create(&self.store(name), &keys, &self.stand.world.keys(), expires()).unwrap();
    }

    fn sign(&self, name: &str) {
        let scratch = self.stand.world.scratch();
        let key = self.stand.world.keys().publish;
        store::publish(&self.store(name), &key, expires(), &scratch, Versions::default()).unwrap();
        let pins = Pins::in_folder(&self.stand.trust());
        let candidate = store::candidate(&self.store(name).into(), &pins, &Reach::folders_only(scratch)).unwrap();
        candidate.pin(&pins, jiff::Timestamp::UNIX_EPOCH).unwrap();
    }

    /// Settings of a second store that may take from the first.
    fn second(&self) -> Settings {
        let from = vec![Supplier::Place(self.store("mine"))];
        Settings { store: Some(self.store("second").into()), from, ..self.stand.offline() }
    }

    /// Settings with that store, on top of these.
    fn with(&self, settings: Settings) -> Settings {
        Settings { store: Some(self.store("mine").into()), ..settings }
    }
}

fn expires() -> jiff::Timestamp {
    jiff::Timestamp::from_second(veritum_demo::EXPIRES).unwrap()
}

fn fill(settings: &Settings, contents: bool) -> StoreAddReport {
    open(settings).fill_installed(contents, false, &NoObserver, &mut |_| Agreement::Yes).unwrap()
}

#[test]
fn what_is_installed_comes_from_the_cache_and_only_what_is_lacking_over_the_network() {
    let place = Place::new();
    place.stand.lists("");
    place.stand.cache();
    fs::remove_file(place.stand.at("/var/cache/apt/archives/pier_2.0_all.deb")).unwrap();
    let settings = place.with(place.stand.settings());
    let plan = open(&settings).fill_installed(true, true, &NoObserver, &mut |_| panic!("a plan asks nothing")).unwrap();
    assert_eq!((plan.available, plan.downloads.len(), plan.known, plan.plan_only), (1, 1, 0, true));
    assert!(plan.available_bytes > 100 && plan.room_needed > 0 && place.stand.fetched().is_empty());
    assert!(names(&place.store("mine").join("filled")).is_empty());

    let done = fill(&settings, true);
    assert_eq!((done.added.len(), done.refused.len(), done.failed.len()), (2, 0, 0), "{done:#?}");
    assert_eq!(place.stand.fetched(), ["pool/main/p/pier/pier_2.0_all.deb"]);
    let again = fill(&settings, true);
    assert_eq!((again.known, again.added.len()), (2, 0));

    place.sign("mine");
    let offline = place.with(place.stand.offline());
    fs::write(place.stand.at("/usr/share/quay/part-2"), "wrong\n").unwrap();
    assert_eq!(files_of(&repair(&offline)).repaired, 1);
    let report = check(&offline);
    assert_eq!((report.outcome, report.area(DATABASE).unwrap().verified_by.len()), (Outcome::Ok, 1));
}

#[test]
fn without_the_network_what_is_not_available_is_told_and_the_rest_is_taken() {
    let place = Place::new();
    place.stand.lists("");
    place.stand.cache();
    fs::remove_file(place.stand.at("/var/cache/apt/archives/pier_2.0_all.deb")).unwrap();
    let done = fill(&place.with(place.stand.offline()), true);
    assert_eq!((done.added.len(), done.refused.len()), (1, 1));
    assert_eq!(done.refused[0].package.name, "pier");
    // What no repository verifies is not taken, however it is there.
    place.stand.cache();
    fs::remove_dir_all(place.stand.at("/var/lib/apt/lists")).unwrap();
    let done = fill(&place.with(place.stand.offline()), true);
    assert_eq!((done.known, done.added.len()), (1, 0));
    assert!(done.refused[0].why.contains("no repository lists it"), "{:?}", done.refused);
}

#[test]
fn a_package_that_is_not_the_signed_one_is_never_taken() {
    let place = Place::new();
    place.stand.lists("");
    place.stand.cache();
    let cached = place.stand.at("/var/cache/apt/archives/pier_2.0_all.deb");
    let mut bytes = fs::read(&cached).unwrap();
    let last = bytes.len() - 1;
    bytes[last] ^= 1;
    fs::write(&cached, bytes).unwrap();
    let done = fill(&place.with(place.stand.offline()), true);
    assert_eq!((done.added.len(), done.failed.len()), (1, 1), "{done:#?}");
    assert!(done.failed[0].0.contains("pier"));
    assert_eq!(names(&place.store("mine").join("filled")).len(), 1);
}

#[test]
fn no_is_an_answer_and_a_stop_loses_nothing_that_was_whole() {
    struct StopAt(std::sync::atomic::AtomicI64);
    impl Observer for StopAt {
        fn on_event(&self, event: Event<'_>) -> Flow {
            let one = matches!(event, Event::Advance { items: 1, .. });
            let left = self.0.fetch_sub(i64::from(one), std::sync::atomic::Ordering::Relaxed);
            if left <= 0 { Flow::Stop } else { Flow::Continue }
        }
    }
    let place = Place::new();
    place.stand.lists("");
    place.stand.cache();
    let settings = place.with(place.stand.offline());
    let mut asked = 0;
    let no = open(&settings)
        .fill_installed(true, false, &NoObserver, &mut |report| {
            asked += 1;
            assert_eq!(report.available, 2);
            Agreement::No
        })
        .unwrap();
    assert!(asked == 1 && no.plan_only && names(&place.store("mine").join("filled")).is_empty());
    for after in 0..6 {
        let stop = StopAt(after.into());
        let _ = open(&settings).fill_installed(true, false, &stop, &mut |_| Agreement::Yes);
    }
    fill(&settings, true);
    place.sign("mine");
    let whole = Scope::only(STORE);
    let report = open(&settings).check(&whole, &NoObserver).unwrap();
    assert_eq!((report.outcome, report.notes.len()), (Outcome::Ok, 0), "{report:#?}");
}

#[test]
fn a_store_without_contents_verifies_and_packages_give_what_it_lacks() {
    let place = Place::new();
    place.stand.lists("");
    place.stand.cache();
    let settings = place.with(place.stand.offline());
    fill(&settings, false);
    place.sign("mine");
    let whole = Scope::only(STORE);
    assert_eq!(open(&settings).check(&whole, &NoObserver).unwrap().outcome, Outcome::Ok, "nothing is missing");
    let sound = check(&settings);
    assert_eq!(
        (sound.outcome, sound.area(DATABASE).unwrap().verified_by.keys().copied().collect::<Vec<_>>()),
        (Outcome::Ok, vec![Authority::Store])
    );
    fs::write(place.stand.at("/usr/share/quay/part-0"), "wrong\n").unwrap();
    fs::remove_dir_all(place.stand.at("/usr/share/pier")).unwrap();
    let done = repair(&settings);
    assert_eq!(files_of(&done).repaired, 2, "{:#?}", files_of(&done).remaining);
    // Without packages, over the network; with neither it is left.
    fs::remove_dir_all(place.stand.at("/var/cache/apt/archives")).unwrap();
    fs::write(place.stand.at("/usr/share/quay/part-0"), "wrong\n").unwrap();
    let left = repair(&settings);
    assert_eq!((files_of(&left).repaired, files_of(&left).remaining.len()), (0, 1));
    let online = place.with(place.stand.settings());
    assert_eq!(check(&online).downloads.len(), 1);
    assert_eq!(files_of(&repair(&online)).repaired, 1);
    // Filled again with contents, it gives them itself.
    place.stand.cache_folder();
    place.stand.cache();
    let filled = fill(&settings, true);
    assert_eq!((filled.added.len(), filled.known), (2, 0));
    place.sign("mine");
    fs::remove_dir_all(place.stand.at("/var/cache/apt/archives")).unwrap();
    fs::write(place.stand.at("/usr/share/quay/part-0"), "wrong\n").unwrap();
    assert_eq!(files_of(&repair(&settings)).repaired, 1);
}

#[test]
fn one_store_takes_over_from_another_and_nothing_damaged() {
    let place = Place::new();
    place.stand.lists("");
    place.stand.cache();
    fill(&place.with(place.stand.offline()), true);
    place.sign("mine");
    place.make("second");
    let second = place.second();
    // A content that is damaged there keeps its package out, and is reported.
    let object = names(&place.store("mine").join("objects"))
        .into_iter()
        .map(|folder| place.store("mine").join("objects").join(folder))
        .flat_map(|folder| fs::read_dir(folder).unwrap().flatten().map(|e| e.path()))
        .min_by_key(|path| fs::metadata(path).unwrap().len())
        .unwrap();
    let right = fs::read(&object).unwrap();
    fs::write(&object, "rubbish").unwrap();
    let part = open(&second).fill_from_stores(true, &NoObserver).unwrap();
    assert!(part.refused.len() == 1 && part.added.len() == 1, "{part:#?}");
    fs::write(&object, right).unwrap();
    let rest = open(&second).fill_from_stores(true, &NoObserver).unwrap();
    assert_eq!((rest.added.len(), rest.known, rest.refused.len()), (1, 1, 0));
    place.sign("second");
    let pins = Pins::in_folder(&place.stand.trust());
    let opened = Store::open(
        &place.store("second").into(),
        &pins,
        &Reach::folders_only(place.stand.world.scratch()),
        jiff::Timestamp::UNIX_EPOCH,
    )
    .unwrap();
    assert_eq!(opened.packages().count(), 2);
    let whole = Scope::only(STORE);
    assert_eq!(open(&second).check(&whole, &NoObserver).unwrap().outcome, Outcome::Ok);
}

#[test]
fn installed_packages_come_from_another_store_first() {
    let place = Place::new();
    place.stand.lists("");
    place.stand.cache();
    fill(&place.with(place.stand.offline()), true);
    place.sign("mine");
    place.make("second");
    fs::remove_dir_all(place.stand.at("/var/cache/apt/archives")).unwrap();
    let second = place.second();
    let done = fill(&second, true);
    assert_eq!((done.from_stores, done.added.len(), done.refused.len()), (2, 2, 0));
}

#[test]
fn a_manifest_is_restored_to_a_store_without_contents_and_brings_none() {
    let place = Place::new();
    place.stand.lists("");
    place.stand.cache();
    let settings = place.with(place.stand.offline());
    fill(&settings, false);
    place.sign("mine");
    let objects = || {
        let folders = names(&place.store("mine").join("objects"));
        folders.iter().map(|f| names(&place.store("mine").join("objects").join(f)).len()).sum::<usize>()
    };
    let before = objects();
    let folder = place.store("mine").join("manifests");
    let folder = folder.join(&names(&folder)[0]);
    fs::write(folder.join(&names(&folder)[0]), "rubbish").unwrap();
    let whole = Scope::only(STORE);
    let done = open(&settings).repair(&whole, &NoObserver, &mut |_| Agreement::Yes).unwrap();
    assert_eq!(
        (done.area(STORE).unwrap().repaired, done.area(STORE).unwrap().remaining.len()),
        (1, 0),
        "{:#?}",
        done.area(STORE).unwrap()
    );
    let report = open(&settings).check(&whole, &NoObserver).unwrap();
    assert_eq!((report.outcome, report.notes.len(), objects()), (Outcome::Ok, 0, before));
}
