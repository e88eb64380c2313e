//! Questions about a home: asked by the process that has the card, answered by a process with the rights of the home's owner.

use std::io;
use std::sync::{Arc, Mutex, PoisonError};

use serde::de::DeserializeOwned;
use serde::{Deserialize, Serialize};

use super::contents::{entries, small_files};
use super::home::{AppData, Choice, HomeCase, app_data, whole};
use super::inventory::{Inventory, InventoryQuestion};
use super::profile::{Profile, ProfileQuestion, profile};
use crate::apps::{Bases, Card, RawCard};
use crate::machine::Dir;
use crate::model::{SystemPath, packed, unpacked};
use crate::platform::as_owner::Owner;

/// Further environment files are not read.
const MAX_VARIABLES: usize = 200;
/// Larger environment files are not read.
const MAX_BYTES: u64 = 64 << 10;

/// A question about an open folder.
#[derive(Debug, Serialize, Deserialize)]
pub enum Question {
    /// The data of an application in this home: answered by [`AppData`].
    AppData(HomeQuestion),
    /// Whether everything of an object in this folder belongs to the application: answered by a boolean.
    Whole(WholeQuestion),
    /// Problems of an application's data in this home: answered by a [`Profile`](super::Profile).
    Profile(ProfileQuestion),
    /// The user data in this home: answered by an [`InventoryAnswer`](super::InventoryAnswer).
    Inventory(InventoryQuestion),
    /// The entries of this folder: answered by a list of [`FolderEntry`](super::FolderEntry).
    Entries,
    /// The contents of these small files of this folder: answered by a list of [`SmallFile`](super::SmallFile)s, as far as they can be read.
    SmallFiles(Vec<Vec<u8>>),
    /// The user's base directories, for a home of this name: answered by [`Bases`].
    Bases(SystemPath),
}

/// A request for an application's data in a home.
#[derive(Debug, Serialize, Deserialize)]
pub struct HomeQuestion {
    /// The application's card.
    pub card: RawCard,
    /// The home as the system names it: the user's environment files may use that name.
    pub home: SystemPath,
    /// The owner of the home.
    pub owner: u32,
    /// The limit of names.
    pub most: u64,
    /// The parts to move.
    pub choice: Choice,
    /// The application's id, if it is sandboxed with a home of its own.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub sandbox: Option<String>,
}

/// Whether an object belongs to the application with everything in it.
#[derive(Debug, Serialize, Deserialize)]
pub struct WholeQuestion {
    /// The application's card.
    pub card: RawCard,
    /// The base directories.
    pub bases: Bases,
    /// The owner of the home.
    pub owner: u32,
    /// The limit of names.
    pub most: u64,
    /// Its original path relative to the home.
    pub path: Vec<u8>,
    /// Its present name in the folder that the question concerns.
    pub name: Vec<u8>,
}

/// Answers questions about a home.
pub trait HomeAgent: Send + Sync + std::fmt::Debug {
    /// Answers a question about an open folder; both are encoded.
    ///
    /// # Errors
    /// When there is no answer.
    fn tell(&self, folder: &Dir, question: &[u8]) -> io::Result<Vec<u8>>;
}

/// A process with the owner's rights.
impl HomeAgent for Owner {
    fn tell(&self, folder: &Dir, question: &[u8]) -> io::Result<Vec<u8>> {
        self.ask(folder, question)
    }
}

/// This process, with its own rights.
impl HomeAgent for Mutex<HomeResponder> {
    fn tell(&self, folder: &Dir, question: &[u8]) -> io::Result<Vec<u8>> {
        let mut responder = self.lock().unwrap_or_else(PoisonError::into_inner);
        responder.answer(folder, question)
    }
}

/// Asks a question.
///
/// # Errors
/// When there is no answer, or its type is wrong.
pub fn ask<T: DeserializeOwned>(agent: &dyn HomeAgent, folder: &Dir, question: &Question) -> io::Result<T> {
    unpacked(&agent.tell(folder, &packed(question)?)?)
}

/// Answers questions, and keeps what later questions need.
#[derive(Debug, Default)]
pub struct HomeResponder {
    earlier: Option<Inventory>,
    /// The card of the last question: one change asks with the same card thousands of times.
    card: Option<(RawCard, Arc<Card>)>,
}

impl HomeResponder {
    /// Answers a question about the open folder.
    ///
    /// # Errors
    /// When the question is malformed.
    pub fn answer(&mut self, folder: &Dir, question: &[u8]) -> io::Result<Vec<u8>> {
        match unpacked(question)? {
            Question::AppData(question) => {
                let card = self.card(&question.card)?;
                packed(&kept_in(folder, question, &card))
            }
            Question::Whole(question) => {
                let card = self.card(&question.card)?;
                packed(&is_whole(folder, question, &card))
            }
            Question::Profile(question) => {
                let card = self.card(&question.card)?;
                packed(&looked_at(folder, question, &card))
            }
            Question::Entries => packed(&entries(folder)?),
            Question::SmallFiles(names) => packed(&small_files(folder, &names)),
            Question::Bases(home) => packed(&bases(folder, &home)),
            Question::Inventory(question) => packed(&question.answer(folder, &mut self.earlier)),
        }
    }

