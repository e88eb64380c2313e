//! A machine made of a few packages.
#![allow(dead_code, reason = "each test file uses a part of it")]

use veritum_core::model::Finding;
use veritum_core::report::CheckReport;
use veritum_demo::world::{World, add, add_file, package};
use veritum_demo::{Content, Package};

use super::support::{check, folder, told};

/// A machine with a signed store, and what a check of it says.
pub(crate) struct Place {
    _dir: tempfile::TempDir,
    pub(crate) world: World,
}

pub(crate) fn place(packages: &[Package]) -> Place {
    let dir = folder();
    let world = World::new(&dir.path().join("world"), packages);
    Place { _dir: dir, world }
}

/// A package with a file and a program.
pub(crate) fn quay() -> Package {
    let mut quay = package("quay", "1.0-1");
    add_file(&mut quay, "/usr/share/quay/part", "part\n");
    add(&mut quay, "/usr/bin/quay", Content::File(vec![1; 2000]), 0o755);
    quay
}

impl Place {
    pub(crate) fn write(&self, path: &str, text: &str) {
        let path = self.world.at(path);
        std::fs::create_dir_all(path.parent().unwrap()).unwrap();
        std::fs::write(path, text).unwrap();
    }

    pub(crate) fn check(&self) -> CheckReport {
        check(&self.world.settings())
    }

    pub(crate) fn findings(&self) -> Vec<(String, &'static str)> {
        told(&self.check().findings)
    }

    pub(crate) fn notes(&self) -> Vec<(String, &'static str)> {
        told(&self.check().notes)
    }

    pub(crate) fn finding(&self) -> Finding {
        let mut findings = self.check().findings;
        assert_eq!(findings.len(), 1, "{findings:?}");
        findings.remove(0)
    }
}
