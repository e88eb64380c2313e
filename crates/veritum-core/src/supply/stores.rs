//! The stores among the named sources.

use super::{OpenSources, Supply};
use crate::repository::Repositories;
use crate::store::{Location, Store, StoreError, UnverifiedStore, unverified_store};
use crate::system::{Settings, Supplier};
use crate::trust::Pins;

/// The stores among the named sources that could be opened.
#[derive(Default)]
pub struct Stores {
    pub(super) open: Vec<Store>,
    /// Whether the first is the store in use.
    pub(super) own_opened: bool,
    /// Why the store in use could not be opened.
    pub(super) trouble: Option<StoreError>,
    /// Why others than the store in use could not be opened.
    pub(super) refused: Vec<String>,
}

impl Stores {
    /// Opens the stores among the named sources; an unusable one is reported by `status` and refused by other commands.
    pub fn open(settings: &Settings) -> Self {
        let pins = Pins::in_folder(&settings.trust);
        let named = settings.from.iter().filter_map(|s| match s {
            Supplier::Place(path) if path.join("store.json").is_file() => Some((false, path.clone().into())),
            _ => None,
        });
        let mut stores = Self::default();
        let own = settings.store.iter().map(|location| (true, location.clone()));
        let reach = settings.reach();
        for (own, location) in own.chain(named).collect::<Vec<(bool, Location)>>() {
            match Store::open(&location, &pins, &reach, settings.now) {
                Ok(open) => {
                    stores.open.push(open);
                    stores.own_opened |= own;
                }
                Err(e) => {
                    if !own {
                        stores.refused.push(crate::model::error_chain(&e));
                    }
                    stores.trouble.get_or_insert(e);
                }
            }
        }
        stores
    }
}

impl<'a> Supply<'a> {
    /// The store in use, as named.
    pub fn own_store(&self) -> Option<&'a Store> {
        self.system.settings.store.as_ref()?;
        self.open.stores.first().filter(|_| self.open.own_opened)
    }

    /// The stores among the further sources.
    pub fn other_stores(&self) -> impl Iterator<Item = &'a Store> + use<'a> {
        self.open.stores.iter().skip(usize::from(self.open.own_opened))
    }

    /// Why the store in use cannot be opened, if that is damage to its signed files.
    pub fn unverified_store(&self) -> Option<UnverifiedStore> {
        let location = self.system.settings.store.as_ref().filter(|_| !self.open.own_opened)?;
        unverified_store(location.folder()?, &Pins::in_folder(&self.system.settings.trust))
    }

    /// The source of the reference, in a sentence.
    #[must_use]
    pub fn reference_words(&self) -> String {
        match self.open.stores.first() {
            Some(store) => format!("the signed store {}", store.location()),
            None => "the local package database only".into(),
        }
    }
}

impl Supply<'_> {
    /// Why the newest signed versions seen could not be saved.
    #[must_use]
    pub fn doubts(&self) -> Vec<String> {
        let mut all: Vec<String> =
            self.open.stores.iter().filter_map(|store| Some(store.doubt()?.to_owned())).collect();
        all.extend(self.open_repositories(Repositories::doubts).unwrap_or_default());
        all
    }
}

impl OpenSources {
    /// Sets the stores in use.
    pub fn use_stores(&mut self, stores: Stores) {
        let Stores { open, own_opened, trouble, refused } = stores;
        (self.stores, self.own_opened) = (open, own_opened);
        (self.store_trouble, self.refused_stores) = (trouble, refused);
    }
}
