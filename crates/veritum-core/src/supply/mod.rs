//! [`Supply`]: what a repair can be made from, strongest first: stores, packages available, repositories.

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

/// The sources that are open, with what was learned of them on the way.
#[derive(Debug, Default)]
pub struct OpenSources {
    /// The store in use, then those among the further supplies.
    pub stores: Vec<Store>,
    /// Why the store in use, or another that was named, cannot be used.
    pub store_trouble: Option<StoreError>,
    /// Stores among the further supplies that cannot be used, with the reason.
    pub refused_stores: Vec<String>,
    /// Whether the first of the stores is the one in use.
    pub own_opened: bool,
    /// Contents of the store in use that are known not to be what was signed.
    pub bad: RwLock<HashSet<Digest>>,
    /// Whether the .deb file of a package is available, as far as a repair of the store asked.
    pub debs: Mutex<HashMap<PackageId, bool>>,
    /// Why contents could not be unpacked from packages available.
    pub unpack_trouble: Mutex<Vec<String>>,
    /// The repositories' answers in this run, if they were asked.
    pub offered: Mutex<Option<Arc<Offered>>>,
    /// Opened when it is first needed: following its chain takes a moment.
    pub repositories: RwLock<Option<Repositories>>,
}

/// The open sources, seen from the system that is worked on.
#[derive(Debug, Clone, Copy)]
pub struct Supply<'a> {
    /// The system.
    pub system: &'a System,
    /// The sources.
    pub open: &'a OpenSources,
}
