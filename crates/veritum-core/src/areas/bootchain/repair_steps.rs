//! What a repair of the boot chain writes, as the steps of a plan.

use std::collections::{BTreeMap, BTreeSet};
use std::path::{Path, PathBuf};

use super::fault::Fault;
use super::generated::Generated;
use super::repair_targets::{Addition, new_folder};
use super::repairs::{Answer, Planner};
use crate::areas::{DiskWork, Examined, FileWork, Step, Work};
use crate::devices::Patches;
use crate::model::{ActionKind, Finding, FindingId, PackageId, Stat, SystemPath, error_words};
use crate::plan::{FirmwareChange, ToolChange};
use crate::platform::block_devices::in_use;
use crate::report::{ActionReport, RangeReport, VariableReport, WrittenReport};

/// What is written to one disk.
#[derive(Default)]
pub(super) struct Disk {
    pub(super) patches: Patches,
    pub(super) shows: Vec<ActionReport>,
    pub(super) parts: Vec<String>,
    /// Whether something other than boot code and table is written.
    pub(super) writes_files: bool,
}

/// A file that gets another content.
pub(super) struct NewContent {
    pub(super) place: SystemPath,
    pub(super) before: Option<Stat>,
    pub(super) content: Vec<u8>,
    pub(super) findings: Vec<FindingId>,
    pub(super) package: Option<PackageId>,
}

impl Planner<'_> {
    /// Adds what answers a fault as a whole; what that is.
    pub(super) fn commit(&mut self, fault: &Fault, id: &FindingId, addition: Addition) -> Result<Answer, String> {
        let Addition { mut disks, volumes, files, firmware, lines, sources, writes_files } = addition;
        for (volume, patches) in &volumes {
            let found = self.layout.volume(*volume);
            disks.entry(found.disk).or_default().extend(&patches.moved(found.start / 512));
        }
        let source = match &sources[..] {
            [first, .., _] if sources.len() > 2 => format!("{first} and {} more", sources.len() - 1),
            _ => sources.join("; "),
        };
        let is_on_disk = !disks.is_empty();
        let kind = match (is_on_disk, firmware.is_empty()) {
            (true, _) => ActionKind::WriteDisk,
            (false, false) => ActionKind::WriteFirmware,
            (false, true) => ActionKind::Restore,
        };
        let shows = ActionReport::on(kind, fault.subject.clone(), vec![id.clone()]);
        let package = fault.package.as_ref().map(|(id, _)| id.clone());
        let shows = ActionReport { path: fault.subject.as_path().cloned(), package: package.clone(), ..shows };
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
        let variables = firmware.iter().map(VariableReport::of).collect();
        let written = Some(WrittenReport { source: source.clone(), ranges, lines, variables });
        let shows = ActionReport { written, bytes, ..shows };
        if !firmware.is_empty() {
            let change = FirmwareChange { part: fault.subject.to_string(), variables: firmware };
            self.firmware.push(Step::new(vec![shows.clone()], Work::Change(ToolChange::Firmware(change))));
        }
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
            self.shows.push(ActionReport { bytes, things, ..shows });
        }
        for (path, (place, before, content)) in files {
            let package = package.clone();
            let new = || NewContent { place, before, content: Vec::new(), findings: Vec::new(), package };
            let known = self.files.entry(path).or_insert_with(new);
            known.content = content;
            known.findings.extend((!is_on_disk).then(|| id.clone()));
        }
        Ok(Answer { kind, source })
    }

    /// The steps of the plan.
    pub(super) fn steps(self, examined: &mut Examined) {
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
        examined.steps.extend(self.firmware);
        let generated = self.generated;
        let own = self
            .files
            .into_iter()
            .filter(|(path, _)| !generated.contains_key(path))
            .filter(|(_, new)| !new.findings.is_empty());
        let owner = self.rules.system.and_then(|system| system.settings.policy.owner_of_root).unwrap_or((0, 0));
        let mut work = FileWork::default();
        let mut folders: BTreeMap<SystemPath, Vec<NewContent>> = BTreeMap::new();
        let system = self.rules.system;
        for (path, new) in own {
            if let Some(folder) = system.and_then(|system| new_folder(system, &new.place)) {
                folders.entry(folder).or_default().push(new);
                continue;
            }
            let action = work.put((new.place, new.before), new.content, owner, self.rules.now.as_second());
            (action.listed, action.findings, action.package) = (path, new.findings, new.package);
        }
        for (folder, files) in folders {
            let findings = files.iter().flat_map(|new| new.findings.clone()).collect::<BTreeSet<_>>();
            let below = |new: NewContent| {
                let below = SystemPath::root().join(new.place.below(&folder)?).ok()?;
                Some((below, new.content))
            };
            let files = files.into_iter().filter_map(below).collect();
            let action = work.put_folder(folder.clone(), files, owner, self.rules.now.as_second());
            (action.listed, action.findings) = (folder, findings.into_iter().collect());
        }
        if !work.plan.actions.is_empty() {
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
