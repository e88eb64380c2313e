//! How what answers a fault becomes bytes of disks, and contents of files.

use std::collections::{BTreeMap, HashMap};

use super::mend::{LineChange, Mend, Target};
use super::repairs::{IN_USE, Planner};
use crate::devices::fat_writer::replace_files;
use crate::devices::table_writer::Placed;
use crate::devices::{Device, Patches, Section};
use crate::model::{Stat, SystemPath, error_chain, error_words, readable};
use crate::plan::VariableChange;
use crate::platform::block_devices::in_use;
use crate::report::LineReport;
use crate::system::System;

/// A file of the machine: its place, what is there, and its content.
pub(super) type FileNow = (SystemPath, Option<Stat>, Vec<u8>);

/// What one fault adds to the plan.
#[derive(Default)]
pub(super) struct Addition {
    pub(super) disks: BTreeMap<usize, Patches>,
    pub(super) volumes: HashMap<usize, Patches>,
    pub(super) files: BTreeMap<SystemPath, FileNow>,
    pub(super) firmware: Vec<VariableChange>,
    pub(super) lines: Vec<LineReport>,
    pub(super) sources: Vec<String>,
    pub(super) writes_files: bool,
}

const OTHER_SIZE: &str = "it would get another size, which only the mounted system can give it";

/// The place of a file whose folder does not exist, and is made with it.
fn new_place(system: &System, path: &SystemPath) -> Result<SystemPath, String> {
    let unknown = "its folder does not exist";
    let mut names = vec![path.name().to_vec()];
    let mut folder = path.parent().ok_or(unknown)?;
    let there = loop {
        if let Ok(there) = system.machine.resolve(&folder) {
            break there;
        }
        names.push(folder.name().to_vec());
        // A link that leads nowhere is not replaced.
        if system.machine.look(&folder).is_ok_and(|found| found.is_some()) {
            return Err("its folder is a link that leads nowhere".to_owned());
        }
        folder = folder.parent().ok_or(unknown)?;
    };
    let below = names.iter().rev().try_fold(there, |place, name| place.child(name));
    below.map_err(|_| unknown.to_owned())
}

/// The topmost folder above a place that does not exist.
pub(super) fn new_folder(system: &System, place: &SystemPath) -> Option<SystemPath> {
    let is_missing = |folder: &SystemPath| system.machine.dir(folder).is_err();
    std::iter::successors(place.parent(), SystemPath::parent).take_while(is_missing).last()
}

