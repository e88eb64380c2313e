//! Found and expected states, for people and JSON.

use crate::machine::Machine;
use crate::model::{FileKind, Stat, State};
use crate::reference::{Expected, ExpectedKind, Reference};
use crate::scan::Found;

/// The status from `lstat`.
pub(super) fn stat_state(stat: &Stat, machine: &Machine) -> State {
    State {
        kind: Some(stat.kind),
        size: (stat.kind == FileKind::File).then_some(stat.size),
        mode: (stat.kind != FileKind::Link).then(|| format!("{:04o}", stat.mode)),
        owner: Some(machine.users().owner_text(stat.uid, stat.gid)),
        modified: jiff::Timestamp::new(stat.mtime.s, i32::try_from(stat.mtime.n).unwrap_or(0))
            .ok()
            .map(|t| t.to_string()),
        ..State::default()
    }
}

/// The found state.
pub(super) fn found_state(found: &Found, machine: &Machine) -> State {
    State {
        blake3: found.blake3(),
        target: found.target.as_deref().map(crate::model::readable),
        capabilities: found.capabilities,
        ..stat_state(&found.stat, machine)
    }
}

/// The expected state.
#[must_use]
pub fn expected_state(reference: &Reference, expected: &Expected, machine: &Machine) -> State {
    let meta = expected.overridden().or(expected.meta);
    let is_link = matches!(expected.kind, ExpectedKind::Link(_));
    let kind = match expected.kind {
        ExpectedKind::File { .. } | ExpectedKind::Recorded(_) => Some(FileKind::File),
        ExpectedKind::Something => None,
        ExpectedKind::Folder => Some(FileKind::Folder),
        ExpectedKind::Link(_) => Some(FileKind::Link),
        ExpectedKind::Fifo => Some(FileKind::Pipe),
        ExpectedKind::Device { .. } => Some(FileKind::Device),
    };
    let names = expected.group.map(|g| &reference.groups[g as usize].members).into_iter().flatten();
    State {
        kind,
        size: if let ExpectedKind::File { size, .. } = expected.kind { Some(size) } else { None },
        blake3: if let ExpectedKind::File { digest, .. } = expected.kind { Some(digest) } else { None },
        mode: meta.filter(|_| !is_link).map(|m| format!("{:04o}", m.mode)),
        owner: meta.map(|m| machine.users().owner_text(m.uid, m.gid)),
        target: if let ExpectedKind::Link(target) = &expected.kind {
            Some(crate::model::readable(target))
        } else {
            None
        },
        modified: meta
            .filter(|m| m.mtime != 0)
            .and_then(|m| jiff::Timestamp::from_second(m.mtime).ok())
            .map(|t| t.to_string()),
        same_file_as: names
            .map(|m| &reference.expected[*m].listed)
            .filter(|p| **p != expected.listed)
            .cloned()
            .collect(),
        capabilities: false,
    }
}
