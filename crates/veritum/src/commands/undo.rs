//! `undo`: take a change back.

use veritum_core::report::UndoReport;
use veritum_core::work::{Agreement, WorkError};

use super::print;
use crate::context::Context;
use crate::errors::Failure;
use crate::output::{after_change, put};
use crate::prompt::agree;
use crate::{exit, render};

pub(crate) fn run(context: &Context, change: Option<u64>) -> Result<u8, Failure> {
    let engine = context.open()?;
    if !super::recover::first(context, &engine)? {
        return Ok(exit::FINE);
    }
    let (mut trouble, mut declined) = (None, false);
    let mut ask = |report: &UndoReport| {
        let shown = match context.global.json {
            true => Ok(()),
            false => put(&render::undo::preview(context, report)),
        };
        match shown.and_then(|()| agree(context, "Take this back now?")) {
            Ok(true) => Agreement::Yes,
            Ok(false) => {
                declined = true;
                Agreement::No
            }
            Err(failure) => {
                trouble = Some(failure);
                Agreement::No
            }
        }
    };
    let report = match engine.undo(change, context.global.plan, &context.progress, &mut ask) {
        Err(WorkError::NothingToUndo) => UndoReport::nothing(),
        other => other?,
    };
    if let Some(trouble) = trouble {
        return Err(trouble);
    }
    let told = print(context, &report, || render::undo::describe(context, &report));
    if report.plan_only { told } else { after_change(told) }?;
    let incomplete = report.changes.iter().any(|c| !c.refused.is_empty() || c.actions.iter().any(|a| a.why.is_some()));
    Ok(match incomplete && !declined {
        true => exit::PROBLEMS,
        false if report.running.restart_due => exit::RESTART_DUE,
        false => exit::FINE,
    })
}
