//! [`Ids`]: the ids of users or groups of then, as ids of now.

use std::collections::{BTreeMap, HashMap, HashSet};

/// Ids below this belong to the system (Debian Policy 9.2.2).
const FIRST_LOGIN: u32 = 1000;
/// Ids for system users that get a new one (Debian Policy 9.2.2).
const SYSTEM_IDS: std::ops::RangeInclusive<u32> = 100..=999;
/// The id for what no account owns (Debian Policy 9.2.2).
pub(super) const UNOWNED: u32 = 65534;

/// Names and ids of users or of groups, then and now.
#[derive(Debug)]
pub(super) struct Ids {
    then: HashMap<u32, Vec<u8>>,
    then_by_name: HashMap<Vec<u8>, u32>,
    now: HashMap<u32, Vec<u8>>,
    now_by_name: HashMap<Vec<u8>, u32>,
    /// Names to add again, each with its id.
    pub(super) again: BTreeMap<Vec<u8>, u32>,
}

impl Ids {
    pub(super) fn new(then: HashMap<u32, Vec<u8>>, now: HashMap<u32, Vec<u8>>) -> Self {
        let by_name = |ids: &HashMap<u32, Vec<u8>>| ids.iter().map(|(id, name)| (name.clone(), *id)).collect();
        let (then_by_name, now_by_name) = (by_name(&then), by_name(&now));
        Self { then, then_by_name, now, now_by_name, again: BTreeMap::new() }
    }

    /// The id of now for an id of then. A system user or group that is missing is to be added again: with its id, or with
    /// another one where another account has it now. Where another account has a missing person's id now, it becomes that of no account,
    /// unless the place has that id now, too: nothing of one account may become another's.
    pub(super) fn translated_at(&mut self, id: u32, now_there: Option<u32>) -> u32 {
        let Some(name) = self.then.get(&id) else { return id };
        if let Some(now) = self.now_by_name.get(name).or_else(|| self.again.get(name)) {
            return *now;
        }
        let is_free = !self.now.contains_key(&id);
        if id >= FIRST_LOGIN {
            return if is_free || now_there == Some(id) { id } else { UNOWNED };
        }
        let new = if is_free { Some(id) } else { self.free() };
        if let Some(new) = new {
            self.again.insert(name.clone(), new);
        }
        new.unwrap_or(UNOWNED)
    }

    /// The same, wherever it is for.
    pub(super) fn translated(&mut self, id: u32) -> u32 {
        self.translated_at(id, None)
    }

    /// Has a system user or group added again by its name.
    pub(super) fn need(&mut self, name: &[u8]) {
        if let Some(id) = self.then_by_name.get(name) {
            let _ = self.translated(*id);
        }
    }

    /// The system's names of then that are missing now.
    pub(super) fn missing(&self) -> impl Iterator<Item = &[u8]> {
        let is_missing = |(name, id): &(&Vec<u8>, &u32)| **id < FIRST_LOGIN && !self.now_by_name.contains_key(*name);
        self.then_by_name.iter().filter(is_missing).map(|(name, _)| name.as_slice())
    }

    fn free(&self) -> Option<u32> {
        let taken: HashSet<u32> = self.again.values().copied().collect();
        SYSTEM_IDS
            .into_iter()
            .find(|id| ![&self.then, &self.now].iter().any(|ids| ids.contains_key(id)) && !taken.contains(id))
    }
}

/// Whether a text contains a name as a word of its own.
pub(super) fn names(text: &[u8], name: &[u8]) -> bool {
    let is_part = |byte: Option<&u8>| byte.is_some_and(|byte| byte.is_ascii_alphanumeric() || b"_-.".contains(byte));
    memchr::memmem::find_iter(text, name).any(|at| {
        !is_part(at.checked_sub(1).and_then(|before| text.get(before))) && !is_part(text.get(at + name.len()))
    })
}

#[cfg(test)]
mod tests {
    use super::*;

    fn ids(list: &[(u32, &str)]) -> HashMap<u32, Vec<u8>> {
        list.iter().map(|(id, name)| (*id, name.as_bytes().to_vec())).collect()
    }

    #[test]
    fn an_id_is_translated_by_its_name_and_a_free_one_is_used_again() {
        let then = ids(&[(0, "root"), (101, "pier"), (102, "quay"), (1001, "mirela"), (1002, "oskar")]);
        let now = ids(&[(0, "root"), (110, "quay"), (1001, "tamsin")]);
        let mut ids = Ids::new(then, now);
        let translated: Vec<u32> = [0, 101, 102, 1001, 1002, 999].map(|id| ids.translated(id)).to_vec();
        assert_eq!(translated, [0, 101, 110, UNOWNED, 1002, 999], "nothing of one person becomes another's");
        assert_eq!(ids.translated_at(1001, Some(1001)), 1001, "it has that place already, or the account was renamed");
        assert_eq!(ids.again, [(b"pier".to_vec(), 101)].into());
    }

    #[test]
    fn a_missing_system_user_whose_id_is_taken_gets_a_new_one() {
        let mut ids = Ids::new(ids(&[(100, "rig"), (101, "keel")]), ids(&[(100, "boat")]));
        assert_eq!(ids.translated(100), 102, "not that of another one of then");
        assert_eq!((ids.translated(100), ids.translated(101)), (102, 101));
        assert_eq!(ids.missing().count(), 2);
        ids.need(b"rig");
        ids.need(b"boat");
        assert_eq!(ids.again.len(), 2);
    }

    #[test]
    fn a_name_is_found_as_a_word_only() {
        assert!(names(b"User=rig\n", b"rig") && names(b"rig", b"rig") && names(b"\"rig\"", b"rig"));
        assert!(!names(b"right rigs a-rig rig.conf", b"rig") && !names(b"", b"rig"));
    }
}
