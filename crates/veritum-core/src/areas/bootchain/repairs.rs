//! Decides about each fault of the boot chain what a repair does about it, or why it does nothing.

use std::collections::{BTreeMap, BTreeSet, HashMap};

use super::fault::{Fault, Faults, NOT_KEPT, Stage};
use super::generated::Generated;
use super::layout::Layout;
use super::mend::{Mend, Target};
use super::menu::MENU;
use super::repair_steps::{Disk, NewContent};
use super::repair_targets::Addition;
use crate::areas::{Examined, Step};
use crate::devices::Patches;
use crate::model::{Action, ActionKind, FindingId, KnownBy, Remedy, StartEffect, Subject, SystemPath};
use crate::plan::{DiskDoubt, Left};
use crate::report::ActionReport;
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
    let (disks, volumes, files, generated, firmware) = Default::default();
    let coming = faults.iter().filter_map(|fault| coming(fault, rules)).collect();
    let shows = Vec::new();
    let mut planner =
        Planner { layout, rules, table_is_open, disks, volumes, coming, firmware, files, shows, generated };
    for fault in faults {
        let mut finding = fault.finding();
        if finding.verdict.is_problem() {
            match planner.answer(&fault, &finding.id) {
                Err(_) if planner.comes_with_files(&fault) => {
                    finding.remedy = Some(Remedy { action: ActionKind::WithPackage, from: None, download: None });
                    finding.action = None;
                }
                Ok(Answer { kind, source }) => {
                    finding.remedy = Some(Remedy { action: kind, from: Some(source), download: None });
                    // An emergency menu is not the last word.
                    let is_emergency = fault.mends.iter().any(|mend| matches!(mend.target, Target::Text(..)));
                    let is_generated = planner.generated.contains_key(&SystemPath::literal(MENU));
                    finding.action = finding.action.take().filter(|_| is_emergency && !is_generated);
                }
                Err(why) => {
                    examined.of_files.extend(planner.of_files(&fault));
                    // What is refused here is refused there, too, unless it is generated there.
                    let is_for_mounted = fault.refused.is_none() || fault.generated.is_some();
                    if rules.is_unmounted && fault.subject.as_path().is_some() && !table_is_open && is_for_mounted {
                        finding.action = Some(if fault.is_of_content() { with_package() } else { mounted() });
                    }
                    let is_written = !fault.mends.is_empty();
                    if rules.is_unmounted && fault.stage == Stage::Firmware && is_written {
                        finding.action = Some(mounted());
                    }
                    if rules.is_unmounted && fault.stage == Stage::Root && !is_written && fault.refused.is_none() {
                        finding.action = Some(by_its_own_check());
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

/// What answers a fault.
pub(super) struct Answer {
    pub(super) kind: ActionKind,
    /// Where what is written comes from, in words.
    pub(super) source: String,
}

pub(super) struct Planner<'a> {
    pub(super) layout: &'a Layout,
    pub(super) rules: &'a Rules<'a>,
    /// Whether a partition table is damaged: what names what is on the disks is not judged by it.
    pub(super) table_is_open: bool,
    pub(super) disks: BTreeMap<usize, Disk>,
    /// What is written to volumes, by places in them.
    pub(super) volumes: HashMap<usize, Patches>,
    /// What will be generated, by its paths.
    pub(super) coming: BTreeSet<SystemPath>,
    /// What is written to the firmware.
    pub(super) firmware: Vec<Step>,
    /// The new contents of the machine's files, by their paths.
    pub(super) files: BTreeMap<SystemPath, NewContent>,
    /// What is shown of these, one for each fault.
    pub(super) shows: Vec<ActionReport>,
    /// What is generated, by its path: by which program, and what it answers.
    pub(super) generated: BTreeMap<SystemPath, (Generated, &'static str, Vec<ActionReport>)>,
}

/// Why a disk is not written that something uses.
pub(super) const IN_USE: &str = "is in use: a file system on it is mounted, or something else uses it";
/// What a person does then.
const FROM_OUTSIDE: &str = "start rescue media, and repair it with nothing of the disk mounted (veritum repair bootchain --disk DISK --state-dir DIR)";
const UNMOUNT: &str = "unmount or detach what uses it, and repeat this; of a mounted system, only boot code and table are written (--root DIR)";

impl Planner<'_> {
    /// Adds what answers a fault; what that is.
    fn answer(&mut self, fault: &Fault, id: &FindingId) -> Result<Answer, String> {
        if self.rules.not_answered.contains(id) {
            return Err("what would be written was tried on a copy in memory, and is not right".to_owned());
        }
        if let Some(source) = self.generate(fault, id)? {
            return Ok(Answer { kind: ActionKind::Generate, source });
        }
        if let Some(why) = &fault.refused {
            return Err(why.clone());
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
        // A word of a line needs no generator, where that is all.
        if fault.refused.is_none() && fault.mends.iter().any(is_line) {
            return Ok(None);
        }
        let maker = match system.map(|system| generated.maker(system)) {
            Some(Ok(maker)) => maker,
            Some(Err(why)) if fault.mends.is_empty() || fault.refused.is_some() => return Err(why),
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
        if fault.stage == Stage::Root {
            return "the structure of a file system is corrected by its own check only".to_owned();
        }
        if let Some((id, _)) = fault.package.as_ref().filter(|_| self.rules.is_unmounted && fault.is_of_content()) {
            return format!("its package {} is not available here", id.name);
        }
        let is_file = fault.subject.as_path().is_some();
        match is_file && self.rules.is_unmounted {
            true => "on a disk that is not mounted, this is not repaired".to_owned(),
            false => "its right content is not known here".to_owned(),
        }
    }
}

/// What a person does about the content of a package's file.
fn with_package() -> Action {
    Action::explained("name a folder with the package", "veritum repair bootchain --from DIR")
}

/// What a person does about the structure of a file system.
fn by_its_own_check() -> Action {
    Action::explained(
        "copy users' files to another disk first (veritum rescue --to DIR --disk DISK); then let its own check correct it",
        "veritum repair volumes",
    )
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
