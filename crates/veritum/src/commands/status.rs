//! `status`: the machine, and what is pending.

use super::print;
use crate::context::Context;
use crate::errors::Failure;
use crate::{exit, render};

pub(crate) fn run(context: &Context) -> Result<u8, Failure> {
    // Package lists, and evidence of packages without an entry, are read only for what shows more of them.
    let whole = context.global.json || context.global.verbose;
    let engine = if whole { context.open()? } else { context.open_briefly()? };
    let rights = context.full_rights();
    let report = if whole { engine.status(rights)? } else { engine.brief_status(rights)? };
    let is_fine = report.unfinished_changes.is_empty() && report.damaged_changes.is_empty();
    let status = if is_fine { exit::FINE } else { exit::PROBLEMS };
    print(context, &report, status, || render::status::describe(context, &report))?;
    engine.leave();
    Ok(status)
}
