//! Installs other versions of packages as dpkg does: every file is replaced by rename, so an earlier one lives on where it has
//! another name.

use std::collections::BTreeSet;
use std::fs;
use std::io;
use std::path::{Path, PathBuf};
use std::process::Command;

use crate::machine;
use crate::package::{Content, Package};

/// The folder of the package database.
const DATABASE: &str = "var/lib/dpkg";

/// Makes these the only installed packages of a machine: files of those that are `new` replace old ones, and files that no package ships
/// any more go.
pub(crate) fn upgrade(root: &Path, packages: &[Package], new: impl Fn(&Package) -> bool) -> io::Result<()> {
    let stage = root.with_extension("upgrade");
    let _ = fs::remove_dir_all(&stage);
    machine::install(&stage, packages)?;
    let before = listed(root)?;
    let mut after = BTreeSet::new();
    for (package, item) in packages.iter().flat_map(|package| package.items.iter().map(move |item| (package, item))) {
        let below = item.path.trim_start_matches('/');
        after.insert(format!("/{below}"));
        if !new(package) {
            continue;
        }
        let (from, to) = (stage.join(below), root.join(below));
        match item.content {
            Content::Folder if to.is_dir() => {}
            Content::Folder => {
                // What is there instead goes, as with dpkg-maintscript-helper.
                let _ = fs::remove_file(&to);
                fs::create_dir_all(&to)?;
            }
            _ if from.symlink_metadata().is_err() => {}
            _ => {
                if to.is_dir() && !to.is_symlink() {
                    fs::remove_dir_all(&to)?;
                }
                fs::create_dir_all(to.parent().unwrap_or(root))?;
                into_place(&from, &to)?;
            }
        }
    }
    let mut gone: Vec<PathBuf> =
        before.difference(&after).map(|path| root.join(path.trim_start_matches('/'))).collect();
    gone.sort();
    let real_root = root.canonicalize()?;
    for path in gone.into_iter().rev() {
        // Through a symlink that has taken a folder's place it would be another file.
        let below = path.parent().and_then(|parent| parent.strip_prefix(root).ok()).map(Path::to_owned);
        let real = path.parent().and_then(|parent| parent.canonicalize().ok());
        if below.is_none_or(|below| real != Some(real_root.join(below))) {
            continue;
        }
        // A folder with anything else in it stays.
        let _ = if path.is_dir() && !path.is_symlink() { fs::remove_dir(&path) } else { fs::remove_file(&path) };
    }
    database(root, &stage)?;
    fs::remove_dir_all(&stage)
}

/// All paths that the installed packages list.
fn listed(root: &Path) -> io::Result<BTreeSet<String>> {
    let mut all = BTreeSet::new();
    for entry in fs::read_dir(root.join(DATABASE).join("info"))? {
        let path = entry?.path();
        if path.extension().is_some_and(|ending| ending == "list") {
            all.extend(fs::read_to_string(&path)?.lines().map(str::to_owned));
        }
    }
    Ok(all)
}

fn database(root: &Path, stage: &Path) -> io::Result<()> {
    let (from, to) = (stage.join(DATABASE), root.join(DATABASE));
    let names = |folder: &Path| -> io::Result<BTreeSet<std::ffi::OsString>> {
        fs::read_dir(folder)?.map(|entry| Ok(entry?.file_name())).collect()
    };
    let (old, new) = (names(&to.join("info"))?, names(&from.join("info"))?);
    for gone in old.difference(&new) {
        fs::remove_file(to.join("info").join(gone))?;
    }
    for name in new {
        into_place(&from.join("info").join(&name), &to.join("info").join(&name))?;
    }
    fs::rename(to.join("status"), to.join("status-old"))?;
    into_place(&from.join("status"), &to.join("status"))
}

/// Replaces a file by rename; from another file system it is copied beside it first.
fn into_place(from: &Path, to: &Path) -> io::Result<()> {
    match fs::rename(from, to) {
        Err(e) if e.kind() == io::ErrorKind::CrossesDevices => {}
        other => return other,
    }
    let beside = to.with_extension("dpkg-new");
    let copied = Command::new("cp").arg("-a").arg(from).arg(&beside).status()?;
    if copied.success() { fs::rename(beside, to) } else { Err(io::Error::other("a file cannot be copied")) }
}