    fn card(&mut self, raw: &RawCard) -> io::Result<Arc<Card>> {
        if let Some((known, card)) = &self.card
            && known == raw
        {
            return Ok(card.clone());
        }
        let card = Arc::new(Card::of_raw(raw.clone()).map_err(io::Error::other)?);
        self.card = Some((raw.clone(), card.clone()));
        Ok(card)
    }
}

fn kept_in(home: &Dir, question: HomeQuestion, card: &Card) -> AppData {
    let HomeQuestion { home: named, owner, most, choice, sandbox, .. } = question;
    let bases = sandbox.map_or_else(|| bases(home, &named), |id| Bases::sandboxed(&id));
    app_data(home, &HomeCase { card, bases: &bases, owner, most, choice: &choice })
}

fn looked_at(home: &Dir, question: ProfileQuestion, card: &Card) -> Profile {
    let ProfileQuestion { home: named, owner, most, databases, sandbox, .. } = question;
    let bases = sandbox.map_or_else(|| bases(home, &named), |id| Bases::sandboxed(&id));
    let choice = Choice::default();
    profile(home, &HomeCase { card, bases: &bases, owner, most, choice: &choice }, databases)
}

fn is_whole(folder: &Dir, question: WholeQuestion, card: &Card) -> bool {
    let WholeQuestion { bases, owner, most, path, name, .. } = question;
    let choice = Choice::everything();
    whole(folder, &name, &path, &HomeCase { card, bases: &bases, owner, most, choice: &choice })
}

/// The user's base directories, from the environment files that a session reads (environment.d(5)).
fn bases(dir: &Dir, home: &SystemPath) -> Bases {
    let mut bases = Bases::default();
    let Ok(variables) = dir.disk().open_dir(dir.fd(), b".config/environment.d").map(|fd| dir.beside(fd)) else {
        return bases;
    };
    let mut names = variables.disk().list(variables.fd()).unwrap_or_default();
    names.retain(|(name, _)| name.ends_with(b".conf"));
    names.sort_by(|a, b| a.0.cmp(&b.0));
    for (name, _) in names.into_iter().take(MAX_VARIABLES) {
        if let Ok(file) = variables.read(&name, MAX_BYTES) {
            bases.take_variables(&file, home.as_bytes());
        }
    }
    bases
}

#[cfg(test)]
mod tests {
    use std::fs;
    use std::os::unix::fs::MetadataExt as _;
    use std::sync::Arc;

    use super::*;
    use crate::apps::Class;
    use crate::apps::example::QUAY;
    use crate::machine::{LiveDisk, Machine};

    #[test]
    fn a_question_is_answered_by_word_and_the_users_own_base_directories_are_found() {
        let home = tempfile::tempdir().unwrap();
        let home = home.path();
        let put = |path: &str, text: &str| {
            fs::create_dir_all(home.join(path).parent().unwrap()).unwrap();
            fs::write(home.join(path), text).unwrap();
        };
        put(".cache/quay/x", "1");
        put(".mine/quay/x", "22");
        let machine = Machine::open(home, Arc::new(LiveDisk)).unwrap();
        let dir = machine.dir(&SystemPath::root()).unwrap();
        let card = Card::parse(QUAY).unwrap();
        let owner = fs::metadata(home).unwrap().uid();
        let agent = Mutex::new(HomeResponder::default());
        let asked = || -> AppData {
            let home = SystemPath::literal("/home/mirela");
            let choice = Choice::everything();
            let question = HomeQuestion { card: card.raw(), home, owner, most: 1000, choice, sandbox: None };
            ask(&agent, &dir, &Question::AppData(question)).unwrap()
        };
        assert_eq!(asked().tops, [(Class::Cache, b".cache/quay".to_vec())]);
        put(".config/environment.d/place.conf", "XDG_CACHE_HOME=/home/mirela/.mine\n");
        let found = asked();
        assert_eq!(found.tops, [(Class::Cache, b".mine/quay".to_vec())]);
        assert!(agent.tell(&dir, b"\x80").is_err());
        let mine = dir.beside(dir.disk().open_dir(dir.fd(), b".mine").unwrap());
        let whole = |path: &[u8], name: &[u8]| -> bool {
            let (path, name, bases) = (path.to_vec(), name.to_vec(), found.bases.clone());
            let question = WholeQuestion { card: card.raw(), bases, owner, most: 1000, path, name };
            ask(&agent, &mine, &Question::Whole(question)).unwrap()
        };
        assert!(whole(b".mine/quay", b"quay") && !whole(b".other/quay", b"quay") && !whole(b".mine/quay", b"gone"));
        put(".mine/quay/letter.odt", "own");
        assert!(!whole(b".mine/quay", b"quay"));
    }
}
