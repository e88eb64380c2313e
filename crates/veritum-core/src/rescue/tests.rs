//! Copying from a source in memory, whose files cannot all be read, to a destination that fails.

use std::collections::BTreeMap;
use std::fs;
use std::io;
use std::ops::Range;
use std::path::Path;
use std::sync::Arc;

use super::*;
use crate::event::NoObserver;
use crate::machine::LiveDisk;
use crate::model::{Digest, Identity, Instant as Time};
use crate::testkit::{Accident, Lack, TestDisk};

/// A file's path in the home, its content, and where it cannot be read.
type MemoryFile = (&'static str, Vec<u8>, Vec<(u64, u64)>);

/// A home in memory.
struct Memory {
    places: Vec<HomePlace>,
    files: Vec<MemoryFile>,
    links: Vec<(&'static str, &'static str)>,
    /// Another name of the first file.
    second_name: Option<&'static str>,
    time: i64,
}

struct InMemory<'a>(&'a [u8], &'a [(u64, u64)], i64);

fn home(files: Vec<MemoryFile>) -> Memory {
    let places = vec![HomePlace { user: "mirela".into(), place: SystemPath::literal("/home/mirela") }];
    Memory { places, files, links: vec![("latest", "Letters/one.odt")], second_name: Some("Letters/again"), time: 7 }
}

impl Memory {
    fn item(&self, path: &str, is: ItemKind, size: u64, inode: Option<u64>) -> Item {
        Item {
            home: 0,
            path: path.as_bytes().to_vec(),
            is,
            kind: DataKind::Documents,
            size,
            mode: 0o640,
            uid: 1000,
            gid: 1000,
            mtime: Time { s: self.time, n: 5 },
            inode: inode.map(|ino| Identity { dev: 1, ino }),
        }
    }
}

impl Source for Memory {
    fn homes(&self) -> &[HomePlace] {
        &self.places
    }

    fn list(&self, _: usize, found: &mut Found, _: &dyn Fn() -> bool) {
        for folder in ["", "Letters", "Empty"] {
            found.items.push(self.item(folder, ItemKind::Folder, 0, None));
        }
        for (at, (path, content, _)) in self.files.iter().enumerate() {
            let inode = (at == 0).then_some(1);
            found.items.push(self.item(path, ItemKind::File, content.len() as u64, inode));
        }
        let first = self.files[0].1.len() as u64;
        found.items.extend(self.second_name.map(|path| self.item(path, ItemKind::File, first, Some(1))));
        for (path, target) in &self.links {
            found.items.push(self.item(path, ItemKind::Link(target.as_bytes().to_vec()), 0, None));
        }
    }

    fn open(&self, item: &Item) -> io::Result<Box<dyn Content + '_>> {
        let named = |path: &&str| path.as_bytes() == item.path;
        let at = self.files.iter().position(|(path, ..)| named(path)).unwrap_or(0);
        let (_, content, bad) = &self.files[at];
        Ok(Box::new(InMemory(content, bad, self.time)))
    }
}

impl Content for InMemory<'_> {
    fn status(&self) -> io::Result<(u64, Time)> {
        Ok((self.0.len() as u64, Time { s: self.2, n: 5 }))
    }

    fn read_at(&self, at: u64, into: &mut [u8]) -> io::Result<usize> {
        let end = (at + into.len() as u64).min(self.0.len() as u64);
        if self.1.iter().any(|(from, to)| *from < end && at < *to) {
            return Err(rustix::io::Errno::IO.into());
        }
        let there = &self.0[at as usize..end as usize];
        into[..there.len()].copy_from_slice(there);
        Ok(there.len())
    }

    fn written_after(&self, at: u64) -> io::Result<Option<Range<u64>>> {
        Ok((at < self.0.len() as u64).then_some(at..self.0.len() as u64))
    }

    fn attributes(&self) -> io::Result<Vec<(Vec<u8>, Vec<u8>)>> {
        Ok(Vec::new())
    }
}

/// A private folder, in memory where that can be had: there syncing costs nothing.
fn folder() -> tempfile::TempDir {
    tempfile::tempdir_in("/dev/shm").or_else(|_| tempfile::tempdir()).unwrap()
}

fn sound() -> Memory {
    let large = (0..300_000u32).flat_map(u32::to_le_bytes).collect();
    home(vec![
        ("Letters/one.odt", b"the first letter".to_vec(), vec![]),
        ("Letters/what? 10:30.txt", b"odd".to_vec(), vec![]),
        ("Letters/large.bin", large, vec![]),
        ("notes", Vec::new(), vec![]),
    ])
}

