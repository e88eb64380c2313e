//! `savepoint`: record the system's state.

use std::io::{self, Read as _};
use std::path::{Path, PathBuf};
use std::sync::Arc;
use std::time::{Duration, Instant};

use veritum_core::event::{Event, Flow, Observer};
use veritum_core::machine::LiveDisk;
use veritum_core::model::Action;
use veritum_core::report::SavepointReport;
use veritum_core::work::{Engine, Settings};

use super::print;
use crate::args::{SavepointArgs, Switch};
use crate::context::Context;
use crate::errors::Failure;
use crate::output::put;
use crate::{exit, render};

/// The longest reason, in characters.
const MAX_REASON: usize = 200;
/// apt does not wait longer than this.
const PATIENCE: Duration = Duration::from_secs(20);
/// Longer lists of packages are not read, in bytes.
const MAX_LIST: u64 = 16 << 20;

pub(crate) fn run(context: &Context, args: &SavepointArgs) -> Result<u8, Failure> {
    if args.before_packages {
        return before_packages(context);
    }
    let reason = args.reason.as_deref().unwrap_or_default();
    if reason.chars().count() > MAX_REASON {
        let hint = Some(Action::from(format!("at most {MAX_REASON} characters")));
        return Err(Failure::usage("the reason is too long".into(), String::new(), hint));
    }
    let engine = context.open()?;
    if !super::recover::first(context, &engine)? {
        return Ok(exit::FINE);
    }
    if args.automatic == Some(Switch::Off) {
        let switched = engine.switch_automatic(false, Path::new(""), &context.progress)?;
        let report = engine.no_savepoint("automatic savepoints are off, and none was asked for".into());
        let report = SavepointReport { automatic: Some(false), change: switched.change(), ..report };
        print(context, &report, exit::FINE, || render::savepoints::switched(context, false, switched))?;
        return Ok(exit::FINE);
    }
    let reason = if args.automatic.is_some() { "automatic savepoints switched on" } else { reason };
    let mut report = engine.savepoint(reason, &context.progress)?;
    let status = if report.missing.is_empty() { exit::FINE } else { exit::PROBLEMS };
    if args.automatic == Some(Switch::On) {
        let switched = own_program().and_then(|own| Ok(engine.switch_automatic(true, &own, &context.progress)?));
        // The savepoint was made, whatever the error says of the switch.
        if switched.is_err() && !context.global.json {
            put(&render::savepoints::made(context, &report))?;
        }
        let switched = switched?;
        (report.automatic, report.change) = (Some(true), switched.change());
        if !context.global.json {
            put(&render::savepoints::switched(context, true, switched))?;
        }
    }
    print(context, &report, status, || render::savepoints::made(context, &report))?;
    engine.leave();
    Ok(status)
}

/// The file of this program.
fn own_program() -> Result<PathBuf, Failure> {
    let own = std::env::current_exe().and_then(std::fs::canonicalize);
    own.map_err(|e| Failure::not_done("cannot find this program's own file".into(), e.to_string(), None))
}

/// Called by apt: one line says what was done, and apt goes on whatever happens.
fn before_packages(context: &Context) -> Result<u8, Failure> {
    let began = Instant::now();
    let mut list = Vec::new();
    let _ = io::stdin().lock().take(MAX_LIST).read_to_end(&mut list);
    let words = match open(context) {
        Err(failure) => format!("no savepoint: {}", failure.what),
        Ok(engine) => {
            let patience = Patience { began };
            let report = engine.savepoint_before_packages(&packages(&list), &patience);
            match (report.savepoint, report.why_not) {
                (Some(number), None) => format!("savepoint {number} made ({:.1} s)", began.elapsed().as_secs_f64()),
                (Some(number), Some(_)) => format!("savepoint {number} was made before this update"),
                (None, why) => format!("no savepoint: {}", why.unwrap_or_default()),
            }
        }
    };
    put(&format!("veritum: {words}\n"))?;
    Ok(exit::FINE)
}

/// Opens the machine without stores and network: neither is needed, and either could take long.
fn open(context: &Context) -> Result<Engine, Failure> {
    let mut settings: Settings = context.settings.clone();
    settings.store = None;
    settings.from.clear();
    settings.repositories.network = false;
    Ok(Engine::open_briefly(settings, Arc::new(LiveDisk))?)
}

/// The names of the packages in apt's list: a `.deb` file in each line, `NAME_VERSION_ARCH.deb`.
fn packages(list: &[u8]) -> Vec<String> {
    let text = String::from_utf8_lossy(list);
    let name = |line: &str| Some(line.rsplit('/').next()?.split_once('_')?.0.to_owned());
    text.lines().filter_map(name).collect()
}

/// Stops the work when it takes too long.
struct Patience {
    began: Instant,
}

impl Observer for Patience {
    fn on_event(&self, _: Event<'_>) -> Flow {
        if self.began.elapsed() < PATIENCE { Flow::Continue } else { Flow::Stop }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn the_names_of_packages_are_those_of_their_files() {
        let list = b"/var/cache/apt/archives/libgunwale5_4.2-2_amd64.deb\n/x/gullmail_1%3a2_all.deb\nnonsense\n\n";
        assert_eq!(packages(list), ["libgunwale5", "gullmail"]);
    }

    #[test]
    fn apt_does_not_wait_for_ever() {
        let observer = |ago| Patience { began: Instant::now().checked_sub(Duration::from_secs(ago)).unwrap() };
        assert_eq!(observer(1).on_event(Event::End), Flow::Continue);
        assert_eq!(observer(21).on_event(Event::End), Flow::Stop);
    }
}
