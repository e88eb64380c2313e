//! Whether an application's icon exists (Icon Theme Specification 0.13), in any theme.

use std::collections::HashSet;

use crate::machine::{Dir, Machine};
use crate::model::{FileKind, SystemPath};

/// Folders of icons for all users.
const FOLDERS: [&str; 4] =
    ["/usr/local/share/icons", "/usr/share/icons", "/usr/share/pixmaps", "/var/lib/flatpak/exports/share/icons"];
/// Their file formats.
const FORMS: [&[u8]; 3] = [b".png", b".svg", b".xpm"];
/// The maximum depth of theme folders.
const MAX_DEPTH: usize = 6;
/// With more names, no statement is made.
const MAX_NAMES: usize = 1_000_000;

/// The names of all icons, without extensions.
pub(crate) struct Icons {
    names: HashSet<Vec<u8>>,
    looked: usize,
}

impl Icons {
    /// Reads all folders of icons.
    pub(crate) fn read(machine: &Machine) -> Self {
        let mut icons = Self { names: HashSet::new(), looked: 0 };
        for folder in FOLDERS {
            let open = machine.resolve(&SystemPath::literal(folder)).and_then(|real| machine.dir(&real));
            if let Ok(dir) = open {
                icons.gather(&dir, 0);
            }
        }
        icons
    }

    fn gather(&mut self, dir: &Dir, depth: usize) {
        for (name, kind) in dir.disk().list(dir.fd()).unwrap_or_default() {
            self.looked += 1;
            if self.looked > MAX_NAMES {
                return;
            }
            match FORMS.iter().find_map(|form| name.strip_suffix(*form)) {
                Some(stem) => drop(self.names.insert(stem.to_vec())),
                None if depth < MAX_DEPTH && kind == Some(FileKind::Folder) => {
                    if let Ok(fd) = dir.disk().open_dir(dir.fd(), &name) {
                        self.gather(&dir.beside(fd), depth + 1);
                    }
                }
                None => {}
            }
        }
    }

    /// Whether this icon is missing: a name in any theme, or a file.
    pub(crate) fn lacks(&self, machine: &Machine, icon: &str) -> bool {
        if icon.starts_with('/') {
            return SystemPath::parse(icon.as_bytes()).is_ok_and(|path| machine.resolve(&path).is_err());
        }
        // Old entries give the file name.
        let stem = FORMS.iter().find_map(|form| icon.as_bytes().strip_suffix(*form)).unwrap_or(icon.as_bytes());
        self.looked <= MAX_NAMES && !icon.is_empty() && !self.names.contains(stem)
    }
}

#[cfg(test)]
mod tests {
    use std::fs;
    use std::sync::Arc;

    use super::*;
    use crate::machine::LiveDisk;

    #[test]
    fn a_picture_of_any_theme_size_and_form_counts() {
        let root = tempfile::tempdir().unwrap();
        for path in ["usr/share/icons/one/48x48/apps/quay.png", "usr/share/pixmaps/pier.xpm", "opt/own.svg"] {
            fs::create_dir_all(root.path().join(path).parent().unwrap()).unwrap();
            fs::write(root.path().join(path), "").unwrap();
        }
        let machine = Machine::open(root.path(), Arc::new(LiveDisk)).unwrap();
        let icons = Icons::read(&machine);
        for icon in ["quay", "pier", "pier.png", "/opt/own.svg", ""] {
            assert!(!icons.lacks(&machine, icon), "{icon}");
        }
        for icon in ["rope", "qua", "/opt/gone.svg"] {
            assert!(icons.lacks(&machine, icon), "{icon}");
        }
    }
}
