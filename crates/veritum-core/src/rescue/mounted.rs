//! [`MountedHomes`]: the homes of a system that is running or mounted, read with their owners' rights.
//!
//! What an owner may not read in the home, such as files that a program left there as root, is read with the administrator's rights: a
//! rescue that leaves it out would lose it. Symlinks are never followed, other file systems never entered.

use std::cell::Cell;
use std::io;
use std::ops::Range;
use std::os::fd::{AsFd as _, OwnedFd};
use std::sync::{Arc, Mutex, PoisonError};

use super::kinds::Classifier;
use super::source::{Content, Found, HomePlace, Item, ItemKind, MAX_DEPTH, NotCopied, Source};
use crate::apps::{Bases, Card};
use crate::homes::OpenHome;
use crate::machine::{Dir, Disk as _, LiveDisk};
use crate::model::{FileKind, Instant, Stat, error_words};
use crate::report::DataKind;
use crate::scan::{FolderEntry, SMALL_FILE, SmallFile, entries};

/// A home, as its owner and as the administrator can read it.
struct Home<'a> {
    owners: &'a OpenHome,
    administrators: Option<Dir>,
    bases: Bases,
}

/// The folder that was opened last: files of one folder follow each other.
type LastFolder = (usize, Vec<u8>, Arc<Dir>);

/// The homes of a system that is running or mounted.
pub struct MountedHomes<'a> {
    homes: Vec<Home<'a>>,
    places: Vec<HomePlace>,
    cards: Vec<&'a Card>,
    last: Mutex<Option<LastFolder>>,
}

impl<'a> MountedHomes<'a> {
    /// These homes, with the application cards by which their files are told apart. `administrators` opens a home with the rights of
    /// this process, where these differ from its owner's.
    #[must_use]
    pub fn new(open: &'a [OpenHome], cards: Vec<&'a Card>, administrators: &dyn Fn(&OpenHome) -> Option<Dir>) -> Self {
        let home = |open: &'a OpenHome| Home {
            owners: open,
            administrators: administrators(open),
            bases: open.bases().unwrap_or_default(),
        };
        let place = |open: &OpenHome| HomePlace { user: open.user.clone(), place: open.place.clone() };
        Self {
            homes: open.iter().map(home).collect(),
            places: open.iter().map(place).collect(),
            cards,
            last: Mutex::new(None),
        }
    }

    /// A folder of a home: opened by its owner, else by the administrator.
    fn folder(&self, home: usize, path: &[u8]) -> io::Result<Dir> {
        let home = &self.homes[home];
        let opened = |dir: &Dir| dir.disk().open_dir(dir.fd(), path).map(|fd| dir.beside(fd));
        match (opened(home.owners.dir()), &home.administrators) {
            (Err(_), Some(administrators)) => opened(administrators),
            (opened, _) => opened,
        }
    }

    fn recent_folder(&self, home: usize, path: &[u8]) -> io::Result<Arc<Dir>> {
        let mut last = self.last.lock().unwrap_or_else(PoisonError::into_inner);
        if let Some((known_home, known, dir)) = last.as_ref()
            && (*known_home, known.as_slice()) == (home, path)
        {
            return Ok(dir.clone());
        }
        let dir = Arc::new(self.folder(home, path)?);
        *last = Some((home, path.to_vec(), dir.clone()));
        Ok(dir)
    }
}

