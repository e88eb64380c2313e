//! `check`: examine, change nothing.

use std::ffi::OsString;

use veritum_core::report::{CheckReport, Outcome};

use super::print;
use crate::context::Context;
use crate::errors::Failure;
use crate::{exit, render, what};

pub(crate) fn run(context: &Context, words: &[OsString]) -> Result<u8, Failure> {
    let scope = what::scope(words, &context.settings.target)?;
    let mut engine = context.open()?;
    let report = engine.check(&scope, &context.progress)?;
    engine.leave();
    print(context, &report, || render::check::describe(context, &report, words))?;
    Ok(if report.stopped { context.progress.interruption() } else { status(&report) })
}

/// The exit status that a check comes to.
pub(crate) fn status(report: &CheckReport) -> u8 {
    let named_unexamined = report.limited && (report.outcome == Outcome::Unexamined || !report.unexamined.is_empty());
    let bad = report.outcome == Outcome::Problems
        || report.outcome == Outcome::Unexamined
        || named_unexamined
        || !report.unfinished_changes.is_empty();
    if bad { exit::PROBLEMS } else { exit::FINE }
}
