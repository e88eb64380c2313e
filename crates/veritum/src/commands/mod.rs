//! One command, one file.

mod as_owner;
mod check;
mod demo;
mod explain;
pub(crate) mod guard;
mod list;
mod manuals;
mod recover;
mod repair;
mod reset;
mod schemas;
mod status;
mod store;
mod undo;

use clap::{CommandFactory as _, FromArgMatches as _};

use crate::args::{Cli, Verb};
use crate::context::Context;
use crate::errors::Failure;
use crate::exit;
use crate::options::{Given, refuse_without_effect};
use crate::output::put;

/// Reads the arguments, runs the command, answers the exit status.
pub(crate) fn run() -> u8 {
    // Settings from the environment count as arguments to the parser; nothing typed is nothing typed.
    if std::env::args_os().len() <= 1 {
        let _ = Cli::command().print_help();
        return exit::USAGE;
    }
    let parsed = Cli::command().try_get_matches().and_then(|matches| Ok((Cli::from_arg_matches(&matches)?, matches)));
    let (cli, matches) = match parsed {
        Ok(parsed) => parsed,
        Err(e) => {
            let _ = e.print();
            return if e.use_stderr() { exit::USAGE } else { exit::FINE };
        }
    };
    let done = refuse_without_effect(&matches).and_then(|()| dispatch(cli, Given::new(&matches)));
    match done {
        Ok(status) => status,
        Err(failure) => {
            failure.print();
            failure.status
        }
    }
}

fn dispatch(cli: Cli, given: Given) -> Result<u8, Failure> {
    if let Verb::Schemas { dir } = &cli.verb {
        return schemas::run(dir);
    }
    if let Verb::Manuals { dir } = &cli.verb {
        return manuals::run(dir);
    }
    if let Verb::Demo(args) = &cli.verb {
        return demo::run(args, &cli.global);
    }
    // With another user's rights nothing of the operator's is read.
    if let Verb::AsOwner = &cli.verb {
        return as_owner::run();
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
        Verb::Guard { pid, begun } => guard::run(context, pid, begun),
        Verb::Repair { what, everything } => repair::run(context, &what, everything),
        Verb::Explain { what } => explain::run(context, &what),
        Verb::List { what, sizes, updates } => list::run(context, what, sizes, updates),
        Verb::Reset(args) => reset::run(context, args),
        Verb::Undo { change } => undo::run(context, change),
        Verb::Recover => recover::run(context),
        Verb::Store(verb) => store::run(context, verb),
        Verb::Demo(_) | Verb::Schemas { .. } | Verb::Manuals { .. } | Verb::AsOwner => Ok(exit::FINE),
    }
}

/// Prints a result: JSON when asked for, else words.
pub(crate) fn print<T: serde::Serialize>(
    context: &Context,
    result: &T,
    words: impl FnOnce() -> String,
) -> Result<(), Failure> {
    let text = if context.global.json {
        let json = serde_json::to_string_pretty(result)
            .map_err(|e| Failure::not_done("the result cannot be written as JSON".into(), e.to_string(), None))?;
        json + "\n"
    } else {
        words()
    };
    put(&text)
}
