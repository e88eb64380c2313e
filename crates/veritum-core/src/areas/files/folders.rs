//! [`Parents`]: folders are judged before anything below them is examined.
//!
//! A folder that was replaced by a symlink redirects every later look, and every repair. So each folder is
//! examined once, from the root downwards: a real folder is entered; a symlink is followed only if something
//! explains it; everything else blocks what is below.

use std::cell::RefCell;
use std::collections::BTreeMap;
use std::io;

use rayon::prelude::*;

use crate::machine::{Dir, Machine, Protection};
use crate::model::{FileKind, PathMap, Stat, SystemPath};
use crate::platform::debian::{ALIASES, alias_target, explained_links};
use crate::reference::Reference;

/// Their content does not survive a reboot (Filesystem Hierarchy Standard 3.0, 3.15, 3.18, 6.1.4).
const VOLATILE: [&str; 6] = ["/run", "/tmp", "/proc", "/sys", "/dev", "/var/tmp"];

/// The real location of a folder of the reference.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Placement {
    /// There, without symlinks in the path.
    At(SystemPath),
    /// It, or a folder above it, is missing; the path of the first that is.
    Missing {
        /// The missing folder, listed.
        listed: SystemPath,
        /// Its expected place.
        physical: SystemPath,
    },
    /// Something that is not a folder, or an unexplained symlink, is there; the path of the first.
    Blocked {
        /// The folder's listed path.
        listed: SystemPath,
    },
    /// Not part of the machine as it is mounted.
    Outside {
        /// The reason, for people.
        why: String,
        /// Whether another file system is needed, or in the way.
        elsewhere: bool,
    },
    /// It cannot be examined with these rights.
    Forbidden,
    /// The medium reports errors.
    Unreadable(String),
}

/// What is at the place of a folder.
#[derive(Debug, Clone)]
pub struct Block {
    /// The folder's listed path.
    pub listed: SystemPath,
    /// Its place, without symlinks before the last name.
    pub physical: SystemPath,
    /// What is there.
    pub stat: Stat,
    /// A symlink's target.
    pub target: Option<Vec<u8>>,
    /// The problem, for people.
    pub why: String,
}

/// A folder that an administrator moved, leaving a symlink.
#[derive(Debug, Clone)]
pub struct Move {
    /// The folder's listed path.
    pub listed: SystemPath,
    /// Its present location.
    pub to: SystemPath,
    /// The symlink.
    pub stat: Stat,
}

/// Known folders, by their listed path.
pub(super) type Known = PathMap<Placement>;

/// Judges folders, each once.
pub struct Parents<'a> {
    eye: Eye<'a>,
    known: RefCell<Known>,
    blocks: RefCell<Vec<Block>>,
    moves: RefCell<Vec<Move>>,
}

/// The input of judging one folder.
#[derive(Clone, Copy)]
struct Eye<'a> {
    machine: &'a Machine,
    reference: &'a Reference,
    protection: &'a Protection,
    trusted_owner: u32,
}

/// The result of examining a folder.
struct Judged {
    placement: Placement,
    block: Option<Block>,
    moved: Option<Move>,
}

impl From<Placement> for Judged {
    fn from(placement: Placement) -> Self {
        Self { placement, block: None, moved: None }
    }
}

impl<'a> Parents<'a> {
    /// A judge for this machine; `trusted_owner` is the owner of the system (0, or the user who built a demo machine).
    #[must_use]
    pub fn new(machine: &'a Machine, reference: &'a Reference, protection: &'a Protection, trusted_owner: u32) -> Self {
        let eye = Eye { machine, reference, protection, trusted_owner };
        let root = (SystemPath::root(), Placement::At(SystemPath::root()));
        Self {
            eye,
            known: RefCell::new(PathMap::from_iter([root])),
            blocks: RefCell::default(),
            moves: RefCell::default(),
        }
    }

    /// What blocks folders, in path order.
    #[must_use]
    pub fn blocks(&self) -> Vec<Block> {
        let mut blocks = self.blocks.borrow().clone();
        blocks.sort_by(|a, b| a.listed.cmp(&b.listed));
        blocks
    }

    /// Folders that were moved, in path order.
    #[must_use]
    pub fn moves(&self) -> Vec<Move> {
        let mut moves = self.moves.borrow().clone();
        moves.sort_by(|a, b| a.listed.cmp(&b.listed));
        moves
    }

    /// The real location of a listed folder.
    pub fn place(&self, listed: &SystemPath) -> Placement {
        if let Some(known) = self.known.borrow().get(listed) {
            return known.clone();
        }
        let above = listed.parent().map_or(Placement::At(SystemPath::root()), |parent| self.place(&parent));
        let judged = self.eye.judge(listed, &above);
        self.keep(listed.clone(), judged)
    }

