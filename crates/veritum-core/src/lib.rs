//! The core of Veritum: finds damaged files of an operating system and restores them from a trusted source.
//!
//! It never prints, prompts or reads its environment: time, names and configuration come in through
//! [`work::Settings`], events go out through [`event::Observer`], results are plain data ([`report`]).
//!
//! Data flows in one direction, and a module uses only modules before it:
//!
//! ```text
//! platform::Installed → trust::Verified<store::Manifest> → reference::Expected × scan::Observation
//!     → model::Finding → plan::Plan → change::RoundReceipt → checked again → report::RepairReport
//! ```
//!
//! | module | content |
//! |---|---|
//! | [`model`] | types that every module shares |
//! | [`event`] | events for an observer |
//! | [`machine`] | the machine as files: the only access to its disk |
//! | [`formats`] | parsers of foreign formats, pure |
//! | [`platform`] | the system's record of what is installed |
//! | [`trust`] | signatures and keys; the only code that creates [`trust::Verified`] |
//! | [`store`] | the trusted package store |
//! | [`scan`] | reads and digests files in parallel |
//! | [`repository`] | the vendor's repository: sources, indexes, packages available or downloaded |
//! | [`mod@reference`] | what is expected at each path, and the authority that verifies it |
//! | [`plan`] | findings × rules → actions, and their inverses |
//! | [`change`] | change log, staging, exchange, recovery, undo: the only module that writes to the machine |
//! | [`report`], [`history`] | results as data; past changes |
//! | [`areas`] | expected × found → findings, area by area |
//! | [`rescue`] | users' files copied to another disk, verified |
//! | [`savepoints`] | recorded states of the system, and their contents |
//! | [`work`] | the commands, made of the other modules |
//!
//! A check of a machine in a folder, by its package database alone:
//!
//! ```
//! use std::sync::Arc;
//! use veritum_core::{model::Scope, event::NoObserver, machine::LiveDisk, work::{Settings, Engine}};
//!
//! # fn main() -> Result<(), Box<dyn std::error::Error>> {
//! # let dir = tempfile::tempdir()?;
//! # let root = dir.path().join("disk");
//! # std::fs::create_dir_all(root.join("var/lib/dpkg/info"))?;
//! # std::fs::create_dir_all(root.join("usr/share"))?;
//! # let status = "Package: quay\nStatus: install ok installed\nVersion: 1.0\nArchitecture: all\n";
//! # std::fs::write(root.join("var/lib/dpkg/status"), status)?;
//! # std::fs::write(root.join("var/lib/dpkg/info/quay.list"), "/.\n/usr\n/usr/share\n/usr/share/quay\n")?;
//! let settings = Settings {
//!     root,
//!     disks: Vec::new(),
//!     partition: None,
//!     store: None,
//!     trust: dir.path().join("trust"),
//!     state_dir: Some(dir.path().join("state")),
//!     notes: None,
//!     scratch: vec![dir.path().to_owned()],
//!     from: Vec::new(),
//!     repositories: Default::default(),
//!     complete: false,
//!     min_trust: None,
//!     quick: false,
//!     policy: Default::default(),
//!     jobs: 2,
//!     answerable: false,
//!     ignore_disk_errors: false,
//!     clear_immutable: false,
//!     now: jiff::Timestamp::UNIX_EPOCH,
//!     run: "example".into(),
//!     services: Default::default(),
//!     cards: None,
//!     helper: Vec::new(),
//!     firmware: None,
//!     inside: Vec::new(),
//!     recovery: Vec::new(),
//!     stop: Default::default(),
//! };
//! let mut engine = Engine::open(settings, Arc::new(LiveDisk))?;
//! let report = engine.check(&Scope::default(), &NoObserver)?;
//! let [finding] = report.findings.as_slice() else { panic!("one file is missing") };
//! assert_eq!(finding.verdict.word(), "missing");
//! assert_eq!(finding.subject.as_path().map(|p| p.to_string()).as_deref(), Some("/usr/share/quay"));
//! # Ok(())
//! # }
//! ```
#![cfg_attr(not(feature = "testkit"), forbid(unsafe_code))]
#![warn(clippy::unwrap_used)]

#[cfg(any(feature = "testkit", test))]
pub use veritum_base::testkit;
pub use veritum_base::{apps, devices, event, formats, machine, model, platform, repository, scan, store, trust};

pub mod areas;
pub mod change;
pub mod history;
pub mod homes;
pub mod plan;
pub mod reference;
pub mod report;
pub mod rescue;
pub mod savepoints;
pub mod supply;
pub mod system;
pub mod work;
