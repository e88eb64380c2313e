//! One file for each command.

mod as_owner;
mod check;
mod complete;
mod demo;
mod explain;
pub(crate) mod guard;
mod list;
mod manuals;
mod recover;
mod repair;
mod rescue;
mod reset;
mod return_to;
mod savepoint;
mod schemas;
mod status;
mod store;
mod undo;

use clap::FromArgMatches as _;

use crate::args::{Cli, Verb};
use veritum_core::model::Action;

use crate::context::Context;
use crate::document::{Document, Head, document};
use crate::errors::{Failure, unknown_word};
use crate::options::{Given, refuse_without_effect};
use crate::output::put;
use crate::{exit, help};

/// Reads the arguments, runs the command, returns the exit status.
pub(crate) fn run() -> u8 {
    if std::env::args_os().len() <= 1 {
        return put(&help::overview()).map_or(exit::NOT_CARRIED_OUT, |()| exit::FINE);
    }
    let parsed = help::command().try_get_matches().and_then(|matches| Ok((Cli::from_arg_matches(&matches)?, matches)));
    let (cli, matches) = match parsed {
        Ok(parsed) => parsed,
        Err(e) if e.use_stderr() && wants_json() => {
            let what = e.render().to_string();
            let what = what.lines().next().unwrap_or_default().trim_start_matches("error: ").to_owned();
            report_failure(&Failure::usage(what, String::new(), Some(Action::command("veritum help"))), true);
            return exit::USAGE;
        }
        Err(e) => {
            let _ = e.print();
            return if e.use_stderr() { exit::USAGE } else { exit::FINE };
        }
    };
    let json = cli.global.json;
    let done = refuse_without_effect(&matches).and_then(|()| dispatch(cli, Given::new(&matches)));
    done.unwrap_or_else(|failure| {
        report_failure(&failure, json);
        failure.status
    })
}

fn dispatch(cli: Cli, given: Given) -> Result<u8, Failure> {
    if let Verb::Schemas { dir } = &cli.verb {
        return schemas::run(dir);
    }
    if let Verb::Manuals { dir } = &cli.verb {
        return manuals::run(dir);
    }
    if let Verb::Help { verb } = &cli.verb {
        return show_help(verb);
    }
    if let Verb::Demo(args) = &cli.verb {
        return demo::run(args, &cli.global);
    }
    // With another user's rights none of the administrator's files are read.
    if let Verb::AsOwner = &cli.verb {
        return as_owner::run();
    }
    if let Verb::Inside { system, temporary, program, words } = &cli.verb {
        let failed = veritum_core::platform::inside::become_inside(system, temporary, program, words);
        return Err(Failure::not_done(
            "cannot enter the mounted system".into(),
            veritum_core::model::error_words(&failed),
            None,
        ));
    }
    let context = Context::new(cli.global, given)?;
    command(&context, cli.verb).map_err(|mut failure| {
        failure.hint = failure.hint.map(|hint| context.completed(hint));
        if failure.status == exit::INTERRUPTED {
            failure.status = context.progress.interruption();
        }
        failure
    })
}

fn command(context: &Context, verb: Verb) -> Result<u8, Failure> {
    match verb {
        Verb::Status => status::run(context),
        Verb::Check { what } => check::run(context, &what),
        Verb::Guard { pid, started } => guard::run(context, pid, started),
        Verb::Repair(args) => repair::run(context, &args),
        Verb::Explain { what } => explain::run(context, &what),
        Verb::List { what, sizes, updates } => list::run(context, what, sizes, updates),
        Verb::Reset(args) => reset::run(context, args),
        Verb::Rescue(args) => rescue::run(context, &args),
        Verb::Savepoint(args) => savepoint::run(context, &args),
        Verb::Return(args) => return_to::run(context, &args),
        Verb::Undo { change } => undo::run(context, change),
        Verb::Recover => recover::run(context),
        Verb::Store(verb) => store::run(context, verb),
        Verb::Complete { words } => complete::run(context, &words),
        Verb::Help { .. }
        | Verb::Demo(_)
        | Verb::Schemas { .. }
        | Verb::Manuals { .. }
        | Verb::Inside { .. }
        | Verb::AsOwner => Ok(exit::FINE),
    }
}

/// Whether JSON was requested in a command line that cannot be parsed.
fn wants_json() -> bool {
    std::env::args_os().any(|word| word == "--json")
}

/// Shows the help page of a command.
fn show_help(words: &[String]) -> Result<u8, Failure> {
    match help::page(words) {
        Some(page) => put(&page).map(|()| exit::FINE),
        None => {
            let known: Vec<&str> = help::TOPICS.iter().map(|topic| topic.verb).collect();
            Err(unknown_word("command", &words.join(" "), &known))
        }
    }
}

/// Prints a result: as JSON if requested, else as text; `status` is the exit status that follows.
pub(crate) fn print<T: Document>(
    context: &Context,
    result: &T,
    status: u8,
    words: impl FnOnce() -> String,
) -> Result<(), Failure> {
    if !context.global.json {
        return put(&words());
    }
    put_json(result, &Head { machine: context.machine(), at: context.settings.now }, status)
}

/// Prints a document.
fn put_json<T: Document>(result: &T, head: &Head, status: u8) -> Result<(), Failure> {
    let whole = document(result, head, status).and_then(|whole| serde_json::to_string_pretty(&whole));
    let text = whole.map_err(|e| Failure::not_done("cannot write the result as JSON".into(), e.to_string(), None))?;
    put(&(text + "\n"))
}

/// Reports why a command failed: on stderr, or as a document if JSON was requested.
fn report_failure(failure: &Failure, json: bool) {
    let head = Head { machine: None, at: jiff::Timestamp::now() };
    let shown = json && put_json(&failure.report(), &head, failure.status).is_ok();
    if !shown {
        failure.print();
    }
}
