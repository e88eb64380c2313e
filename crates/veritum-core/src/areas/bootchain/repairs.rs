//! Plans a repair: from what answers each fault, the bytes of disks and the files that are written.

use std::collections::{BTreeMap, BTreeSet, HashMap};
use std::path::{Path, PathBuf};

use super::fault::{Fault, Faults, NOT_KEPT, Stage};
use super::generated::Generated;
use super::layout::Layout;
use super::mend::{LineChange, Mend, Target};
use super::menu::MENU;
use crate::areas::{DiskWork, Examined, FileWork, Step, Work};
use crate::devices::fat_writer::replace_files;
use crate::devices::table_writer::Placed;
use crate::devices::{Device, Patches};
use crate::model::{
    Action, ActionKind, Digest, Finding, FindingId, KnownBy, PackageId, Remedy, StartEffect, Stat, Subject, SystemPath,
    error_chain, error_words, readable,
};
use crate::plan::{DiskDoubt, Item, ItemKind, Left, Operation, Plan, PlannedAction};
use crate::platform::block_devices::in_use;
use crate::report::{ActionReport, LineReport, RangeReport, WrittenReport};
use crate::system::System;

/// What decides about a repair, beside the faults.
pub(super) struct Rules<'a> {
    /// The system, if one can be read.
    pub(super) system: Option<&'a System>,
    /// Whether it is read from its disks without being mounted.
    pub(super) is_unmounted: bool,
    /// Whether proposals are written, too.
    pub(super) writes_proposals: bool,
    /// What is not answered, because what would be written did not prove.
    pub(super) not_answered: &'a [FindingId],
    /// The time that files get.
    pub(super) now: jiff::Timestamp,
    /// The problems of files of packages, each with whether a repair of files answers it.
    pub(super) files: Vec<(SystemPath, bool)>,
    /// Whether it is written although the medium has errors.
    pub(super) ignores_errors: bool,
}

/// Adds the faults to the result, each with what a repair does about it, or the reason why it does nothing.
pub(super) fn add(faults: Faults, layout: &Layout, rules: &Rules<'_>, examined: &mut Examined) {
    let faults = faults.sorted();
    let is_open = |fault: &Fault| fault.stage == Stage::Table && fault.effect == Some(StartEffect::BreaksStart);
    let table_is_open = faults.iter().any(is_open);
    let unreadable = faults.iter().filter(|fault| fault.known_by == KnownBy::Medium).count() as u64;
    if unreadable > 0 && !rules.ignores_errors {
        examined.doubt = Some(DiskDoubt::ReadErrors { files: unreadable });
    }
    let (disks, volumes, files, generated) = Default::default();
    let coming = faults.iter().filter_map(|fault| coming(fault, rules)).collect();
    let shows = Vec::new();
    let mut planner = Planner { layout, rules, table_is_open, disks, volumes, coming, files, shows, generated };
    for fault in faults {
        let mut finding = fault.finding();
        if finding.verdict.is_problem() {
            match planner.answer(&fault, &finding.id) {
                Err(_) if planner.comes_with_files(&fault) => {
                    finding.remedy = Some(Remedy { action: ActionKind::WithPackage, from: None, download: None });
                    finding.action = None;
                }
                Ok(source) => {
                    finding.remedy = Some(Remedy { action: ActionKind::WriteDisk, from: Some(source), download: None });
                    // An emergency menu is not the last word.
                    let is_emergency = fault.mends.iter().any(|mend| matches!(mend.target, Target::Text(..)));
                    let is_generated = planner.generated.contains_key(&SystemPath::literal(MENU));
                    finding.action = finding.action.take().filter(|_| is_emergency && !is_generated);
                }
                Err(why) => {
                    examined.of_files.extend(planner.of_files(&fault));
                    // What only the mounted system can be given is given there.
                    if rules.is_unmounted && fault.subject.as_path().is_some() && !table_is_open {
                        finding.action = Some(mounted());
                    }
                    if why.ends_with(IN_USE) {
                        finding.action = Some(if rules.is_unmounted { UNMOUNT } else { FROM_OUTSIDE }.into());
                    }
                    if fault.mends.iter().any(|mend| mend.proposal.is_some()) && !rules.writes_proposals {
                        finding.action = Some(proposal());
                    }
                    examined.left.push(Left::new(&finding, why, finding.action.clone()));
                }
            }
        }
        examined.findings.push(finding);
    }
    planner.steps(examined);
}

