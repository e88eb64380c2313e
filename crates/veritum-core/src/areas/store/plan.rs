//! From a store's faults to its repair. Pure.

use std::collections::HashSet;
use std::path::PathBuf;

use crate::model::{Action, ActionKind, Digest, Finding, FindingId, Remedy};
use crate::plan::Left;
use crate::report::ActionReport;
use crate::store::{Part, StoreFault, UnverifiedStore};

/// The source of a part of a store.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum RepairSource {
    /// The administrator's trusted keys.
    Pin,
    /// The signed index.
    Index,
    /// Another store.
    OtherStore,
    /// The machine, which still has it.
    Machine,
    /// The package's .deb file, which is available.
    Deb,
    /// The package's .deb file, which must be downloaded first.
    Download {
        /// The package's size in bytes.
        bytes: u64,
    },
}

impl RepairSource {
    fn word(self) -> &'static str {
        match self {
            Self::Pin => "trusted-key",
            Self::Index => "index",
            Self::OtherStore => "other-store",
            Self::Machine => "machine",
            Self::Deb => "package",
            Self::Download { .. } => "repository",
        }
    }
}

/// One part that is repaired.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct PlannedFix {
    /// The index of the fault.
    pub fault: usize,
    /// The finding.
    pub finding: FindingId,
    /// The source.
    pub from: RepairSource,
}

/// The planned repair of a store.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub struct StorePlan {
    /// Parts to repair.
    pub fixes: Vec<PlannedFix>,
    /// Unused files to set aside.
    pub asides: Vec<PathBuf>,
    /// What is not repaired, and why.
    pub left: Vec<Left>,
}

impl StorePlan {
    /// Whether there is nothing to do.
    #[must_use]
    pub fn is_empty(&self) -> bool {
        self.fixes.is_empty() && self.asides.is_empty()
    }
}

/// The repair of a store, with everything that it needs.
#[derive(Debug, Clone)]
pub struct StoreRepairPlan {
    /// The faults.
    pub faults: Vec<StoreFault>,
    /// The planned repair.
    pub plan: StorePlan,
    /// The store, if its signed files are among the faults.
    pub unverified_store: Option<UnverifiedStore>,
}

impl StoreRepairPlan {
    /// Contents that the store will get back.
    #[must_use]
    pub fn coming(&self) -> HashSet<Digest> {
        let digest =
            |fault: &StoreFault| if let Part::Content { digest, .. } = fault.part { Some(digest) } else { None };
        self.plan.fixes.iter().filter_map(|fix| digest(&self.faults[fix.fault])).collect()
    }

    /// The actions, as they are shown beforehand.
    pub(super) fn shows(&self, findings: &[Finding], notes: &[Finding]) -> Vec<ActionReport> {
        let fixes = self.plan.fixes.iter().map(|fix| {
            let bytes = match &self.faults[fix.fault].part {
                Part::Content { size, .. } => *size,
                Part::Manifest(entry) => entry.manifest_size,
                _ => 0,
            };
            let finding = &findings[fix.fault];
            let shown = ActionReport::on(ActionKind::Restore, finding.subject.clone(), vec![finding.id.clone()]);
            ActionReport { package: finding.package.clone(), bytes, ..shown }
        });
        let asides = notes.iter().take(self.plan.asides.len());
        let asides = asides.map(|note| ActionReport::on(ActionKind::SetAside, note.subject.clone(), Vec::new()));
        fixes.chain(asides).collect()
    }
}

/// Why a part has no source, and what to do next.
pub type NoSource = (String, Option<Action>);

/// Plans the repair of each fault and adds the remedy to its finding.
#[must_use]
pub fn plan_store(
    findings: &mut [Finding],
    faults: &[StoreFault],
    superfluous: &[PathBuf],
    source: &dyn Fn(&StoreFault) -> Result<RepairSource, NoSource>,
) -> StorePlan {
    let mut plan = StorePlan { asides: superfluous.to_vec(), ..StorePlan::default() };
    for (at, (fault, finding)) in faults.iter().zip(findings).enumerate() {
        match source(fault) {
            Ok(from) => {
                let download = if let RepairSource::Download { bytes } = from { Some(bytes) } else { None };
                finding.remedy = Some(Remedy { action: ActionKind::Restore, from: Some(from.word().into()), download });
                plan.fixes.push(PlannedFix { fault: at, finding: finding.id.clone(), from });
            }
            Err((reason, next)) => {
                finding.action.clone_from(&next);
                plan.left.push(Left::new(finding, reason, next));
            }
        }
    }
    // What everything else depends on is repaired first; what only the next signing needs comes last.
    plan.fixes.sort_by_key(|fix| match &faults[fix.fault].part {
        Part::Signed { .. } => 0,
        Part::Manifest(_) => 1,
        Part::Content { .. } => 2,
        Part::Pointer(_) => 3,
    });
    plan
}

#[cfg(test)]
mod tests {
    use super::super::judge_store;
    use super::*;
    use crate::model::Harm;
    use crate::store::Trouble;

    fn fault(part: Part) -> StoreFault {
        StoreFault { part, trouble: Trouble::Missing, harm: Harm::default() }
    }

    #[test]
    fn signed_files_come_first_and_what_has_no_source_is_left_with_the_reason() {
        let content = |text: &[u8]| Part::Content { digest: Digest::hash(text), size: 1 };
        let faults = [fault(content(b"a")), fault(content(b"b")), fault(Part::Signed { name: "store.json".into() })];
        let mut findings = judge_store(&faults);
        let lost = Digest::hash(b"b");
        let plan = plan_store(&mut findings, &faults, &["odd".into()], &|fault| match &fault.part {
            Part::Signed { .. } => Ok(RepairSource::Pin),
            Part::Content { digest, .. } if *digest == lost => Err(("nobody has it".into(), None)),
            _ => Ok(RepairSource::Download { bytes: 7 }),
        });
        assert_eq!(plan.fixes.iter().map(|m| m.fault).collect::<Vec<_>>(), [2, 0]);
        assert_eq!(findings[0].remedy.as_ref().unwrap().download, Some(7));
        assert_eq!(
            (plan.left[0].finding.clone(), plan.left[0].reason.as_str()),
            (findings[1].id.clone(), "nobody has it")
        );
        assert_eq!(findings[1].action, None);
        assert_eq!(plan.asides, [PathBuf::from("odd")]);
    }
}
