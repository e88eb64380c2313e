//! The files that a round displaced: running programs may still use them.

use std::collections::HashSet;

use super::context::ChangeContext;
use super::keep::{Kept, folder_for};
use super::round::RoundReceipt;
use crate::machine::Dir;
use crate::model::{FileKind, Identity};
use crate::plan::{Operation, PlannedAction};

/// Deeper folders within a displaced folder are not searched.
const MAX_DEPTH: usize = 64;
/// The number of files that are listed.
const MAX_FILES: usize = 200_000;

/// The files that a round of a change displaced, including those within displaced folders. A file that only got another
/// owner or mode is still the same file.
#[must_use]
pub fn displaced(context: &ChangeContext<'_>, change: u64, receipt: &RoundReceipt) -> HashSet<Identity> {
    let mut files = HashSet::new();
    for action in &receipt.actions {
        let outcome = receipt.outcomes.iter().find(|o| o.index == action.index && o.failed.is_none());
        let (Some(outcome), Some(before)) = (outcome, action.before) else { continue };
        match before.kind {
            _ if matches!(action.operation, Operation::SetMeta { .. }) => {}
            // A copy has another inode than the file that programs have open.
            FileKind::File => {
                files.extend([Some(before.id), outcome.kept.as_ref().map(|k| k.stat.id)].into_iter().flatten())
            }
            FileKind::Folder => {
                if let Some(folder) = kept_folder(context, change, receipt.round, action) {
                    collect(&folder, &mut files, 0);
                }
            }
            _ => {}
        }
    }
    files
}

fn kept_folder(context: &ChangeContext<'_>, change: u64, round: u32, action: &PlannedAction) -> Option<Dir> {
    let folder = folder_for(context, &action.place.parent()?).ok()?;
    let (index, place) = (action.index, &action.place);
    let kept = Kept { folder: &folder, change, round, index, place, is_folder: true }.open(context).ok()?;
    kept.inner().ok()
}

fn collect(folder: &Dir, files: &mut HashSet<Identity>, depth: usize) {
    let disk = folder.disk();
    for (name, _) in disk.list(folder.fd()).unwrap_or_default() {
        if depth > MAX_DEPTH || files.len() > MAX_FILES {
            return;
        }
        match disk.look(folder.fd(), &name) {
            Ok(stat) if stat.kind == FileKind::File => drop(files.insert(stat.id)),
            Ok(stat) if stat.kind == FileKind::Folder => {
                if let Ok(below) = disk.open_dir(folder.fd(), &name) {
                    collect(&folder.beside(below), files, depth + 1);
                }
            }
            _ => {}
        }
    }
}
