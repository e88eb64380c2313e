//! Whether users' files were copied to another disk before something is done that they could suffer from.

use std::collections::HashSet;
use std::path::Path;
use std::sync::Arc;

use super::deleted_homes::DELETED_FILES;
use super::manifest::Manifest;
use super::verify::find;
use crate::machine::Disk;
use crate::model::{SystemPath, error_chain};

/// Makes sure that a folder has the files of these users of a machine, by its manifest. `machine` identifies the machine as the
/// manifest does.
///
/// # Errors
/// What is missing.
pub fn require_rescued(folder: &Path, disk: &Arc<dyn Disk>, machine: &str, users: &[String]) -> Result<(), String> {
    let (_, dir) = find(folder, disk).map_err(|e| error_chain(&e))?;
    let manifest = Manifest::read(&dir).map_err(|e| error_chain(&e))?;
    let Some(run) = &manifest.first else { return Err("it has no manifest of rescued files".to_owned()) };
    if run.machine != machine {
        return Err(format!("the files in it are from another machine ({})", run.host));
    }
    // Files that were deleted before say nothing about those that exist.
    let is_deleted = |path: &SystemPath| path.names().any(|name| name == DELETED_FILES.as_bytes());
    let existing = manifest.entries.values().filter(|entry| !is_deleted(&entry.path));
    let copied: HashSet<&str> = existing.map(|entry| entry.user.as_str()).collect();
    let missing: Vec<&str> = users.iter().map(String::as_str).filter(|user| !copied.contains(user)).collect();
    match missing.as_slice() {
        [] => Ok(()),
        missing => Err(format!("it has no files of {}", missing.join(", "))),
    }
}
