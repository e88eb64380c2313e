//! [`ManifestSource`]: sources of verified manifests, and judges that are called while a package's part is gathered.

use std::sync::Arc;

use crate::model::{Authority, ContentHasher, Digest, Md5, PackageId};
use crate::platform::Package;
use crate::repository::Repositories;
use crate::store::{Contents, Manifest, Records, Store, StoreError};
use crate::trust::Verified;

/// A source of verified manifests.
pub trait ManifestSource: Sync {
    /// The manifest of exactly this package.
    ///
    /// # Errors
    /// When the source has one and it differs from the signed one.
    fn manifest(&self, id: &PackageId) -> Result<Option<Verified<Arc<Manifest>>>, StoreError>;

    /// The expected entries of the package database for the package of one of its manifests; `None` if unknown.
    ///
    /// # Errors
    /// As for [`manifest`](Self::manifest).
    fn records(&self, of: &Verified<Arc<Manifest>>) -> Result<Option<Verified<Arc<Records>>>, StoreError>;

    /// The MD5 of one of its contents, if it is available.
    fn md5(&self, digest: &Digest, size: u64) -> Option<Md5>;

    /// The authority that verifies it.
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

/// A package, by its verified .deb file.
pub struct Described<'a> {
    /// The authority that verifies it.
    pub authority: Authority,
    /// Its manifest.
    pub manifest: &'a Manifest,
    /// The expected entries of the package database besides the list of paths; not every source has them.
    pub records: Option<&'a Records>,
    /// A shipped content's MD5, if available.
    pub md5: &'a dyn Fn(&Digest, u64) -> Option<Md5>,
}

/// Judges each package while the reference is gathered: its description is available then.
pub trait PackageJudge: Sync {
    /// Judges the installed package at this position; `described` is the content of a verified .deb file. Called from many
    /// threads.
    fn judge(&self, at: usize, package: &Package, described: Option<&Described<'_>>);
}