impl Planner<'_> {
    pub(super) fn add(&self, mend: &Mend, addition: &mut Addition) -> Result<(), String> {
        match &mend.target {
            Target::Bytes(disk, placed) => {
                self.require_table(*disk)?;
                self.require_free(*disk, true)?;
                self.write(*disk, placed, addition)?;
            }
            Target::Volume(volume, placed) => {
                let (own, _) = self.volume(*volume)?;
                let patches = addition.volumes.entry(*volume).or_default();
                placed
                    .iter()
                    .try_for_each(|(at, bytes)| patches.write(own, *at, bytes))
                    .map_err(|e| error_words(&e))?;
                addition.writes_files = true;
            }
            Target::EfiFile(volume, file) => {
                let (own, planned) = self.volume(*volume)?;
                let known = addition.volumes.entry(*volume).or_default();
                let mut all = planned;
                all.extend(known);
                let more = replace_files(&own.with_planned(&all), std::slice::from_ref(file), self.rules.now);
                known.extend(&more.map_err(|e| error_chain(&e))?);
                addition.writes_files = true;
            }
            Target::Firmware(_) if self.rules.is_unmounted => {
                return Err("the firmware's entries are written for a system that runs, or is mounted".to_owned());
            }
            Target::Firmware(variables) => addition.firmware.extend(variables.iter().cloned()),
            Target::File(path, content) => self.file(path, content.clone(), addition)?,
            Target::Text(path, content) => self.text(path, content, addition)?,
            Target::With(path) if self.coming.contains(path) => {}
            Target::With(path) => {
                return Err(format!(
                    "{path} does not exist: the system's own generator makes it, on the mounted system"
                ));
            }
            Target::Line(..) if self.table_is_open => {
                return Err("the partition table comes first: what it names can be right".to_owned());
            }
            Target::Line(path, change) => self.line(path, change, addition)?,
        }
        if !addition.sources.contains(&mend.source) {
            addition.sources.push(mend.source.clone());
        }
        Ok(())
    }

    /// Tables and boot code that are not written: another meaning of them is possible.
    fn require_table(&self, disk: usize) -> Result<(), String> {
        let open = self.layout.disk(disk);
        if open.gpt.sector != 512 {
            return Err(format!("the size of its sectors ({} bytes) is only guessed", open.gpt.sector));
        }
        let mbr = open.mbr.as_ref().filter(|mbr| mbr.protective > 0 && open.gpt.is_there());
        match mbr.is_some_and(|mbr| !mbr.partitions.is_empty()) {
            true => Err("it has a GPT and an MBR with partitions of its own (hybrid MBR)".to_owned()),
            false => Ok(()),
        }
    }

    /// A disk in use is written only where nothing uses it while the system runs, and only for a system that is mounted.
    fn require_free(&self, disk: usize, only_start: bool) -> Result<(), String> {
        let path = self.layout.disk(disk).device.path();
        let is_allowed = only_start && !self.rules.is_unmounted && self.rules.system.is_some();
        match !is_allowed && in_use(path, 0) {
            true => Err(format!("{} {IN_USE}", self.layout.disk_name(disk))),
            false => Ok(()),
        }
    }

    fn write(&self, disk: usize, placed: &[Placed], addition: &mut Addition) -> Result<(), String> {
        let base = self.base(disk)?;
        let patches = addition.disks.entry(disk).or_default();
        placed.iter().try_for_each(|(at, bytes)| patches.write(&base, *at, bytes)).map_err(|e| error_words(&e))
    }

    /// A disk as it is after what was planned so far.
    pub(super) fn base(&self, disk: usize) -> Result<Device, String> {
        let planned = self.disks.get(&disk).map(|disk| disk.patches.clone()).unwrap_or_default();
        self.layout.disk(disk).device.again_with(&planned).map_err(|e| error_words(&e))
    }

    /// A volume and what is planned for it.
    fn volume(&self, volume: usize) -> Result<(&Section, Patches), String> {
        let found = self.layout.volume(volume);
        self.require_free(found.disk, false)?;
        if !found.start.is_multiple_of(512) {
            return Err("it does not begin at a sector".to_owned());
        }
        Ok((&found.bytes, self.volumes.get(&volume).cloned().unwrap_or_default()))
    }

    /// A file of the machine, as it is after what was planned so far.
    fn now(&self, path: &SystemPath, addition: &Addition) -> Result<FileNow, String> {
        const MAX_FILE: u64 = 256 << 20;
        if let Some(known) = addition.files.get(path) {
            return Ok(known.clone());
        }
        if let Some(known) = self.files.get(path) {
            return Ok((known.place.clone(), known.before, known.content.clone()));
        }
        let system = self.rules.system.ok_or("no system can be read")?;
        let found = system.place_of_file(path);
        let (place, before) = match found {
            Some(found) => found,
            None if self.rules.is_unmounted => return Err("its folder does not exist".to_owned()),
            None => return Ok((new_place(system, path)?, None, Vec::new())),
        };
        if before.is_none() && self.rules.is_unmounted {
            return Err("only the mounted system can be given another file".to_owned());
        }
        let bytes = system.machine.read_up_to(path, MAX_FILE).map_err(|e| error_chain(&e))?;
        Ok((place, before, bytes.unwrap_or_default()))
    }

    fn line(&self, path: &SystemPath, change: &LineChange, addition: &mut Addition) -> Result<(), String> {
        let (_, _, old) = self.now(path, addition)?;
        let mut new = change.apply(&old).ok_or("its line is written in a way that is not changed here")?;
        let text = |bytes: &[u8]| {
            let line = bytes.split(|byte| *byte == b'\n').nth(change.line - 1).unwrap_or_default();
            readable(line.trim_ascii())
        };
        let (from, to) = (text(&old), text(&new));
        if self.rules.is_unmounted && new.len() < old.len() {
            // Blanks at the end of a line mean nothing.
            let ends = new.split(|byte| *byte == b'\n').take(change.line).map(|line| line.len() + 1).sum::<usize>() - 1;
            new.splice(ends..ends, std::iter::repeat_n(b' ', old.len() - new.len()));
        }
        self.file(path, new, addition)?;
        addition.lines.push(LineReport { path: path.clone(), line: change.line as u64, from, to });
        Ok(())
    }

    /// A text, where the file keeps its size followed by blank lines.
    fn text(&self, path: &SystemPath, content: &[u8], addition: &mut Addition) -> Result<(), String> {
        let mut content = content.to_vec();
        if self.rules.is_unmounted {
            let (_, _, old) = self.now(path, addition)?;
            content.resize(old.len().max(content.len()), b'\n');
        }
        self.file(path, content, addition)
    }

    fn file(&self, path: &SystemPath, content: Vec<u8>, addition: &mut Addition) -> Result<(), String> {
        let (place, before, _) = self.now(path, addition)?;
        if self.rules.is_unmounted {
            self.in_place(&place, &content, addition)?;
            addition.writes_files = true;
        }
        addition.files.insert(path.clone(), (place, before, content));
        Ok(())
    }

    /// Writes a content over that of a file on a disk that is not mounted: its blocks stay its own.
    fn in_place(&self, place: &SystemPath, content: &[u8], addition: &mut Addition) -> Result<(), String> {
        let system = self.rules.system.ok_or("no system can be read")?;
        let io = |e: std::io::Error| error_words(&e);
        let parent = place.parent().ok_or("it is no file")?;
        let dir = system.machine.dir(&parent).map_err(io)?;
        let (file, stat) = dir.disk().open_seen(std::os::fd::AsFd::as_fd(&dir.fd()), place.name()).map_err(io)?;
        if stat.size != content.len() as u64 {
            return Err(OTHER_SIZE.to_owned());
        }
        let (volume, places) = dir.disk().raw_places(std::os::fd::AsFd::as_fd(&file))?;
        let (start, disk) = (self.layout.volume(volume).start, self.layout.volume(volume).disk);
        self.require_free(disk, false)?;
        let (mut placed, mut rest) = (Vec::new(), content);
        for (at, size) in places {
            let (own, others) =
                rest.split_at_checked(usize::try_from(size).unwrap_or(usize::MAX)).ok_or("its blocks are too many")?;
            placed.push((start + at, own.to_vec()));
            rest = others;
        }
        self.write(disk, &placed, addition)
    }
}
