//! Recovery of lost or wrong entries of dpkg's status file from earlier copies and the package log.

use std::collections::{HashMap, HashSet};

use super::{Database, Earlier, Key, Piece, Recovered, Stanza, earlier_copies};
use crate::machine::Machine;
use crate::platform::LogKind;
use crate::platform::debian::log;

/// The number of log entries that are searched for versions that no copy has.
const MAX_HAPPENINGS: usize = 20_000;

impl Database {
    /// Corrects entries that mark a package as removed: dpkg deletes a package's digests with its files.
    pub(super) fn revive(&mut self, machine: &Machine) {
        let mut contradicted = Vec::new();
        for (at, piece) in self.pieces.iter().enumerate() {
            let Ok(stanza) = &piece.read else { continue };
            let is_removed =
                matches!(stanza.state(), "config-files" | "not-installed") && stanza.get("Version").is_some();
            if !is_removed {
                continue;
            }
            let (name, arch) = stanza.key();
            let others = || self.stanzas().filter(|s| s.name() == name).count() > 1;
            let mut stems = vec![format!("{name}:{arch}")];
            if !others() {
                stems.push(name.clone());
            }
            if self.is_still_there(machine, stanza, &stems) || self.logged.contains_key(&(name.clone(), arch.clone())) {
                contradicted.push(at);
            }
        }
        if contradicted.is_empty() {
            return;
        }
        let copies: Vec<Vec<Stanza>> = earlier_copies(machine, "status").iter().map(Earlier::stanzas).collect();
        for at in contradicted {
            let Ok(stanza) = &self.pieces[at].read else { continue };
            let key = stanza.key();
            let before = copies.iter().flatten().find(|s| s.key() == key && s.state() == "installed");
            let status = before.and_then(|s| s.get("Status")).unwrap_or("install ok installed");
            if let Some(stanza) = stanza.with_status(status) {
                self.pieces[at] = Piece { read: Ok(stanza) };
                self.revived.push(key);
            }
        }
    }

    /// The stems with records that no entry names.
    pub(super) fn unnamed(&self) -> Vec<String> {
        let mut named: HashMap<&str, Vec<&str>> = HashMap::new();
        for stanza in self.stanzas() {
            named.entry(stanza.name()).or_default().push(stanza.get("Architecture").unwrap_or_default());
        }
        let is_named = |stem: &str| match stem.split_once(':') {
            Some((name, arch)) => named.get(name).is_some_and(|archs| archs.contains(&arch)),
            None => named.contains_key(stem),
        };
        // Only a script for purging is left of a removed package.
        let records = self.info.iter().filter(|(_, suffixes)| suffixes.has_more_than(&["postrm"]));
        records.map(|(stem, _)| stem).filter(|stem| !is_named(stem)).cloned().collect()
    }

    /// Searches earlier copies for lost entries, newest first.
    pub(super) fn recover(&mut self, machine: &Machine, unnamed: &[String]) {
        let copies = earlier_copies(machine, "status");
        let copies: Vec<Vec<Stanza>> = copies.iter().map(Earlier::stanzas).collect();
        let entries = log::recent(machine, MAX_HAPPENINGS);
        let states = log::states(machine);
        let mut latest: HashMap<(&str, &str), &crate::platform::LogEntry> = HashMap::new();
        for entry in &entries {
            latest.entry((&entry.name, &entry.arch)).or_insert(entry);
        }
        let mut known: HashSet<Key> = self.stanzas().map(Stanza::key).collect();
        let mut take = |this: &mut Self, stanza: &Stanza, certain: bool| {
            let key = stanza.key();
            let last = latest.get(&(key.0.as_str(), key.1.as_str())).copied();
            let removed = last.is_some_and(|h| h.what == LogKind::Removed);
            if known.contains(&key) || removed && !certain {
                return false;
            }
            known.insert(key.clone());
            let version = stanza.get("Version");
            let later = last.filter(|_| !removed).and_then(|h| h.to.clone()).filter(|to| Some(to.as_str()) != version);
            // A copy is one step behind: the log shows how far that step got.
            let state = states
                .get(&key)
                .filter(|(_, version)| Some(version.as_str()) == later.as_deref().or(stanza.get("Version")));
            let stanza = state.and_then(|(state, _)| stanza.in_state(state)).unwrap_or_else(|| stanza.clone());
            this.recovered.push(Recovered { stanza, later });
            true
        };
        for stem in unnamed {
            let of = |s: &Stanza| s.name() == stem || format!("{}:{}", s.name(), s.key().1) == *stem;
            let found = copies.iter().find_map(|all| all.iter().find(|s| of(s)));
            match found {
                Some(stanza) => {
                    take(self, stanza, true);
                }
                None => self.lost.push(stem.clone()),
            }
        }
        if self.is_damaged() {
            // If even the lists are gone, the newest readable copy shows which packages there were.
            for stanza in copies.first().into_iter().flatten() {
                take(self, stanza, false);
            }
        }
    }
}
