//! [`Session`]: one run of copying, in batches that are synced, read back, and recorded in the manifest.

use std::collections::HashMap;
use std::io;

use super::batch::{Batch, batch_size};
use super::copy::{Copied, Copying, NotDone, digest_of};
use super::destination::{DestinationError, Part, StoredStatus};
use super::manifest::{self, EntryLine, Line, ManifestWriter};
use super::selection::{Earlier, Job, Selection, add};
use super::source::{HomePlace, Item, ItemKind};
use super::stored_names::StoredNames;
use crate::machine::Exchange;
use crate::model::{Digest, FileKind, LinkTarget, SystemPath, error_words, readable};
use crate::report::Count;

/// What became of the files.
#[derive(Debug, Default)]
pub(super) struct Results {
    pub(super) copied: Count,
    /// Files that are not copied, with their users and the reasons.
    pub(super) missing: Vec<(usize, SystemPath, String)>,
    /// Files that were copied with gaps.
    pub(super) incomplete: Vec<EntryLine>,
    /// Files that were changed while they were copied.
    pub(super) changed: Vec<SystemPath>,
    /// Files that are stored under another name.
    pub(super) renamed: u64,
    /// Symlinks that are recorded in the manifest only.
    pub(super) only_recorded: u64,
    pub(super) stopped: bool,
    /// Why the destination accepts nothing more.
    pub(super) failed: Option<DestinationError>,
}

/// One run of copying.
pub(super) struct Session<'a> {
    pub(super) copying: &'a Copying<'a>,
    pub(super) homes: &'a [HomePlace],
    pub(super) folders: &'a HashMap<SystemPath, Item>,
    pub(super) earlier: &'a Earlier<'a>,
    pub(super) names: StoredNames,
    pub(super) writer: ManifestWriter,
    pub(super) lines: Vec<Line>,
    /// What is stored in this run, by path on the machine, for other names of the same files.
    pub(super) stored: HashMap<SystemPath, EntryLine>,
    pub(super) results: Results,
}

/// Whether copying goes on.
type Go = Result<(), ()>;

