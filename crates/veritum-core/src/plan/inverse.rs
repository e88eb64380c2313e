//! From what a change did to what takes it back.

use serde::{Deserialize, Serialize};

use super::{Action, Deed, KeptFolder};
use crate::model::{Digest, FileKind, LinkTarget, Stat};

/// What an action put at its place.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
pub struct Placed {
    /// Its numbers just after.
    pub stat: Stat,
    /// Its digest, when it is a file.
    pub digest: Option<Digest>,
    /// Where it leads, when it is a link.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub target: Option<LinkTarget>,
}

impl Placed {
    /// Whether that is what is there now. Not by its inode: a machine that was copied to another disk has others.
    #[must_use]
    pub fn is_still(&self, now: &Placed) -> bool {
        let (was, is) = (&self.stat, &now.stat);
        let numbers = (was.kind, was.mode, was.uid, was.gid, was.rdev) == (is.kind, is.mode, is.uid, is.gid, is.rdev);
        let content = was.kind != FileKind::File || was.size == is.size && self.digest == now.digest;
        numbers && content && self.target == now.target
    }
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
        (_, Some(kept)) => {
            Deed::Return { change, round, index: action.index, kept: kept.clone(), folder: folder.clone() }
        }
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
