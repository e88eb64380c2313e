//! [`Services`]: the service manager, as far as Veritum needs it: examining units, and holding some for a while.

use std::ffi::OsString;
use std::fmt::Debug;
use std::io;

use schemars::JsonSchema;
use serde::{Deserialize, Serialize};

/// Whether a unit runs.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
#[serde(rename_all = "kebab-case")]
pub enum Active {
    /// It is running or starting.
    Running,
    /// It is not running.
    Idle,
    /// Its last run failed.
    Failed,
}

/// Whether a unit is masked.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
#[serde(rename_all = "kebab-case")]
pub enum Masking {
    /// It is not masked.
    None,
    /// Masked until the next boot, or until it is unmasked.
    ThisRun,
    /// Masked by an administrator.
    Lasting,
}

/// The state of a unit.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
pub struct UnitState {
    /// Whether it is running.
    pub active: Active,
    /// Whether it is masked.
    pub masking: Masking,
    /// Whether it starts automatically.
    pub enabled: bool,
    /// The manager's word for how its last run failed, if it did.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub result: Option<String>,
}

/// A held unit, with its earlier state.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
pub struct PausedUnit {
    /// Its name.
    pub name: String,
    /// Its earlier state.
    pub before: UnitState,
}

/// Why the service manager did not do what it was asked.
#[derive(Debug, thiserror::Error)]
#[non_exhaustive]
pub enum ServiceError {
    /// There is none, or it cannot be reached.
    #[error("the service manager is not available")]
    Io(#[from] io::Error),
    /// It refused.
    #[error("the service manager reports: {0}")]
    Refused(String),
}

/// A service manager.
pub trait Services: Debug + Send + Sync {
    /// The state of a unit; `None` when there is no such unit.
    ///
    /// # Errors
    /// When the manager cannot be reached.
    fn look(&self, unit: &str) -> Result<Option<UnitState>, ServiceError>;

    /// The service to which a process belongs, if its control group does not name it.
    fn service_of(&self, _pid: u32) -> Option<String> {
        None
    }

    /// Prevents a unit from being started, until it is released or the machine is rebooted.
    ///
    /// # Errors
    /// When the manager does not do it.
    fn hold(&self, unit: &str) -> Result<(), ServiceError>;

    /// Releases a unit that [`Services::hold`] holds.
    ///
    /// # Errors
    /// When the manager does not do it.
    fn let_go(&self, unit: &str) -> Result<(), ServiceError>;

    /// Stops a unit and waits until it has ended.
    ///
    /// # Errors
    /// When the manager does not do it.
    fn stop(&self, unit: &str) -> Result<(), ServiceError>;

    /// Starts a unit without waiting for it.
    ///
    /// # Errors
    /// When the manager does not do it.
    fn start(&self, unit: &str) -> Result<(), ServiceError>;

    /// Resets a unit's failed state.
    ///
    /// # Errors
    /// When the manager does not do it.
    fn forget_failure(&self, unit: &str) -> Result<(), ServiceError>;

    /// Runs a program under the manager's control, independent of this process.
    ///
    /// # Errors
    /// When the manager does not do it.
    fn run_beside(&self, name: &str, words: &[OsString]) -> Result<(), ServiceError>;
}

/// For systems without a reachable service manager: nothing is known, and nothing can be held.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default)]
pub struct NoServices;

fn none() -> ServiceError {
    ServiceError::Refused("not available".into())
}

impl Services for NoServices {
    fn look(&self, _: &str) -> Result<Option<UnitState>, ServiceError> {
        Ok(None)
    }

    fn hold(&self, _: &str) -> Result<(), ServiceError> {
        Err(none())
    }

    fn let_go(&self, _: &str) -> Result<(), ServiceError> {
        Err(none())
    }

    fn stop(&self, _: &str) -> Result<(), ServiceError> {
        Err(none())
    }

    fn start(&self, _: &str) -> Result<(), ServiceError> {
        Err(none())
    }

    fn forget_failure(&self, _: &str) -> Result<(), ServiceError> {
        Err(none())
    }

    fn run_beside(&self, _: &str, _: &[OsString]) -> Result<(), ServiceError> {
        Err(none())
    }
}

/// Holds units and stops those that are running, in order.
///
/// # Errors
/// The first that could not be held; those before it are held.
pub fn pause(services: &dyn Services, units: &[PausedUnit]) -> Result<(), (String, ServiceError)> {
    for unit in units {
        let at = |e| (unit.name.clone(), e);
        let runs = unit.before.active == Active::Running;
        // A timer or path unit that is running while its service is masked fails.
        let first = runs && !unit.name.ends_with(".service");
        if first {
            services.stop(&unit.name).map_err(at)?;
        }
        services.hold(&unit.name).map_err(at)?;
        if runs && !first {
            services.stop(&unit.name).map_err(at)?;
        }
    }
    Ok(())
}

/// Restores units to their earlier state, in reverse order. Idempotent.
///
/// # Errors
/// The first that could not be restored; the others were tried all the same.
pub fn resume(services: &dyn Services, units: &[PausedUnit]) -> Result<(), (String, ServiceError)> {
    let mut trouble = None;
    let one = |unit: &PausedUnit| -> Result<(), ServiceError> {
        let now = services.look(&unit.name)?;
        if unit.before.masking == Masking::None && now.as_ref().is_none_or(|n| n.masking == Masking::ThisRun) {
            services.let_go(&unit.name)?;
        }
        let now = services.look(&unit.name)?;
        if unit.before.active == Active::Running && now.is_some_and(|n| n.active != Active::Running) {
            services.start(&unit.name)?;
        }
        Ok(())
    };
    for unit in units.iter().rev() {
        if let Err(e) = one(unit) {
            trouble.get_or_insert((unit.name.clone(), e));
        }
    }
    trouble.map_or(Ok(()), Err)
}
