//! `repair`: check, show the plan, ask, put right, check again.

use std::ffi::OsString;

use veritum_core::model::{Scope, quoted};
use veritum_core::report::{ProofOutcome, RepairReport};
use veritum_core::work::{Agreement, ClearUpdates, Engine, Preview};

use super::{check, print};
use crate::context::Context;
use crate::errors::Failure;
use crate::output::{after_change, put};
use crate::prompt::agree;
use crate::{exit, render, what};
use veritum_core::areas::UPDATES;

/// What is to be repaired: updates are a matter of their own beside the rest.
enum What {
    Rest(Scope),
    Updates(ClearUpdates),
    Both(Scope, ClearUpdates),
}

struct Wanted {
    what: What,
    /// As it was typed.
    named: String,
    /// The same for a check.
    checked: String,
}

impl Wanted {
    fn read(context: &Context, words: &[OsString], everything: bool) -> Result<Self, Failure> {
        let mut scope = what::scope(words, &context.settings.target)?;
        let updates = scope.names(&UPDATES);
        if everything && !updates {
            return Err(Failure::usage(
                "--everything says how far the caches of updates are cleared".into(),
                "updates are not named".into(),
                Some(context.command("repair updates --everything")),
            ));
        }
        scope.areas.retain(|area| *area != UPDATES);
        let clear = ClearUpdates { everything, plan_only: context.global.plan };
        let what = match (updates, scope.is_whole()) {
            (false, _) => What::Rest(scope),
            (true, true) => What::Updates(clear),
            (true, false) => What::Both(scope, clear),
        };
        let mut named: String = words.iter().map(|w| format!(" {}", quoted(w.as_encoded_bytes()))).collect();
        let checked = named.clone();
        if everything {
            named.push_str(" --everything");
        }
        Ok(Self { what, named, checked })
    }
}

pub(crate) fn run(context: &Context, words: &[OsString], everything: bool) -> Result<u8, Failure> {
    let wanted = Wanted::read(context, words, everything)?;
    let mut engine = context.open()?;
    if context.global.plan {
        let (report, failure) = carry_out(context, &mut engine, &wanted, &mut |_| Agreement::No)?;
        print(context, &report, || render::repair::plan_words(context, &report, &wanted.named))?;
        return failure.map_or_else(|| Ok(check::status(&report.before)), Err);
    }
    if !super::recover::first(context, &engine)? {
        return Ok(exit::FINE);
    }
    let mut trouble = None;
    let mut declined = false;
    let mut ask = |preview: &Preview<'_>| {
        let shown = match context.global.json {
            true => Ok(()),
            false => put(&render::repair::preview_words(context, preview)),
        };
        match shown.and_then(|()| agree(context, "Put these right now?")) {
            Ok(true) => Agreement::Yes,
            Ok(false) => {
                declined = true;
                Agreement::No
            }
            Err(failure) => {
                trouble = Some(failure);
                Agreement::No
            }
        }
    };
    let (report, failure) = carry_out(context, &mut engine, &wanted, &mut ask)?;
    // Once something was done, what came of it is the answer.
    if let Some(trouble) = trouble.filter(|_| report.after.is_none()) {
        return Err(trouble);
    }
    let told =
        print(context, &report, || render::repair::words(context, &report, (&wanted.named, &wanted.checked), declined));
    if report.plan_only { told } else { after_change(told) }?;
    let status = if declined && report.plan_only { exit::FINE } else { status(&report) };
    failure.map_or(Ok(status), Err)
}

/// The rest first, then updates: what is damaged among the files may be what fetches them. What was done is told even when
/// updates could not be begun after it; then the reason stands beside it.
fn carry_out(
    context: &Context,
    engine: &mut Engine,
    wanted: &Wanted,
    ask: &mut dyn FnMut(&Preview<'_>) -> Agreement,
) -> Result<(RepairReport, Option<Failure>), Failure> {
    let rest = |engine: &mut Engine, scope: &Scope, ask: &mut dyn FnMut(&Preview<'_>) -> Agreement| {
        if context.global.plan {
            return engine.plan_repair(scope, &context.progress);
        }
        engine.repair(scope, &context.progress, ask)
    };
    Ok(match &wanted.what {
        What::Rest(scope) => (rest(engine, scope, ask)?, None),
        What::Updates(clear) => (engine.repair_updates(*clear, &context.progress, ask)?, None),
        What::Both(scope, clear) => {
            let report = rest(engine, scope, ask)?;
            match engine.repair_updates(*clear, &context.progress, ask) {
                Ok(updates) => (report.followed_by(updates), None),
                Err(e) => (report, Some(e.into())),
            }
        }
    })
}

fn status(report: &RepairReport) -> u8 {
    let last = report.after.as_ref().unwrap_or(&report.before);
    let remains = report.areas.iter().any(|a| !a.remaining.is_empty());
    let proof_failed = report.proof.as_ref().is_some_and(|p| p.outcome == ProofOutcome::Failed);
    if remains || proof_failed || report.before.doubt.is_some() {
        return exit::PROBLEMS;
    }
    match check::status(last) {
        exit::FINE if report.running.restart_due => exit::RESTART_DUE,
        status => status,
    }
}
