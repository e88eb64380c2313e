//! The chain of trust from a content to a key.

use super::Supply;
use crate::model::{Authority, PackageId, SystemPath};
use crate::reference::ExpectedKind;
use crate::report::ChainLink;
use crate::store::Store;

impl Supply<'_> {
    /// The chain from an expected file of a package to the key that verifies it.
    pub fn chain(
        &self,
        package: &PackageId,
        want: &ExpectedKind,
        authority: Authority,
        path: &SystemPath,
    ) -> Vec<ChainLink> {
        let link = |what: &str, name: String| ChainLink { what: what.into(), name };
        if authority == Authority::Local {
            return vec![link("local package database entry of", package.name.clone())];
        }
        let mut chain = Vec::new();
        if let ExpectedKind::File { digest, .. } = want {
            chain.push(link("content", digest.to_hex()));
        } else {
            chain.push(link("entry", path.to_string()));
        }
        if authority == Authority::Repository {
            chain.extend(self.repository_chain(package).into_iter().map(|(what, name)| link(what, name)));
            return chain;
        }
        let Some(store) = self.open.stores.iter().find(|s| s.has(package)) else { return chain };
        if let Some(entry) = store.packages().find(|e| e.package == *package) {
            chain.push(link("manifest of the package", entry.manifest.to_hex()));
            chain.push(link("from the .deb file with SHA-256", entry.deb.sha256.clone()));
        }
        chain.extend(signed_by(store));
        chain
    }
}

/// From a store's index to the trusted key.
pub fn signed_by(store: &Store) -> Vec<ChainLink> {
    let index = format!("{}, index version {}", store.location(), store.versions().timestamp);
    let index = ChainLink { what: "signed index of the store".into(), name: index };
    let keys = store.fingerprints().into_iter().map(|name| ChainLink { what: "key trusted by you".into(), name });
    std::iter::once(index).chain(keys).collect()
}
