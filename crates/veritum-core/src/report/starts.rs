//! The document of `explain bootchain`.

use schemars::JsonSchema;
use serde::{Deserialize, Serialize};

use super::MachineReport;

/// A way to start the machine with fewer parts, or otherwise than usual.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
pub struct StartWay {
    /// Its name.
    pub name: String,
    /// The entries of the boot menu that do it, as the menu shows them.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub entries: Vec<String>,
    /// What is added to the kernel's arguments.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub argument: Option<String>,
    /// What it does.
    pub does: String,
    /// How to get back.
    pub back: String,
}

/// What `explain bootchain` prints (`veritum.starts/1`).
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
pub struct StartsReport {
    /// `veritum.starts/1`.
    pub format: String,
    /// The machine.
    pub machine: MachineReport,
    /// How to get to the boot menu, and to change a kernel's arguments there, in order.
    pub menu: Vec<String>,
    /// The ways, mildest first.
    pub ways: Vec<StartWay>,
    /// What must be known before.
    pub remarks: Vec<String>,
}

impl StartsReport {
    /// The format's name.
    pub const FORMAT: &'static str = "veritum.starts/1";
}
