//! The applications that a machine offers to all its users (freedesktop.org: Desktop Entry Specification 1.5, Desktop Menu
//! Specification 1.1 for entry names in subfolders, Base Directory Specification 0.8).

use std::collections::BTreeMap;

use crate::formats::desktop_entry::{DesktopEntry, EntryError};
use crate::formats::keyfile::MAX_BYTES;
use crate::machine::Machine;
use crate::model::{FileKind, SystemPath};

/// Folders of entries, highest precedence first: `XDG_DATA_DIRS` as login managers set it, and the folders of sandboxed
/// applications.
pub const FOLDERS: [&str; 4] = [
    "/usr/local/share/applications",
    "/usr/share/applications",
    "/var/lib/flatpak/exports/share/applications",
    "/var/lib/snapd/desktop/applications",
];
/// The maximum depth of subfolders.
const MAX_DEPTH: usize = 4;
/// Further entries are not read.
const MAX_ENTRIES: usize = 10_000;

/// A desktop entry and its path.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct AppEntry {
    /// Its id: the file name with the folders before it, joined by `-`, without `.desktop`.
    pub id: String,
    /// Its path, as listed by its folder.
    pub path: SystemPath,
    /// The entry, or why it cannot be used.
    pub entry: Result<DesktopEntry, EntryError>,
}

/// All entries, by id; of two with the same id, the one with precedence. Files that cannot be read are left out: the area
/// `files` reports them.
#[must_use]
pub fn applications(machine: &Machine) -> Vec<AppEntry> {
    let mut found = BTreeMap::new();
    for folder in FOLDERS.map(SystemPath::literal) {
        gather(machine, &folder, "", MAX_DEPTH, &mut found);
    }
    found.into_values().collect()
}

fn gather(machine: &Machine, folder: &SystemPath, before: &str, depth: usize, found: &mut BTreeMap<String, AppEntry>) {
    let Ok(dir) = machine.resolve(folder).and_then(|real| machine.dir(&real)) else { return };
    let mut names = dir.disk().list(dir.fd()).unwrap_or_default();
    names.sort_by(|a, b| a.0.cmp(&b.0));
    for (name, kind) in names {
        let (Ok(path), Ok(text)) = (folder.child(&name), std::str::from_utf8(&name)) else { continue };
        if kind == Some(FileKind::Folder) {
            if depth > 0 {
                gather(machine, &path, &format!("{before}{text}-"), depth - 1, found);
            }
            continue;
        }
        let Some(stem) = text.strip_suffix(".desktop") else { continue };
        let id = format!("{before}{stem}");
        if found.contains_key(&id) || found.len() >= MAX_ENTRIES {
            continue;
        }
        let Ok(Some(bytes)) = machine.read_up_to(&path, MAX_BYTES) else { continue };
        found.insert(id.clone(), AppEntry { id, path, entry: DesktopEntry::parse(&bytes) });
    }
}

#[cfg(test)]
mod tests {
    use std::fs;
    use std::os::unix::fs::symlink;
    use std::sync::Arc;

    use super::*;
    use crate::machine::LiveDisk;

    #[test]
    fn entries_are_found_in_their_order_through_links_inside_and_not_outside() {
        let dir = tempfile::tempdir().unwrap();
        let at = |path: &str| dir.path().join(path.trim_start_matches('/'));
        let put = |path: &str, name: &str| {
            fs::create_dir_all(at(path).parent().unwrap()).unwrap();
            fs::write(at(path), format!("[Desktop Entry]\nType=Application\nExec=x\nName={name}\n")).unwrap();
        };
        put("/usr/share/applications/one.desktop", "the system's");
        put("/usr/local/share/applications/one.desktop", "the administrator's");
        put("/usr/share/applications/kde/two.desktop", "below");
        put("/var/lib/flatpak/app/three/export/three.desktop", "sandboxed");
        put("/usr/share/applications/no-entry.txt", "other");
        let exports = at("/var/lib/flatpak/exports/share/applications");
        fs::create_dir_all(&exports).unwrap();
        symlink("/var/lib/flatpak/app/three/export/three.desktop", exports.join("three.desktop")).unwrap();
        symlink("../../../../../../../../etc/passwd", exports.join("out.desktop")).unwrap();
        rustix::fs::mknodat(
            rustix::fs::CWD,
            exports.join("pipe.desktop"),
            rustix::fs::FileType::Fifo,
            rustix::fs::Mode::RUSR,
            0,
        )
        .unwrap();
        fs::write(at("/usr/share/applications/broken.desktop"), "\0\0").unwrap();
        let machine = Machine::open(dir.path(), Arc::new(LiveDisk)).unwrap();
        let told: Vec<(String, Option<String>)> =
            applications(&machine).into_iter().map(|app| (app.id, app.entry.ok().map(|e| e.name))).collect();
        let some = |text: &str| Some(text.to_owned());
        assert_eq!(
            told,
            [
                ("broken".into(), None),
                ("kde-two".into(), some("below")),
                ("one".into(), some("the administrator's")),
                ("three".into(), some("sandboxed"))
            ]
        );
    }
}
