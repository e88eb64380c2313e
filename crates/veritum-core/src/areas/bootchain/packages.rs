//! [`PackageFiles`]: installed files with the proof that they are their packages'.

use std::io;

use super::super::Cx;
use crate::machine::{Dir, MachineError};
use crate::model::{Action, Authority, Digest, Instant, Md5, PackageId, SystemPath, error_chain, error_words};
use crate::reference::{Expected, ExpectedKind, Reference};
use crate::system::System;

/// The bits of a mode by which someone can execute a file: without all of them not even root can.
pub(super) const EXECUTABLE: u32 = 0o111;

/// Larger files are not read, in bytes.
const MAX_FILE: u64 = 256 << 20;

/// A file that is its package's.
#[derive(Clone)]
pub(super) struct PackageFile {
    pub(super) bytes: Vec<u8>,
    pub(super) owner: (PackageId, Authority),
}

/// Why a file of a package cannot be used as a reference.
#[derive(Debug, Clone, PartialEq, Eq)]
pub(super) enum NotUsable {
    /// It does not exist.
    Missing,
    /// No package is known to ship it.
    Unowned,
    /// It is not what its package ships.
    Damaged(PackageId),
    /// It cannot be read.
    Unreadable(String),
}

/// What is known about the content at a path.
#[derive(Debug, Clone, PartialEq, Eq)]
pub(super) enum Content {
    /// It is what a package ships.
    Right((PackageId, Authority)),
    /// It is something else.
    Different((PackageId, Authority)),
    /// No package is known to ship it.
    Unowned,
}

/// The size and the checksums of a content.
#[derive(Debug, Clone)]
pub(super) struct Sums {
    size: u64,
    digest: Digest,
    md5: Md5,
}

impl Sums {
    pub(super) fn of(bytes: &[u8]) -> Self {
        Self { size: bytes.len() as u64, digest: Digest::hash(bytes), md5: Md5::hash(bytes) }
    }
}

/// The files of the machine, and what packages ship.
pub(super) struct PackageFiles<'a> {
    system: &'a System,
    reference: &'a Reference,
}

impl<'a> PackageFiles<'a> {
    pub(super) fn new(cx: &'a Cx<'_>, reference: &'a Reference) -> Self {
        Self { system: cx.system, reference }
    }

    /// Reads a file; `None` if there is none. An error is why it cannot be read, without its path.
    pub(super) fn read(&self, path: &SystemPath) -> Result<Option<Vec<u8>>, String> {
        self.system.machine.read_up_to(path, MAX_FILE).map_err(|e| match &e {
            MachineError::Read { source, .. } => format!("it cannot be read: {}", error_words(source)),
            other => error_chain(other),
        })
    }

    fn expected(&self, path: &SystemPath) -> Option<&Expected> {
        let spellings = self.system.spellings(path);
        spellings.iter().find_map(|listed| Some(&self.reference.expected[self.reference.at(listed)?]))
    }

    /// The package that ships a path.
    pub(super) fn owner(&self, path: &SystemPath) -> Option<(PackageId, Authority)> {
        let expected = self.expected(path)?;
        Some((self.reference.package_of(expected).clone(), expected.authority))
    }

    /// The digest and the size of what a package ships at a path, if more than its MD5 is known.
    pub(super) fn expected_content(&self, path: &SystemPath) -> Option<(Digest, u64)> {
        match self.expected(path)?.kind {
            ExpectedKind::File { size, digest } if size <= MAX_FILE => Some((digest, size)),
            _ => None,
        }
    }

    /// The path as its package lists it.
    pub(super) fn listed(&self, path: &SystemPath) -> SystemPath {
        self.expected(path).map_or_else(|| path.clone(), |expected| expected.listed.clone())
    }

    /// Compares a content with what a package ships at a path.
    pub(super) fn compare(&self, path: &SystemPath, bytes: &[u8]) -> Content {
        self.judge(path, bytes.len() as u64, &|| Digest::hash(bytes), &|| Md5::hash(bytes))
    }

    /// Compares a content with what a package ships at a path, by its checksums.
    pub(super) fn compare_sums(&self, path: &SystemPath, sums: &Sums) -> Content {
        self.judge(path, sums.size, &|| sums.digest, &|| sums.md5)
    }

    fn judge(
        &self,
        path: &SystemPath,
        own: u64,
        own_digest: &dyn Fn() -> Digest,
        own_md5: &dyn Fn() -> Md5,
    ) -> Content {
        let Some(expected) = self.expected(path) else { return Content::Unowned };
        let owner = (self.reference.package_of(expected).clone(), expected.authority);
        let is_right = match &expected.kind {
            ExpectedKind::File { size, digest } => *size == own && *digest == own_digest(),
            ExpectedKind::Recorded(md5) => *md5 == own_md5(),
            _ => return Content::Unowned,
        };
        if is_right { Content::Right(owner) } else { Content::Different(owner) }
    }