impl Session<'_> {
    /// Copies everything, and then what could not be read at once. While one batch is copied, the one before it is written to the medium
    /// and read back, and the files of the one before that get their names.
    pub(super) fn run(&mut self, selection: &Selection, pool: &rayon::ThreadPool) {
        // By this line the folder is known as that of this machine: it comes before everything else.
        let _ = self.record();
        let mut later = Vec::new();
        let mut rest = &selection.jobs[..];
        let copying = self.copying;
        let mut before: Option<Batch<'_>> = None;
        let mut secured: Option<(Batch<'_>, Result<(), DestinationError>)> = None;
        while !rest.is_empty() && self.goes_on() {
            let (batch, others) = rest.split_at(batch_size(rest));
            rest = others;
            // Other names of a file need its first one to be stored.
            if batch.iter().any(|job| job.same_as.is_some()) {
                self.end_both(secured.take(), before.take(), pool, &mut later);
            }
            let (files, others) = batch.iter().partition(|job| self.has_content_of_its_own(job));
            let (next, done) = std::thread::scope(|scope| {
                let secure = || before.as_mut().map(|before| copying.secure(before));
                let work =
                    scope.spawn(|| pool.install(|| rayon::join(|| copying.copy_batch(files, others, false), secure)));
                if let Some((batch, secured)) = secured.take() {
                    let _ = self.settle(batch, secured, &mut later);
                }
                work.join().unwrap_or_else(|panic| std::panic::resume_unwind(panic))
            });
            secured = before.take().zip(done);
            before = Some(next);
        }
        self.end_both(secured, before, pool, &mut later);
        // What cannot be read takes the longest, and reading it can be the last thing that a failing disk does.
        for job in later {
            if !self.goes_on() {
                break;
            }
            let batch = pool.install(|| self.copying.copy_batch(vec![job], Vec::new(), true));
            self.end(Some(batch), pool, &mut Vec::new());
        }
        if self.goes_on() {
            let _ = self.finish_folders(&selection.empty_folders);
        }
        let _ = self.record();
    }

    fn end_both<'j>(
        &mut self,
        secured: Option<(Batch<'j>, Result<(), DestinationError>)>,
        before: Option<Batch<'j>>,
        pool: &rayon::ThreadPool,
        later: &mut Vec<&'j Job>,
    ) {
        if let Some((batch, secured)) = secured {
            let _ = self.settle(batch, secured, later);
        }
        self.end(before, pool, later);
    }

    fn end<'j>(&mut self, batch: Option<Batch<'j>>, pool: &rayon::ThreadPool, later: &mut Vec<&'j Job>) {
        let Some(mut batch) = batch else { return };
        let secured = pool.install(|| self.copying.secure(&mut batch));
        let _ = self.settle(batch, secured, later);
    }

    fn goes_on(&self) -> bool {
        !self.results.stopped && self.results.failed.is_none()
    }

    fn fail<T>(&mut self, done: Result<T, DestinationError>) -> Result<T, ()> {
        done.map_err(|e| {
            self.results.failed.get_or_insert(e);
        })
    }

    /// Gives the files of a batch their names, and records them.
    fn settle<'j>(&mut self, batch: Batch<'j>, secured: Result<(), DestinationError>, later: &mut Vec<&'j Job>) -> Go {
        self.fail(secured)?;
        let Batch { files, done, others, last } = batch;
        for (job, done) in files.into_iter().zip(done) {
            match done {
                Ok(copied) => self.store(job, copied)?,
                Err(NotDone::Source(e)) if last => self.miss(job, error_words(&e)),
                Err(NotDone::Source(_)) => later.push(job),
                Err(NotDone::Unfit(why)) => self.miss(job, why),
                Err(NotDone::Destination(e)) => drop(self.results.failed.get_or_insert(e)),
                Err(NotDone::Stopped) => self.results.stopped |= self.results.failed.is_none(),
            }
        }
        self.results.stopped &= self.results.failed.is_none();
        if self.goes_on() {
            for job in others {
                match &job.item.is {
                    ItemKind::Link(target) => self.store_symlink(job, target)?,
                    _ => self.store_hard_link(job)?,
                }
            }
        }
        self.record()
    }

    fn has_content_of_its_own(&self, job: &Job) -> bool {
        let can_link = self.copying.destination.can.hard_links;
        let is_linked = job.same_as.as_ref().is_some_and(|first| can_link && self.linkable(first).is_some());
        job.item.is == ItemKind::File && !is_linked
    }

    /// The stored file of which another name can be made.
    fn linkable(&self, first: &SystemPath) -> Option<&EntryLine> {
        self.stored.get(first).or_else(|| self.earlier.entry(first)).filter(|entry| entry.gaps.is_empty())
    }

    /// Moves a copied file to its place, and records it.
    fn store(&mut self, job: &Job, copied: Copied) -> Go {
        let gaps: Vec<(u64, u64)> = copied.gaps.iter().map(|gap| (gap.start, gap.end)).collect();
        let missing = |gaps: &[(u64, u64)]| gaps.iter().map(|(from, to)| to - from).sum::<u64>();
        let before = self.earlier.entry(&job.path).cloned();
        if let Some(before) = before.filter(|before| before.stored.is_some()) {
            if missing(&gaps) > 0 && missing(&before.gaps) <= missing(&gaps) {
                self.discard(&copied.part);
                match before.gaps.is_empty() {
                    true => self.miss(job, "it was changed and cannot be read whole; the earlier copy is kept".into()),
                    false => self.results.incomplete.push(before),
                }
                return Ok(());
            }
            self.clear_place_of(&before)?;
        }
        let mut name = job.path.name().to_vec();
        if !gaps.is_empty() {
            name.extend_from_slice(b".incomplete");
        }
        let stored = self.place(job, &name, &mut |session, stored| {
            if session.copying.destination.finish(&copied.part, stored)? {
                return Ok(true);
            }
            // Moved there, and not recorded before a cut.
            let is_same = session.holds(stored, &copied.digest);
            if is_same {
                session.discard(&copied.part);
            }
            Ok(is_same)
        })?;
        let mut line = self.line(job, Some(stored));
        line.size = copied.size;
        line.mtime = copied.mtime;
        line.blake3 = Some(copied.digest);
        line.attributes = copied.attributes.iter().map(|(name, value)| (readable(name), in_hex(value))).collect();
        line.gaps = gaps;
        if copied.changed_meanwhile {
            self.results.changed.push(job.path.clone());
        }
        match line.gaps.is_empty() {
            true => self.count(job),
            false => self.results.incomplete.push(line.clone()),
        }
        self.push(job, line);
        Ok(())
    }

    fn store_symlink(&mut self, job: &Job, target: &[u8]) -> Go {
        let can = self.copying.destination.can.symlinks;
        if let Some(before) = self.earlier.entry(&job.path).filter(|before| before.stored.is_some()).cloned() {
            self.clear_place_of(&before)?;
        }
        let stored = match can {
            false => None,
            true => Some(self.place(job, job.path.name(), &mut |session, stored| {
                let destination = session.copying.destination;
                let dir = destination.folder(&stored.parent().unwrap_or_else(SystemPath::root))?;
                match dir.disk().make_link(dir.fd(), stored.name(), target) {
                    Err(e) if e.kind() == io::ErrorKind::AlreadyExists => {
                        Ok(dir.disk().read_link(dir.fd(), stored.name()).is_ok_and(|known| known == target))
                    }
                    Err(e) => Err(destination.failed(stored, e)),
                    Ok(()) => {
                        let status = status_of(&job.item, None);
                        destination.set_status(&dir, stored.name(), None, &status);
                        Ok(true)
                    }
                }
            })?),
        };
        self.results.only_recorded += u64::from(stored.is_none());
        let mut line = self.line(job, stored);
        line.target = Some(LinkTarget(target.to_vec()));
        self.count(job);
        self.push(job, line);
        Ok(())
    }

    fn store_hard_link(&mut self, job: &Job) -> Go {
        let Some(first) = job.same_as.as_ref().and_then(|first| self.linkable(first)).cloned() else {
            self.miss(job, "its other name cannot be copied".into());
            return Ok(());
        };
        let Some(other) = first.stored.clone() else { return Ok(()) };
        if let Some(before) = self.earlier.entry(&job.path).filter(|before| before.stored.is_some()).cloned() {
            self.clear_place_of(&before)?;
        }
        let stored = self.place(job, job.path.name(), &mut |session, stored| {
            let destination = session.copying.destination;
            let from = destination.folder(&other.parent().unwrap_or_else(SystemPath::root))?;
            let to = destination.folder(&stored.parent().unwrap_or_else(SystemPath::root))?;
            match to.disk().hard_link(from.fd(), other.name(), to.fd(), stored.name()) {
                Err(e) if e.kind() == io::ErrorKind::AlreadyExists => {
                    Ok(first.blake3.is_some_and(|digest| session.holds(stored, &digest)))
                }
                done => done.map(|()| true).map_err(|e| destination.failed(stored, e)),
            }
        })?;
        let mut line = self.line(job, Some(stored));
        (line.size, line.blake3, line.same_as) = (first.size, first.blake3, Some(first.path.clone()));
        line.attributes = first.attributes;
        self.count(job);
        self.push(job, line);
        Ok(())
    }

    /// Finds a free place for a file: `put` makes it there, and returns `false` if the place is taken.
    fn place(
        &mut self,
        job: &Job,
        name: &[u8],
        put: &mut dyn FnMut(&Self, &SystemPath) -> Result<bool, DestinationError>,
    ) -> Result<SystemPath, ()> {
        let above = job.path.parent().unwrap_or_else(SystemPath::root);
        let folder = self.folder(job.item.home, &above)?;
        loop {
            let Some(stored) = self.names.choose(&folder, name) else {
                let source = io::Error::other("there is no free name for a file there");
                let failed = self.copying.destination.failed(&folder, source);
                return self.fail(Err(failed));
            };
            let done = put(self, &stored);
            if done.is_err() {
                self.names.release(&stored);
            }
            if self.fail(done)? {
                let is_other = stored.name() != job.path.name() && !stored.name().ends_with(b".incomplete");
                self.results.renamed += u64::from(is_other);
                return Ok(stored);
            }
        }
    }

    /// The stored folder for a folder of the machine: created with those above it, up to the home.
    fn folder(&mut self, home: usize, path: &SystemPath) -> Result<SystemPath, ()> {
        if let Some(known) = self.names.folder(path) {
            return Ok(known.clone());
        }
        let place = &self.homes[home];
        let (above, name) = match *path == place.place || !path.is_within(&place.place) {
            true => (SystemPath::root(), folder_name(&place.user)),
            false => {
                let above = path.parent().unwrap_or_else(SystemPath::root);
                (self.folder(home, &above)?, path.name().to_vec())
            }
        };
        let Some(stored) = self.names.choose(&above, &name) else {
            let failed = self.copying.destination.failed(&above, io::Error::other("no free name for a folder"));
            return self.fail(Err(failed));
        };
        let made = self.copying.destination.make_folder(&stored);
        if made.is_err() {
            self.names.release(&stored);
        }
        self.fail(made)?;
        self.names.record(path, &stored, true);
        if let Some(item) = self.folders.get(path) {
            let line = entry(item, path, Some(stored.clone()), &self.homes[home].user);
            self.lines.push(Line::Entry(line));
        }
        Ok(stored)
    }

    /// Makes room for a newer copy: an incomplete one is removed, a complete one gets another name.
    fn clear_place_of(&mut self, before: &EntryLine) -> Go {
        let Some(stored) = &before.stored else { return Ok(()) };
        let above = stored.parent().unwrap_or_else(SystemPath::root);
        let opened = self.copying.destination.folder(&above);
        let dir = self.fail(opened)?;
        let disk = dir.disk();
        let cleared = if before.gaps.is_empty() {
            let name = [stored.name(), b".earlier"].concat();
            let is_free = |path: &SystemPath| dir.look(path.name()).is_ok_and(|found| found.is_none());
            let Some(aside) = std::iter::from_fn(|| self.names.choose(&above, &name)).find(is_free) else {
                return Ok(());
            };
            disk.rename(dir.fd(), stored.name(), dir.fd(), aside.name(), Exchange::Replace)
        } else {
            disk.unlink(dir.fd(), stored.name())
        };
        self.names.release(stored);
        let cleared = cleared.map_err(|e| self.copying.destination.failed(stored, e));
        self.fail(cleared)
    }

    fn holds(&self, stored: &SystemPath, digest: &Digest) -> bool {
        let Ok(dir) = self.copying.destination.folder(&stored.parent().unwrap_or_else(SystemPath::root)) else {
            return false;
        };
        let Ok(file) = dir.disk().open_file(dir.fd(), stored.name()) else { return false };
        let read = digest_of(0, &|at, into| dir.disk().read_at(std::os::fd::AsFd::as_fd(&file), at, into));
        read.is_ok_and(|found| found.as_ref() == Some(digest))
    }

    fn discard(&self, part: &Part) {
        self.copying.destination.discard_part(part);
    }

    fn miss(&mut self, job: &Job, why: String) {
        self.results.missing.push((job.item.home, job.path.clone(), why));
    }

    fn count(&mut self, job: &Job) {
        add(&mut self.results.copied, &job.item);
    }

    fn line(&self, job: &Job, stored: Option<SystemPath>) -> EntryLine {
        entry(&job.item, &job.path, stored, &self.homes[job.item.home].user)
    }

    fn push(&mut self, job: &Job, line: EntryLine) {
        if job.item.inode.is_some() {
            self.stored.insert(job.path.clone(), line.clone());
        }
        self.lines.push(Line::Entry(line));
    }

    /// Appends to the manifest what was stored since the last time.
    fn record(&mut self) -> Go {
        let lines = std::mem::take(&mut self.lines);
        let name = || SystemPath::root().child(manifest::NAME).unwrap_or_else(|_| SystemPath::root());
        let written = self.writer.append(&lines).map_err(|e| self.copying.destination.failed(&name(), e));
        self.fail(written)
    }

    /// Creates empty folders, and sets owners, permissions and times of all: the last ones first, because what is created in a folder
    /// alters its time.
    fn finish_folders(&mut self, empty: &[SystemPath]) -> Go {
        for path in empty {
            if let Some(home) = self.folders.get(path).map(|item| item.home) {
                self.folder(home, path)?;
            }
        }
        self.record()?;
        let mut all: Vec<(&SystemPath, &Item)> = self.folders.iter().collect();
        all.sort_by(|a, b| b.0.cmp(a.0));
        for (path, item) in all {
            let Some(stored) = self.names.folder(path) else { continue };
            let above = stored.parent().unwrap_or_else(SystemPath::root);
            if let Ok(dir) = self.copying.destination.folder(&above) {
                self.copying.destination.set_status(&dir, stored.name(), None, &status_of(item, Some(item.mode)));
            }
        }
        Ok(())
    }
}

