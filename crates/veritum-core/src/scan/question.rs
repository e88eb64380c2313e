//! A question about a home: asked by whoever knows the card, answered by a process with the rights of the home's owner.

use serde::{Deserialize, Serialize};

use super::home::{HomeCase, belongings};
use crate::apps::{Bases, Card, RawCard};
use crate::model::SystemPath;
use crate::target::Dir;

/// More files of variables are not read.
const MAX_VARIABLES: usize = 200;
/// Larger ones are not.
const MAX_BYTES: u64 = 64 << 10;

/// A question about a home, as it is handed to who may look into it.
#[derive(Debug, Serialize, Deserialize)]
pub struct HomeQuestion {
    /// The application's card.
    pub card: RawCard,
    /// The home as the system names it: so the user's own files of variables may name it.
    pub home: SystemPath,
    /// Whose home it is.
    pub owner: u32,
    /// More names than this are not looked at.
    pub most: u64,
}

/// Where the user has put the base directories, by the files of variables that a session reads (environment.d(5)).
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

/// Answers a question about the home that is open.
///
/// # Errors
/// When the question is none.
pub fn answer(home: &Dir, question: &str) -> Result<String, Box<dyn std::error::Error>> {
    let HomeQuestion { card, home: named, owner, most } = serde_json::from_str(question)?;
    let card = Card::of_raw(card)?;
    let bases = bases(home, &named);
    let found = belongings(home, &HomeCase { card: &card, bases: &bases, owner, most });
    Ok(serde_json::to_string(&found)?)
}

#[cfg(test)]
mod tests {
    use std::fs;
    use std::os::unix::fs::MetadataExt as _;
    use std::sync::Arc;

    use super::super::home::Belongings;
    use super::*;
    use crate::apps::example::QUAY;
    use crate::target::{LiveDisk, Machine};

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
        let question = HomeQuestion { card: card.raw(), home: SystemPath::literal("/home/mirela"), owner, most: 1000 };
        let question = serde_json::to_string(&question).unwrap();
        let asked = || serde_json::from_str::<Belongings>(&answer(&dir, &question).unwrap()).unwrap();
        let looked = belongings(&dir, &HomeCase { card: &card, bases: &Bases::default(), owner, most: 1000 });
        assert_eq!(asked(), looked);
        assert_eq!(looked.tops, [(crate::apps::Class::Cache, b".cache/quay".to_vec())]);
        put(".config/environment.d/place.conf", "XDG_CACHE_HOME=/home/mirela/.mine\n");
        assert_eq!(asked().tops, [(crate::apps::Class::Cache, b".mine/quay".to_vec())]);
        assert!(answer(&dir, "{}").is_err());
    }
}
