//! Putting a store right, part by part, from wherever each can be had.

use std::cell::RefCell;
use std::collections::BTreeMap;
use std::path::Path;
use std::sync::PoisonError;

use super::store::StorePart;
use super::{WorkError, Workshop};
use crate::event::{Event, Flow, Observer, Phase};
use crate::model::{ComponentId, Digest, Harm, error_chain};
use crate::plan::MendFrom;
use crate::report::ActionReport;
use crate::store::{Ailing, Contents, Ill, Mender, Part, StoreError};
use crate::trust::Pins;

impl Workshop {
    /// Puts the store right as planned; answers what became of each planned action.
    pub(super) fn mend_store(&self, part: &StorePart, observer: &dyn Observer) -> Result<Vec<ActionReport>, WorkError> {
        let location = self.settings.store_folder()?;
        let mut actions = part.actions();
        let mender = Mender::begin(location, &self.settings.run)?;
        observer.hear(Event::Begin { phase: Phase::Mending, items: actions.len() as u64, bytes: 0 });
        // Before anything comes in: what goes out must never be something that just came.
        for (name, action) in part.plan.asides.iter().zip(&mut actions[part.plan.mends.len()..]) {
            settle(action, mender.set_aside(name).map_err(|e| error_chain(&e)));
        }
        let mut from_packages: Vec<(usize, &Ill)> = Vec::new();
        for (at, mend) in part.plan.mends.iter().enumerate() {
            let ill = &part.ills[mend.ill];
            match self.mend_one(&mender, ill, mend.from, part.ailing.as_ref()) {
                Some(result) => settle(&mut actions[at], result.map_err(|e| error_chain(&e))),
                None => from_packages.push((at, ill)),
            }
            // Each part is whole by itself: what was done by now stays, and the rest is told as left.
            if observer.hear(Event::Advance { items: 1, bytes: 0 }) == Flow::Stop {
                let open = at + 1..part.plan.mends.len();
                from_packages.iter().map(|(at, _)| *at).chain(open).for_each(|at| {
                    settle(&mut actions[at], Err("it was interrupted before this one".into()));
                });
                from_packages.clear();
                break;
            }
        }
        self.mend_from_packages(&mender, &from_packages, &mut actions);
        mender.end()?;
        observer.hear(Event::End);
        self.bad.write().unwrap_or_else(PoisonError::into_inner).clear();
        Ok(actions)
    }

    /// Puts one part right, unless that takes its whole package.
    fn mend_one(
        &self,
        mender: &Mender,
        ill: &Ill,
        from: MendFrom,
        ailing: Option<&Ailing>,
    ) -> Option<Result<(), StoreError>> {
        let root = self.pinned_root(ailing);
        Some(match (&ill.part, from) {
            (Part::Signed { name }, MendFrom::Pin) => mender.known(name, root),
            (Part::Signed { .. }, _) => {
                let ailing = ailing?;
                let copy = self.other_stores().find(|s| ailing.is_copied_by(s))?;
                mender.signed(ailing, copy, &Pins::in_folder(&self.settings.trust))
            }
            (Part::Pointer(entry), _) => mender.pointer(entry),
            (Part::Manifest(entry), MendFrom::OtherStore) => mender.manifest(entry, self.another_store_with(ill)?),
            (Part::Content { digest, size }, MendFrom::OtherStore | MendFrom::Machine) => {
                let found = Elsewhere { workshop: self, harm: &ill.harm };
                mender.content(digest, *size, &found)
            }
            _ => return None,
        })
    }

    /// Each package is read once for all that it is to give back.
    fn mend_from_packages(&self, mender: &Mender, parts: &[(usize, &Ill)], actions: &mut [ActionReport]) {
        let mut packages: BTreeMap<ComponentId, Vec<(usize, &Ill)>> = BTreeMap::new();
        for (at, ill) in parts {
            match self.packages_of(ill).into_iter().find(|(id, sum)| self.is_at_hand(id, sum)) {
                Some((id, _)) => packages.entry(id).or_default().push((*at, *ill)),
                None => settle(&mut actions[*at], Err("its package is not at hand".into())),
            }
        }
        for (id, parts) in packages {
            let result = self.mend_from_package(mender, &id, &parts).map_err(|e| error_chain(&e));
            for (at, ill) in parts {
                let there = self.own_store().is_some_and(|store| match &ill.part {
                    Part::Content { digest, .. } => store.has_content(digest),
                    Part::Manifest(entry) => store.has_manifest_file(entry),
                    _ => true,
                });
                let result = result.clone().and_then(|()| match there {
                    true => Ok(()),
                    false => Err("its package does not hold it".into()),
                });
                settle(&mut actions[at], result);
            }
        }
    }

    fn mend_from_package(&self, mender: &Mender, id: &ComponentId, parts: &[(usize, &Ill)]) -> Result<(), StoreError> {
        let none = || StoreError::NotACopy { path: id.to_string().into() };
        let store = self.own_store().ok_or_else(none)?;
        let (entry, sum) = (store.entry(id).ok_or_else(none)?, store.package(id).ok_or_else(none)?);
        let package = self.open_archive(|a| a.at_hand(&self.machine, id, &sum)).flatten().ok_or_else(none)?;
        for (_, ill) in parts {
            mender.set_aside(Path::new(&ill.part.name()))?;
        }
        mender.package(package.file.into_inner(), Path::new(&package.from), entry).map(drop)
    }
}

fn settle(action: &mut ActionReport, result: Result<(), String>) {
    action.result = if result.is_ok() { "done" } else { "failed" }.into();
    action.why = result.err();
}

/// A content from another store, or from the machine itself.
struct Elsewhere<'a> {
    workshop: &'a Workshop,
    harm: &'a Harm,
}

impl Contents for Elsewhere<'_> {
    fn copy(
        &self,
        digest: &Digest,
        size: u64,
        to: &mut dyn FnMut(&[u8]) -> std::io::Result<()>,
    ) -> Result<(), StoreError> {
        // What cannot be written is no fault of the source's.
        let unwritten: RefCell<Option<std::io::Error>> = RefCell::default();
        let mut write = |piece: &[u8]| {
            to(piece).map_err(|e| {
                let told = std::io::Error::new(e.kind(), e.to_string());
                unwritten.replace(Some(e));
                told
            })
        };
        let mut result = Err(StoreError::Absent { digest: *digest });
        for store in self.workshop.other_stores() {
            result = store.copy(digest, size, &mut write);
            match &result {
                Err(StoreError::Absent { .. } | StoreError::Damaged { .. } | StoreError::File { .. }) => {}
                _ => return result,
            }
        }
        if unwritten.borrow().is_none()
            && let Some(path) = self.workshop.held_by_machine(digest, size, self.harm)
        {
            let held = |_| StoreError::Damaged { digest: *digest };
            result = self.workshop.read_held(&path, digest, size, &mut write).map_err(held);
        }
        match unwritten.into_inner() {
            Some(source) => Err(StoreError::File { path: "the store".into(), source }),
            None => result,
        }
    }

    fn has_content(&self, digest: &Digest) -> bool {
        self.workshop.other_stores().any(|s| s.has_content(digest))
    }
}
