//! A substitute for a service manager: a folder with a file for each unit. For machines that are not running.

use std::ffi::OsString;
use std::fs;
use std::io;
use std::path::{Path, PathBuf};

use serde::{Deserialize, Serialize};

use super::services::{Active, Masking, ServiceError, Services, UnitState};

/// Larger files are not unit files.
const MAX: u64 = 64 << 10;

/// A unit's file, `NAME.json`.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct StandInUnit {
    /// Its state.
    #[serde(flatten)]
    pub state: UnitState,
    /// Its process.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub pid: Option<u32>,
    /// Operations that it refuses: `hold`, `let-go`, `stop`, `start`, `forget-failure`.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub refuses: Vec<String>,
}

/// Keeps the states of units in files.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct StandIn {
    folder: PathBuf,
}

impl StandIn {
    /// Opens the units of a folder.
    #[must_use]
    pub fn in_folder(folder: &Path) -> Self {
        Self { folder: folder.to_owned() }
    }

    fn path(&self, unit: &str) -> PathBuf {
        self.folder.join(format!("{unit}.json"))
    }

    fn read(&self, unit: &str) -> Result<Option<StandInUnit>, ServiceError> {
        let plain = !unit.is_empty() && unit.bytes().all(|b| b.is_ascii_alphanumeric() || b"-_.@".contains(&b));
        match fs::metadata(self.path(unit)) {
            Ok(file) if plain && file.is_file() && file.len() <= MAX => {}
            _ => return Ok(None),
        }
        let bytes = fs::read(self.path(unit))?;
        serde_json::from_slice(&bytes).map(Some).map_err(|e| ServiceError::Refused(format!("{unit}: {e}")))
    }

    /// Writes a unit's file.
    ///
    /// # Errors
    /// When the folder cannot be written.
    pub fn write(&self, unit: &str, state: &StandInUnit) -> io::Result<()> {
        fs::create_dir_all(&self.folder)?;
        let place = self.path(unit);
        let beside = place.with_extension("new");
        fs::write(&beside, serde_json::to_vec_pretty(state)?)?;
        fs::rename(beside, place)
    }

    fn change(&self, unit: &str, what: &str, change: impl FnOnce(&mut StandInUnit)) -> Result<(), ServiceError> {
        let Some(mut state) = self.read(unit)? else {
            return Err(ServiceError::Refused(format!("no such unit: {unit}")));
        };
        if state.refuses.iter().any(|refused| refused == what) {
            return Err(ServiceError::Refused(format!("{unit} refused: {what}")));
        }
        change(&mut state);
        Ok(self.write(unit, &state)?)
    }
}

impl Services for StandIn {
    fn look(&self, unit: &str) -> Result<Option<UnitState>, ServiceError> {
        Ok(self.read(unit)?.map(|unit| unit.state))
    }

    fn service_of(&self, pid: u32) -> Option<String> {
        let names = fs::read_dir(&self.folder).ok()?.flatten().filter_map(|e| e.file_name().into_string().ok());
        let mut units = names.filter_map(|name| Some(name.strip_suffix(".json")?.to_owned()));
        units.find(|unit| self.read(unit).ok().flatten().is_some_and(|state| state.pid == Some(pid)))
    }

    fn hold(&self, unit: &str) -> Result<(), ServiceError> {
        self.change(unit, "hold", |unit| {
            if unit.state.masking == Masking::None {
                unit.state.masking = Masking::ThisRun;
            }
        })
    }

    fn let_go(&self, unit: &str) -> Result<(), ServiceError> {
        self.change(unit, "let-go", |unit| {
            if unit.state.masking == Masking::ThisRun {
                unit.state.masking = Masking::None;
            }
        })
    }

    fn stop(&self, unit: &str) -> Result<(), ServiceError> {
        let pid = self.read(unit)?.and_then(|unit| unit.pid).and_then(|pid| i32::try_from(pid).ok());
        self.change(unit, "stop", |unit| {
            (unit.state.active, unit.pid) = (Active::Idle, None);
        })?;
        if let Some(pid) = pid.and_then(rustix::process::Pid::from_raw) {
            let _ = rustix::process::kill_process(pid, rustix::process::Signal::TERM);
        }
        Ok(())
    }

    fn start(&self, unit: &str) -> Result<(), ServiceError> {
        let masked = self.read(unit)?.is_some_and(|unit| unit.state.masking != Masking::None);
        if masked {
            return Err(ServiceError::Refused(format!("{unit} is masked")));
        }
        self.change(unit, "start", |unit| unit.state.active = Active::Running)
    }

    fn forget_failure(&self, unit: &str) -> Result<(), ServiceError> {
        self.change(unit, "forget-failure", |unit| {
            unit.state.result = None;
            if unit.state.active == Active::Failed {
                unit.state.active = Active::Idle;
            }
        })
    }

    fn run_beside(&self, _: &str, _: &[OsString]) -> Result<(), ServiceError> {
        Ok(())
    }
}

#[cfg(test)]
mod tests {
    use super::super::services::{PausedUnit, pause, resume};
    use super::*;

    fn unit(active: Active) -> StandInUnit {
        let state = UnitState { active, masking: Masking::None, enabled: true, result: None };
        StandInUnit { state, pid: None, refuses: Vec::new() }
    }

    #[test]
    fn what_is_paused_can_be_put_back_as_often_as_one_likes() {
        let dir = tempfile::tempdir().unwrap();
        let services = StandIn::in_folder(dir.path());
        services.write("fetch.service", &unit(Active::Running)).unwrap();
        services.write("fetch.timer", &unit(Active::Running)).unwrap();
        let before = |name: &str| PausedUnit { name: name.into(), before: services.look(name).unwrap().unwrap() };
        let units = [before("fetch.timer"), before("fetch.service")];
        pause(&services, &units).unwrap();
        let now = |name: &str| services.look(name).unwrap().unwrap();
        assert_eq!((now("fetch.service").active, now("fetch.timer").masking), (Active::Idle, Masking::ThisRun));
        assert!(services.start("fetch.service").is_err(), "it is held");
        for _ in 0..2 {
            resume(&services, &units).unwrap();
            assert!(units.iter().all(|unit| now(&unit.name) == unit.before));
        }
    }

    #[test]
    fn what_refuses_is_named_and_the_others_are_put_back_all_the_same() {
        let dir = tempfile::tempdir().unwrap();
        let services = StandIn::in_folder(dir.path());
        services.write("a.timer", &unit(Active::Running)).unwrap();
        services.write("b.timer", &StandInUnit { refuses: vec!["let-go".into()], ..unit(Active::Running) }).unwrap();
        let before = |name: &str| PausedUnit { name: name.into(), before: services.look(name).unwrap().unwrap() };
        let units = [before("a.timer"), before("b.timer")];
        pause(&services, &units).unwrap();
        assert_eq!(resume(&services, &units).unwrap_err().0, "b.timer");
        assert_eq!(services.look("a.timer").unwrap().unwrap().masking, Masking::None);
        assert!(services.look("../a").unwrap().is_none() && services.look("c.timer").unwrap().is_none());
    }
}
