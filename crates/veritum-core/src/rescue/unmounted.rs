//! [`UnmountedHomes`]: homes on ext4 file systems of disks and images that are not mounted, read by own code: also where the kernel
//! refuses the file system.

use std::collections::HashSet;
use std::io;
use std::ops::Range;

use super::kinds::Classifier;
use super::source::{Content, Found, HomePlace, Item, ItemKind, MAX_DEPTH, NotCopied, Source};
use crate::apps::{Bases, Card};
use crate::devices::ext4::{Fault, FileContent, FileSystem, Inode, Type};
use crate::machine::{Account, Users};
use crate::model::{Identity, Instant, SystemPath, error_words};
use crate::report::DataKind;

/// A file is at most so many times as large as its file system: the rest are holes.
const MAX_HOLES: u64 = 16;
/// Larger account files are not read, in bytes.
const MAX_SMALL: u64 = 4 << 20;

/// A home, by its file system and the number of its inode.
struct Home {
    fs: usize,
    inode: u32,
}

/// Homes on file systems that are not mounted.
pub struct UnmountedHomes<'a> {
    systems: &'a [FileSystem<'a>],
    homes: Vec<Home>,
    places: Vec<HomePlace>,
    cards: Vec<&'a Card>,
    bases: Bases,
    /// Users whose homes have the path of another one: those of another system on the same disks.
    pub others: Vec<String>,
    /// Accounts whose homes are on none of the file systems.
    pub absent: Vec<Account>,
}

impl<'a> UnmountedHomes<'a> {
    /// The homes on these file systems: those of the accounts that one of them records, else folders that belong to people.
    #[must_use]
    pub fn find(systems: &'a [FileSystem<'a>], cards: Vec<&'a Card>) -> Self {
        let (homes, places, others, absent) = (Vec::new(), Vec::new(), Vec::new(), Vec::new());
        let mut found = Self { systems, homes, places, cards, bases: Bases::default(), others, absent };
        for (fs, system) in systems.iter().enumerate() {
            for account in accounts_in(system).iter().filter(|account| account.is_login()) {
                found.home_of(fs, account);
            }
        }
        if found.homes.is_empty() {
            (0..systems.len()).for_each(|fs| found.by_owner(fs));
        }
        if found.homes.is_empty() {
            (0..systems.len()).for_each(|fs| found.by_folders_above(fs));
        }
        found
    }

    /// The homes, each with its position, that of its file system, and its inode.
    pub(super) fn inodes(&self) -> impl Iterator<Item = (usize, usize, u32)> {
        self.homes.iter().enumerate().map(|(at, home)| (at, home.fs, home.inode))
    }

    /// A file system.
    pub(super) fn system(&self, fs: usize) -> &FileSystem<'a> {
        &self.systems[fs]
    }

    /// Keeps only the homes of these users.
    pub fn keep(&mut self, wanted: impl Fn(&str) -> bool) {
        let is_kept: Vec<bool> = self.places.iter().map(|place| wanted(&place.user)).collect();
        let mut kept = is_kept.iter();
        self.homes.retain(|_| kept.next() == Some(&true));
        let mut kept = is_kept.iter();
        self.places.retain(|_| kept.next() == Some(&true));
        self.others.retain(|user| wanted(user));
        self.absent.retain(|account| wanted(&account.name));
    }

    /// An account's home: in the file system that records it, or in another one, which is mounted at a folder above the home.
    fn home_of(&mut self, fs: usize, account: &Account) {
        let Some(place) = account.home.clone() else { return };
        let mut candidates = vec![(fs, place.relative().to_vec())];
        for other in (0..self.systems.len()).filter(|other| *other != fs) {
            let names: Vec<&[u8]> = place.names().collect();
            candidates.extend((1..names.len()).map(|from| (other, names[from..].join(&b'/'))));
        }
        let folder = |fs: usize, path: &[u8]| {
            let inode = self.systems[fs].find(path)?;
            let is_home = inode.kind() == Type::Folder && inode.uid == account.uid;
            is_home.then_some(inode.number)
        };
        // The mount point of another file system is an empty folder in this one.
        let holds = |fs: usize, inode: u32| {
            let entries = self.systems[fs].inode(inode).map(|inode| self.systems[fs].entries_of(&inode).0.len());
            entries.unwrap_or_default()
        };
        let found = candidates.iter().filter_map(|(fs, path)| Some((*fs, folder(*fs, path)?)));
        let best = found.max_by_key(|(fs, inode)| holds(*fs, *inode));
        match best {
            Some((fs, inode)) => self.add(fs, inode, account.name.clone(), place),
            None => self.absent.push(account.clone()),
        }
    }

    /// Folders that belong to people, where no accounts are recorded: the file system is only that of the homes.
    fn by_owner(&mut self, fs: usize) {
        let system = &self.systems[fs];
        for top in [&b""[..], b"home"] {
            let Some(folder) = system.find(top) else { continue };
            for name in system.entries_of(&folder).0 {
                let Ok(inode) = system.inode(name.inode) else { continue };
                let is_persons = inode.kind() == Type::Folder && Users::default().is_login(inode.uid);
                if let (true, Ok(user)) = (is_persons, std::str::from_utf8(&name.name))
                    && let Ok(place) = SystemPath::literal("/home").child(&name.name)
                {
                    self.add(fs, inode.number, user.to_owned(), place);
                }
            }
        }
    }

    /// Folders that belong to people, in folders that do not: where no path leads to a home, because a folder above it is damaged.
    fn by_folders_above(&mut self, fs: usize) {
        let system = &self.systems[fs];
        let is_persons = |inode: &Inode| Users::default().is_login(inode.uid);
        let mut folders = Vec::new();
        system.each_folder(&mut |inode| folders.extend(is_persons(inode).then(|| inode.clone())));
        for folder in folders {
            let above = system.above(&folder).and_then(|above| system.inode(above).ok());
            if above.as_ref().is_some_and(is_persons) {
                continue;
            }
            let names = above.map(|above| system.entries_of(&above).0).unwrap_or_default();
            let named = names.into_iter().find(|entry| entry.inode == folder.number);
            let named = named.and_then(|entry| String::from_utf8(entry.name).ok());
            let user = named.unwrap_or_else(|| format!("user-{}-{}", folder.uid, folder.number));
            if let Ok(place) = SystemPath::literal("/home").child(user.as_bytes()) {
                self.add(fs, folder.number, user, place);
            }
        }
    }

    fn add(&mut self, fs: usize, inode: u32, user: String, place: SystemPath) {
        if self.homes.iter().any(|home| (home.fs, home.inode) == (fs, inode)) {
            return;
        }
        if self.places.iter().any(|known| known.place == place) {
            return self.others.push(user);
        }
        self.homes.push(Home { fs, inode });
        self.places.push(HomePlace { user, place });
    }
}

