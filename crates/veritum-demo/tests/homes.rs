//! Random homes and cards: an application runs, its user works, things are reset and undone, cut off and recovered, in any
//! order. Whatever comes: what is the user's own stays where it is, and nothing that anybody wrote is lost.

mod support;

use std::collections::{BTreeMap, BTreeSet};
use std::fs;
use std::sync::Arc;

use support::open;
use support::test_home::{TestHome, tree};
use veritum_core::event::NoObserver;
use veritum_core::machine::{Disk, LiveDisk};
use veritum_core::testkit::{Accident, TestDisk, Tree};
use veritum_core::work::{Agreement, Engine, Only, ResetWanted, Settings, WorkError};
use veritum_demo::Seed;
use veritum_demo::test_home::texts;

const CLASSES: [&str; 6] = ["settings", "cache", "state", "locks", "add-ons", "own"];
/// Places of cards, with where they lie in a home.
const PLACES: [(&str, &str); 10] = [
    ("{config}/quay", ".config/quay"),
    ("{config}/quay/a", ".config/quay/a"),
    ("{config}/quay/*/b", ".config/quay/*/b"),
    ("{cache}/quay", ".cache/quay"),
    ("{cache}/quay/b", ".cache/quay/b"),
    ("~/.quay", ".quay"),
    ("~/.quay/*", ".quay/*"),
    ("~/.quay/a", ".quay/a"),
    ("~/.quay/*/a", ".quay/*/a"),
    ("{data}/quay/a", ".local/share/quay/a"),
];
const TOPS: [&str; 6] = [".config/quay", ".cache/quay", ".quay", ".local/share/quay", ".config", "Documents"];
const NAMES: [&str; 5] = ["a", "b", "c", "letter.odt", "deep"];

struct Story {
    here: TestHome,
    seed: Seed,
    /// Places of the card with their classes.
    card: Vec<(Vec<&'static str>, &'static str)>,
    /// What is the user's own, by path.
    own: BTreeMap<String, String>,
    told: Vec<String>,
}

impl Story {
    fn new(number: u64) -> Self {
        let mut seed = Seed::new(number, "homes");
        let here = TestHome::empty();
        let mut text =
            "format = \"veritum.card/1\"\nname = \"Quay\"\nentries = [\"quay\"]\nprograms = [\"quay\"]\n".to_owned();
        let mut card = Vec::new();
        for (place, lies) in PLACES {
            if seed.below(3) == 0 && !card.is_empty() {
                continue;
            }
            let class = CLASSES[seed.below(CLASSES.len() as u64) as usize];
            text.push_str(&format!("[[part]]\nis = \"{class}\"\nplaces = [\"{place}\"]\n"));
            card.push((lies.split('/').collect(), class));
        }
        fs::write(here.cards().join("quay.toml"), text).unwrap();
        Self { here, seed, card, own: BTreeMap::new(), told: vec![format!("story {number}")] }
    }

    /// What a file is, by an own reading of the card.
    fn is_own(&self, path: &str) -> bool {
        let names: Vec<&str> = path.split('/').collect();
        let fits = |place: &&(Vec<&str>, &str)| {
            place.0.len() <= names.len() && place.0.iter().zip(&names).all(|(own, name)| *own == "*" || own == name)
        };
        let depth = self.card.iter().filter(fits).map(|(place, _)| place.len()).max();
        let at_depth = self.card.iter().filter(fits).filter(|(place, _)| Some(place.len()) == depth);
        // Of equals the user's own counts.
        path.ends_with(".odt") || depth.is_none() || at_depth.clone().any(|(_, class)| *class == "own")
    }

    fn settings(&self) -> Settings {
        let now = jiff::Timestamp::from_second(veritum_demo::NOW + 60 * self.told.len() as i64).unwrap();
        Settings { run: format!("run {}", self.told.len()), now, ..self.here.settings() }
    }

    /// A person writes: the application or its user, whose it is says the place.
    fn write(&mut self) {
        let mut path = self.seed.pick(&TOPS).to_owned();
        for _ in 0..=self.seed.below(3) {
            path = format!("{path}/{}", self.seed.pick(&NAMES));
        }
        let text = format!("written {}", self.seed.number());
        if self.here.put(&path, &text).is_err() {
            return;
        }
        self.told.push(format!("write {path}"));
        if self.is_own(&path) {
            self.own.insert(path, text);
        }
    }

