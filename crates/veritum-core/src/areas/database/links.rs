//! update-alternatives' records, and the symlinks that they describe.

use super::DATABASE;
use super::offered::Offered;
use super::{RecordContent, RecordFault, RecordFix, Unknown, in_database, on};
use crate::machine::Machine;
use crate::model::{Action, FileKind, Finding, Subject, SystemPath, Verdict};
use crate::platform::debian::Alternatives;
use crate::platform::debian::database::{Database, alternatives_backup};

/// Larger records are refused, in bytes.
const MAX_RECORD: u64 = 1 << 20;
/// No more than this many names are examined.
const MAX_NAMES: usize = 100_000;
const LINKS: &str = "/etc/alternatives";

/// Judges the records of alternatives and their symlinks: missing ones and dangling ones. A symlink to another existing
/// file was set deliberately. A symlink outside `/etc/alternatives` is only created if a script of a package requests it:
/// the records themselves are not signed. `known` are the findings on other records.
#[must_use]
pub fn judge_alternatives(machine: &Machine, database: &Database, known: &[RecordFault]) -> Vec<RecordFault> {
    let offered = Offered::new(machine, database, known);
    let folder = in_database("alternatives");
    let Ok(dir) = machine.resolve(&folder).and_then(|real| machine.dir(&real)) else { return Vec::new() };
    let mut names: Vec<Vec<u8>> = dir.disk().list(dir.fd()).unwrap_or_default().into_iter().map(|(n, _)| n).collect();
    // Temporary files of update-alternatives.
    names.retain(|name| !name.ends_with(b".dpkg-tmp") && !name.ends_with(b".dpkg-new"));
    names.sort();
    let mut faults = Vec::new();
    for name in names.into_iter().take(MAX_NAMES) {
        let Ok(path) = folder.child(&name) else { continue };
        let read = match machine.read_up_to(&path, MAX_RECORD) {
            Ok(bytes) => Alternatives::parse(&bytes.unwrap_or_default()),
            Err(e) => Err(crate::model::error_chain(&e)),
        };
        match read {
            Ok(record) => faults.extend(links(machine, &name, &record, &offered)),
            Err(why) => faults.push(garbled(machine, &path, &name, why)),
        }
    }
    faults
}

fn garbled(machine: &Machine, path: &SystemPath, name: &[u8], why: String) -> RecordFault {
    let finding = Finding { cause: Some(why), ..on(path, None, Verdict::Corrupt) };
    let backup = alternatives_backup(machine, name).filter(|bytes| Alternatives::parse(bytes).is_ok());
    let fix = match backup {
        Some(bytes) => Ok(RecordFix::Write { content: RecordContent::Bytes(bytes), mode: 0o644 }),
        None => {
            let next = Action::explained(
                "reinstall the package that provides its alternatives",
                "apt-get install --reinstall NAME",
            );
            Err(Unknown::new("no copy in /var/backups", next))
        }
    };
    RecordFault { finding, fix }
}

/// The symlinks of one record: the master and the slaves of its choice, each in two steps.
fn links(machine: &Machine, name: &[u8], record: &Alternatives, offered: &Offered<'_>) -> Vec<RecordFault> {
    let there =
        |path: &SystemPath| machine.resolve(path).is_ok_and(|real| machine.look(&real).is_ok_and(|s| s.is_some()));
    let Ok(middle) = SystemPath::literal(LINKS).child(name) else { return Vec::new() };
    let target = link_target(machine, &middle);
    let chosen =
        target.as_ref().ok().and_then(|t| t.as_ref()).and_then(|t| record.choices.iter().find(|c| c.path == *t));
    let choice = match chosen.filter(|c| there(&c.path)) {
        Some(choice) => choice,
        // Set manually to an existing file that is not a choice.
        None if target.as_ref().is_ok_and(|t| t.as_ref().is_some_and(&there)) => return Vec::new(),
        None => match record.best(&there) {
            Some(best) => best,
            // None of its choices exists: there is nothing to point to.
            None => return Vec::new(),
        },
    };
    let mut faults: Vec<RecordFault> = Vec::new();
    let asked_for = |at: &SystemPath| at.is_within(&SystemPath::literal(LINKS)) || offered.has(at);
    let mut want = |at: &SystemPath, to: &SystemPath| {
        let fault = link(machine, at, to);
        faults.extend(fault.map(|fault| if asked_for(at) { fault } else { not_made(fault, name) }));
    };
    want(&middle, &choice.path);
    want(&record.link, &middle);
    for ((slave, public), path) in record.slaves.iter().zip(&choice.slaves) {
        let Some(path) = path.as_ref().filter(|path| there(path)) else { continue };
        if let Ok(middle) = SystemPath::literal(LINKS).child(slave.as_bytes()) {
            want(&middle, path);
            want(public, &middle);
        }
    }
    faults
}

/// A problem that only the administrator can repair: only the record claims that a symlink belongs there.
fn not_made(fault: RecordFault, name: &[u8]) -> RecordFault {
    let next = Action::command(format!("update-alternatives --config {}", crate::model::quoted(name)));
    let reason = "no script of an installed package creates this link; only the alternatives database names it";
    RecordFault { fix: Err(Unknown::new(reason, next)), ..fault }
}

/// A missing or dangling symlink, or another type of file. What the administrator excluded is not missing.
fn link(machine: &Machine, at: &SystemPath, to: &SystemPath) -> Option<RecordFault> {
    // A missing folder was excluded with everything in it.
    let parent = machine.resolve(&at.parent()?).ok()?;
    machine.look(&parent).ok().flatten()?;
    let (verdict, cause) = match link_target(machine, at) {
        Ok(Some(found)) if found == *to => return None,
        Ok(Some(found)) => {
            let leads = machine.resolve(&found).is_ok_and(|real| machine.look(&real).is_ok_and(|s| s.is_some()));
            if leads {
                return None;
            }
            (Verdict::WrongTarget, Some(format!("points to {found}, which does not exist")))
        }
        Ok(None) => (Verdict::Missing, None),
        // A file or folder of the administrator's: update-alternatives leaves it alone, and so does Veritum.
        Err(()) => return None,
    };
    let finding = Finding { cause, ..Finding::on(DATABASE, Subject::path(at), verdict) };
    Some(RecordFault { finding, fix: Ok(RecordFix::Link(to.as_bytes().to_vec())) })
}

/// The target of a symlink: `None` when it does not exist; an error when something else does.
fn link_target(machine: &Machine, at: &SystemPath) -> Result<Option<SystemPath>, ()> {
    let parent = at.parent().and_then(|p| machine.resolve(&p).ok()).ok_or(())?;
    let dir = machine.dir(&parent).map_err(|_| ())?;
    match dir.look(at.name()).map_err(|_| ())? {
        None => Ok(None),
        Some(stat) if stat.kind == FileKind::Link => {
            let target = dir.disk().read_link(dir.fd(), at.name()).map_err(|_| ())?;
            let full = if target.starts_with(b"/") { target } else { [parent.as_bytes(), b"/", &target].concat() };
            SystemPath::parse(&full).map(Some).map_err(|_| ())
        }
        Some(_) => Err(()),
    }
}
