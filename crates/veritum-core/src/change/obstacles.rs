//! Obstacles, found before anything is staged: each named with its reason, so that nothing is done by half.

use std::collections::BTreeMap;
use std::io;
use std::os::fd::AsFd as _;

use super::ChangeError;
use super::attributes::word_of;
use super::context::ChangeContext;
use super::record::ClearedFlags;
use crate::machine::Dir;
use crate::model::{Action, FileKind, SystemPath};
use crate::plan::{ItemKind, Operation, PlannedAction};

/// Additional free space required, in per cent of what is written.
const SPARE_PERCENT: u64 = 5;

/// An action with an obstacle.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Blocked {
    /// The action's number in its round.
    pub index: u32,
    /// The place.
    pub place: SystemPath,
    /// The obstacle.
    pub why: String,
    /// What to do about it.
    pub next: Option<Action>,
}

impl From<Blocked> for ChangeError {
    fn from(blocked: Blocked) -> Self {
        Self::NotWhole { place: blocked.place, why: blocked.why, next: blocked.next }
    }
}

/// Refuses actions of which one has an obstacle, or for which there is not enough free space. Nothing is written.
///
/// # Errors
/// [`ChangeError::NotWhole`] and [`ChangeError::NoRoom`].
pub fn require_possible(context: &ChangeContext<'_>, actions: &[PlannedAction]) -> Result<(), ChangeError> {
    match sift(context, actions.to_vec()).1.into_iter().next() {
        Some(first) => Err(first.into()),
        None => require_room(context, actions),
    }
}

/// Removes the actions with an obstacle.
pub(super) fn sift(
    context: &ChangeContext<'_>,
    actions: Vec<PlannedAction>,
) -> (Vec<PlannedAction>, Vec<Blocked>, Vec<ClearedFlags>) {
    let mut free = Vec::new();
    let mut cleared = Vec::new();
    let mut blocked: Vec<Blocked> = Vec::new();
    for action in actions {
        match obstacle(context, &action, &mut cleared) {
            Ok(None) => free.push(action),
            Ok(Some((why, next))) => blocked.push(Blocked { index: action.index, place: action.place, why, next }),
            Err(e) => {
                blocked.push(Blocked { index: action.index, place: action.place, why: e.to_string(), next: None })
            }
        }
    }
    // A hard link to a file that is not restored cannot be created.
    let lost: Vec<u32> = blocked.iter().map(|b| b.index).collect();
    let hangs_on = |action: &PlannedAction| match &action.operation {
        Operation::Put(items) => {
            items.iter().any(|i| matches!(i.kind, ItemKind::NameOfAction { index, .. } if lost.contains(&index)))
        }
        _ => false,
    };
    let (hanging, free): (Vec<PlannedAction>, Vec<PlannedAction>) = free.into_iter().partition(hangs_on);
    blocked.extend(hanging.into_iter().map(|a| Blocked {
        index: a.index,
        place: a.place,
        why: "the file that it is a hard link to cannot be changed".into(),
        next: None,
    }));
    (free, blocked, cleared)
}

type Reason = Option<(String, Option<Action>)>;

