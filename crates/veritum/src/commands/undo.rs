//! `undo`: take a change back.

use veritum_core::report::UndoReport;
use veritum_core::work::Agreement;

use super::{print, put};
use crate::context::Context;
use crate::errors::Failure;
use crate::prompt::agree;
use crate::{exit, render};

pub(crate) fn run(context: &Context, change: Option<u64>) -> Result<u8, Failure> {
    let workshop = context.open()?;
    super::recover::first(context, &workshop)?;
    let mut trouble = None;
    let mut ask = |report: &UndoReport| {
        if !context.global.json {
            put(&render::undo::preview(context, report));
        }
        match agree("Take this back now?", context.global.yes) {
            Ok(true) => Agreement::Yes,
            Ok(false) => Agreement::No,
            Err(failure) => {
                trouble = Some(failure);
                Agreement::No
            }
        }
    };
    let report = workshop.undo(change, context.global.plan, &context.progress, &mut ask)?;
    if let Some(trouble) = trouble {
        return Err(trouble);
    }
    print(context, &report, || render::undo::words(context, &report))?;
    let incomplete = report.changes.iter().any(|c| !c.refused.is_empty() || c.actions.iter().any(|a| a.why.is_some()));
    Ok(match incomplete {
        true => exit::PROBLEMS,
        false if report.running.restart_due => exit::RESTART_DUE,
        false => exit::FINE,
    })
}
