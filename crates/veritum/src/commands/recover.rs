//! `recover`: finish or take back what was interrupted.

use veritum_core::report::RecoverReport;

use super::print;
use crate::context::Context;
use crate::errors::Failure;
use crate::prompt::agree;
use crate::{exit, render};

pub(crate) fn run(context: &Context) -> Result<u8, Failure> {
    let workshop = context.open()?;
    let open = workshop.interrupted()?;
    let nothing = RecoverReport { format: RecoverReport::FORMAT.into(), changes: Vec::new() };
    if open.is_empty() || context.global.plan {
        print(context, &nothing, || render::undo::recover_plan(&open))?;
        return Ok(if open.is_empty() { exit::FINE } else { exit::PROBLEMS });
    }
    // On a system that is mounted from elsewhere somebody is asked: it may be evidence.
    if !workshop.machine().is_live() && !agree(&render::undo::recover_question(&open), context.global.yes)? {
        return Ok(exit::PROBLEMS);
    }
    let report = workshop.recover(&context.progress)?;
    print(context, &report, || render::undo::recovered(context, &report))?;
    Ok(exit::FINE)
}

/// Before a command that writes: what was interrupted is finished or taken back first, and that is said. On a system
/// that is mounted from elsewhere somebody is asked.
pub(crate) fn first(context: &Context, workshop: &veritum_core::work::Workshop) -> Result<(), Failure> {
    let open = workshop.interrupted()?;
    if open.is_empty() || context.global.plan {
        return Ok(());
    }
    if !workshop.machine().is_live() && !agree(&render::undo::recover_question(&open), context.global.yes)? {
        let why = "nothing is changed before it is finished or taken back".to_owned();
        let hint = Some("veritum recover".to_owned());
        return Err(Failure { what: "a change was interrupted".into(), why, hint, status: exit::PROBLEMS });
    }
    let report = workshop.recover(&context.progress)?;
    if !context.global.json {
        super::put(&render::undo::recovered_lines(&report));
    }
    Ok(())
}
