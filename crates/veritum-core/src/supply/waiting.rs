//! Updates that the lists at hand offer.

use std::collections::HashSet;

use super::Supply;
use crate::archive::Archive;
use crate::model::ComponentId;
use crate::platform::InstallState;
use crate::platform::debian::compare_versions;
use crate::platform::debian::database::Stanza;

/// Updates that the lists at hand know of.
#[derive(Debug, Clone, Default)]
pub struct Waiting {
    /// How many.
    pub updates: u64,
    /// How many of them for security.
    pub security: u64,
    /// Their packages' bytes.
    pub bytes: u64,
    /// Which.
    pub ids: Vec<ComponentId>,
}

impl Supply<'_> {
    /// What the lists at hand offer beyond what is installed.
    pub fn waiting(&self, archive: &Archive) -> Waiting {
        let mut waiting = Waiting::default();
        let is_held = |entry: &&Stanza| entry.get("Status").is_some_and(|s| s.starts_with("hold "));
        let held: HashSet<(String, String)> = self.system.database.stanzas().filter(is_held).map(Stanza::key).collect();
        for component in self.system.installed.components.iter().filter(|c| c.install_state == InstallState::Installed)
        {
            let id = &component.id;
            if held.contains(&(id.name.clone(), id.arch.clone())) {
                continue;
            }
            let newer = archive.table().offered(id).filter(|newest| compare_versions(newest, &id.version).is_gt());
            let Some(newer) = newer.and_then(|version| ComponentId::new(&id.name, version, &id.arch).ok()) else {
                continue;
            };
            // What lies in a folder that the operator named is no update that the machine would get.
            if archive.offered_by(&newer).all(|open| open.named) {
                continue;
            }
            waiting.updates += 1;
            waiting.bytes += archive.table().sums_of(&newer).first().map_or(0, |sum| sum.size);
            let security = archive.offered_by(&newer).any(|open| open.source.is_security());
            waiting.security += u64::from(security);
            waiting.ids.push(newer);
        }
        waiting
    }
}
