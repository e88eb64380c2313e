//! [`DeletedHomes`]: users' files that were deleted, as ext4's journal still describes them.

use std::collections::{HashMap, HashSet};
use std::io;

use super::kinds::Classifier;
use super::source::{Content, Found, HomePlace, Item, ItemKind, Source};
use super::unmounted::{UnmountedFile, UnmountedHomes};
use crate::apps::{Bases, Card};
use crate::devices::ext4::{DeletedFile, FileSystem, Paths, deleted_files};
use crate::machine::Users;
use crate::model::{Identity, Instant, SystemPath};
use crate::report::DataKind;

/// The folder of a home in which they are stored, so that none takes the place of a file that exists.
pub const DELETED_FILES: &str = "Deleted-files";
/// Those whose folder is not known are in this folder of it.
const WITHOUT_FOLDER: &str = "without-folder";
/// Those that were outside of the home are in this one.
const ELSEWHERE: &str = "outside-of-home";
/// So much of a content says what it is, in bytes.
const BEGINNING: usize = 8192;

/// A user's file that was deleted.
#[derive(Debug, Clone)]
pub struct LostFile {
    /// The position of its home in the source.
    pub home: usize,
    /// What ext4's journal says of it.
    pub file: DeletedFile,
    /// What it was to its user.
    pub kind: DataKind,
    /// What its content is, by its beginning: a media type (RFC 6838), or `None` if that is not known.
    pub content: Option<String>,
    /// Whether what was written at its beginning is nothing but zeros, as on a disk that erases what is free.
    pub is_erased: bool,
    /// Its path relative to the home, where it is stored.
    pub place: Vec<u8>,
    /// The size of the blocks of its file system in bytes.
    pub block_size: u64,
    fs: usize,
}

/// Users' files that were deleted.
pub struct DeletedHomes<'a> {
    systems: &'a [FileSystem<'a>],
    places: Vec<HomePlace>,
    /// The files.
    pub files: Vec<LostFile>,
    /// Why nothing is known of files that were deleted on a file system, by its position.
    pub limits: Vec<(usize, &'static str)>,
}

impl<'a> DeletedHomes<'a> {
    /// Finds the deleted files of the users with these homes: what was in the homes, and what else belonged to their owners. File systems
    /// for which `unfit` gives a reason are left out.
    #[must_use]
    pub fn find(
        systems: &'a [FileSystem<'a>],
        unfit: &[Option<&'static str>],
        homes: &UnmountedHomes<'_>,
        cards: &[&Card],
    ) -> Self {
        let mut found = Self { systems, places: homes.homes().to_vec(), files: Vec::new(), limits: Vec::new() };
        let bases = Bases::default();
        let classifier = Classifier::new(&bases, cards.to_vec());
        for (fs, system) in systems.iter().enumerate() {
            if let Some(Some(why)) = unfit.get(fs) {
                found.limits.push((fs, why));
                continue;
            }
            match deleted_files(system) {
                Err(why) => found.limits.push((fs, why)),
                Ok(files) => {
                    let owners = Owners::of(fs, system, homes);
                    let lost = files.into_iter().filter_map(|file| lost_file(system, fs, file, &owners, &classifier));
                    found.files.extend(lost);
                }
            }
        }
        found.files.sort_by(|a, b| (a.home, &a.place, b.file.at).cmp(&(b.home, &b.place, a.file.at)));
        found.distinguish();
        found
    }

    /// Whether a path is that of a file, or of a folder of files.
    #[must_use]
    pub fn has(&self, chosen: &SystemPath) -> bool {
        self.files.iter().any(|lost| self.is_at(lost, chosen))
    }

    /// Only the files at these paths or in these folders; all if there are none.
    #[must_use]
    pub fn only(&self, chosen: &[SystemPath]) -> Self {
        let is_chosen = |lost: &&LostFile| chosen.is_empty() || chosen.iter().any(|path| self.is_at(lost, path));
        let files = self.files.iter().filter(is_chosen).cloned().collect();
        Self { systems: self.systems, places: self.places.clone(), files, limits: self.limits.clone() }
    }

    fn is_at(&self, lost: &LostFile, chosen: &SystemPath) -> bool {
        let stored = self.places[lost.home].place.join(&lost.place).ok();
        let was = lost.file.path.as_ref().and_then(|path| SystemPath::parse(path).ok());
        stored.into_iter().chain(was).any(|path| path == *chosen || path.is_within(chosen))
    }

    /// Gives several versions of one file different names: the newest keeps the usual one.
    fn distinguish(&mut self) {
        let mut taken = HashSet::new();
        for lost in &mut self.files {
            if !taken.insert((lost.home, lost.place.clone())) {
                let version = format!("-inode-{}-{}", lost.file.inode.number, lost.file.inode.mtime);
                let name = lost.place.iter().rposition(|byte| *byte == b'/').map_or(0, |at| at + 1);
                // Before its ending, as long as there is one.
                let end = lost.place[name + 1..].iter().rposition(|byte| *byte == b'.');
                let at = end.map_or(lost.place.len(), |end| name + 1 + end);
                lost.place.splice(at..at, version.into_bytes());
                taken.insert((lost.home, lost.place.clone()));
            }
        }
    }
}

