//! `undo`: undo a change.

use veritum_core::report::UndoReport;
use veritum_core::work::WorkError;

use super::print;
use crate::context::Context;
use crate::errors::Failure;
use crate::output::after_change;
use crate::prompt::Question;
use crate::{exit, render};

pub(crate) fn run(context: &Context, change: Option<u64>) -> Result<u8, Failure> {
    let engine = context.open()?;
    if !super::recover::first(context, &engine)? {
        return Ok(exit::FINE);
    }
    let mut question = Question::new(context, "Undo this now?");
    let mut ask = |report: &UndoReport| question.ask(|| render::undo::preview(context, report));
    let report = match engine.undo(change, context.global.plan, &context.progress, &mut ask) {
        Err(WorkError::NothingToUndo) => UndoReport::nothing(),
        other => other?,
    };
    if let Some(trouble) = question.trouble() {
        return Err(trouble);
    }
    let incomplete = report.changes.iter().any(|c| !c.refused.is_empty() || c.actions.iter().any(|a| a.why.is_some()));
    let status = match incomplete && !question.declined {
        true => exit::PROBLEMS,
        false if report.running.restart_due => exit::RESTART_DUE,
        false => exit::FINE,
    };
    let told = print(context, &report, status, || render::undo::describe(context, &report));
    if report.plan_only { told } else { after_change(told) }?;
    Ok(status)
}
