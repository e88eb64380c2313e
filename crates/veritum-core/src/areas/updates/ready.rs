//! What a repair of updates is going to do: known before anybody is asked.

use std::collections::HashMap;

use super::{
    Aside, AskArchives, Coming, LocksHeld, UpdateRules, UpdatesPart, VerifiedDownload, advice, leave_the_rest, look,
    plan_room, plan_updates,
};
use crate::archive::{Asked, Renewal};
use crate::areas::Cx;
use crate::model::{self, FileKind, FindingId, Subject, SystemPath, Verdict};
use crate::plan::{Left, PlaceOf, Plan};
use crate::platform::debian::apt::{BINARY_CACHES, CACHE, LISTS};
use crate::system::WorkError;

/// How far the caches are cleared.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default)]
pub struct ClearUpdates {
    /// All of both caches goes aside, not only what is damaged.
    pub everything: bool,
    /// Nothing is done: the plan is only shown.
    pub plan_only: bool,
}

/// What is known before anybody is asked.
#[derive(Debug)]
pub struct Ready {
    /// What came of looking.
    pub part: UpdatesPart,
    /// What the archives answered.
    pub renewals: Vec<Renewal>,
    /// What goes aside.
    pub asides: Vec<Aside>,
    /// What is taken away first, to make room.
    pub frees: Plan,
    /// What is done then.
    pub plan: Plan,
}

/// Looks, asks the archives what they have, and plans.
///
/// # Errors
/// When somebody said stop.
pub fn ready(cx: &Cx<'_>, wanted: ClearUpdates, held: LocksHeld) -> Result<Ready, WorkError> {
    let part = look(cx, held, AskArchives::No)?;
    let renewals = cx.supply.renewals(Asked { all_anew: wanted.everything, ..Asked::default() }, cx.observer)?;
    let asides = asides(cx, &part, wanted);
    let plan = planned_updates(cx, &part, &asides, (&renewals, &renewals));
    let frees = planned_room(cx, &part, &renewals);
    Ok(Ready { part, renewals, asides, frees, plan })
}

/// What is taken away to make room: only what an archive that has just answered gives again.
fn planned_room(cx: &Cx<'_>, part: &UpdatesPart, renewals: &[Renewal]) -> Plan {
    let answers = |one: &VerifiedDownload| {
        let source =
            cx.supply.open_archive(|a| a.on_network(&one.component).map(|lacking| a.source_of(&lacking))).flatten();
        renewals.iter().any(|r| r.error().is_none() && Some(r.source.words()) == source)
    };
    let files: Vec<SystemPath> = part.to_free.iter().filter(|one| answers(one)).map(|one| one.path.clone()).collect();
    let lacks = part.examined.problems().filter(|f| f.verdict == Verdict::DiskFull);
    let lacks: Vec<&model::Finding> = lacks.collect();
    let ids: Vec<FindingId> = lacks.iter().map(|f| f.id.clone()).collect();
    let mut plan = plan_room(&files, &ids, &update_rules(cx, &|path| cx.system.place_of_file(path)));
    if plan.actions.is_empty() && !part.to_free.is_empty() {
        let reason = "downloads could go, and no archive answers that would give them again";
        let next = Some("make room in another way, or type the same again when the network is there".to_owned());
        plan.left.extend(lacks.iter().map(|f| Left::of(f, reason.into(), next.clone())));
    }
    plan
}

/// What goes aside unless a new list takes its place: what is damaged, or all of both caches.
pub fn asides(cx: &Cx<'_>, part: &UpdatesPart, wanted: ClearUpdates) -> Vec<Aside> {
    let aside = |f: &&model::Finding| f.is_mended_by(model::ActionKind::SetAside);
    let of_path = |f: &model::Finding| Some((f.subject.as_path()?.clone(), vec![f.id.clone()]));
    let mut all: HashMap<SystemPath, Vec<FindingId>> =
        part.examined.problems().filter(aside).filter_map(of_path).collect();
    for (source, paths) in &part.wrong_lists {
        for path in paths {
            all.insert(path.clone(), findings_of(part, source));
        }
    }
    if wanted.everything {
        for path in all_of_both_caches(cx) {
            all.entry(path).or_default();
        }
    }
    let mut all: Vec<Aside> = all.into_iter().map(|(path, findings)| Aside { path, findings }).collect();
    all.sort_by(|a, b| a.path.cmp(&b.path));
    all
}

