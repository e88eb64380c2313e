//! `status`: what machine this is, and what is pending.

use super::print;
use crate::context::Context;
use crate::errors::Failure;
use crate::{exit, render};

pub(crate) fn run(context: &Context) -> Result<u8, Failure> {
    let engine = context.open()?;
    let report = engine.status(context.full_rights())?;
    print(context, &report, || render::status::describe(context, &report))?;
    let whole = report.unfinished_changes.is_empty() && report.damaged_changes.is_empty();
    Ok(if whole { exit::FINE } else { exit::PROBLEMS })
}