fn obstacle(
    context: &ChangeContext<'_>,
    action: &PlannedAction,
    cleared: &mut Vec<ClearedFlags>,
) -> io::Result<Reason> {
    let plain = |why: &str| Ok(Some((why.to_owned(), None)));
    if let Some(reason) = context.protection.reason(&action.place) {
        return plain(&reason);
    }
    // Owner and mode of the root can be set; nothing can replace it.
    let parent = match action.place.parent() {
        None if !matches!(action.operation, Operation::SetMeta { .. }) => return plain("the root folder"),
        parent => parent.unwrap_or_else(SystemPath::root),
    };
    let dir = match context.machine.dir(&parent) {
        Ok(dir) => dir,
        Err(e) if e.kind() == io::ErrorKind::NotFound => return plain("its folder does not exist"),
        Err(_) => return plain("its folder cannot be opened without following a symlink"),
    };
    if context.machine.extent().judge(&dir)?.is_err() {
        return plain("another file system is mounted there");
    }
    if dir.disk().room(dir.fd())?.read_only {
        return plain("its file system is mounted read-only");
    }
    let bound = context.home.is_some_and(|home| home.owner != 0);
    if bound && dir.look_self()?.mode & 0o300 != 0o300 {
        return plain("its folder is not writable (mode)");
    }
    let flags = dir.disk().flags(dir.fd()).ok().flatten();
    if let Some(reason) = locked(context, parent, "its folder", flags, cleared) {
        return Ok(Some(reason));
    }
    let Some(stat) = dir.look(action.place.entry())? else { return Ok(None) };
    if dir.disk().mount_of_name(dir.fd(), action.place.entry())? != dir.disk().mount_of(dir.fd())? {
        return plain("a mount point");
    }
    // Moving a folder to another parent rewrites its `..` (rename(2)).
    if bound && stat.kind == FileKind::Folder && stat.mode & 0o200 == 0 {
        return plain("not writable (mode)");
    }
    let open = match stat.kind {
        FileKind::File => dir.disk().open_file(dir.fd(), action.place.entry()).ok(),
        FileKind::Folder => dir.disk().open_dir(dir.fd(), action.place.entry()).ok(),
        _ => None,
    };
    if let Some(open) = open {
        let flags = context.machine.disk().flags(open.as_fd())?;
        if let Some(reason) = locked(context, action.place.clone(), "it", flags, cleared) {
            return Ok(Some(reason));
        }
    }
    if matches!(action.operation, Operation::SetAside | Operation::Return { .. } | Operation::Put(_))
        && stat.kind == FileKind::Folder
        && context.protection.guards_below(&action.place)
    {
        return plain("contains a protected location");
    }
    Ok(None)
}

/// The obstacle, or one more place to unlock, if the administrator allows it.
fn locked(
    context: &ChangeContext<'_>,
    place: SystemPath,
    what: &str,
    flags: Option<u32>,
    cleared: &mut Vec<ClearedFlags>,
) -> Reason {
    let word = flags.and_then(word_of)?;
    if context.clear_immutable {
        if !cleared.iter().any(|c| c.place == place) {
            cleared.push(ClearedFlags { place, flags: flags.unwrap_or(0) });
        }
        return None;
    }
    Some((format!("{what} is {word}"), Some("add --clear-immutable (the attributes are restored afterwards)".into())))
}

/// Refuses a round for which a file system has not enough free space.
pub(super) fn require_room(context: &ChangeContext<'_>, actions: &[PlannedAction]) -> Result<(), ChangeError> {
    let mut needs: BTreeMap<u64, (SystemPath, Dir, u64, u64)> = BTreeMap::new();
    for action in actions {
        let (Operation::Put(items), Some(parent)) = (&action.operation, action.place.parent()) else { continue };
        let open = || -> io::Result<(Dir, u64, u64)> {
            let dir = context.machine.dir(&parent)?;
            Ok((dir.clone(), dir.look_self()?.id.dev, dir.disk().room(dir.fd())?.block))
        };
        let (dir, device, block) = open().map_err(|source| ChangeError::TakenBack { place: parent.clone(), source })?;
        let need = needs.entry(device).or_insert((parent, dir, 0, 0));
        for item in items {
            need.3 += 1;
            need.2 += match item.kind {
                ItemKind::File { size, .. } => size.div_ceil(block) * block,
                ItemKind::Folder => block,
                _ => 0,
            };
        }
    }
    for (place, dir, bytes, inodes) in needs.into_values() {
        let room =
            dir.disk().room(dir.fd()).map_err(|source| ChangeError::TakenBack { place: place.clone(), source })?;
        let bytes = bytes + bytes * SPARE_PERCENT / 100;
        if bytes > room.bytes {
            return Err(ChangeError::NoRoom { place, missing: bytes - room.bytes });
        }
        if inodes + inodes * SPARE_PERCENT / 100 > room.inodes {
            return Err(ChangeError::NoRoom { place, missing: room.block });
        }
    }
    Ok(())
}
