//! `status`: the machine, and what is pending.

use super::print;
use crate::context::Context;
use crate::errors::Failure;
use crate::{exit, render};

pub(crate) fn run(context: &Context) -> Result<u8, Failure> {
    let engine = context.open()?;
    let report = engine.status(context.full_rights())?;
    let whole = report.unfinished_changes.is_empty() && report.damaged_changes.is_empty();
    let status = if whole { exit::FINE } else { exit::PROBLEMS };
    print(context, &report, status, || render::status::describe(context, &report))?;
    Ok(status)
}
