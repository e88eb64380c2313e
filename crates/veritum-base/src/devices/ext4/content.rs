//! The content of files: what is in their blocks, in the inode itself, or in no place at all.

use std::io;
use std::ops::Range;

use super::inode::{Inode, Type};
use super::mapping::{self, Piece, Run};
use super::{DeletedFile, FileSystem, MAX_NAMES, Name, check, folder};

/// More symlinks than this in one path are a loop, as in Linux.
const MAX_LINKS: usize = 40;
/// Longer targets of symlinks are not valid.
const MAX_TARGET: u64 = 4096;

/// The content of a file.
pub struct FileContent<'a> {
    fs: &'a FileSystem<'a>,
    size: u64,
    runs: Vec<Run>,
    inline: Option<Vec<u8>>,
    /// Whether places of some of its blocks cannot be read: what has no known place is unreadable then, and no hole.
    has_unknown_places: bool,
    /// Blocks that something else uses now, in order: they are unreadable.
    lost: Vec<Range<u64>>,
}

/// Runs in the order of the file, adjacent ones as one: files of ext2 and ext3 have a run for each block.
fn merged(mut runs: Vec<Run>) -> Vec<Run> {
    runs.sort_by_key(|run| run.position);
    runs.dedup_by(|next, run| {
        let follows = run.position + run.count == next.position && run.block + run.count == next.block;
        let is_same = follows && run.written == next.written;
        run.count += if is_same { next.count } else { 0 };
        is_same
    });
    runs
}

/// The names of a path, the last one first.
fn names_of(path: &[u8]) -> Vec<Vec<u8>> {
    let names = path.rsplit(|byte| *byte == b'/').filter(|name| !name.is_empty() && *name != b".");
    names.map(<[u8]>::to_vec).collect()
}

/// The content that is kept in an inode.
fn inline_content(inode: &Inode) -> Vec<u8> {
    let more = check::inline_attribute(&inode.extra).unwrap_or_default();
    [&inode.places[..], more].concat()
}

fn unreadable() -> io::Error {
    rustix::io::Errno::IO.into()
}

