//! `status` as a whole: what of it is lost, and how it is put together again.

use super::{RecordFault, RecordFix, Unknown, in_database, on, some_of};
use crate::model::{Finding, Verdict};
use crate::platform::debian::database::{Database, InfoProblem, StatusFile};
use crate::platform::{InstallState, Installed};

/// Judges the table of all components.
#[must_use]
pub fn judge_status(database: &Database, installed: &Installed) -> Vec<RecordFault> {
    let mut faults: Vec<RecordFault> = whole(database).into_iter().collect();
    faults.extend(database.revived.iter().map(|(name, arch)| {
        let mut finding = on(&in_database("status"), Some(&format!("{name}:{arch}")), Verdict::AtOdds);
        finding.cause = Some("its entry says that it was removed, and its records are still there".into());
        finding.component =
            installed.components.iter().map(|c| &c.id).find(|id| id.name == *name && id.arch == *arch).cloned();
        RecordFault { finding, fix: Ok(RecordFix::Status) }
    }));
    for update in database.updates.iter().filter(|u| u.read.is_err()) {
        let cause = update.read.as_ref().err().map(|why| format!("a change that dpkg had begun to enter: {why}"));
        let finding = Finding { cause, ..on(&update.path, None, Verdict::Garbled) };
        faults.push(RecordFault { finding, fix: Ok(RecordFix::SetAside) });
    }
    if let Some(problem) = &database.info_problem {
        let (verdict, cause) = match problem {
            InfoProblem::NotAFolder => (Verdict::WrongKind, None),
            InfoProblem::Unreadable(why) => (Verdict::Unreadable, Some(why.clone())),
        };
        let finding = Finding { cause, ..on(&in_database("info"), None, verdict) };
        let next = "see what stands in its place; veritum puts its files back once the folder is there";
        faults.push(RecordFault { finding, fix: Err(Unknown::new("the folder cannot be looked into", next)) });
    }
    faults.extend(installed.components.iter().filter(|c| c.install_state != InstallState::Installed).map(
        |component| {
            let name = &component.id.name;
            let (what, next) = match component.install_state {
                InstallState::HalfInstalled => (
                    "its installation was interrupted half-way: nobody knows which of its files are there",
                    format!("apt-get install --reinstall {name}"),
                ),
                _ => ("its files are in place, and it was never configured", "dpkg --configure --pending".to_owned()),
            };
            let entry = format!("{name}:{}", component.id.arch);
            let mut finding = on(&in_database("status"), Some(&entry), Verdict::Incomplete);
            finding.component = Some(component.id.clone());
            finding.cause = Some(what.into());
            let reason = "only the package tool can finish it";
            RecordFault { finding, fix: Err(Unknown::new(reason, &next)) }
        },
    ));
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
        StatusFile::NotAFile => Verdict::WrongKind,
        StatusFile::There if database.pieces.is_empty() => Verdict::Garbled,
        StatusFile::There if garbled.is_empty() && lacking > 0 => Verdict::AtOdds,
        StatusFile::There => Verdict::Garbled,
    };
    let mut causes: Vec<String> = Vec::new();
    if let StatusFile::Unreadable(why) = &database.file {
        causes.push(why.clone());
    }
    if database.file == StatusFile::There && database.pieces.is_empty() {
        causes.push("it is empty".into());
    }
    if let Some(first) = garbled.first() {
        let more = if garbled.len() > 1 { format!(", and {} more places", garbled.len() - 1) } else { String::new() };
        causes.push(format!("{first}{more}"));
    }
    if database.unterminated {
        causes.push("its last line has no end, at which dpkg stops".into());
    }
    if lacking > 0 {
        let recovered = database.recovered.iter().map(|r| r.stanza.name().to_owned());
        let mut names: Vec<String> = recovered.chain(database.lost.iter().cloned()).collect();
        names.sort();
        causes.push(format!("it lacks {}", some_of(&names)));
    }
    let mut finding = Finding { cause: Some(causes.join("; ")), ..on(&in_database("status"), None, verdict) };
    let fix = match database.lost.as_slice() {
        [] => Ok(RecordFix::Status),
        // What is known comes back all the same; what is lost is told until it is installed again.
        lost => {
            let next = format!("apt-get install --reinstall {}", lost[0].split(':').next().unwrap_or_default());
            finding.advice = Some(format!("no earlier copy and nothing at hand knows {}: {next}", some_of(lost)));
            match garbled.is_empty()
                && !database.unterminated
                && database.recovered.is_empty()
                && database.file == StatusFile::There
            {
                true => Err(Unknown::new("no record says which version is installed", &next)),
                false => Ok(RecordFix::Status),
            }
        }
    };
    Some(RecordFault { finding, fix })
}
