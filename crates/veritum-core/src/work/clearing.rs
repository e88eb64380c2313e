//! What a repair of updates is going to do: known before anybody is asked.

use std::collections::HashMap;

use super::renewing::ClearUpdates;
use super::updates::{AskArchives, LocksHeld, UpdatesPart};
use super::{WorkError, Workshop};
use crate::archive::{Asked, Renewal};
use crate::check::RightDownload;
use crate::event::Observer;
use crate::model::{self, FileKind, FindingId, Stat, Subject, SystemPath, Verdict};
use crate::plan::{Aside, Coming, Left, Plan, UpdateRules, leave_the_rest, plan_room, plan_updates};
use crate::platform::debian::apt::{AptConf, BINARY_CACHES, CACHE, LISTS};

/// Where a file really lies, and what stands there.
pub(super) type PlaceOf<'a> = dyn Fn(&SystemPath) -> Option<(SystemPath, Option<Stat>)> + 'a;

/// What is known before anybody is asked.
pub(super) struct Ready {
    pub(super) part: UpdatesPart,
    pub(super) renewals: Vec<Renewal>,
    pub(super) asides: Vec<Aside>,
    /// What is taken away first, to make room.
    pub(super) frees: Plan,
    pub(super) plan: Plan,
}

impl Workshop {
    pub(super) fn ready(
        &self,
        wanted: ClearUpdates,
        held: LocksHeld,
        observer: &dyn Observer,
    ) -> Result<Ready, WorkError> {
        let part = self.updates(held, AskArchives::No, observer)?;
        let renewals = match self.settings.archive.network {
            true => {
                let old_is_fine = AptConf::of(&self.machine).is_off("Acquire::Check-Valid-Until");
                let asked = Asked { only_releases: false, all_anew: wanted.everything, old_is_fine };
                self.with_archive(|archive| archive.renewals(&self.machine, asked, observer))
                    .map_err(|_| WorkError::Stopped)?
            }
            false => Vec::new(),
        };
        let asides = self.asides(&part, wanted);
        let plan = self.planned_updates(&part, &asides, &renewals);
        let files: Vec<SystemPath> = part.to_free.iter().map(|one| one.path.clone()).collect();
        let answers: Vec<FindingId> =
            part.findings.iter().filter(|f| f.verdict == Verdict::NoRoom).map(|f| f.id.clone()).collect();
        let frees = plan_room(&files, &answers, &self.update_rules(&|path| self.place_of_file(path)));
        Ok(Ready { part, renewals, asides, frees, plan })
    }

    /// What goes aside unless a new list takes its place: what is damaged, or all of both caches.
    pub(super) fn asides(&self, part: &UpdatesPart, wanted: ClearUpdates) -> Vec<Aside> {
        let aside = |f: &&model::Finding| f.remedy.as_ref().is_some_and(|r| r.action == model::Action::SetAside);
        let of_path = |f: &model::Finding| Some((f.subject.as_path()?.clone(), vec![f.id.clone()]));
        let mut all: HashMap<SystemPath, Vec<FindingId>> =
            part.findings.iter().filter(aside).filter_map(of_path).collect();
        for (source, paths) in &part.wrong_lists {
            for path in paths {
                all.insert(path.clone(), findings_of(part, source));
            }
        }
        if wanted.everything {
            for path in self.all_of_both_caches() {
                all.entry(path).or_default();
            }
        }
        let mut all: Vec<Aside> = all.into_iter().map(|(path, findings)| Aside { path, findings }).collect();
        all.sort_by(|a, b| a.path.cmp(&b.path));
        all
    }

    /// Downloads, lists, what is under way of both, and what apt makes of the lists; not the locks.
    pub(super) fn all_of_both_caches(&self) -> Vec<SystemPath> {
        let mut all = Vec::new();
        for folder in [CACHE, LISTS] {
            for folder in [folder.to_owned(), format!("{folder}/partial")] {
                let Ok(folder) = SystemPath::parse(folder.as_bytes()) else { continue };
                let dir = self.machine.resolve(&folder).and_then(|real| self.machine.dir(&real));
                let names = dir.and_then(|dir| dir.disk().list(dir.fd())).unwrap_or_default();
                let files = names.into_iter().filter(|(name, kind)| {
                    name != b"lock"
                        && name != b"partial"
                        && !name.starts_with(b".veritum-")
                        && *kind != Some(FileKind::Folder)
                });
                all.extend(files.filter_map(|(name, _)| folder.child(&name).ok()));
            }
        }
        all.extend(BINARY_CACHES.map(SystemPath::literal));
        all
    }

    pub(super) fn planned_updates(&self, part: &UpdatesPart, asides: &[Aside], renewals: &[Renewal]) -> Plan {
        let mut coming = Vec::new();
        for renewal in renewals {
            let findings = findings_of(part, &renewal.source.words());
            coming.extend(renewal.lists().iter().map(|list| Coming { list, findings: findings.clone() }));
        }
        let place = |path: &SystemPath| self.place_of_file(path);
        let mut plan = plan_updates(&part.findings, asides, &coming, &self.update_rules(&place));
        leave_the_rest(&mut plan, &part.findings);
        let answered = |finding: &model::Finding| plan.actions.iter().any(|a| a.findings.contains(&finding.id));
        let comes = |finding: &model::Finding| {
            renewals.iter().any(|r| Some(r.source.words().as_str()) == finding.subject.name() && r.brings_something())
        };
        let renewed = |f: &&model::Finding| f.remedy.as_ref().is_some_and(|r| r.action == model::Action::Renew);
        let left: Vec<Left> = part
            .findings
            .iter()
            .filter(|f| renewed(f) && !answered(f) && !comes(f))
            .map(|f| Left::of(f, reason_of(renewals, f), None))
            .collect();
        plan.left.extend(left);
        plan
    }

    pub(super) fn update_rules<'a>(&'a self, place: &'a PlaceOf<'a>) -> UpdateRules<'a> {
        UpdateRules {
            protection: &self.protection,
            place,
            owner: self.settings.policy.owner_of_root.unwrap_or((0, 0)),
            despite_disk: self.settings.despite_disk,
        }
    }
}

/// How many right downloads stay, and their bytes.
pub(super) fn staying(ready: &Ready) -> (u64, u64) {
    let goes = |one: &&RightDownload| ready.part.to_free.contains(one);
    let stays: Vec<&RightDownload> = ready.part.right.iter().filter(|one| !goes(one)).collect();
    (stays.len() as u64, stays.iter().map(|one| one.bytes).sum())
}

/// Why something that could have been put right is not.
pub(super) fn reason_of(renewals: &[Renewal], finding: &model::Finding) -> String {
    let source = finding.subject.name().unwrap_or_default();
    let renewal = renewals.iter().find(|renewal| renewal.source.words() == source);
    match (renewal.and_then(Renewal::error), &finding.subject) {
        (Some(e), _) => format!("it could not be fetched afresh: {e}"),
        (None, Subject::Service { .. }) => "updates do not come yet, so its failure stands".into(),
        (None, Subject::Source { .. }) if renewal.is_none() => "the network is not to be used".into(),
        _ => "it came to light later, or was damaged again".into(),
    }
}

/// The findings on a source's lists.
pub(super) fn findings_of(part: &UpdatesPart, source: &str) -> Vec<FindingId> {
    let of = |f: &&model::Finding| f.remedy.is_some() && f.subject.name() == Some(source);
    part.findings.iter().filter(of).map(|f| f.id.clone()).collect()
}
