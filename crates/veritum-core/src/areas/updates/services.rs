//! Services and timers that fetch and apply updates, as the service manager tells of them.

use super::{ExaminedPart, about};
use crate::model::{ActionKind, Finding, Remedy, Subject, Verdict};
use crate::platform::services::{Active, Masking, UnitState};

/// Judges units that are known to the service manager.
pub(crate) fn services(units: &[(String, UnitState)]) -> ExaminedPart {
    let mut part = ExaminedPart::default();
    for (name, state) in units {
        part.examined += 1;
        if let Some(finding) = judge(name, state) {
            part.add(finding);
        }
    }
    part
}

fn judge(name: &str, state: &UnitState) -> Option<Finding> {
    let told = |verdict, cause: &str| Some(about(Subject::Service { name: name.to_owned() }, verdict, cause, None));
    let timer = name.ends_with(".timer");
    match (state.masking, state.active) {
        (_, Active::Failed) => {
            let how = state.result.as_ref().map(|result| format!(" ({result})")).unwrap_or_default();
            let remedy = Some(Remedy { action: ActionKind::ForgetFailure, from: None, download: None });
            let cause =
                format!("the last time it ended with an error{how}; journalctl --unit {name} tells what it said");
            Some(Finding { remedy, ..told(Verdict::Failed, &cause)? })
        }
        (Masking::Lasting, _) if timer => told(Verdict::SwitchedOff, "it is masked"),
        (Masking::ThisRun, _) if timer => told(Verdict::SwitchedOff, "it is masked until the machine is started anew"),
        (Masking::None, Active::Idle) if timer && state.enabled => {
            told(Verdict::SwitchedOff, "it is switched on and does not run: it begins when the machine is started anew")
        }
        (Masking::None, Active::Idle) if timer => told(Verdict::SwitchedOff, "it is not switched on"),
        _ => None,
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_failed_service_is_a_problem_and_a_timer_that_is_off_a_note() {
        let state = |active, masking, enabled| UnitState { active, masking, enabled, result: None };
        let told = |name: &str, state: UnitState| {
            services(&[(name.to_owned(), state)]).findings.pop().map(|f| (f.verdict, f.cause.unwrap()))
        };
        let failed = UnitState { result: Some("exit-code".into()), ..state(Active::Failed, Masking::None, false) };
        let (verdict, cause) = told("fetch.service", failed).unwrap();
        assert!(verdict == Verdict::Failed && verdict.is_problem() && cause.contains("(exit-code)"));
        for (masking, enabled, why) in [
            (Masking::Lasting, true, "it is masked"),
            (Masking::ThisRun, true, "started anew"),
            (Masking::None, true, "does not run"),
            (Masking::None, false, "not switched on"),
        ] {
            let (verdict, cause) = told("fetch.timer", state(Active::Idle, masking, enabled)).unwrap();
            assert!(verdict == Verdict::SwitchedOff && cause.contains(why), "{cause}");
        }
        assert!(told("fetch.timer", state(Active::Running, Masking::None, true)).is_none());
        assert!(told("fetch.service", state(Active::Idle, Masking::None, false)).is_none());
    }
}