impl Source for MountedHomes<'_> {
    fn homes(&self) -> &[HomePlace] {
        &self.places
    }

    fn list(&self, home: usize, found: &mut Found, go_on: &dyn Fn() -> bool) {
        let own = &self.homes[home];
        let classifier = Classifier::new(&own.bases, self.cards.clone());
        let mut walk = Walk { source: self, home, found, go_on, mount: None };
        let dir = own.owners.dir();
        match LiveDisk.look_open(dir.fd()) {
            Ok(stat) => {
                walk.mount = LiveDisk.mount_of(dir.fd()).ok();
                walk.add(Vec::new(), ItemKind::Folder, DataKind::Documents, &stat);
                walk.folder(dir, Vec::new(), 0, &classifier);
            }
            Err(e) => walk.fail(Vec::new(), &e),
        }
    }

    fn open(&self, item: &Item) -> io::Result<Box<dyn Content + '_>> {
        let (folder, name) = parts(&item.path);
        let dir = self.recent_folder(item.home, folder)?;
        let opened = dir.disk().open_seen(dir.fd(), name);
        let (fd, stat) = match (opened, &self.homes[item.home].administrators) {
            (Err(_), Some(own)) => {
                let dir = own.beside(own.disk().open_dir(own.fd(), folder)?);
                dir.disk().open_seen(dir.fd(), name)?
            }
            (opened, _) => opened?,
        };
        Ok(Box::new(MountedFile { fd, opened: Cell::new(Some(stat)) }))
    }

    fn open_all(&self, items: &[&Item]) -> Vec<io::Result<Box<dyn Content + '_>>> {
        let is_small = |item: &Item| item.size <= SMALL_FILE;
        let mut opened = Vec::with_capacity(items.len());
        // Small files of one folder are read together.
        for group in items.chunk_by(|a, b| {
            let alike = a.home == b.home && parts(&a.path).0 == parts(&b.path).0;
            alike && is_small(a) && is_small(b)
        }) {
            let names = group.iter().map(|item| parts(&item.path).1.to_vec()).collect();
            let read = || {
                let folder = self.recent_folder(group[0].home, parts(&group[0].path).0)?;
                self.homes[group[0].home].owners.small_files(&folder, names)
            };
            let read = if is_small(group[0]) { read().unwrap_or_default() } else { Vec::new() };
            let mut read = read.into_iter();
            opened.extend(group.iter().map(|item| match read.next().flatten() {
                Some(file) => Ok(Box::new(file) as Box<dyn Content>),
                None => self.open(item),
            }));
        }
        opened
    }
}

/// A path's folder and name.
fn parts(path: &[u8]) -> (&[u8], &[u8]) {
    let cut = path.iter().rposition(|byte| *byte == b'/');
    cut.map_or((&[], path), |at| (&path[..at], &path[at + 1..]))
}

/// A small file that was read at once.
impl Content for SmallFile {
    fn status(&self) -> io::Result<(u64, Instant)> {
        Ok((self.stat.size, self.stat.mtime))
    }

    fn read_at(&self, at: u64, into: &mut [u8]) -> io::Result<usize> {
        let rest = usize::try_from(at).ok().and_then(|at| self.content.0.get(at..)).unwrap_or_default();
        let count = rest.len().min(into.len());
        into[..count].copy_from_slice(&rest[..count]);
        Ok(count)
    }

    fn written_after(&self, at: u64) -> io::Result<Option<Range<u64>>> {
        Ok((at < self.stat.size).then_some(at..self.stat.size))
    }

    fn attributes(&self) -> io::Result<Vec<(Vec<u8>, Vec<u8>)>> {
        Ok(self.attributes.iter().filter(|(name, _)| name.starts_with(b"user.")).cloned().collect())
    }
}

struct Walk<'a> {
    source: &'a MountedHomes<'a>,
    home: usize,
    found: &'a mut Found,
    go_on: &'a dyn Fn() -> bool,
    /// The mount of the home: others are not entered.
    mount: Option<u64>,
}

