//! Tests' ways to reset and to undo on [`veritum_demo::test_home`].

use std::sync::Arc;

use veritum_core::event::NoObserver;
use veritum_core::machine::Disk;
use veritum_core::report::{HomeReset, ResetReport, UndoReport};
use veritum_core::testkit::Tree;
use veritum_core::work::{Agreement, Engine, ResetWanted, Settings, WorkError};

use super::{folder, open};

/// The machine in a private folder.
pub(crate) struct TestHome {
    here: veritum_demo::test_home::TestHome,
    _dir: tempfile::TempDir,
}

impl std::ops::Deref for TestHome {
    type Target = veritum_demo::test_home::TestHome;

    fn deref(&self) -> &Self::Target {
        &self.here
    }
}

impl TestHome {
    pub(crate) fn new() -> Self {
        let dir = folder();
        Self { here: veritum_demo::test_home::TestHome::new(&dir.path().join("world")), _dir: dir }
    }

    pub(crate) fn empty() -> Self {
        let dir = folder();
        Self { here: veritum_demo::test_home::TestHome::empty(&dir.path().join("world")), _dir: dir }
    }

    pub(crate) fn tree(&self) -> Tree {
        tree(&self.home())
    }
}

/// A home as it is; when our own folders in it were made is no one's business.
pub(crate) fn tree(home: &std::path::Path) -> Tree {
    let mut tree = Tree::read(home, &[]);
    let ours = tree.0.iter_mut().filter(|(path, thing)| path.starts_with(b".veritum-set-aside") && thing.kind == 'd');
    ours.for_each(|(_, thing)| thing.mtime = (0, 0));
    tree
}

pub(crate) fn reset(settings: &Settings, wanted: &ResetWanted) -> ResetReport {
    open(settings).reset("quay", wanted, false, &NoObserver, &mut |_| Agreement::Yes).unwrap()
}

pub(crate) fn reset_on(settings: &Settings, disk: Arc<dyn Disk>) -> Result<ResetReport, WorkError> {
    Engine::open(settings.clone(), disk)?
        .reset("quay", &ResetWanted::default(), false, &NoObserver, &mut |_| Agreement::Yes)
}

pub(crate) fn undo_on(settings: &Settings, disk: Arc<dyn Disk>) -> Result<UndoReport, WorkError> {
    Engine::open(settings.clone(), disk)?.undo(None, false, &NoObserver, &mut |_| Agreement::Yes)
}

/// The one home that a report reports.
#[track_caller]
pub(crate) fn only(report: &ResetReport) -> &HomeReset {
    let [home] = report.homes.as_slice() else { panic!("{report:#?}") };
    home
}
