//! Test helpers for examining a home.

use std::fs;
use std::os::unix::fs::MetadataExt as _;
use std::path::Path;
use std::sync::Arc;

use super::home::{Choice, HomeCase};
use crate::apps::example::QUAY;
use crate::apps::{Bases, Card};
use crate::machine::{Dir, LiveDisk, Machine};
use crate::model::SystemPath;

/// Writes a file of a home.
pub(super) fn put(home: &Path, path: &str, text: &str) {
    let path = home.join(path);
    fs::create_dir_all(path.parent().unwrap()).unwrap();
    fs::write(path, text).unwrap();
}

/// Examines an application's data in a home.
pub(super) fn with_quay<T>(home: &Path, choice: &Choice, look: &dyn Fn(&Dir, &HomeCase<'_>) -> T) -> T {
    let machine = Machine::open(home, Arc::new(LiveDisk)).unwrap();
    let dir = machine.dir(&SystemPath::root()).unwrap();
    let (card, bases) = (Card::parse(QUAY).unwrap(), Bases::default());
    let owner = fs::metadata(home).unwrap().uid();
    look(&dir, &HomeCase { card: &card, bases: &bases, owner, most: 1000, choice })
}
