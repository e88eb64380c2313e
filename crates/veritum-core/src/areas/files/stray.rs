//! Notes on unowned files in system folders. Counted and listed, never touched.

use std::collections::HashSet;

use rayon::prelude::*;

use super::FILES;
use super::case::Location;
use crate::machine::{Dir, Machine};
use crate::model::{FileKind, Finding, Identity, PathMap, SystemPath, Verdict};
use crate::platform::debian::ALIASES;
use crate::reference::Reference;

/// Folders whose content belongs to packages alone.
const SYSTEM: [&str; 3] = ["/usr", "/boot", "/opt"];
/// Below these a running system creates files of its own.
const MADE_BY_THE_SYSTEM: [&str; 5] =
    ["/usr/local", "/usr/lib/locale", "/usr/share/mime", "/usr/share/binfmts", "/opt"];
/// Names of files that system programs generate: caches, indexes, symlinks by certificate digest.
const MADE_NAMES: [&str; 15] = [
    "icon-theme.cache",
    "mimeinfo.cache",
    "gschemas.compiled",
    "giomodule.cache",
    "loaders.cache",
    "immodules.cache",
    "hwdb.bin",
    "fonts.dir",
    "fonts.scale",
    "fonts.alias",
    "encodings.dir",
    "plugins.dat",
    ".uuid",
    "info.dir",
    "dir.old",
];
/// The target folder of alternatives' symlinks (update-alternatives(1)).
const ALTERNATIVES: &[u8] = b"/etc/alternatives/";
/// Deeper unowned folders are not searched for anything but generated files.
const MAX_DEPTH: usize = 4;
/// Further files are counted, not listed.
const LISTED: usize = 1000;

/// Whether everything in a folder should be owned by a package.
pub(super) fn is_searched(folder: &SystemPath) -> bool {
    in_any(folder, &SYSTEM)
}

/// Unowned files: notes, and the number of further ones.
pub(super) fn find(
    machine: &Machine,
    reference: &Reference,
    folders: &PathMap<SystemPath>,
    locations: &[Location],
    files: &HashSet<Identity>,
    pool: &rayon::ThreadPool,
) -> (Vec<Finding>, u64) {
    let mut physical: Vec<&SystemPath> =
        folders.values().filter(|f| in_any(f, &SYSTEM) && !in_any(f, &MADE_BY_THE_SYSTEM)).collect();
    physical.sort();
    physical.dedup();
    let entered: HashSet<&SystemPath> = folders.values().collect();
    let nobodys = |folder: &&SystemPath| {
        let Ok(dir) = machine.dir(folder) else { return Vec::new() };
        let mut names = dir.disk().list(dir.fd()).unwrap_or_default();
        let first = locations.partition_point(|location| location.folder < **folder);
        let owned = &locations[first..];
        let owned = &owned[..owned.partition_point(|location| location.folder == **folder)];
        names.retain(|(name, _)| owned.binary_search_by(|location| location.name().cmp(name)).is_err());
        names.sort_by(|a, b| a.0.cmp(&b.0));
        let nobodys = |(name, kind): (Vec<u8>, Option<FileKind>)| {
            let path = folder.child(&name).ok()?;
            let known = entered.contains(&path) || reference.at(&path).is_some() || reference.diverted.contains(&path);
            let fine =
                known || made_by_the_system(&path, &name, kind) || explained(machine, &dir, &path, kind, files, 0);
            (!fine).then_some(path)
        };
        names.into_iter().filter_map(nobodys).collect()
    };
    let strays: Vec<Vec<SystemPath>> = pool.install(|| physical.par_iter().map(nobodys).collect());
    let mut strays = strays.into_iter().flatten();
    let notes = strays.by_ref().take(LISTED).map(|path| Finding::on_path(FILES, &path, Verdict::Unowned)).collect();
    (notes, strays.count() as u64)
}

/// Whether the system plainly created something: a hard link of a package's file, an alternative's symlink, or a
/// folder that contains nothing else.
fn explained(
    machine: &Machine,
    dir: &Dir,
    path: &SystemPath,
    kind: Option<FileKind>,
    files: &HashSet<Identity>,
    depth: usize,
) -> bool {
    match kind {
        Some(FileKind::Link) => dir.disk().read_link(dir.fd(), path.name()).is_ok_and(|t| t.starts_with(ALTERNATIVES)),
        Some(FileKind::File) => dir.look(path.name()).is_ok_and(|s| s.is_some_and(|s| files.contains(&s.id))),
        Some(FileKind::Folder) if depth < MAX_DEPTH => {
            let Ok(below) = machine.dir(path) else { return false };
            let names = below.disk().list(below.fd()).unwrap_or_default();
            let fine = |(name, kind): &(Vec<u8>, Option<FileKind>)| {
                path.child(name).is_ok_and(|p| {
                    made_by_the_system(&p, name, *kind) || explained(machine, &below, &p, *kind, files, depth + 1)
                })
            };
            !names.is_empty() && names.iter().all(fine)
        }
        _ => false,
    }
}

fn in_any(path: &SystemPath, places: &[&'static str]) -> bool {
    places.iter().any(|place| path.is_within_place(place))
}

fn made_by_the_system(path: &SystemPath, name: &[u8], kind: Option<FileKind>) -> bool {
    let text = String::from_utf8_lossy(name);
    // The targets of a merged system's top-level symlinks exist whether a package lists them or not.
    let merged = path.parent().is_some_and(|p| p.as_bytes() == b"/usr") && ALIASES.contains(&&*text);
    let info_index = path.as_bytes() == b"/usr/share/info/dir";
    let cache_folder = kind == Some(FileKind::Folder) && name == b"__pycache__";
    let kernel =
        path.parent().is_some_and(|p| p.as_bytes().starts_with(b"/usr/lib/modules/")) && text.starts_with("modules.");
    let boot = path.parent().is_some_and(|p| p.as_bytes() == b"/boot")
        && (text.starts_with("initrd") || text.starts_with("vmlinuz"));
    let alternative =
        kind == Some(FileKind::Link) && (in_any(path, &["/usr/bin", "/usr/sbin", "/usr/share/man", "/usr/lib"]));
    in_any(path, &MADE_BY_THE_SYSTEM)
        || merged
        || cache_folder
        || info_index
        || kernel
        || boot
        || alternative
        || MADE_NAMES.contains(&&*text)
        || text.ends_with(".pyc")
        || text.starts_with(".veritum-")
}