/// The initial file system that will be generated to answer a fault.
fn coming(fault: &Fault, rules: &Rules<'_>) -> Option<SystemPath> {
    let generated = fault.generated.as_ref().filter(|of| !rules.is_unmounted && **of != Generated::Menu)?;
    generated.maker(rules.system?).is_ok().then(|| generated.path())
}

/// What is written to one disk.
#[derive(Default)]
struct Disk {
    patches: Patches,
    shows: Vec<ActionReport>,
    parts: Vec<String>,
    /// Whether something other than boot code and table is written.
    writes_files: bool,
}

/// A file that gets another content.
struct NewContent {
    place: SystemPath,
    before: Option<Stat>,
    content: Vec<u8>,
    findings: Vec<FindingId>,
    package: Option<PackageId>,
}

struct Planner<'a> {
    layout: &'a Layout,
    rules: &'a Rules<'a>,
    /// Whether a partition table is damaged: what names what is on the disks is not judged by it.
    table_is_open: bool,
    disks: BTreeMap<usize, Disk>,
    /// What is written to volumes, by places in them.
    volumes: HashMap<usize, Patches>,
    /// What will be generated, by its paths.
    coming: BTreeSet<SystemPath>,
    /// The new contents of the machine's files, by their paths.
    files: BTreeMap<SystemPath, NewContent>,
    /// What is shown of these, one for each fault.
    shows: Vec<ActionReport>,
    /// What is generated, by its path: by which program, and what it answers.
    generated: BTreeMap<SystemPath, (Generated, &'static str, Vec<ActionReport>)>,
}

/// A file of the machine: its place, what is there, and its content.
type FileNow = (SystemPath, Option<Stat>, Vec<u8>);

/// What one fault adds to the plan.
#[derive(Default)]
struct Addition {
    disks: BTreeMap<usize, Patches>,
    volumes: HashMap<usize, Patches>,
    files: BTreeMap<SystemPath, FileNow>,
    lines: Vec<LineReport>,
    sources: Vec<String>,
    writes_files: bool,
}

/// Why a disk is not written that something uses.
const IN_USE: &str = "is in use: a file system on it is mounted";
/// What a person does then.
const FROM_OUTSIDE: &str = "start rescue media, and repair it with nothing of the disk mounted (veritum repair bootchain --disk DISK --state-dir DIR)";
const UNMOUNT: &str =
    "unmount what is on it, and repeat this; of a mounted system, only boot code and table are written (--root DIR)";
const OTHER_SIZE: &str = "it would get another size, which only the mounted system can give it";