impl Walk<'_> {
    fn fail(&mut self, path: Vec<u8>, error: &io::Error) {
        self.leave_out(path, error_words(error));
    }

    fn leave_out(&mut self, path: Vec<u8>, why: String) {
        self.found.unread.push(NotCopied { home: self.home, path, why });
    }

    fn add(&mut self, path: Vec<u8>, is: ItemKind, kind: DataKind, stat: &Stat) {
        self.found.items.push(Item {
            home: self.home,
            path,
            is,
            kind,
            size: stat.size,
            mode: stat.mode,
            uid: stat.uid,
            gid: stat.gid,
            mtime: stat.mtime,
            inode: (stat.names > 1 && stat.kind == FileKind::File).then_some(stat.id),
        });
    }

    /// The entries of a folder, and the folder with the rights by which they could be read.
    fn entries(&self, dir: &Dir, path: &[u8]) -> io::Result<(Dir, Vec<FolderEntry>)> {
        let home = &self.source.homes[self.home];
        match (home.owners.entries(dir), &home.administrators) {
            (Err(_), Some(own)) => {
                let dir = own.beside(own.disk().open_dir(own.fd(), path)?);
                let all = entries(&dir)?;
                Ok((dir, all))
            }
            (listed, _) => Ok((dir.clone(), listed?)),
        }
    }

    fn folder(&mut self, dir: &Dir, path: Vec<u8>, depth: usize, classifier: &Classifier<'_>) {
        if depth > MAX_DEPTH {
            return self.leave_out(path, "nested too deeply".into());
        }
        if !(self.go_on)() {
            return;
        }
        let (dir, entries) = match self.entries(dir, &path) {
            Ok(found) => found,
            Err(e) => return self.fail(path, &e),
        };
        for FolderEntry { name, seen } in entries {
            let below = match path.is_empty() {
                true => name.clone(),
                false => [&path[..], b"/", &name].concat(),
            };
            match seen {
                Ok((stat, target)) => self.entry(&dir, &name, below, (&stat, target), depth, classifier),
                Err(why) => self.fail(below, &why.into_error()),
            }
        }
    }

    fn entry(
        &mut self,
        dir: &Dir,
        name: &[u8],
        path: Vec<u8>,
        (stat, target): (&Stat, Option<Vec<u8>>),
        depth: usize,
        classifier: &Classifier<'_>,
    ) {
        let kind = classifier.kind_of(&path);
        match stat.kind {
            FileKind::Folder => {
                let opened = dir.disk().open_dir(dir.fd(), name).map(|fd| dir.beside(fd));
                let below = match opened.or_else(|_| self.source.folder(self.home, &path)) {
                    Ok(below) => below,
                    Err(e) => return self.fail(path, &e),
                };
                if LiveDisk.mount_of(below.fd()).ok() != self.mount {
                    return self.leave_out(path, "another file system is mounted there".into());
                }
                self.add(path.clone(), ItemKind::Folder, kind, stat);
                let classifier = classifier.for_folder(&path);
                self.folder(&below, path, depth + 1, &classifier);
            }
            FileKind::File => self.add(path, ItemKind::File, kind, stat),
            FileKind::Link => self.add(path, ItemKind::Link(target.unwrap_or_default()), kind, stat),
            FileKind::Pipe | FileKind::Socket | FileKind::Device => self.found.special += 1,
        }
    }
}

/// An open file of a mounted file system. Its handle carries the rights by which it was opened.
struct MountedFile {
    fd: OwnedFd,
    /// Its status when it was opened, until that was asked for.
    opened: Cell<Option<Stat>>,
}

impl Content for MountedFile {
    fn status(&self) -> io::Result<(u64, Instant)> {
        let stat = match self.opened.take() {
            Some(stat) => stat,
            None => LiveDisk.look_open(self.fd.as_fd())?,
        };
        Ok((stat.size, stat.mtime))
    }

    fn read_at(&self, at: u64, into: &mut [u8]) -> io::Result<usize> {
        LiveDisk.read_at(self.fd.as_fd(), at, into)
    }

    fn written_after(&self, at: u64) -> io::Result<Option<Range<u64>>> {
        LiveDisk.written_after(self.fd.as_fd(), at)
    }

    fn attributes(&self) -> io::Result<Vec<(Vec<u8>, Vec<u8>)>> {
        use std::os::unix::ffi::OsStringExt as _;
        let all = LiveDisk.xattrs(self.fd.as_fd())?.into_iter();
        let all = all.map(|(name, value)| (name.into_vec(), value));
        Ok(all.filter(|(name, _)| name.starts_with(b"user.")).collect())
    }
}
