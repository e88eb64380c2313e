//! `check`: examine, change nothing.

use std::ffi::OsString;

use veritum_core::model::Reach;
use veritum_core::report::{CheckReport, Outcome};

use super::print;
use crate::context::Context;
use crate::errors::Failure;
use crate::{exit, render, what};

pub(crate) fn run(context: &Context, words: &[OsString]) -> Result<u8, Failure> {
    let mut scope = what::scope(words, &context.settings.root)?;
    if words.is_empty() {
        scope.reach = Reach::Local;
    }
    let mut engine = context.open()?;
    let report = engine.check(&scope, &context.progress)?;
    engine.leave();
    let status = if report.stopped { context.progress.interruption() } else { status(&report) };
    print(context, &report, status, || render::check::describe(context, &report, words))?;
    Ok(status)
}

/// The exit status of a check.
pub(crate) fn status(report: &CheckReport) -> u8 {
    let named_unexamined = report.limited && (report.outcome == Outcome::Unchecked || !report.unexamined.is_empty());
    let bad = report.outcome == Outcome::Damaged
        || report.outcome == Outcome::Unchecked
        || named_unexamined
        || !report.unfinished_changes.is_empty();
    if bad { exit::PROBLEMS } else { exit::FINE }
}