impl Planner<'_> {
    /// Adds what answers a fault; where that comes from.
    fn answer(&mut self, fault: &Fault, id: &FindingId) -> Result<String, String> {
        if self.rules.not_answered.contains(id) {
            return Err("what would be written was tried on a copy in memory, and is not right".to_owned());
        }
        if let Some(why) = &fault.refused {
            return Err(why.clone());
        }
        if let Some(source) = self.generate(fault, id)? {
            return Ok(source);
        }
        if fault.mends.is_empty() {
            return Err(self.not_written(fault));
        }
        let mut addition = Addition::default();
        for mend in &fault.mends {
            if let Some(why) = mend.proposal.as_ref().filter(|_| !self.rules.writes_proposals) {
                return Err(format!("{why}; written only with --yes-table"));
            }
            self.add(mend, &mut addition)?;
        }
        self.commit(fault, id, addition)
    }

    /// Has something generated where that can be done; where it can not, what answers the fault otherwise is left to it.
    fn generate(&mut self, fault: &Fault, id: &FindingId) -> Result<Option<String>, String> {
        let Some(generated) = fault.generated.clone() else { return Ok(None) };
        let system = self.rules.system.filter(|_| !self.rules.is_unmounted);
        let is_line = |mend: &Mend| matches!(mend.target, Target::Line(..));
        // A word of a line needs no generator.
        if fault.mends.iter().any(is_line) {
            return Ok(None);
        }
        let maker = match system.map(|system| generated.maker(system)) {
            Some(Ok(maker)) => maker,
            Some(Err(why)) if fault.mends.is_empty() => return Err(why),
            _ => return Ok(None),
        };
        let action = ActionReport::on(ActionKind::Generate, fault.subject.clone(), vec![id.clone()]);
        let action = ActionReport { path: fault.subject.as_path().cloned(), ..action };
        self.generated.entry(generated.path()).or_insert_with(|| (generated, maker, Vec::new())).2.push(action);
        Ok(Some(maker.to_owned()))
    }

    /// The files of packages by which the area of files repairs a fault.
    fn of_files(&self, fault: &Fault) -> Option<SystemPath> {
        let path = match &fault.subject {
            Subject::Path { path, .. } => path,
            _ => return None,
        };
        let is_theirs = fault.package.is_some() && fault.mends.is_empty() && !self.rules.is_unmounted;
        is_theirs.then(|| path.clone())
    }

    /// Whether the area of files repairs what a fault is about, in the same run.
    fn comes_with_files(&self, fault: &Fault) -> bool {
        let Some(path) = self.of_files(fault) else { return false };
        let system = self.rules.system;
        let all = system.map_or_else(|| vec![path.clone()], |system| system.spellings(&path));
        let mut own = self.rules.files.iter().filter(|(of, _)| all.iter().any(|path| of.is_within(path))).peekable();
        own.peek().is_some() && own.all(|(_, is_repaired)| *is_repaired)
    }

    /// Why nothing is written for a fault that has no answer of its own.
    fn not_written(&self, fault: &Fault) -> String {
        if fault.known_by == KnownBy::Medium {
            return NOT_KEPT.to_owned();
        }
        let is_file = fault.subject.as_path().is_some();
        match is_file && self.rules.is_unmounted {
            true => "only the mounted system can be given such a file".to_owned(),
            false => "its right content is not known here".to_owned(),
        }
    }

    fn add(&self, mend: &Mend, addition: &mut Addition) -> Result<(), String> {
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
    fn base(&self, disk: usize) -> Result<Device, String> {
        let planned = self.disks.get(&disk).map(|disk| disk.patches.clone()).unwrap_or_default();
        self.layout.disk(disk).device.again_with(&planned).map_err(|e| error_words(&e))
    }

    /// A volume and what is planned for it.
    fn volume(&self, volume: usize) -> Result<(&crate::devices::Section, Patches), String> {
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
        let (place, before) = system.place_of_file(path).ok_or("its folder does not exist")?;
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

    /// Adds what answers a fault as a whole.
    fn commit(&mut self, fault: &Fault, id: &FindingId, addition: Addition) -> Result<String, String> {
        let Addition { mut disks, volumes, files, lines, sources, writes_files } = addition;
        for (volume, patches) in &volumes {
            let found = self.layout.volume(*volume);
            disks.entry(found.disk).or_default().extend(&patches.moved(found.start / 512));
        }
        let source = match &sources[..] {
            [first, .., _] if sources.len() > 2 => format!("{first} and {} more", sources.len() - 1),
            _ => sources.join("; "),
        };
        let shows = ActionReport::on(ActionKind::WriteDisk, fault.subject.clone(), vec![id.clone()]);
        let package = fault.package.as_ref().map(|(id, _)| id.clone());
        let shows = ActionReport { path: fault.subject.as_path().cloned(), package, ..shows };
        let mut ranges = Vec::new();
        for (disk, patches) in &disks {
            let base = self.base(*disk)?;
            let cannot_keep = |e| format!("what is there cannot be read, and so not be kept: {}", error_words(&e));
            let name = self.layout.disk_name(*disk);
            let report = |at: u64, count: usize| RangeReport { disk: name.clone(), from: at, to: at + count as u64 };
            ranges.extend(
                patches.ranges(&base).map_err(cannot_keep)?.iter().map(|range| report(range.at, range.new.len())),
            );
        }
        let bytes = ranges.iter().map(|range| range.to - range.from).sum();
        let is_on_disk = !disks.is_empty();
        let written = Some(WrittenReport { source: source.clone(), ranges, lines });
        let shows = ActionReport { written, bytes, ..shows };
        for (at, (disk, patches)) in disks.iter().enumerate() {
            let own = self.disks.entry(*disk).or_default();
            own.patches.extend(patches);
            own.parts.push(fault.subject.to_string());
            own.writes_files |= writes_files;
            // A fault of two disks is shown with the first.
            own.shows.extend((at == 0).then(|| shows.clone()));
        }
        for (volume, patches) in &volumes {
            self.volumes.entry(*volume).or_default().extend(patches);
        }
        if !is_on_disk && !files.is_empty() {
            let bytes = files.values().map(|(_, _, content)| content.len() as u64).sum();
            let things = files.len() as u64;
            self.shows.push(ActionReport { action: ActionKind::Restore, bytes, things, ..shows });
        }
        let package = fault.package.as_ref().map(|(id, _)| id.clone());
        for (path, (place, before, content)) in files {
            let package = package.clone();
            let new = || NewContent { place, before, content: Vec::new(), findings: Vec::new(), package };
            let known = self.files.entry(path).or_insert_with(new);
            known.content = content;
            known.findings.extend((!is_on_disk).then(|| id.clone()));
        }
        Ok(source)
    }

    /// The steps of the plan.
    fn steps(self, examined: &mut Examined) {
        let with_files: Vec<ActionReport> = examined.findings.iter().filter_map(with_files).collect();
        if !with_files.is_empty() {
            examined.steps.push(Step::new(with_files, Work::Files(FileWork::default())));
        }
        for (disk, Disk { patches, shows, parts, writes_files }) in self.disks {
            let path: PathBuf = self.layout.disk(disk).device.path().to_owned();
            let only_start = !writes_files;
            let mut step = Step::new(shows, Work::Disk(DiskWork { path: path.clone(), patches, parts, only_start }));
            if in_use(&path, 0) {
                step = step.remarked(remark(&path));
            }
            examined.steps.push(step);
        }
        let generated = self.generated;
        let own = self
            .files
            .into_iter()
            .filter(|(path, _)| !generated.contains_key(path))
            .filter(|(_, new)| !new.findings.is_empty());
        let (mut plan, mut made) = (Plan::default(), HashMap::new());
        for (index, (path, new)) in (1..).zip(own) {
            let digest = Digest::hash(&new.content);
            let kind = ItemKind::File { digest, size: new.content.len() as u64 };
            let owner = || self.rules.system.and_then(|system| system.settings.policy.owner_of_root).unwrap_or((0, 0));
            let (mode, owner) =
                new.before.map_or_else(|| (0o644, owner()), |before| (before.mode, (before.uid, before.gid)));
            let item = Item::new(SystemPath::root(), kind, mode, owner, self.rules.now.as_second());
            let action = PlannedAction {
                index,
                listed: path,
                findings: new.findings,
                package: new.package,
                ..PlannedAction::new(new.place, new.before, Operation::Put(vec![item]))
            };
            made.insert(digest, new.content);
            plan.actions.push(action);
        }
        if !plan.actions.is_empty() {
            let work = FileWork { plan, made, ..FileWork::default() };
            examined.steps.push(Step::new(self.shows, Work::Files(work)));
        }
        // The menu names initial file systems: these come first.
        let (menus, others): (Vec<_>, Vec<_>) = generated.into_values().partition(|(of, ..)| *of == Generated::Menu);
        for (generated, maker, shows) in others.into_iter().chain(menus) {
            examined.steps.push(generated.step(maker, shows));
        }
    }
}

/// What is shown of a problem that the area of files answers.
fn with_files(finding: &Finding) -> Option<ActionReport> {
    let action = ActionReport::on(ActionKind::WithPackage, finding.subject.clone(), vec![finding.id.clone()]);
    let path = finding.subject.as_path().cloned();
    finding.is_mended_by(ActionKind::WithPackage).then(|| ActionReport {
        path,
        package: finding.package.clone(),
        ..action
    })
}

fn remark(path: &Path) -> String {
    format!("{} is in use: only its boot code and its partition table are written.", path.display())
}

/// What a person does about what only the mounted system can be given.
fn mounted() -> Action {
    Action::explained("mount the system in a folder, and repair it there", "veritum repair bootchain --root DIR")
}

/// What a person does about a table that is only proposed.
fn proposal() -> Action {
    Action::explained(
        "keep a copy of the first and the last MiB of the disk; if the proposal is right",
        "veritum repair bootchain --yes-table",
    )
}
