//! Has the system's own tools generate files again that depend on files of packages: dpkg's triggers (deb-triggers(5)).

use std::collections::BTreeSet;
use std::ffi::OsString;

use super::WorkError;
use super::session::Session;
use crate::change::{ChangeLog, Locks, Task};
use crate::model::{ActionKind, SystemPath, error_words};
use crate::platform::Platform as _;
use crate::platform::debian::{Debian, FileTriggers, in_database, own_triggers};
use crate::system::System;

const TRIGGER: &str = "/usr/bin/dpkg-trigger";
const DPKG: &str = "/usr/bin/dpkg";
/// The caller of dpkg holds its front-end lock (dpkg(1)).
const LOCKED: &str = "DPKG_FRONTEND_LOCKED";
/// Larger files of triggers are not read, in bytes.
const MAX_TRIGGERS: u64 = 1 << 20;

/// The triggers that a change of these places of a package activates, by their names.
pub(super) fn triggers(system: &System, packages: &[String], places: &[SystemPath]) -> Vec<String> {
    let of_files = FileTriggers::read(&system.machine);
    let mut names: BTreeSet<String> = BTreeSet::new();
    for place in places {
        for spelling in system.spellings(place) {
            names.extend(of_files.matching(&spelling).map(ToString::to_string));
        }
    }
    for package in system.installed.packages.iter().filter(|package| packages.contains(&package.id.name)) {
        for stem in [format!("{}:{}", package.id.name, package.id.arch), package.id.name.clone()] {
            let file = in_database(&format!("info/{stem}.triggers"));
            let text = system.machine.read_up_to(&file, MAX_TRIGGERS).ok().flatten().unwrap_or_default();
            names.extend(own_triggers(&text));
        }
    }
    names.into_iter().collect()
}

/// Activates triggers and has dpkg process them; returns the reason if that failed.
///
/// # Errors
/// When the change log cannot be written.
pub(super) fn regenerate(
    system: &System,
    session: &mut Session<'_>,
    locks: &mut Locks,
    package: &str,
    names: &[String],
) -> Result<Option<String>, WorkError> {
    if names.is_empty() {
        return Ok(None);
    }
    // dpkg takes the second of its locks itself.
    let own: Vec<SystemPath> = Debian.locks().into_iter().skip(1).collect();
    own.iter().for_each(|path| locks.let_go(path));
    let subject = names.join(" ");
    let task = Task::lasting(ActionKind::Regenerate, &subject, package);
    let failed = session.delegate(task, &mut |_| run(system, package, names))?;
    // If another program has taken it since, the next step that needs it reports that.
    let _ = session.context().lock_too(locks, &own);
    Ok(failed)
}

fn run(system: &System, package: &str, names: &[String]) -> Result<(), String> {
    let runner = system.tool_runner().map_err(str::to_owned)?;
    let environment = [(LOCKED, OsString::from("1"))];
    let by = format!("--by-package={package}");
    let run = |program: &str, words: &[&str]| -> Result<(), String> {
        let ran = runner.run(program, words, &environment, &system.settings.stop).map_err(|e| error_words(&e))?;
        if ran.is_fine() { Ok(()) } else { Err(format!("{program} failed: {}", ran.why())) }
    };
    for name in names {
        run(TRIGGER, &["--no-await", &by, name])?;
    }
    run(DPKG, &["--triggers-only", "--pending"])
}

/// What a change had generated again: the package, and the triggers.
pub(super) fn regenerated(log: &ChangeLog) -> Option<(String, Vec<String>)> {
    let all = log.beside();
    let of = all.iter().find(|one| one.what == ActionKind::Regenerate.word())?;
    Some((of.before.clone(), of.subject.split(' ').map(str::to_owned).collect()))
}