/// The homes on one file system, by path and by owner.
struct Owners {
    paths: Vec<(Vec<u8>, usize)>,
    users: HashMap<u32, usize>,
}

impl Owners {
    fn of(fs: usize, system: &FileSystem<'_>, homes: &UnmountedHomes<'_>) -> Self {
        let own: Vec<(usize, u32)> =
            homes.inodes().filter_map(|(home, of, inode)| (of == fs).then_some((home, inode))).collect();
        let paths = Paths::find(system, &own.iter().map(|(_, inode)| *inode).collect());
        let place = |(home, inode): &(usize, u32)| Some((paths.of(*inode).into_iter().next()?, *home));
        // What belonged to an owner can be on another file system than the home.
        let users =
            homes.inodes().filter_map(|(home, of, inode)| Some((homes.system(of).inode(inode).ok()?.uid, home)));
        let users = users.filter(|(uid, _)| Users::default().is_login(*uid)).collect();
        Self { paths: own.iter().filter_map(place).collect(), users }
    }

    /// The home of a deleted file, and its path in it if it was there.
    fn home_of<'p>(&self, file: &'p DeletedFile) -> Option<(usize, Option<&'p [u8]>)> {
        let path = file.path.as_deref().unwrap_or_default();
        let within = |(home, at): &(Vec<u8>, usize)| {
            let home = if home == b"/" { &b""[..] } else { home };
            Some((*at, Some(path.strip_prefix(home)?.strip_prefix(b"/")?)))
        };
        let by_path = self.paths.iter().find_map(within);
        by_path.or_else(|| Some((*self.users.get(&file.inode.uid)?, None)))
    }
}

fn lost_file(
    system: &FileSystem<'_>,
    fs: usize,
    file: DeletedFile,
    owners: &Owners,
    classifier: &Classifier<'_>,
) -> Option<LostFile> {
    let (home, below) = owners.home_of(&file)?;
    let content = system.content_of_deleted(&file);
    let mut beginning = vec![0; BEGINNING];
    let read = content.read_at(0, &mut beginning).unwrap_or_default();
    beginning.truncate(read);
    let media = media_type(&beginning);
    let is_written = content.written_after(0).is_some_and(|next| next.start == 0);
    let is_erased = read > 0 && is_written && beginning.iter().all(|byte| *byte == 0);
    let kind = match (below, &media) {
        (Some(below), _) => classifier.kind_of(below),
        (None, Some((media, _))) if ["image/", "audio/", "video/"].iter().any(|kind| media.starts_with(kind)) => {
            DataKind::Media
        }
        _ => DataKind::Documents,
    };
    let place = match (below, &file.path) {
        (Some(below), _) => [b"/", below].concat(),
        (None, Some(path)) => [b"/", ELSEWHERE.as_bytes(), path].concat(),
        (None, None) => {
            let end = media.as_ref().map_or_else(String::new, |(_, end)| format!(".{end}"));
            format!("/{WITHOUT_FOLDER}/inode-{}-{}{end}", file.inode.number, file.inode.mtime).into_bytes()
        }
    };
    let place = [DELETED_FILES.as_bytes(), &place].concat();
    let block_size = content.block_size();
    Some(LostFile { home, file, kind, content: media.map(|(media, _)| media), is_erased, place, block_size, fs })
}

/// The media type of a content by its beginning, and the usual ending of such files.
fn media_type(beginning: &[u8]) -> Option<(String, &'static str)> {
    if let Some(known) = infer::get(beginning) {
        return Some((known.mime_type().to_owned(), known.extension()));
    }
    // The end may be in the middle of a character.
    let text = match std::str::from_utf8(beginning) {
        Ok(text) => text,
        Err(e) if e.error_len().is_none() => std::str::from_utf8(&beginning[..e.valid_up_to()]).unwrap_or_default(),
        Err(_) => return None,
    };
    let is_text = !text.is_empty() && text.chars().all(|c| !c.is_control() || c.is_whitespace());
    is_text.then(|| ("text/plain".to_owned(), "txt"))
}

impl Source for DeletedHomes<'_> {
    fn homes(&self) -> &[HomePlace] {
        &self.places
    }

    fn list(&self, home: usize, found: &mut Found, _: &dyn Fn() -> bool) {
        let own = self.files.iter().enumerate().filter(|(_, lost)| lost.home == home);
        found.items.extend(own.map(|(at, lost)| Item {
            home,
            path: lost.place.clone(),
            is: ItemKind::File,
            kind: lost.kind,
            size: lost.file.inode.size,
            mode: u32::from(lost.file.inode.mode & 0o7777),
            uid: lost.file.inode.uid,
            gid: lost.file.inode.gid,
            mtime: Instant { s: lost.file.inode.mtime, n: lost.file.inode.mtime_nanoseconds },
            inode: Some(Identity { dev: 0, ino: at as u64 }),
        }));
    }

    fn open(&self, item: &Item) -> io::Result<Box<dyn Content + '_>> {
        let at = item.inode.and_then(|id| usize::try_from(id.ino).ok());
        let lost = at.and_then(|at| self.files.get(at)).ok_or(io::ErrorKind::NotFound)?;
        let content = self.systems[lost.fs].content_of_deleted(&lost.file);
        // What something else uses now is unreadable.
        Ok(Box::new(UnmountedFile { content, mtime: item.mtime }))
    }
}
