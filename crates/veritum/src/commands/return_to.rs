//! `return`: take the system back to a savepoint.

use veritum_core::model::quoted;
use veritum_core::report::ReturnReport;
use veritum_core::savepoints::ReturnWanted;

use super::print;
use crate::args::ReturnArgs;
use crate::context::Context;
use crate::errors::Failure;
use crate::output::after_change;
use crate::prompt::Question;
use crate::{exit, render};

pub(crate) fn run(context: &Context, args: &ReturnArgs) -> Result<u8, Failure> {
    let wanted = ReturnWanted {
        packages: args.package.clone(),
        config: args.config_files,
        accounts: args.accounts,
        exact: args.exact,
    };
    let engine = context.open()?;
    if !super::recover::first(context, &engine)? {
        return Ok(exit::FINE);
    }
    let again = again(args);
    let mut question = Question::new(context, "Return to it now?");
    let mut ask = |report: &ReturnReport| question.ask(|| render::returned::preview(context, report));
    let plan = context.global.plan;
    let report = engine.return_to(args.savepoint, &wanted, plan, &context.progress, &mut ask)?;
    if let Some(trouble) = question.trouble() {
        return Err(trouble);
    }
    let declined = question.declined;
    let status = match &report {
        report if !report.lost.is_empty() => exit::PROBLEMS,
        report if report.running.restart_due => exit::RESTART_DUE,
        _ => exit::FINE,
    };
    let told = print(context, &report, status, || render::returned::describe(context, &report, &again, declined));
    if report.plan_only { told } else { after_change(told) }?;
    Ok(status)
}

/// The same command as typed, without options that all commands have.
fn again(args: &ReturnArgs) -> String {
    let mut words = format!("return {}", args.savepoint);
    for name in &args.package {
        words.push_str(&format!(" --package {}", quoted(name.as_bytes())));
    }
    let switches = [("--config-files", args.config_files), ("--accounts", args.accounts), ("--exact", args.exact)];
    words.extend(switches.iter().filter(|(_, given)| *given).map(|(switch, _)| format!(" {switch}")));
    words
}
