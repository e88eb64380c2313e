//! What damaged files of packages contain when they are right, on disks that are not mounted: from a store, or from packages that are available.

use super::fault::{Fault, Faults};
use super::mend::Mend;
use super::packages::PackageFiles;
use crate::areas::Cx;
use crate::model::{Digest, Scope, Subject, SystemPath};
use crate::store::Contents as _;
use crate::system::WorkError;

/// Adds these contents to the faults that nothing else answers.
pub(super) fn add(cx: &Cx<'_>, faults: &mut Faults) -> Result<(), WorkError> {
    let paths: Vec<SystemPath> = faults.all_mut().filter_map(|fault| path(fault).cloned()).collect();
    if paths.is_empty() {
        return Ok(());
    }
    cx.with_reference(&Scope { paths, ..Scope::default() }, |reference| {
        let files = PackageFiles::new(cx, reference);
        for fault in faults.all_mut() {
            let Some(path) = path(fault).cloned() else { continue };
            let Some((digest, size)) = files.expected_content(&path) else { continue };
            let Some(((id, _), content)) = files.owner(&path).zip(content(cx, &digest, size)) else { continue };
            fault.mends.push(Mend::file(&path, content, format!("package {} {}", id.name, id.version)));
        }
    })
}

/// The damaged file of a package.
fn path(fault: &Fault) -> Option<&SystemPath> {
    match &fault.subject {
        Subject::Path { path, .. } if fault.is_of_content() => Some(path),
        _ => None,
    }
}

fn content(cx: &Cx<'_>, digest: &Digest, size: u64) -> Option<Vec<u8>> {
    cx.supply.unpack_contents(&[(*digest, size)].into());
    let mut content = Vec::new();
    let mut take = |piece: &[u8]| -> std::io::Result<()> {
        content.extend_from_slice(piece);
        Ok(())
    };
    cx.supply.contents().copy(digest, size, &mut take).ok()?;
    (Digest::hash(&content) == *digest).then_some(content)
}