impl<'a> FileSystem<'a> {
    /// The content of a file that was deleted.
    #[must_use]
    pub fn content_of_deleted(&'a self, file: &DeletedFile) -> FileContent<'a> {
        FileContent {
            fs: self,
            size: file.inode.size,
            runs: merged(file.runs.clone()),
            inline: file.inode.is_inline().then(|| inline_content(&file.inode)),
            has_unknown_places: file.has_unknown_places,
            lost: file.lost.clone(),
        }
    }

    /// The content of a file or symlink.
    #[must_use]
    pub fn content(&'a self, inode: &Inode) -> FileContent<'a> {
        let mut runs = Vec::new();
        let bad = mapping::walk(self, inode, &mut |piece| {
            if let Piece::Content(run) = piece {
                runs.push(run);
            }
        });
        let runs = merged(runs);
        let is_short_link = inode.kind() == Type::Link && !inode.has_blocks();
        let inline = (inode.is_inline() || is_short_link).then(|| inline_content(inode));
        // Two places of one block of the file: which of them is right is not known.
        let overlap = runs.windows(2).any(|pair| pair[0].position + pair[0].count > pair[1].position);
        FileContent {
            fs: self,
            size: inode.size,
            runs,
            inline,
            has_unknown_places: overlap || !bad.is_empty(),
            lost: Vec::new(),
        }
    }

    /// The target of a symlink.
    ///
    /// # Errors
    /// When it cannot be read, or is not valid.
    pub fn target(&self, link: &Inode) -> io::Result<Vec<u8>> {
        if link.size == 0 || link.size >= MAX_TARGET {
            return Err(io::Error::new(io::ErrorKind::InvalidData, "not a valid symlink"));
        }
        let mut target = vec![0; usize::try_from(link.size).unwrap_or_default()];
        let read = self.content(link).read_at(0, &mut target)?;
        target.truncate(read);
        Ok(target)
    }

    /// The names in a folder, without `.` and `..`, and the number of its blocks that cannot be read or are damaged.
    #[must_use]
    pub fn entries_of(&self, folder: &Inode) -> (Vec<Name>, u64) {
        let (mut names, bad) = self.names_and_faults(folder);
        names.retain(|name| name.name != b"." && name.name != b"..");
        (names, bad)
    }

    /// All names in a folder, as far as they can be read, and the number of its blocks that are damaged or cannot be read.
    pub(super) fn names_and_faults(&self, folder: &Inode) -> (Vec<Name>, u64) {
        if folder.is_inline() {
            let (names, fault) = check::inline_names(&self.superblock, folder);
            return (names, u64::from(fault.is_some()));
        }
        let (mut all, mut runs) = (Vec::new(), Vec::new());
        let unknown = mapping::walk(self, folder, &mut |piece| {
            if let Piece::Content(run) = piece {
                runs.push(run);
            }
        });
        let mut bad = unknown.len() as u64;
        for block in runs.iter().filter(|run| run.written).flat_map(|run| run.block..run.block + run.count) {
            if all.len() > MAX_NAMES {
                break;
            }
            let Ok(bytes) = self.block(block) else {
                bad += 1;
                continue;
            };
            let (names, fault) = folder::names(&self.superblock, folder, &bytes);
            all.extend(names);
            bad += u64::from(fault.is_some());
        }
        (all, bad)
    }

    /// Reports every folder in use whose entry in the file system is valid, whether another folder names it or not.
    pub fn each_folder(&self, see: &mut dyn FnMut(&Inode)) {
        self.each_inode(&mut |inode| {
            if inode.kind() == Type::Folder {
                see(inode);
            }
        });
    }

    /// The folder above a folder, as the folder itself records it.
    #[must_use]
    pub fn above(&self, folder: &Inode) -> Option<u32> {
        let names = self.names_and_faults(folder).0;
        names.into_iter().find(|name| name.name == b"..").map(|name| name.inode)
    }

    /// The inode at a path, whose names are separated by `/`. Symlinks are followed within the file system.
    #[must_use]
    pub fn find(&self, path: &[u8]) -> Option<Inode> {
        let mut folders = vec![self.inode(super::inode::ROOT).ok()?];
        let mut names: Vec<Vec<u8>> = names_of(path);
        let mut links = 0;
        while let Some(name) = names.pop() {
            let at = folders.last()?;
            if name == b".." {
                folders.truncate(folders.len().saturating_sub(1).max(1));
                continue;
            }
            if at.kind() != Type::Folder {
                return None;
            }
            let number = self.entries_of(at).0.into_iter().find(|entry| entry.name == name)?.inode;
            let found = self.inode(number).ok()?;
            if found.kind() != Type::Link {
                folders.push(found);
                continue;
            }
            links += 1;
            let target = self.target(&found).ok().filter(|_| links <= MAX_LINKS)?;
            if target.starts_with(b"/") {
                folders.truncate(1);
            }
            names.extend(names_of(&target));
        }
        folders.pop()
    }
}

impl FileContent<'_> {
    /// Its size in bytes.
    #[must_use]
    pub fn size(&self) -> u64 {
        self.size
    }

    /// The size of its blocks in bytes.
    #[must_use]
    pub fn block_size(&self) -> u64 {
        self.fs.superblock.block_size
    }

    /// Reads from a place on; fewer bytes only at its end.
    ///
    /// # Errors
    /// When a block cannot be read, or its place is not known.
    pub fn read_at(&self, at: u64, into: &mut [u8]) -> io::Result<usize> {
        let wanted = (into.len() as u64).min(self.size.saturating_sub(at));
        let into = &mut into[..usize::try_from(wanted).unwrap_or_default()];
        if let Some(inline) = &self.inline {
            let from = usize::try_from(at).unwrap_or(usize::MAX);
            let there = inline.get(from..from.saturating_add(into.len())).ok_or_else(unreadable)?;
            into.copy_from_slice(there);
            return Ok(into.len());
        }
        let mut done = 0;
        while done < into.len() {
            let place = at + done as u64;
            let (written, end) = self.around(place);
            let count = usize::try_from((end - place).min((into.len() - done) as u64)).unwrap_or_default();
            let piece = &mut into[done..done + count];
            match written {
                Some(disk_place) if self.is_lost(disk_place, piece.len()) => return Err(unreadable()),
                Some(disk_place) => self.fs.disk.read_at(disk_place, piece)?,
                None if self.has_unknown_places => return Err(unreadable()),
                None => piece.fill(0),
            }
            done += count;
        }
        Ok(done)
    }

    fn is_lost(&self, place: u64, count: usize) -> bool {
        let size = self.fs.superblock.block_size;
        let (first, last) = (place / size, (place + count as u64 - 1) / size);
        let next = self.lost.partition_point(|range| range.end <= first);
        self.lost.get(next).is_some_and(|range| range.start <= last)
    }

    /// The place on the disk of a byte of the file; `None` where it has none of its own.
    pub(super) fn place_of(&self, at: u64) -> Option<u64> {
        if self.inline.is_some() { None } else { self.around(at).0 }
    }

    /// The place on the disk of a byte of the file, `None` for zeros, and where in the file that ends.
    fn around(&self, place: u64) -> (Option<u64>, u64) {
        let size = self.fs.superblock.block_size;
        let block = place / size;
        let next = self.runs.partition_point(|run| run.position <= block);
        let end = self.runs.get(next).map_or(u64::MAX, |run| run.position.saturating_mul(size));
        match next.checked_sub(1).map(|before| &self.runs[before]) {
            Some(run) if block < run.position + run.count => {
                let ends = (run.position + run.count).saturating_mul(size).min(end);
                let at = (run.block + (block - run.position)) * size + place % size;
                (run.written.then_some(at), ends)
            }
            _ => (None, end),
        }
    }

    /// Where all of the content is on the disk, in the order of the file: the first byte, and the number of bytes. `None` if part of it has no
    /// place of its own there.
    #[must_use]
    pub fn places(&self) -> Option<Vec<(u64, u64)>> {
        if self.inline.is_some() || self.has_unknown_places || !self.lost.is_empty() {
            return None;
        }
        let (mut places, mut at) = (Vec::new(), 0);
        while at < self.size {
            let (place, end) = self.around(at);
            let end = end.min(self.size);
            places.push((place?, end - at));
            at = end;
        }
        Some(places)
    }

    /// Where the next bytes that were written are, from a place on; all else reads as zeros.
    #[must_use]
    pub fn written_after(&self, at: u64) -> Option<Range<u64>> {
        if at >= self.size {
            return None;
        }
        if self.inline.is_some() || self.has_unknown_places {
            return Some(at..self.size);
        }
        let size = self.fs.superblock.block_size;
        let first = self.runs.partition_point(|run| (run.position + run.count).saturating_mul(size) <= at);
        let run = self.runs[first..].iter().find(|run| run.written)?;
        let begin = run.position.saturating_mul(size).max(at);
        let end = (run.position + run.count).saturating_mul(size).min(self.size);
        (begin < end).then_some(begin..end)
    }
}