/// A small file of a file system: an account file, a name.
#[must_use]
pub fn small_file(system: &FileSystem<'_>, path: &[u8]) -> Option<Vec<u8>> {
    let inode = system.find(path).filter(|inode| inode.kind() == Type::File && inode.size <= MAX_SMALL)?;
    let mut text = vec![0; usize::try_from(inode.size).ok()?];
    let read = system.content(&inode).read_at(0, &mut text).ok()?;
    text.truncate(read);
    Some(text)
}

/// The accounts that a file system records, if it is that of a system.
fn accounts_in(system: &FileSystem<'_>) -> Vec<Account> {
    let passwd = small_file(system, b"etc/passwd").unwrap_or_default();
    Users::parse(&passwd, b"").accounts().to_vec()
}

impl Source for UnmountedHomes<'_> {
    fn homes(&self) -> &[HomePlace] {
        &self.places
    }

    fn list(&self, home: usize, found: &mut Found, go_on: &dyn Fn() -> bool) {
        let Home { fs, inode } = self.homes[home];
        let system = &self.systems[fs];
        let classifier = Classifier::new(&self.bases, self.cards.clone());
        let mut walk = Walk { system, fs, home, found, go_on, above: HashSet::from([inode]) };
        walk.inode(inode, Vec::new(), 0, &classifier);
    }

    fn open(&self, item: &Item) -> io::Result<Box<dyn Content + '_>> {
        let number = item.inode.and_then(|id| u32::try_from(id.ino).ok()).unwrap_or_default();
        let system = &self.systems[self.homes[item.home].fs];
        let inode = system.inode(number).map_err(|fault| io::Error::other(in_words(&fault)))?;
        Ok(Box::new(UnmountedFile { content: system.content(&inode), mtime: item.mtime }))
    }
}

fn in_words(fault: &Fault) -> String {
    match fault {
        Fault::Unreadable => "the disk cannot be read there".into(),
        Fault::Checksum => "its entry in the file system is damaged: the checksum is wrong".into(),
        Fault::Structure(what) => format!("its entry in the file system is damaged: {what}"),
    }
}