fn copied(source: &Memory, to: &Path, disk: Arc<dyn Disk>) -> Result<Rescued, RescueError> {
    let pool = rayon::ThreadPoolBuilder::new().num_threads(2).build().unwrap();
    let origin = Origin { host: "counter-03".into(), machine: "m".into(), system: "Foreshore".into() };
    let wanted = Wanted { to, kinds: DataKind::ALL.to_vec(), plan_only: false, now: jiff::Timestamp::UNIX_EPOCH };
    rescue(source, &origin, &wanted, disk, &pool, &NoObserver)
}

/// The stored files below the user's folder, with their contents.
fn stored(to: &Path) -> BTreeMap<String, Vec<u8>> {
    fn add(folder: &Path, at: &str, all: &mut BTreeMap<String, Vec<u8>>) {
        for entry in fs::read_dir(folder).unwrap() {
            let (path, name) = entry.map(|e| (e.path(), e.file_name().into_string().unwrap())).unwrap();
            let named = format!("{at}{name}");
            match fs::symlink_metadata(&path).unwrap() {
                meta if meta.is_dir() => add(&path, &format!("{named}/"), all),
                meta if meta.is_symlink() => drop(all.insert(named, b"a symlink".to_vec())),
                _ => drop(all.insert(named, fs::read(&path).unwrap())),
            }
        }
    }
    let mut all = BTreeMap::new();
    add(&to.join("rescue-counter-03/mirela"), "", &mut all);
    all
}

fn expected(source: &Memory) -> BTreeMap<String, Vec<u8>> {
    let mut all: BTreeMap<String, Vec<u8>> =
        source.files.iter().map(|(path, content, _)| ((*path).to_owned(), content.clone())).collect();
    all.insert("latest".into(), b"a symlink".to_vec());
    all.insert("Letters/again".into(), source.files[0].1.clone());
    all
}

#[test]
fn everything_is_copied_with_its_names_and_a_second_run_copies_nothing() {
    use std::os::unix::fs::MetadataExt as _;
    let to = folder();
    let source = sound();
    let first = copied(&source, to.path(), Arc::new(LiveDisk)).unwrap();
    assert!(first.missing.is_empty() && first.incomplete.is_empty() && first.failed.is_none(), "{first:?}");
    assert_eq!((first.copied.files, first.known.files), (6, 0));
    assert!(stored(to.path()) == expected(&source));
    let folder = to.path().join("rescue-counter-03");
    let meta = |path: &str| fs::metadata(folder.join("mirela").join(path)).unwrap();
    assert_eq!(meta("Letters/one.odt").ino(), meta("Letters/again").ino());
    assert_eq!((meta("notes").mtime(), meta("Letters").mtime(), meta("notes").mode() & 0o7777), (7, 7, 0o640));
    assert!(folder.join("mirela/Empty").is_dir() && !folder.join(".veritum-parts").exists());
    let again = copied(&source, to.path(), Arc::new(LiveDisk)).unwrap();
    assert_eq!((again.copied.files, again.known.files), (0, 6));
    let checked =
        verify(to.path(), &(Arc::new(LiveDisk) as _), &rayon::ThreadPoolBuilder::new().build().unwrap(), &NoObserver);
    let checked = checked.unwrap();
    assert_eq!((checked.intact.files, checked.problems.len()), (6, 0), "{checked:?}");
}

#[test]
fn what_changes_on_the_disk_later_is_found() {
    let to = folder();
    copied(&sound(), to.path(), Arc::new(LiveDisk)).unwrap();
    let folder = to.path().join("rescue-counter-03/mirela");
    fs::write(folder.join("notes"), "x").unwrap();
    fs::remove_file(folder.join("Letters/large.bin")).unwrap();
    fs::remove_file(folder.join("latest")).unwrap();
    std::os::unix::fs::symlink("/etc/shadow", folder.join("latest")).unwrap();
    let pool = rayon::ThreadPoolBuilder::new().build().unwrap();
    let checked = verify(&to.path().join("rescue-counter-03"), &(Arc::new(LiveDisk) as _), &pool, &NoObserver).unwrap();
    let mut found: Vec<(String, &str)> =
        checked.problems.iter().map(|p| (p.stored.to_string(), p.why.as_str())).collect();
    found.sort();
    let wanted = [
        ("/mirela/Letters/large.bin".to_owned(), "it is missing"),
        ("/mirela/latest".to_owned(), "it points to another place"),
        ("/mirela/notes".to_owned(), "it has 1 bytes instead of 0"),
    ];
    assert_eq!(found, wanted);
    // What is lost there is copied again.
    let again = copied(&sound(), to.path(), Arc::new(LiveDisk)).unwrap();
    assert!(again.copied.files >= 1 && stored(to.path())["Letters/large.bin"] == sound().files[2].1, "{again:?}");
}

