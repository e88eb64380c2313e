//! The chain of trust, from a content to a key.

use super::Supply;
use crate::model::{Authority, ComponentId, SystemPath};
use crate::reference::ExpectedKind;
use crate::report::ChainLink;
use crate::store::Store;

impl Supply<'_> {
    /// The chain from an expected file of a component to the key that verifies it.
    pub fn chain(
        &self,
        component: &ComponentId,
        want: &ExpectedKind,
        authority: Authority,
        path: &SystemPath,
    ) -> Vec<ChainLink> {
        let link = |what: &str, name: String| ChainLink { what: what.into(), name };
        if authority == Authority::SelfReported {
            return vec![link("the machine's own record of", component.name.clone())];
        }
        let mut chain = Vec::new();
        if let ExpectedKind::File { digest, .. } = want {
            chain.push(link("content", digest.to_hex()));
        } else {
            chain.push(link("entry", path.to_string()));
        }
        if authority == Authority::Archive {
            chain.extend(self.archive_chain(component).into_iter().map(|(what, name)| link(what, name)));
            return chain;
        }
        let Some(store) = self.open.stores.iter().find(|s| s.has(component)) else { return chain };
        if let Some(entry) = store.components().find(|e| e.component == *component) {
            chain.push(link("manifest of the component", entry.manifest.to_hex()));
            chain.push(link("taken from the package with SHA-256", entry.package.sha256.clone()));
        }
        chain.extend(signed_by(store));
        chain
    }
}

/// From a store's index to the pinned key.
pub fn signed_by(store: &Store) -> Vec<ChainLink> {
    let index = format!("{}, signing {}", store.location(), store.versions().timestamp);
    let index = ChainLink { what: "signed index of the store".into(), name: index };
    let keys = store.fingerprints().into_iter().map(|name| ChainLink { what: "key pinned by you".into(), name });
    std::iter::once(index).chain(keys).collect()
}