    fn wanted(&mut self) -> ResetWanted {
        let only = [None, None, Some(Only::Cache), Some(Only::Settings), Some(Only::AddOns)];
        ResetWanted { only: only[self.seed.below(5) as usize], ..ResetWanted::default() }
    }

    fn disk(&mut self) -> (Arc<dyn Disk>, &'static str) {
        let n = self.seed.below(90) as usize;
        match self.seed.below(4) {
            0 => (Arc::new(TestDisk::new(Accident::Cut(n))), "cut"),
            1 => (Arc::new(TestDisk::new(Accident::Fail(n, 5))), "failing"),
            _ => (Arc::new(LiveDisk), "sound"),
        }
    }

    /// One step; everything that may go wrong must leave things as they are, or be recovered.
    fn step(&mut self) {
        let begun = tree(&self.here.home());
        let (disk, how) = self.disk();
        let settings = self.settings();
        let engine = || Engine::open(settings.clone(), disk.clone());
        match self.seed.below(6) {
            0..=2 => self.write(),
            3 | 4 => {
                let wanted = self.wanted();
                self.told.push(format!("reset {:?} on a {how} disk", wanted.only));
                let _ = engine().and_then(|w| w.reset("quay", &wanted, false, &NoObserver, &mut |_| Agreement::Yes));
                // Now and then it is undone at once: then all is as it was.
                let at_once = self.seed.below(3) == 0 && how == "sound";
                if at_once
                    && open(&settings).list_changes().unwrap().changes.last().is_some_and(|c| c.state.word() == "done")
                {
                    self.roll_back_at_once(&settings, &begun);
                }
            }
            _ => {
                let changes = open(&settings).list_changes().unwrap().changes;
                let number = changes.get(self.seed.below(changes.len() as u64 + 1) as usize).map(|c| c.change);
                self.told.push(format!("undo {number:?} on a {how} disk"));
                let _ = engine().and_then(|w| w.undo(number, false, &NoObserver, &mut |_| Agreement::Yes));
            }
        }
        for _ in 0..2 {
            open(&settings).recover(&NoObserver).unwrap_or_else(|e| panic!("{e:?}\n{}", self.told.join("\n")));
        }
    }

    fn roll_back_at_once(&mut self, settings: &Settings, begun: &Tree) {
        let last = open(settings).list_changes().unwrap().changes.last().unwrap().clone();
        if last.of.is_some() || last.started != settings.now.to_string() {
            return;
        }
        self.told.push(format!("undo {} at once", last.change));
        let done = open(settings).undo(Some(last.change), false, &NoObserver, &mut |_| Agreement::Yes);
        match done {
            Err(WorkError::Unknown { .. }) => {}
            other => {
                other.unwrap();
                let differences = begun.differences(&tree(&self.here.home()));
                assert!(differences.is_empty(), "{}\n--\n{}", differences.join("\n"), self.told.join("\n"));
            }
        }
    }

    /// The user's own is where it was, and whatever anybody wrote is somewhere.
    fn holds(&self, before: &BTreeSet<String>) {
        for (path, text) in &self.own {
            let found = fs::read_to_string(self.here.home().join(path));
            assert!(found.as_ref().is_ok_and(|found| found == text), "{path}: {found:?}\n{}", self.told.join("\n"));
        }
        let now = texts(&self.here.home());
        let lost: Vec<_> = before.difference(&now).collect();
        assert!(lost.is_empty(), "lost: {lost:?}\n{}", self.told.join("\n"));
    }
}

#[test]
fn whatever_comes_the_users_own_stays_where_it_is_and_nothing_is_lost() {
    let mut moved = 0;
    for number in 0..40 {
        let mut story = Story::new(number);
        for _ in 0..8 {
            story.write();
        }
        for _ in 0..14 {
            let before = texts(&story.here.home());
            let told = story.told.len();
            story.step();
            if !story.told[told..].iter().any(|what| what.starts_with("write")) {
                story.holds(&before);
            }
        }
        let changes = open(&story.settings()).list_changes().unwrap().changes;
        moved += changes.iter().map(|change| change.places).sum::<u64>();
    }
    assert!(moved > 100, "only {moved} things were moved");
}
