//! Services and timers that download and install updates, as the service manager reports them.

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
            let cause = format!("failed on its last run{how}");
            Some(Finding { remedy, ..told(Verdict::Failed, &cause)? })
        }
        (Masking::Lasting, _) if timer => told(Verdict::Disabled, "masked"),
        (Masking::ThisRun, _) if timer => told(Verdict::Disabled, "masked until the next reboot"),
        (Masking::None, Active::Idle) if timer && state.enabled => {
            told(Verdict::Disabled, "enabled but not running; it starts at the next reboot")
        }
        (Masking::None, Active::Idle) if timer => told(Verdict::Disabled, "disabled"),
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
            (Masking::Lasting, true, "masked"),
            (Masking::ThisRun, true, "masked until the next reboot"),
            (Masking::None, true, "enabled but not running; it starts at the next reboot"),
            (Masking::None, false, "disabled"),
        ] {
            let (verdict, cause) = told("fetch.timer", state(Active::Idle, masking, enabled)).unwrap();
            assert!(verdict == Verdict::Disabled && cause.contains(why), "{cause}");
        }
        assert!(told("fetch.timer", state(Active::Running, Masking::None, true)).is_none());
        assert!(told("fetch.service", state(Active::Idle, Masking::None, false)).is_none());
    }
}
