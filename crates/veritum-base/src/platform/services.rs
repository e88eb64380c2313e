//! [`Services`]: the service manager, as far as it is needed: examining units, and holding some for a while.

use std::ffi::OsString;
use std::fmt::Debug;
use std::io;

use schemars::JsonSchema;
use serde::{Deserialize, Serialize};

/// Whether a unit runs.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
#[serde(rename_all = "kebab-case")]
pub enum Active {
    /// It runs, or is just being started.
    Running,
    /// It does not run.
    Idle,
    /// It ended with an error the last time.
    Failed,
}

/// Whether a unit may be started at all.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
#[serde(rename_all = "kebab-case")]
pub enum Masking {
    /// It may.
    None,
    /// Not before the machine is started again, or a person undoes that.
    ThisRun,
    /// An administrator keeps it from being started.
    Lasting,
}

/// How a unit is.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
pub struct UnitState {
    /// Whether it runs.
    pub active: Active,
    /// Whether it may be started.
    pub masking: Masking,
    /// Whether it starts by itself.
    pub enabled: bool,
    /// How it ended the last time, in the manager's word, when that was no success.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub result: Option<String>,
}

/// A unit that is held, with how it was before.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
pub struct PausedUnit {
    /// Its name.
    pub name: String,
    /// How it was.
    pub before: UnitState,
}

/// Why a service manager did not do what it was asked.
#[derive(Debug, thiserror::Error)]
#[non_exhaustive]
pub enum ServiceError {
    /// There is none, or it cannot be asked.
    #[error("the service manager is not available")]
    Io(#[from] io::Error),
    /// It said no.
    #[error("the service manager reports: {0}")]
    Refused(String),
}

/// A service manager.
pub trait Services: Debug + Send + Sync {
    /// How a unit is; none when there is no such unit.
    ///
    /// # Errors
    /// When the manager cannot be asked.
    fn look(&self, unit: &str) -> Result<Option<UnitState>, ServiceError>;

    /// The service that a process belongs to, where its control group does not say.
    fn service_of(&self, _pid: u32) -> Option<String> {
        None
    }

    /// Keeps a unit from being started, until it is let go or the machine starts again.
    ///
    /// # Errors
    /// When the manager does not do it.
    fn hold(&self, unit: &str) -> Result<(), ServiceError>;

    /// Takes [`Services::hold`] back.
    ///
    /// # Errors
    /// When the manager does not do it.
    fn let_go(&self, unit: &str) -> Result<(), ServiceError>;

    /// Stops a unit, and waits until it has ended.
    ///
    /// # Errors
    /// When the manager does not do it.
    fn stop(&self, unit: &str) -> Result<(), ServiceError>;

    /// Starts a unit without waiting for what it does.
    ///
    /// # Errors
    /// When the manager does not do it.
    fn start(&self, unit: &str) -> Result<(), ServiceError>;

    /// Forgets that a unit ended with an error.
    ///
    /// # Errors
    /// When the manager does not do it.
    fn forget_failure(&self, unit: &str) -> Result<(), ServiceError>;

    /// Has a program run under the manager's own care, whatever becomes of us.
    ///
    /// # Errors
    /// When the manager does not do it.
    fn run_beside(&self, name: &str, words: &[OsString]) -> Result<(), ServiceError>;
}

/// Where there is no service manager, or none that may be asked: nothing is known, and nothing can be held.
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

/// Holds units and stops those that run, in order.
///
/// # Errors
/// The first that could not be held; those before it are held.
pub fn pause(services: &dyn Services, units: &[PausedUnit]) -> Result<(), (String, ServiceError)> {
    for unit in units {
        let at = |e| (unit.name.clone(), e);
        let runs = unit.before.active == Active::Running;
        // A timer or path that still runs while it is masked, or finds its service so, ends with an error.
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

/// Puts units back as they were, the last first. Harmless when it is done again.
///
/// # Errors
/// The first that could not be put back; the others were tried all the same.
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
