//! [`Supply`]: the sources of a repair, strongest first: stores, available packages, repositories.

mod chain;
mod contents;
mod offered;
mod reports;
mod stores;
mod waiting;

pub use chain::signed_by;
pub use contents::{AllContents, Availability, Made, download_report};
pub use offered::Offered;
pub use stores::Stores;
pub use waiting::Waiting;

use std::collections::{HashMap, HashSet};
use std::sync::{Arc, Mutex, RwLock};

use crate::model::{Digest, PackageId};
use crate::repository::Repositories;
use crate::store::{Store, StoreError};
use crate::system::System;

/// The open sources, and what was learned about them.
#[derive(Debug, Default)]
pub struct OpenSources {
    /// The store in use, then those among the further sources.
    pub stores: Vec<Store>,
    /// Why the store in use, or another that was named, cannot be used.
    pub store_trouble: Option<StoreError>,
    /// Stores among the further sources that cannot be used, with the reason.
    pub refused_stores: Vec<String>,
    /// Whether the first of the stores is the one in use.
    pub own_opened: bool,
    /// Contents of the store in use that are known to be damaged.
    pub bad: RwLock<HashSet<Digest>>,
    /// Whether the .deb file of a package is available, as far as a repair of the store needed it.
    pub debs: Mutex<HashMap<PackageId, bool>>,
    /// Why contents could not be unpacked from available packages.
    pub unpack_trouble: Mutex<Vec<String>>,
    /// The repositories' answers in this run, if they were asked.
    pub offered: Mutex<Option<Arc<Offered>>>,
    /// Opened when first needed: following its chain takes time.
    pub repositories: RwLock<Option<Repositories>>,
}

/// The open sources, together with the system.
#[derive(Debug, Clone, Copy)]
pub struct Supply<'a> {
    /// The system.
    pub system: &'a System,
    /// The sources.
    pub open: &'a OpenSources,
}
