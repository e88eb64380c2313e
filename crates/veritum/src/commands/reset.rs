//! `reset`: sets an application's settings aside.

use std::os::unix::ffi::OsStrExt as _;

use clap::ValueEnum as _;
use veritum_core::model::quoted;
use veritum_core::report::{HomeReset, ResetReport};
use veritum_core::work::{Only, ResetWanted};

use super::print;
use crate::args::{OnlyPart, ResetArgs};
use crate::context::Context;
use crate::errors::Failure;
use crate::output::after_change;
use crate::prompt::Question;
use crate::{exit, render};

pub(crate) fn run(context: &Context, args: ResetArgs) -> Result<u8, Failure> {
    let name = args.app.as_bytes();
    let name = String::from_utf8_lossy(name.strip_prefix(b"app:").unwrap_or(name)).into_owned();
    let again = again(&name, &args);
    let wanted = ResetWanted {
        user: args.user,
        only: args.only.map(|only| match only {
            OnlyPart::Cache => Only::Cache,
            OnlyPart::Settings => Only::Settings,
            OnlyPart::AddOns => Only::AddOns,
            OnlyPart::Locks => Only::Locks,
        }),
        keep: args.keep,
        prove: args.prove,
    };
    let engine = context.open()?;
    if !super::recover::first(context, &engine)? {
        return Ok(exit::FINE);
    }
    let mut question = Question::new(context, "Reset now?");
    let mut ask = |report: &ResetReport| question.ask(|| render::reset::preview(context, report));
    let report = engine.reset(&name, &wanted, context.global.plan, &context.progress, &mut ask)?;
    if let Some(trouble) = question.trouble() {
        return Err(trouble);
    }
    let declined = question.declined;
    let incomplete = |home: &HomeReset| {
        let failed = home.actions.iter().any(|action| action.why.is_some());
        home.trouble.is_some() || !home.running.is_empty() || !home.blocked.is_empty() || failed
    };
    let status = if !declined && report.homes.iter().any(incomplete) { exit::PROBLEMS } else { exit::FINE };
    let told = print(context, &report, status, || render::reset::describe(context, &report, &again, declined));
    if report.plan_only { told } else { after_change(told) }?;
    Ok(status)
}

/// The same command as typed, without `--yes`.
fn again(name: &str, args: &ResetArgs) -> String {
    let mut words = format!("reset {}", quoted(name.as_bytes()));
    words.extend(args.user.iter().map(|user| format!(" --user {}", quoted(user.as_bytes()))));
    words.extend(args.only.iter().filter_map(|only| Some(format!(" --only {}", only.to_possible_value()?.get_name()))));
    words.extend(args.keep.iter().map(|part| format!(" --keep {}", quoted(part.as_bytes()))));
    words
}
