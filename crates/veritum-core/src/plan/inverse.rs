//! From what a change did to what takes it back.

use serde::{Deserialize, Serialize};

use super::{Action, Deed, KeptFolder};
use crate::model::{Digest, Stat};

/// What an action put at its place.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
pub struct Placed {
    /// Its numbers just after.
    pub stat: Stat,
    /// Its digest, when it is a file.
    pub digest: Option<Digest>,
}

/// What came of one action.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
pub struct Outcome {
    /// The action's number.
    pub index: u32,
    /// Why it was not done; none when it was.
    pub failed: Option<String>,
    /// What stands at the place now, when something does.
    pub placed: Option<Placed>,
    /// What was displaced, as it is kept.
    pub kept: Option<Placed>,
}

/// The action that takes an action back; none when it did nothing.
#[must_use]
pub fn inverse(
    action: &Action,
    outcome: &Outcome,
    change: u64,
    round: u32,
    folder: &KeptFolder,
    index: u32,
) -> Option<Action> {
    if outcome.failed.is_some() {
        return None;
    }
    let deed = match (&action.deed, &outcome.kept) {
        (Deed::SetMeta { .. }, _) => {
            let before = action.before?;
            Deed::SetMeta { mode: before.mode, uid: before.uid, gid: before.gid }
        }
        (_, Some(kept)) => Deed::Return {
            change,
            round,
            index: action.index,
            kept: kept.stat,
            digest: kept.digest,
            folder: folder.clone(),
        },
        (_, None) => {
            outcome.placed.as_ref()?;
            Deed::SetAside
        }
    };
    Some(Action {
        index,
        findings: action.findings.clone(),
        listed: action.listed.clone(),
        place: action.place.clone(),
        component: action.component.clone(),
        before: outcome.placed.as_ref().map(|p| p.stat),
        deed,
    })
}