#[test]
fn an_unreadable_place_costs_what_is_there_and_nothing_else() {
    let to = folder();
    let mut source = sound();
    source.files[2].2 = vec![(8192, 8193), (700_000, 700_001)];
    let done = copied(&source, to.path(), Arc::new(LiveDisk)).unwrap();
    let [file] = done.incomplete.as_slice() else { panic!("{done:?}") };
    assert_eq!(file.gaps, [(8192, 12288), (696_320, 700_416)]);
    let all = stored(to.path());
    let mut whole = source.files[2].1.clone();
    whole[8192..12288].fill(0);
    whole[696_320..700_416].fill(0);
    assert!(all["Letters/large.bin.incomplete"] == whole && !all.contains_key("Letters/large.bin"));
    assert_eq!(file.blake3, Some(Digest::hash(&whole)));
    // The disk can be read there the next time.
    source.files[2].2.clear();
    let again = copied(&source, to.path(), Arc::new(LiveDisk)).unwrap();
    assert_eq!((again.copied.files, again.incomplete.len()), (1, 0), "{again:?}");
    assert!(stored(to.path()) == expected(&source));
}

#[test]
fn a_newer_version_does_not_replace_the_copy_of_an_older_one_and_a_worse_one_is_not_kept() {
    let to = folder();
    let mut source = sound();
    copied(&source, to.path(), Arc::new(LiveDisk)).unwrap();
    source.files[0].1 = b"another first letter".to_vec();
    source.second_name = None;
    copied(&source, to.path(), Arc::new(LiveDisk)).unwrap();
    let all = stored(to.path());
    assert_eq!(all["Letters/one.odt"], b"another first letter");
    assert_eq!(all["Letters/one.odt.earlier"], b"the first letter");
    source.files[0] = ("Letters/one.odt", b"a third".to_vec(), vec![(0, 1)]);
    let done = copied(&source, to.path(), Arc::new(LiveDisk)).unwrap();
    assert_eq!(
        (done.missing.len(), stored(to.path())["Letters/one.odt"].as_slice()),
        (1, &b"another first letter"[..])
    );
}

#[test]
fn files_of_others_in_the_folder_are_left_alone() {
    let to = folder();
    let folder = to.path().join("rescue-counter-03/mirela/Letters");
    fs::create_dir_all(&folder).unwrap();
    fs::write(folder.join("one.odt"), "of another program").unwrap();
    copied(&sound(), to.path(), Arc::new(LiveDisk)).unwrap();
    assert_eq!(fs::read(folder.join("one.odt")).unwrap(), b"of another program");
    let other = to.path().join("rescue-counter-03-2/mirela/Letters/one.odt");
    assert_eq!(fs::read(other).unwrap(), b"the first letter", "a folder that is not ours gets no files");
}

#[test]
fn a_cut_anywhere_is_resumed_and_nothing_is_lost_or_double() {
    let mut source = sound();
    source.files[2].1.truncate(9000);
    for lack in [Lack::Nothing, Lack::Names] {
        let count = {
            let to = folder();
            let disk = Arc::new(TestDisk::lacking(lack, Accident::None));
            let done = copied(&source, to.path(), disk.clone()).unwrap();
            assert!(done.failed.is_none() && !done.stopped, "{lack:?} {done:?}");
            assert!(stored(to.path()) == expected(&source), "{lack:?}");
            disk.operations()
        };
        assert!(count > 40, "{count}");
        for n in 0..count {
            for accident in [Accident::Stop(n), Accident::Cut(n), Accident::Fail(n, 28)] {
                let to = folder();
                let disk = Arc::new(TestDisk::lacking(lack, accident));
                let first = copied(&source, to.path(), disk);
                if let Ok(done) = &first
                    && done.failed.is_none()
                    && matches!(accident, Accident::Fail(..))
                {
                    assert!(done.missing.is_empty(), "{accident:?}: {done:?}");
                }
                let again = copied(&source, to.path(), Arc::new(LiveDisk)).unwrap();
                assert!(again.missing.is_empty() && again.failed.is_none(), "{accident:?}: {again:?}");
                let folders: Vec<_> = fs::read_dir(to.path()).unwrap().map(|e| e.unwrap().file_name()).collect();
                assert_eq!(folders, ["rescue-counter-03"], "{lack:?} {accident:?} {first:?} {again:?}");
                let made = to.path().join("rescue-counter-03/mirela");
                assert!(made.is_dir(), "{lack:?} {accident:?} {first:?} {again:?}");
                let (found, wanted) = (stored(to.path()), expected(&source));
                assert!(found.keys().eq(wanted.keys()), "{lack:?} {accident:?} {first:?} {:?}", found.keys());
                assert!(found == wanted, "{lack:?} {accident:?} {first:?}");
                assert_eq!(again.copied.files + again.known.files, 6, "{accident:?}");
            }
        }
    }
}