struct Walk<'a> {
    system: &'a FileSystem<'a>,
    fs: usize,
    home: usize,
    found: &'a mut Found,
    go_on: &'a dyn Fn() -> bool,
    /// The folders that were entered: a damaged file system can lead in a circle.
    above: HashSet<u32>,
}

impl Walk<'_> {
    fn leave_out(&mut self, path: Vec<u8>, why: String) {
        self.found.unread.push(NotCopied { home: self.home, path, why });
    }

    fn inode(&mut self, number: u32, path: Vec<u8>, depth: usize, classifier: &Classifier<'_>) {
        let inode = match self.system.inode(number) {
            Ok(inode) => inode,
            Err(fault) => return self.leave_out(path, in_words(&fault)),
        };
        let kind = classifier.kind_of(&path);
        if inode.is_encrypted() {
            return self.leave_out(path, "encrypted: its user's key is needed to read it".into());
        }
        match inode.kind() {
            Type::Folder => {
                self.add(path.clone(), ItemKind::Folder, kind, &inode);
                let classifier = classifier.for_folder(&path);
                self.folder(&inode, path, depth, &classifier);
            }
            // Without checksums a damaged size is believed, and a file of nothing but holes would be read for hours.
            Type::File if inode.size > self.system.size().saturating_mul(MAX_HOLES) => {
                self.leave_out(path, format!("its recorded size of {} bytes is not valid", inode.size));
            }
            Type::File => self.add(path, ItemKind::File, kind, &inode),
            Type::Link => match self.system.target(&inode) {
                Ok(target) => self.add(path, ItemKind::Link(target), kind, &inode),
                Err(e) => self.leave_out(path, error_words(&e)),
            },
            Type::Special => self.found.special += 1,
            Type::Invalid => self.leave_out(path, "its entry in the file system is not valid".into()),
        }
    }

    fn folder(&mut self, inode: &Inode, path: Vec<u8>, depth: usize, classifier: &Classifier<'_>) {
        if depth > MAX_DEPTH {
            return self.leave_out(path, "nested too deeply".into());
        }
        if !(self.go_on)() {
            return;
        }
        let (mut names, bad) = self.system.entries_of(inode);
        if bad > 0 {
            self.leave_out(path.clone(), "part of this folder cannot be read: files in it may be missing here".into());
        }
        names.sort_unstable_by(|a, b| a.name.cmp(&b.name));
        for name in names {
            let below = match path.is_empty() {
                true => name.name,
                false => [&path[..], b"/", &name.name].concat(),
            };
            let is_folder = self.system.inode(name.inode).is_ok_and(|inode| inode.kind() == Type::Folder);
            if is_folder && !self.above.insert(name.inode) {
                self.leave_out(below, "a folder that has another name already".into());
                continue;
            }
            self.inode(name.inode, below, depth + 1, classifier);
        }
    }

    fn add(&mut self, path: Vec<u8>, is: ItemKind, kind: DataKind, inode: &Inode) {
        self.found.items.push(Item {
            home: self.home,
            path,
            is,
            kind,
            size: inode.size,
            mode: u32::from(inode.mode & 0o7777),
            uid: inode.uid,
            gid: inode.gid,
            mtime: Instant { s: inode.mtime, n: inode.mtime_nanoseconds },
            inode: Some(Identity { dev: self.fs as u64, ino: inode.number.into() }),
        });
    }
}

/// A file of a file system that is not mounted.
pub(super) struct UnmountedFile<'a> {
    pub(super) content: FileContent<'a>,
    pub(super) mtime: Instant,
}

impl Content for UnmountedFile<'_> {
    fn status(&self) -> io::Result<(u64, Instant)> {
        Ok((self.content.size(), self.mtime))
    }

    fn read_at(&self, at: u64, into: &mut [u8]) -> io::Result<usize> {
        self.content.read_at(at, into)
    }

    fn written_after(&self, at: u64) -> io::Result<Option<Range<u64>>> {
        Ok(self.content.written_after(at))
    }

    fn grain(&self) -> u64 {
        self.content.block_size()
    }

    /// None: attributes are not read from disks that are not mounted.
    fn attributes(&self) -> io::Result<Vec<(Vec<u8>, Vec<u8>)>> {
        Ok(Vec::new())
    }
}
