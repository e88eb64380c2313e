//! `recover`: completes or rolls back interrupted changes.

use veritum_core::report::RecoverReport;

use super::print;
use crate::context::Context;
use crate::errors::Failure;
use crate::output::after_change;
use crate::prompt::agree;
use crate::{exit, render};

pub(crate) fn run(context: &Context) -> Result<u8, Failure> {
    let engine = context.open()?;
    let open = engine.interrupted()?;
    let nothing = RecoverReport { format: RecoverReport::FORMAT.into(), changes: Vec::new() };
    if open.is_empty() || context.global.plan {
        let status = if open.is_empty() { exit::FINE } else { exit::PROBLEMS };
        print(context, &nothing, status, || render::undo::recover_plan(&open))?;
        return Ok(status);
    }
    // On a mounted system the user is asked: it may be evidence.
    if !engine.machine().is_live() && !agree(context, &render::undo::recover_question(&open))? {
        print(context, &nothing, exit::FINE, || "Nothing was changed.\n".into())?;
        return Ok(exit::FINE);
    }
    let report = engine.recover(&context.progress)?;
    after_change(print(context, &report, exit::FINE, || render::undo::recovered(context, &report)))?;
    Ok(exit::FINE)
}

/// Before a command that writes: recovers interrupted changes first, and reports it. On a mounted system the user is asked.
/// Returns whether the command continues.
pub(crate) fn first(context: &Context, engine: &veritum_core::work::Engine) -> Result<bool, Failure> {
    let open = engine.interrupted()?;
    if open.is_empty() || context.global.plan {
        return Ok(true);
    }
    if !engine.machine().is_live() && !agree(context, &render::undo::recover_question(&open))? {
        super::put("Nothing was changed.\n")?;
        return Ok(false);
    }
    let report = engine.recover(&context.progress)?;
    if !context.global.json {
        super::put(&render::undo::recovered_lines(&report))?;
    }
    Ok(true)
}
