//! [`ManifestSource`]: where verified manifests come from; and what is reported of a package while its part is gathered.

use std::sync::Arc;

use crate::model::{Authority, ContentHasher, Digest, Md5, PackageId};
use crate::platform::Package;
use crate::repository::Repositories;
use crate::store::{Contents, Manifest, Records, Store, StoreError};
use crate::trust::Verified;

/// Where verified manifests come from.
pub trait ManifestSource: Sync {
    /// The manifest of exactly this package.
    ///
    /// # Errors
    /// When the source has one and it is not the one that was signed.
    fn manifest(&self, id: &PackageId) -> Result<Option<Verified<Arc<Manifest>>>, StoreError>;

    /// What the package database should hold for the package of one of its manifests; none when it does not know.
    ///
    /// # Errors
    /// As for [`manifest`](Self::manifest).
    fn records(&self, of: &Verified<Arc<Manifest>>) -> Result<Option<Verified<Arc<Records>>>, StoreError>;

    /// The MD5 of one of its contents, when it is available.
    fn md5(&self, digest: &Digest, size: u64) -> Option<Md5>;

    /// Who answers for what it gives.
    fn authority(&self) -> Authority;
}

impl ManifestSource for Store {
    fn manifest(&self, id: &PackageId) -> Result<Option<Verified<Arc<Manifest>>>, StoreError> {
        Store::manifest(self, id)?.map(|m| m.derive(|m| Ok(Arc::new(m)))).transpose()
    }

    fn records(&self, of: &Verified<Arc<Manifest>>) -> Result<Option<Verified<Arc<Records>>>, StoreError> {
        let Some(records) = of.part(|m| &m.records).flipped() else { return Ok(None) };
        Ok(Some(Store::records(self, records)?.map(Arc::new)))
    }

    fn md5(&self, digest: &Digest, size: u64) -> Option<Md5> {
        let mut hasher = ContentHasher::md5();
        let mut take = |piece: &[u8]| {
            hasher.update(piece);
            Ok(())
        };
        self.copy(digest, size, &mut take).ok()?;
        hasher.finish().1
    }

    fn authority(&self) -> Authority {
        Authority::Store
    }
}

impl ManifestSource for Repositories {
    fn manifest(&self, id: &PackageId) -> Result<Option<Verified<Arc<Manifest>>>, StoreError> {
        Ok(Repositories::manifest(self, id))
    }

    fn records(&self, of: &Verified<Arc<Manifest>>) -> Result<Option<Verified<Arc<Records>>>, StoreError> {
        Ok(Repositories::records(self, &of.get().package))
    }

    fn md5(&self, _: &Digest, _: u64) -> Option<Md5> {
        None
    }

    fn authority(&self) -> Authority {
        Authority::Repository
    }
}

/// What a verified .deb file says of a package.
pub struct Described<'a> {
    /// Who answers for it.
    pub authority: Authority,
    /// Its manifest.
    pub manifest: &'a Manifest,
    /// What the package database should hold next to the list of paths; not every source knows.
    pub records: Option<&'a Records>,
    /// A shipped content's MD5, where it can be had.
    pub md5: &'a dyn Fn(&Digest, u64) -> Option<Md5>,
}

/// Judges something of each package while the reference is gathered: what describes it is available then.
pub trait PackageJudge: Sync {
    /// Judges the package at this position among those that are installed; `described` is what a verified .deb file says of
    /// it. Called from many threads.
    fn judge(&self, at: usize, package: &Package, described: Option<&Described<'_>>);
}