    /// Examines many folders at once, each after its parent.
    pub fn look_ahead(&self, listed: Vec<&SystemPath>, pool: &rayon::ThreadPool) {
        let mut levels: BTreeMap<usize, Vec<&SystemPath>> = BTreeMap::new();
        for folder in listed.into_iter().filter(|folder| !folder.is_root()) {
            levels.entry(folder.names().count()).or_default().push(folder);
        }
        let eye = self.eye;
        for mut level in levels.into_values() {
            let known = self.known.take();
            let known_ref = &known;
            // Those of one folder are together, and are examined through one handle.
            let in_one = |folders: &[&SystemPath]| -> Vec<(SystemPath, Judged)> {
                // If no package lists the parent, it is judged later.
                let Some(above) = folders[0].parent().and_then(|above| known_ref.get(&above)) else {
                    return Vec::new();
                };
                let dir = eye.open(above);
                folders.iter().map(|folder| ((*folder).clone(), eye.judge_in(folder, above, &dir))).collect()
            };
            let judged: Vec<(SystemPath, Judged)> = pool.install(|| {
                level.par_sort_unstable();
                level.dedup();
                level.par_chunk_by(|a, b| a.folder_bytes() == b.folder_bytes()).flat_map_iter(in_one).collect()
            });
            self.known.replace(known);
            for (folder, judged) in judged {
                self.keep(folder, judged);
            }
        }
    }

    /// Returns the known folders, for several threads to read.
    pub(super) fn with_known<T>(&self, read: impl FnOnce(&Known) -> T) -> T {
        let known = self.known.take();
        let answer = read(&known);
        self.known.replace(known);
        answer
    }

    fn keep(&self, listed: SystemPath, judged: Judged) -> Placement {
        self.blocks.borrow_mut().extend(judged.block);
        self.moves.borrow_mut().extend(judged.moved);
        self.known.borrow_mut().insert(listed, judged.placement.clone());
        judged.placement
    }
}