/// Downloads, lists, what is under way of both, and what apt makes of the lists; not the locks.
pub(super) fn all_of_both_caches(cx: &Cx<'_>) -> Vec<SystemPath> {
    let mut all = Vec::new();
    for folder in [CACHE, LISTS] {
        for folder in [folder.to_owned(), format!("{folder}/partial")] {
            let Ok(folder) = SystemPath::parse(folder.as_bytes()) else { continue };
            let dir = cx.system.machine.resolve(&folder).and_then(|real| cx.system.machine.dir(&real));
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

/// Plans what goes aside and what of the new lists comes; `asked` is what every archive answered, for the reasons.
pub fn planned_updates(
    cx: &Cx<'_>,
    part: &UpdatesPart,
    asides: &[Aside],
    (renewals, asked): (&[Renewal], &[Renewal]),
) -> Plan {
    let mut coming = Vec::new();
    for renewal in renewals {
        let findings = findings_of(part, &renewal.source.words());
        coming.extend(renewal.lists().iter().map(|list| Coming { list, findings: findings.clone() }));
    }
    let place = |path: &SystemPath| cx.system.place_of_file(path);
    let problems: Vec<model::Finding> = part.examined.problems().cloned().collect();
    let mut plan = plan_updates(&problems, asides, &coming, &update_rules(cx, &place));
    leave_the_rest(&mut plan, &problems);
    let answered = |finding: &model::Finding| plan.actions.iter().any(|a| a.findings.contains(&finding.id));
    let comes = |finding: &model::Finding| {
        renewals.iter().any(|r| Some(r.source.words().as_str()) == finding.subject.name() && r.brings_something())
    };
    let renewed = |f: &&model::Finding| f.is_mended_by(model::ActionKind::Renew);
    let left: Vec<Left> = part
        .examined
        .problems()
        .filter(|f| renewed(f) && !answered(f) && !comes(f))
        .map(|f| left_of(asked, f))
        .collect();
    plan.left.extend(left);
    plan
}

/// What planning for updates goes by.
fn update_rules<'a>(cx: &Cx<'a>, place: &'a PlaceOf<'a>) -> UpdateRules<'a> {
    UpdateRules {
        protection: &cx.system.protection,
        place,
        owner: cx.system.settings.policy.owner_of_root.unwrap_or((0, 0)),
        despite_disk: cx.system.settings.despite_disk,
    }
}

/// How many right downloads stay, and their bytes.
pub fn staying(ready: &Ready) -> (u64, u64) {
    let goes = |one: &&VerifiedDownload| ready.frees.actions.iter().any(|action| action.listed == one.path);
    let stays: Vec<&VerifiedDownload> = ready.part.verified.iter().filter(|one| !goes(one)).collect();
    (stays.len() as u64, stays.iter().map(|one| one.bytes).sum())
}

/// Something that could have been put right and is not, with the reason.
pub fn left_of(renewals: &[Renewal], finding: &model::Finding) -> Left {
    let source = finding.subject.name().unwrap_or_default();
    let renewal = renewals.iter().find(|renewal| renewal.source.words() == source);
    let error = renewal.and_then(Renewal::error);
    let next = renewal.and_then(|r| Some(advice(r.error()?, &r.source.file.to_string())));
    let reason = match (error, &finding.subject) {
        (Some(e), _) => format!("it could not be fetched afresh: {e}"),
        (None, Subject::Service { .. }) => "updates do not come yet, so its failure stands".into(),
        (None, Subject::Source { .. }) if renewal.is_none() => "the network is not to be used".into(),
        _ => "it came to light later, or was damaged again".into(),
    };
    Left::of(finding, reason, next)
}

/// The findings on a source's lists.
pub fn findings_of(part: &UpdatesPart, source: &str) -> Vec<FindingId> {
    let of = |f: &&model::Finding| f.remedy.is_some() && f.subject.name() == Some(source);
    part.examined.problems().filter(of).map(|f| f.id.clone()).collect()
}
