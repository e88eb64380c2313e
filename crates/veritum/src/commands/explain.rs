//! `explain`: one path, finding, application, savepoint or change.

use std::ffi::OsStr;

use veritum_core::model::Action;
use veritum_core::savepoints::ReturnWanted;
use veritum_core::work::{Agreement, Engine, OnDisks};

use super::print;
use crate::context::Context;
use crate::errors::Failure;
use crate::what::{Subject, subject};
use crate::{exit, render};

pub(crate) fn run(context: &Context, word: &OsStr) -> Result<u8, Failure> {
    if !context.global.disk.is_empty() && context.global.root.is_none() {
        return on_disks(context, word);
    }
    let subject = subject(word, &context.settings.root)?;
    let mut engine = context.open()?;
    let report = match subject {
        Subject::Change(number) => {
            if let Some(damaged) = engine.explain_damaged(number)? {
                print(context, &damaged, exit::PROBLEMS, || render::explain::damaged_words(context, &damaged))?;
                return Ok(exit::PROBLEMS);
            }
            let log = engine.explain_change(number)?;
            let report = render::explain::change_report(&log);
            print(context, &report, exit::FINE, || render::explain::change_words(context, &report))?;
            return Ok(exit::FINE);
        }
        Subject::Savepoint(number) => {
            let wanted = ReturnWanted::default();
            let report = engine.return_to(number, &wanted, true, &context.progress, &mut |_| Agreement::No)?;
            let again = format!("return {number}");
            print(context, &report, exit::FINE, || render::returned::describe(context, &report, &again, false))?;
            return Ok(exit::FINE);
        }
        Subject::Starts => {
            let report = engine.explain_starts()?;
            print(context, &report, exit::FINE, || render::starts::describe(context, &report))?;
            return Ok(exit::FINE);
        }
        Subject::App(name) => {
            let report = engine.explain_app(&name)?;
            let status = if report.finding.is_some() { exit::PROBLEMS } else { exit::FINE };
            print(context, &report, status, || render::apps::about(context, &report))?;
            return Ok(status);
        }
        Subject::Path(path) => engine.explain_path(&path, &context.progress)?,
        Subject::Finding(name) => engine.explain_finding(&name, &context.progress)?,
    };
    let problem = report.finding.as_ref().is_some_and(|f| f.verdict.is_problem());
    let status = if problem { exit::PROBLEMS } else { exit::FINE };
    print(context, &report, status, || render::explain::describe(context, &report))?;
    Ok(status)
}

/// A problem of disks that are not mounted, or what starts the system on them.
fn on_disks(context: &Context, word: &OsStr) -> Result<u8, Failure> {
    let usage = |what: &str, hint| Failure::usage(what.to_owned(), "nothing was done".into(), Some(hint));
    let check = Action::command(context.command("check"));
    let subject = subject(word, &context.settings.root)?;
    if !matches!(subject, Subject::Finding(_) | Subject::Starts) {
        return Err(usage("with --disk, only a problem, by its ID, and `bootchain` can be explained", check));
    }
    let OnDisks::System(mut engine) = Engine::open_on_disks(context.settings.clone())? else {
        return Err(usage("no installed system can be read on these disks: `check` says all that is known", check));
    };
    context.set_machine(engine.machine_report());
    let Subject::Finding(name) = subject else {
        let report = engine.explain_starts()?;
        print(context, &report, exit::FINE, || render::starts::describe(context, &report))?;
        return Ok(exit::FINE);
    };
    let report = engine.explain_finding(&name, &context.progress)?;
    let problem = report.finding.as_ref().is_some_and(|f| f.verdict.is_problem());
    let status = if problem { exit::PROBLEMS } else { exit::FINE };
    print(context, &report, status, || render::explain::describe(context, &report))?;
    Ok(status)
}
