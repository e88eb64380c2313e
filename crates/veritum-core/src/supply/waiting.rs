//! Available updates, by the available lists.

use std::collections::HashSet;

use super::Supply;
use crate::model::PackageId;
use crate::platform::InstallState;
use crate::platform::debian::compare_versions;
use crate::platform::debian::database::Stanza;
use crate::repository::Repositories;

/// Available updates, by the available lists.
#[derive(Debug, Clone, Default)]
pub struct Waiting {
    /// Their number.
    pub updates: u64,
    /// The number of security updates.
    pub security: u64,
    /// The size of their packages in bytes.
    pub bytes: u64,
    /// The ids.
    pub ids: Vec<PackageId>,
}

impl Supply<'_> {
    /// The available versions newer than the installed ones.
    pub fn waiting(&self, repositories: &Repositories) -> Waiting {
        let mut waiting = Waiting::default();
        let is_held = |entry: &&Stanza| entry.get("Status").is_some_and(|s| s.starts_with("hold "));
        let held: HashSet<(String, String)> = self.system.database.stanzas().filter(is_held).map(Stanza::key).collect();
        for package in self.system.installed.packages.iter().filter(|c| c.install_state == InstallState::Installed) {
            let id = &package.id;
            if held.contains(&(id.name.clone(), id.arch.clone())) {
                continue;
            }
            let newer = repositories.table().offered(id).filter(|newest| compare_versions(newest, &id.version).is_gt());
            let Some(newer) = newer.and_then(|version| PackageId::new(&id.name, version, &id.arch).ok()) else {
                continue;
            };
            // A package in a folder that the administrator named is not an update for the machine.
            if repositories.offered_by(&newer).all(|open| open.named) {
                continue;
            }
            waiting.updates += 1;
            waiting.bytes += repositories.table().sums_of(&newer).first().map_or(0, |sum| sum.size);
            let security = repositories.offered_by(&newer).any(|open| open.source.is_security());
            waiting.security += u64::from(security);
            waiting.ids.push(newer);
        }
        waiting
    }
}
