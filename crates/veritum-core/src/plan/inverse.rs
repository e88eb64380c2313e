//! From the results of a change to the actions that undo it.

use serde::{Deserialize, Serialize};

use super::{ActionKey, KeptFolder, Operation, PlannedAction};
use crate::model::{Digest, FileKind, LinkTarget, Stat};

/// What an action created at its place.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
pub struct Placed {
    /// Its status just after.
    pub stat: Stat,
    /// Its digest, if it is a file.
    pub digest: Option<Digest>,
    /// Its target, if it is a symlink.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub target: Option<LinkTarget>,
}

impl Placed {
    /// Whether that is still there. Inodes are not compared: on a machine that was copied to another disk they differ.
    #[must_use]
    pub fn is_still(&self, now: &Placed) -> bool {
        let (was, is) = (&self.stat, &now.stat);
        let numbers = (was.kind, was.mode, was.uid, was.gid, was.rdev) == (is.kind, is.mode, is.uid, is.gid, is.rdev);
        let content = was.kind != FileKind::File || was.size == is.size && self.digest == now.digest;
        numbers && content && self.target == now.target
    }
}

/// The result of one action.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
pub struct ActionOutcome {
    /// The action's number.
    pub index: u32,
    /// Why it failed; `None` when it did not.
    pub failed: Option<String>,
    /// The object at the place afterwards, if any.
    pub placed: Option<Placed>,
    /// The displaced object, as it is kept.
    pub kept: Option<Placed>,
}

/// The action that undoes an action; `None` when it did nothing.
#[must_use]
pub fn inverse(
    action: &PlannedAction,
    outcome: &ActionOutcome,
    change: u64,
    round: u32,
    folder: &KeptFolder,
    index: u32,
) -> Option<PlannedAction> {
    if outcome.failed.is_some() || action.operation == Operation::Free {
        return None;
    }
    let operation = match (&action.operation, &outcome.kept) {
        (Operation::SetMeta { .. }, _) => {
            let before = action.before?;
            Operation::SetMeta { mode: before.mode, uid: before.uid, gid: before.gid }
        }
        (_, Some(kept)) => {
            Operation::Return { change, round, index: action.index, kept: kept.clone(), folder: folder.clone() }
        }
        (_, None) => {
            outcome.placed.as_ref()?;
            Operation::SetAside
        }
    };
    Some(PlannedAction {
        index,
        findings: action.findings.clone(),
        listed: action.listed.clone(),
        place: action.place.clone(),
        package: action.package.clone(),
        before: outcome.placed.as_ref().map(|p| p.stat),
        operation,
        reverts: Some(ActionKey { round, index: action.index }),
    })
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::model::{Identity, Instant, SystemPath};

    fn stat(kind: FileKind, ino: u64) -> Stat {
        let now = Instant { s: 1_772_000_000, n: 5 };
        let id = Identity { dev: 1, ino };
        Stat { kind, mode: 0o644, uid: 0, gid: 0, size: 3, mtime: now, ctime: now, id, names: 1, rdev: 0 }
    }

    fn file(content: &[u8], ino: u64) -> Placed {
        Placed { stat: stat(FileKind::File, ino), digest: Some(Digest::hash(content)), target: None }
    }

    fn action(operation: Operation, before: Option<Stat>) -> PlannedAction {
        PlannedAction { index: 3, ..PlannedAction::new(SystemPath::literal("/usr/share/quay/one"), before, operation) }
    }

    fn done(placed: Option<Placed>, kept: Option<Placed>) -> ActionOutcome {
        ActionOutcome { index: 3, failed: None, placed, kept }
    }

    fn back(action: &PlannedAction, outcome: &ActionOutcome) -> Option<PlannedAction> {
        inverse(action, outcome, 4, 2, &KeptFolder::State, 1)
    }

    #[test]
    fn what_was_kept_is_restored_from_where_it_is_kept() {
        let (old, new) = (file(b"old", 10), file(b"new", 11));
        let put = action(Operation::Put(Vec::new()), Some(old.stat));
        let inverse = back(&put, &done(Some(new.clone()), Some(old.clone()))).unwrap();
        let expected = Operation::Return { change: 4, round: 2, index: 3, kept: old, folder: KeptFolder::State };
        assert_eq!((inverse.operation, inverse.before, inverse.index), (expected, Some(new.stat), 1));
        assert_eq!(inverse.reverts, Some(ActionKey { round: 2, index: 3 }));
    }

    #[test]
    fn what_stood_in_a_free_place_is_set_aside_and_never_deleted() {
        let new = file(b"new", 11);
        let inverse = back(&action(Operation::Put(Vec::new()), None), &done(Some(new), None)).unwrap();
        assert_eq!(inverse.operation, Operation::SetAside);
    }

    #[test]
    fn owner_and_mode_are_restored_to_what_they_were() {
        let before = Stat { mode: 0o4711, uid: 7, gid: 8, ..stat(FileKind::File, 10) };
        let set = action(Operation::SetMeta { mode: 0o755, uid: 0, gid: 0 }, Some(before));
        let inverse = back(&set, &done(Some(file(b"a", 10)), None)).unwrap();
        assert_eq!(inverse.operation, Operation::SetMeta { mode: 0o4711, uid: 7, gid: 8 });
    }

    #[test]
    fn what_was_not_done_is_not_undone() {
        let failed = ActionOutcome { failed: Some("changed since".into()), ..done(None, Some(file(b"old", 10))) };
        assert_eq!(back(&action(Operation::SetAside, None), &failed), None);
        assert_eq!(back(&action(Operation::SetAside, None), &done(None, None)), None);
    }

    #[test]
    fn a_copy_on_another_disk_is_still_the_same_but_other_content_owner_mode_or_kind_is_not() {
        let was = file(b"abc", 10);
        let with = |stat: Stat| Placed { stat, ..was.clone() };
        assert!(was.is_still(&with(Stat { id: Identity { dev: 9, ino: 99 }, names: 2, ..was.stat })));
        assert!(!was.is_still(&file(b"abd", 10)));
        for other in [
            Stat { mode: 0o600, ..was.stat },
            Stat { uid: 1, ..was.stat },
            Stat { gid: 1, ..was.stat },
            Stat { size: 4, ..was.stat },
            Stat { kind: FileKind::Pipe, ..was.stat },
        ] {
            assert!(!was.is_still(&with(other)), "{other:?}");
        }
        let link =
            |to: &[u8]| Placed { stat: stat(FileKind::Link, 1), digest: None, target: Some(LinkTarget(to.to_vec())) };
        assert!(link(b"a").is_still(&link(b"a")) && !link(b"a").is_still(&link(b"b")));
        // A folder's size is its file system's business.
        let folder = |size| Placed { stat: Stat { size, ..stat(FileKind::Folder, 1) }, digest: None, target: None };
        assert!(folder(40).is_still(&folder(4096)));
    }
}