impl Eye<'_> {
    /// Judges a folder whose parent's location is known.
    fn judge(&self, listed: &SystemPath, above: &Placement) -> Judged {
        self.judge_in(listed, above, &self.open(above))
    }

    /// The parent, if it exists.
    fn open(&self, above: &Placement) -> io::Result<Dir> {
        match above {
            Placement::At(above) => self.machine.dir(above),
            _ => Err(io::ErrorKind::NotFound.into()),
        }
    }

    /// Judges a folder whose parent is open.
    fn judge_in(&self, listed: &SystemPath, above: &Placement, dir: &io::Result<Dir>) -> Judged {
        if let Some(place) = self.machine.extent().unmounted_above(listed) {
            return Placement::Outside { why: format!("{place} is not mounted"), elsewhere: true }.into();
        }
        let Placement::At(above) = above else { return above.clone().into() };
        let Ok(physical) = above.child(listed.name()) else {
            return Placement::Outside { why: "path too long".into(), elsewhere: false }.into();
        };
        let dir = match dir {
            Ok(dir) => dir,
            Err(e) => return refused(e).into(),
        };
        match dir.look(listed.name()) {
            Ok(None) => Placement::Missing { listed: listed.clone(), physical }.into(),
            Ok(Some(stat)) if stat.kind == FileKind::Folder && self.stands_for_a_link(&physical) => {
                let why = "a folder is in place of a symlink of the system".to_owned();
                block(Block { listed: listed.clone(), physical, stat, target: None, why })
            }
            Ok(Some(stat)) if stat.kind == FileKind::Folder => self.enter(&physical).into(),
            Ok(Some(stat)) if stat.kind == FileKind::Link => self.judge_link(listed, physical, stat),
            Ok(Some(stat)) => {
                let why = format!("a {} is in place of a folder", stat.kind.word());
                block(Block { listed: listed.clone(), physical, stat, target: None, why })
            }
            Err(e) => refused(&e).into(),
        }
    }

    /// Whether a top-level folder of a merged system has replaced its symlink. A folder with other content stays: that
    /// may be needed.
    fn stands_for_a_link(&self, physical: &SystemPath) -> bool {
        let Some(target) = merged_alias(self.machine, physical) else { return false };
        let names = self.machine.dir(physical).and_then(|d| d.disk().list(d.fd()));
        let there = SystemPath::below_root(&target).ok().and_then(|folder| self.machine.dir(&folder).ok());
        let (Ok(names), Some(there)) = (names, there) else { return false };
        let spare = |(name, kind): &(Vec<u8>, Option<FileKind>)| {
            *kind != Some(FileKind::Folder) && there.look(name).is_ok_and(|stat| stat.is_some())
        };
        names.iter().all(spare)
    }

    fn enter(&self, physical: &SystemPath) -> Placement {
        let dir = match self.machine.dir(physical) {
            Ok(dir) => dir,
            Err(e) => return refused(&e),
        };
        match self.machine.extent().judge(&dir) {
            Ok(Ok(())) => Placement::At(physical.clone()),
            Ok(Err(_)) => {
                Placement::Outside { why: format!("another file system is mounted on {physical}"), elsewhere: true }
            }
            Err(e) => refused(&e),
        }
    }

    fn judge_link(&self, listed: &SystemPath, physical: SystemPath, stat: Stat) -> Judged {
        let parent = physical.parent().unwrap_or_else(SystemPath::root);
        let target = match self.machine.dir(&parent).and_then(|d| d.disk().read_link(d.fd(), physical.name())) {
            Ok(target) => target,
            Err(e) => return refused(&e).into(),
        };
        if self.reference.ships_link(listed, &target) || explained_links(listed.as_bytes(), &target) {
            return match self.machine.resolve(&physical) {
                Ok(to) => self.enter(&to),
                Err(e) if e.kind() == io::ErrorKind::NotFound => {
                    Placement::Outside { why: format!("{listed} points to nothing"), elsewhere: false }
                }
                Err(e) => refused(&e),
            }
            .into();
        }
        match self.moved_by_administrator(listed, &physical, &stat) {
            Ok(to) => {
                let moved = Move { listed: listed.clone(), to: to.clone(), stat };
                Judged { moved: Some(moved), ..Placement::At(to).into() }
            }
            Err(why) => block(Block { listed: listed.clone(), physical, stat, target: Some(target), why }),
        }
    }

    /// The target of an administrator's symlink, or why it is not one.
    fn moved_by_administrator(
        &self,
        listed: &SystemPath,
        physical: &SystemPath,
        link: &Stat,
    ) -> Result<SystemPath, String> {
        let to = self.machine.resolve(physical).map_err(|_| "a dangling symlink is in place of a folder".to_owned())?;
        if let Some(reason) = self.protection.why(&to) {
            return Err(format!("a symlink is in place of a folder, and its target is {reason}"));
        }
        if self.protection.lies_below(&to) {
            return Err("a symlink is in place of a folder, and its target contains user files".into());
        }
        let dir = self
            .machine
            .dir(&to)
            .map_err(|_| "a symlink to something other than a folder is in place of a folder".to_owned())?;
        let inside = self.machine.extent().judge(&dir).is_ok_and(|v| v.is_ok());
        if !inside {
            return Err("a symlink out of the system is in place of a folder".into());
        }
        let stat = dir.look_self().map_err(|e| e.to_string())?;
        if link.uid != self.trusted_owner || stat.uid != self.trusted_owner || stat.mode & 0o002 != 0 {
            return Err("a symlink that other users control is in place of a folder".into());
        }
        let names = dir.disk().list(dir.fd()).unwrap_or_default();
        let ours = names.iter().any(|(name, _)| listed.child(name).is_ok_and(|p| self.reference.at(&p).is_some()));
        if ours { Ok(to) } else { Err("a symlink to a folder without any of its files is in place of a folder".into()) }
    }
}

fn block(block: Block) -> Judged {
    let placement = Placement::Blocked { listed: block.listed.clone() };
    Judged { block: Some(block), ..placement.into() }
}

/// The target of a top-level folder on a merged system; `None` where it is a real folder.
pub(super) fn merged_alias(machine: &Machine, physical: &SystemPath) -> Option<Vec<u8>> {
    let target = alias_target(physical.as_bytes())?;
    let folder = SystemPath::below_root(&target).ok()?;
    let there = machine.look(&folder).ok().flatten().is_some_and(|s| s.kind == FileKind::Folder);
    let top = machine.dir(&SystemPath::root()).ok()?;
    // The system is merged if any of the other aliases is such a symlink.
    let merged = ALIASES.iter().any(|alias| {
        let link = top.disk().read_link(top.fd(), alias.as_bytes());
        link.is_ok_and(|t| explained_links(format!("/{alias}").as_bytes(), &t))
    });
    (there && merged).then_some(target)
}

/// Whether a path is in a place whose content does not survive a reboot.
#[must_use]
pub(super) fn is_volatile(path: &SystemPath) -> bool {
    VOLATILE.iter().any(|place| path.is_within_place(place) && path.as_bytes().len() > place.len())
}

fn refused(error: &io::Error) -> Placement {
    match error.kind() {
        io::ErrorKind::PermissionDenied => Placement::Forbidden,
        _ => Placement::Unreadable(error.to_string()),
    }
}
