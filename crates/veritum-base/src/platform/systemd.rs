//! systemd as the service manager, asked through systemctl(1) and systemd-run(1).

use std::ffi::OsString;
use std::path::Path;

use super::delegate::{Limit, run};
use super::services::{Active, Masking, ServiceError, Services, UnitState};

const SYSTEMCTL: &str = "/usr/bin/systemctl";
const SYSTEMD_RUN: &str = "/usr/bin/systemd-run";

/// The service manager of the running system.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default)]
pub struct Systemd;

impl Systemd {
    /// Whether the running system uses systemd (sd_booted(3)).
    #[must_use]
    pub fn is_here() -> bool {
        Path::new("/run/systemd/system").is_dir() && Path::new(SYSTEMCTL).exists()
    }

    fn ask(words: &[&str]) -> Result<String, ServiceError> {
        let ran = run(SYSTEMCTL, words, &[], Limit::SHORT)?;
        if ran.is_fine() { Ok(ran.said) } else { Err(ServiceError::Refused(ran.last_line())) }
    }
}

/// Parses the output of `systemctl show`; `None` when there is no such unit.
fn state(said: &str) -> Option<UnitState> {
    let field = |name: &str| said.lines().find_map(|line| line.strip_prefix(name)?.strip_prefix('='));
    let load = field("LoadState")?;
    if load == "not-found" {
        return None;
    }
    let unit_file = field("UnitFileState").unwrap_or_default();
    let masking = match (load, unit_file) {
        ("masked", "masked-runtime") => Masking::ThisRun,
        ("masked", _) => Masking::Lasting,
        _ => Masking::None,
    };
    let active = match field("ActiveState")? {
        "active" | "activating" | "reloading" | "deactivating" => Active::Running,
        "failed" => Active::Failed,
        _ => Active::Idle,
    };
    let result = field("Result").filter(|result| !result.is_empty() && *result != "success").map(str::to_owned);
    Some(UnitState { active, masking, enabled: unit_file.starts_with("enabled"), result })
}

impl Services for Systemd {
    fn look(&self, unit: &str) -> Result<Option<UnitState>, ServiceError> {
        let said = Self::ask(&["show", "--property=LoadState,ActiveState,UnitFileState,Result", "--", unit])?;
        Ok(state(&said))
    }

    fn hold(&self, unit: &str) -> Result<(), ServiceError> {
        Self::ask(&["mask", "--runtime", "--", unit])?;
        match self.look(unit)?.map(|state| state.masking) {
            Some(Masking::ThisRun | Masking::Lasting) => Ok(()),
            // A unit file by an administrator takes precedence over runtime state.
            _ => Err(ServiceError::Refused(format!("{unit} cannot be masked until reboot"))),
        }
    }

    fn let_go(&self, unit: &str) -> Result<(), ServiceError> {
        Self::ask(&["unmask", "--runtime", "--", unit]).map(drop)
    }

    fn stop(&self, unit: &str) -> Result<(), ServiceError> {
        Self::ask(&["stop", "--", unit]).map(drop)
    }

    fn start(&self, unit: &str) -> Result<(), ServiceError> {
        Self::ask(&["start", "--no-block", "--", unit]).map(drop)
    }

    fn forget_failure(&self, unit: &str) -> Result<(), ServiceError> {
        Self::ask(&["reset-failed", "--", unit]).map(drop)
    }

    fn run_beside(&self, name: &str, words: &[OsString]) -> Result<(), ServiceError> {
        let unit = OsString::from(format!("--unit={name}"));
        let fixed = ["--quiet", "--collect", "--no-block"].map(OsString::from);
        let all: Vec<OsString> = fixed.into_iter().chain([unit, "--".into()]).chain(words.iter().cloned()).collect();
        let ran = run(SYSTEMD_RUN, &all, &[], Limit::SHORT)?;
        if ran.is_fine() { Ok(()) } else { Err(ServiceError::Refused(ran.last_line())) }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_units_state_is_read() {
        let said = "Result=exit-code\nLoadState=loaded\nActiveState=failed\nUnitFileState=static\n";
        let failed = state(said).unwrap();
        assert_eq!((failed.active, failed.masking, failed.enabled), (Active::Failed, Masking::None, false));
        assert_eq!(failed.result.as_deref(), Some("exit-code"));
        let timer = "Result=success\nLoadState=masked\nActiveState=active\nUnitFileState=masked-runtime\n";
        let timer = state(timer).unwrap();
        assert_eq!((timer.active, timer.masking, timer.result), (Active::Running, Masking::ThisRun, None));
        assert_eq!(
            state("LoadState=masked\nActiveState=inactive\nUnitFileState=masked\n").unwrap().masking,
            Masking::Lasting
        );
        assert!(state("LoadState=not-found\nActiveState=inactive\n").is_none() && state("").is_none());
    }

    proptest::proptest! {
        #[test]
        fn a_damaged_answer_is_none_or_tells_of_a_unit_that_it_names_a_state_of(seed: u64) {
            let said = b"Result=success\nLoadState=loaded\nActiveState=active\nUnitFileState=enabled\n";
            let said = String::from_utf8_lossy(&crate::testkit::mutated(said, seed)).into_owned();
            if state(&said).is_some() {
                proptest::prop_assert!(said.contains("LoadState="), "{said}");
            }
        }
    }
}
