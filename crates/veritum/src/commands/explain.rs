//! `explain`: one path, finding, application or change.

use std::ffi::OsStr;

use super::print;
use crate::context::Context;
use crate::errors::Failure;
use crate::output::put;
use crate::what::{Subject, subject};
use crate::{exit, render};

pub(crate) fn run(context: &Context, word: &OsStr) -> Result<u8, Failure> {
    let subject = subject(word, &context.settings.target)?;
    let mut engine = context.open()?;
    let report = match subject {
        Subject::Change(number) => {
            if let Some(damaged) = engine.explain_damaged(number)? {
                print(context, &damaged, || render::explain::damaged_words(&damaged))?;
                return Ok(exit::PROBLEMS);
            }
            let log = engine.explain_change(number)?;
            let report = render::explain::change_report(&log);
            if context.global.json {
                print(context, &report, String::new)?;
            } else {
                put(&render::explain::change_words(context, &report))?;
            }
            return Ok(exit::FINE);
        }
        Subject::App(name) => {
            let report = engine.explain_app(&name)?;
            print(context, &report, || render::apps::about(context, &report))?;
            return Ok(if report.finding.is_some() { exit::PROBLEMS } else { exit::FINE });
        }
        Subject::Path(path) => engine.explain_path(&path, &context.progress)?,
        Subject::Finding(name) => engine.explain_finding(&name, &context.progress)?,
    };
    print(context, &report, || render::explain::describe(context, &report))?;
    let problem = report.finding.as_ref().is_some_and(|f| f.verdict.is_problem());
    Ok(if problem { exit::PROBLEMS } else { exit::FINE })
}