    /// A file that is its package's.
    pub(super) fn get(&self, path: &SystemPath) -> Result<PackageFile, NotUsable> {
        let bytes = self.read(path).map_err(NotUsable::Unreadable)?.ok_or(NotUsable::Missing)?;
        match self.compare(path, &bytes) {
            Content::Right(owner) => Ok(PackageFile { bytes, owner }),
            Content::Different((id, _)) => Err(NotUsable::Damaged(id)),
            Content::Unowned => Err(NotUsable::Unowned),
        }
    }

    /// Opens a folder, symlinks followed.
    pub(super) fn open_folder(&self, folder: &SystemPath) -> io::Result<Dir> {
        let machine = &self.system.machine;
        machine.dir(&machine.resolve(folder)?)
    }

    /// The names in a folder, in order; none if it does not exist.
    pub(super) fn names(&self, folder: &SystemPath) -> Result<Vec<Vec<u8>>, String> {
        let list = || {
            let dir = self.open_folder(folder)?;
            dir.disk().list(dir.fd())
        };
        match list() {
            Ok(names) => {
                let mut names: Vec<Vec<u8>> = names.into_iter().map(|(name, _)| name).collect();
                names.sort();
                Ok(names)
            }
            Err(e) if e.kind() == std::io::ErrorKind::NotFound => Ok(Vec::new()),
            Err(e) => Err(format!("{folder}: {}", error_chain(&e))),
        }
    }

    /// Where a path leads if all symlinks are followed; `None` if nothing exists there.
    pub(super) fn physical(&self, path: &SystemPath) -> Option<SystemPath> {
        self.system.machine.resolve(path).ok()
    }

    /// Whether a path exists in its folder, even as a symlink that leads nowhere.
    pub(super) fn is_entry(&self, path: &SystemPath) -> bool {
        let machine = &self.system.machine;
        let look = || machine.look(&machine.resolve(&path.parent()?).ok()?.child(path.name()).ok()?).ok()?;
        look().is_some()
    }

    /// Where a symlink leads, and what that leads to, and so on; `None` for what is no symlink.
    pub(super) fn leads_to(&self, path: &SystemPath) -> Option<SystemPath> {
        const MAX_LINKS: usize = 16;
        let machine = &self.system.machine;
        let next = |path: &SystemPath| {
            let folder = machine.resolve(&path.parent()?).ok()?;
            let dir = machine.dir(&folder).ok()?;
            let target = String::from_utf8(dir.disk().read_link(dir.fd(), path.name()).ok()?).ok()?;
            without_dots(&if target.starts_with('/') { target } else { format!("{folder}/{target}") })
        };
        std::iter::successors(next(path), next).take(MAX_LINKS).last()
    }

    /// Whether a file can be executed by someone: if not, not even by root. Also true if that is not known.
    pub(super) fn is_executable(&self, path: &SystemPath) -> bool {
        self.system.machine.look(path).ok().flatten().is_none_or(|stat| stat.mode & EXECUTABLE != 0)
    }

    /// Whether something exists at a path, symlinks followed.
    pub(super) fn exists(&self, path: &SystemPath) -> bool {
        self.system.machine.resolve(path).is_ok()
    }

    /// When a file was changed last.
    pub(super) fn changed(&self, path: &SystemPath) -> Option<Instant> {
        let machine = &self.system.machine;
        Some(machine.look(&machine.resolve(path).ok()?).ok()??.mtime)
    }

    /// Whether it is the running system.
    pub(super) fn is_live(&self) -> bool {
        self.system.machine.is_live()
    }

    /// Whether the system is read from its disks without being mounted: nothing of it can be repaired then.
    pub(super) fn is_unmounted(&self) -> bool {
        self.system.disks.is_some()
    }

    /// How a file, or what is below a folder, is put back.
    pub(super) fn repair(&self, path: &SystemPath) -> Action {
        match self.is_unmounted() {
            true => {
                format!("mount the system in a folder, and repair it there (veritum repair {path} --root DIR)").into()
            }
            false => Action::command(format!("veritum repair {path}")),
        }
    }

    /// Whether a package is installed.
    pub(super) fn has_package(&self, name: &str) -> bool {
        self.system.installed.packages.iter().any(|package| package.id.name == name)
    }
}

/// Why a reference is not there, in words.
pub(super) fn why(path: &SystemPath, not: &NotUsable) -> String {
    match not {
        NotUsable::Missing => format!("{path} does not exist"),
        NotUsable::Unowned => format!("no known package ships {path}"),
        NotUsable::Damaged(id) => format!("{path} is not what its package {} ships", id.name),
        NotUsable::Unreadable(why) => format!("{path}: {why}"),
    }
}

/// An absolute path without `..`.
pub(super) fn without_dots(text: &str) -> Option<SystemPath> {
    let mut parts: Vec<&str> = Vec::new();
    for part in text.strip_prefix('/')?.split('/') {
        match part {
            "" | "." => {}
            ".." => drop(parts.pop()),
            part => parts.push(part),
        }
    }
    SystemPath::parse(format!("/{}", parts.join("/")).as_bytes()).ok()
}
