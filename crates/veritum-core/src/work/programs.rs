//! Programs that still use what a change replaced: only on a running system.

use crate::change::{ChangeContext, RoundReceipt, displaced};
use crate::machine::{Program, holders};
use crate::report::{ProgramReport, RunningReport};
use crate::system::System;

/// Finds running programs that use what these rounds displaced.
pub(super) fn still_running<'r>(
    system: &System,
    context: &ChangeContext<'_>,
    rounds: impl Iterator<Item = (u64, &'r RoundReceipt)>,
) -> RunningReport {
    if !system.machine.is_live() {
        return RunningReport::default();
    }
    let found = holders(&rounds.flat_map(|(change, receipt)| displaced(context, change, receipt)).collect());
    let programs = grouped(&found.programs);
    RunningReport { restart_due: !programs.is_empty(), programs, programs_unseen: found.unseen }
}

/// One line for each service, and for each program that belongs to none.
fn grouped(found: &[Program]) -> Vec<ProgramReport> {
    let same = |a: &Program, b: &Program| (&a.service, &a.name) == (&b.service, &b.name);
    let one = |all: &[Program]| ProgramReport {
        service: all[0].service.clone(),
        name: all[0].name.clone(),
        pids: all.iter().map(|p| p.pid).collect(),
    };
    found.chunk_by(same).map(one).collect()
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn processes_of_one_service_are_one_line() {
        let one = |service: Option<&str>, name: &str, pid| Program {
            service: service.map(Into::into),
            name: name.into(),
            pid,
        };
        let found = [one(None, "quay", 7), one(Some("pier.service"), "pier", 8), one(Some("pier.service"), "pier", 9)];
        let lines = grouped(&found);
        assert_eq!(lines.len(), 2);
        assert_eq!((lines[1].name.as_str(), &lines[1].pids[..]), ("pier", &[8, 9][..]));
    }
}
