//! `repair`: check, show the plan, ask, put right, check again.

use std::ffi::OsString;

use veritum_core::model::{Area, quoted};
use veritum_core::report::RepairReport;
use veritum_core::work::{Agreement, Preview};

use super::{check, print, put};
use crate::context::Context;
use crate::errors::Failure;
use crate::prompt::agree;
use crate::{exit, render, what};

pub(crate) fn run(context: &Context, words: &[OsString]) -> Result<u8, Failure> {
    let scope = what::scope(words, &context.settings.target)?;
    if scope.names(Area::Updates) {
        let why = "what to do stands beside each finding of its check";
        let hint = Some(context.command("check updates"));
        return Err(Failure::usage(
            "updates can be looked at, and not be repaired from here yet".into(),
            why.into(),
            hint,
        ));
    }
    let mut workshop = context.open()?;
    let named: String = words.iter().map(|w| format!(" {}", quoted(w.as_encoded_bytes()))).collect();
    if context.global.plan {
        let report = workshop.plan_repair(&scope, &context.progress)?;
        print(context, &report, || render::repair::plan_words(context, &report, &named))?;
        return Ok(check::status(context, &report.before));
    }
    super::recover::first(context, &workshop)?;
    let mut trouble = None;
    let mut declined = false;
    let mut ask = |preview: &Preview<'_>| {
        if !context.global.json {
            put(&render::repair::preview_words(context, preview));
        }
        match agree("Put these right now?", context.global.yes) {
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
    let report = workshop.repair(&scope, &context.progress, &mut ask)?;
    // Once something was done, what came of it is the answer.
    if let Some(trouble) = trouble.filter(|_| report.after.is_none()) {
        return Err(trouble);
    }
    print(context, &report, || render::repair::words(context, &report, &named, declined))?;
    Ok(status(context, &report))
}

fn status(context: &Context, report: &RepairReport) -> u8 {
    let last = report.after.as_ref().unwrap_or(&report.before);
    let remains = report.areas.iter().any(|a| !a.remaining.is_empty());
    if remains || report.before.doubt.is_some() {
        return exit::PROBLEMS;
    }
    match check::status(context, last) {
        exit::FINE if report.running.restart_due => exit::RESTART_DUE,
        status => status,
    }
}
