//! `veritum`: the thin command line over the core.
#![warn(clippy::unwrap_used)]

mod args;
mod commands;
mod config;
mod context;
mod document;
mod errors;
mod exit;
mod help;
mod memory;
mod options;
mod output;
mod places;
mod processes;
mod progress;
mod prompt;
mod render;
mod what;

use std::process::ExitCode;

fn main() -> ExitCode {
    memory::return_large_blocks();
    // The core reports errors as data; a panic is a bug of ours and must not print internals.
    std::panic::set_hook(Box::new(|info| {
        let place = info.location().map(|l| format!(" ({}:{})", l.file(), l.line())).unwrap_or_default();
        output::note(&format!("veritum: internal error{place}"));
        output::note("  `veritum recover` completes or rolls back an interrupted change.");
    }));
    let status = std::panic::catch_unwind(commands::run).unwrap_or(exit::NOT_CARRIED_OUT);
    ExitCode::from(status)
}