fn status_of(item: &Item, mode: Option<u32>) -> StoredStatus {
    StoredStatus { uid: item.uid, gid: item.gid, mode, mtime: item.mtime }
}

fn entry(item: &Item, path: &SystemPath, stored: Option<SystemPath>, user: &str) -> EntryLine {
    let is = match &item.is {
        ItemKind::Folder => FileKind::Folder,
        ItemKind::File => FileKind::File,
        ItemKind::Link(_) => FileKind::Link,
    };
    EntryLine {
        user: user.to_owned(),
        path: path.clone(),
        stored,
        is,
        kind: item.kind,
        size: if is == FileKind::File { item.size } else { 0 },
        blake3: None,
        mtime: item.mtime,
        mode: format!("{:04o}", item.mode),
        uid: item.uid,
        gid: item.gid,
        target: None,
        same_as: None,
        attributes: Vec::new(),
        gaps: Vec::new(),
    }
}

/// The name of a user's folder: an account file that is damaged can contain any name.
fn folder_name(user: &str) -> Vec<u8> {
    match user.replace(['/', '\0'], "-").as_str() {
        "" | "." | ".." => b"user".to_vec(),
        name => name.as_bytes().to_vec(),
    }
}

fn in_hex(bytes: &[u8]) -> String {
    bytes.iter().map(|byte| format!("{byte:02x}")).collect()
}
