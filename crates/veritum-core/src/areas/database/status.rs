//! `status` as a whole: lost entries, and how the file is rebuilt.

use super::{RecordFault, RecordFix, Unknown, in_database, on, some_of};
use crate::model::{Action, Finding, Verdict};
use crate::platform::debian::database::{Database, InfoProblem, StatusFile};
use crate::platform::{InstallState, Installed};

/// Judges the table of all packages.
#[must_use]
pub fn judge_status(database: &Database, installed: &Installed) -> Vec<RecordFault> {
    let mut faults: Vec<RecordFault> = whole(database).into_iter().collect();
    faults.extend(database.revived.iter().map(|(name, arch)| {
        let mut finding = on(&in_database("status"), Some(&format!("{name}:{arch}")), Verdict::Inconsistent);
        finding.cause = Some("its entry says that it was removed, but its files are still registered".into());
        finding.package =
            installed.packages.iter().map(|c| &c.id).find(|id| id.name == *name && id.arch == *arch).cloned();
        RecordFault { finding, fix: Ok(RecordFix::Status) }
    }));
    for update in database.updates.iter().filter(|u| u.read.is_err()) {
        let cause =
            update.read.as_ref().err().map(|why| format!("an unfinished update of the database by dpkg: {why}"));
        let finding = Finding { cause, ..on(&update.path, None, Verdict::Corrupt) };
        faults.push(RecordFault { finding, fix: Ok(RecordFix::SetAside) });
    }
    if let Some(problem) = &database.info_problem {
        let (verdict, cause) = match problem {
            InfoProblem::NotAFolder => (Verdict::WrongType, None),
            InfoProblem::Unreadable(why) => (Verdict::Unreadable, Some(why.clone())),
        };
        let finding = Finding { cause, ..on(&in_database("info"), None, verdict) };
        let next = "replace it by an empty folder; `veritum repair` then restores its files";
        faults.push(RecordFault { finding, fix: Err(Unknown::new("the folder cannot be read", next)) });
    }
    faults.extend(installed.packages.iter().filter(|c| c.install_state != InstallState::Installed).map(|package| {
        let name = &package.id.name;
        let (what, next) = match package.install_state {
            InstallState::HalfInstalled => (
                "dpkg stopped half-way; its files were not checked",
                Action::command(format!("apt-get install --reinstall {name}")),
            ),
            _ => ("unpacked, but never configured", Action::command("dpkg --configure --pending")),
        };
        let entry = format!("{name}:{}", package.id.arch);
        let mut finding = on(&in_database("status"), Some(&entry), Verdict::Incomplete);
        finding.package = Some(package.id.clone());
        finding.cause = Some(what.into());
        let reason = "only dpkg can finish it";
        RecordFault { finding, fix: Err(Unknown::new(reason, next)) }
    }));
    faults
}

fn whole(database: &Database) -> Option<RecordFault> {
    let garbled: Vec<&str> = database.garbled().collect();
    let lacking = database.recovered.len() + database.lost.len();
    if database.file == StatusFile::There && garbled.is_empty() && lacking == 0 && !database.unterminated {
        return None;
    }
    let verdict = match &database.file {
        StatusFile::Missing => Verdict::Missing,
        StatusFile::Unreadable(_) => Verdict::Unreadable,
        StatusFile::NotAFile => Verdict::WrongType,
        StatusFile::There if database.pieces.is_empty() => Verdict::Corrupt,
        StatusFile::There if garbled.is_empty() && lacking > 0 => Verdict::Inconsistent,
        StatusFile::There => Verdict::Corrupt,
    };
    let mut causes: Vec<String> = Vec::new();
    if let StatusFile::Unreadable(why) = &database.file {
        causes.push(why.clone());
    }
    if database.file == StatusFile::There && database.pieces.is_empty() {
        causes.push("empty file".into());
    }
    if let Some(first) = garbled.first() {
        let more = if garbled.len() > 1 { format!(" and {} more", garbled.len() - 1) } else { String::new() };
        causes.push(format!("{first}{more}"));
    }
    if database.unterminated {
        causes.push("the last line has no line end, which dpkg rejects".into());
    }
    if lacking > 0 {
        let recovered = database.recovered.iter().map(|r| r.stanza.name().to_owned());
        let mut names: Vec<String> = recovered.chain(database.lost.iter().cloned()).collect();
        names.sort();
        causes.push(format!("missing entries: {}", some_of(&names)));
    }
    let mut finding = Finding { cause: Some(causes.join("; ")), ..on(&in_database("status"), None, verdict) };
    let fix = match database.lost.as_slice() {
        [] => Ok(RecordFix::Status),
        // What is known is restored nevertheless; what is lost is reported until it is installed again.
        lost => {
            let next = format!("apt-get install --reinstall {}", lost[0].split(':').next().unwrap_or_default());
            let text = format!("no older copy and no reference for {} is available; reinstall it", some_of(lost));
            finding.action = Some(Action::explained(text, next.clone()));
            match garbled.is_empty()
                && !database.unterminated
                && database.recovered.is_empty()
                && database.file == StatusFile::There
            {
                true => Err(Unknown::new("the installed version is not recorded", Action::command(next))),
                false => Ok(RecordFix::Status),
            }
        }
    };
    Some(RecordFault { finding, fix })
}
