//! The steps of a repair of updates, in order.

use std::collections::HashMap;
use std::sync::Arc;

use super::{
    Aside, Coming, UpdateRules, UpdatesPart, VerifiedDownload, advice, leave_the_rest, plan_room, plan_updates,
};
use crate::areas::{After, Cx, Examined, Fetch, FileWork, Stays, Step, ToolRun, When, Work};
use crate::model::{Action, ActionKind, FileKind, Finding, FindingId, Subject, SystemPath, Verdict, error_words};
use crate::plan::{Left, PlaceOf, Plan};
use crate::platform::Platform as _;
use crate::platform::debian::Debian;
use crate::platform::debian::apt::{BINARY_CACHES, CACHE, LISTS};
use crate::platform::services::PausedUnit;
use crate::report::ActionReport;
use crate::repository::Renewal;
use crate::supply::Offered;
use crate::system::{System, ToolRunner, WorkError};

const DPKG: &str = "/usr/bin/dpkg";
/// Questions about configuration files are answered by keeping the existing ones.
const CONFIGURE: [&str; 4] = ["--force-confdef", "--force-confold", "--configure", "--pending"];
/// This run keeps the front end's lock; the tool takes its own.
const LOCKED: &[(&str, &str)] = &[("DPKG_FRONTEND_LOCKED", "1")];
const BY_HAND: &str = "dpkg --configure -a";

/// Stops services that download updates during the repair.
pub(super) fn pausing(units: Vec<PausedUnit>) -> Option<Step> {
    let shows: Vec<ActionReport> =
        units.iter().map(|unit| on_unit(ActionKind::Pause, &unit.name, Vec::new())).collect();
    let remark = "A service is fetching updates and holds a lock that the repair needs. It is stopped during the repair and started \
                  again afterwards; if the repair is interrupted, `veritum recover` or the next reboot starts it again.";
    (!shows.is_empty()).then(|| Step::new(shows, Work::Pause(units)).remarked(remark))
}

/// Adds the steps of a repair to the findings.
pub(super) fn planned(cx: &Cx<'_>, part: UpdatesPart) -> Result<Examined, WorkError> {
    let offered = cx.supply.offered(cx.scope.everything, cx.observer)?;
    let frees = planned_room(cx, &part, &offered.renewals);
    let lists = NewLists::plan(cx, &part, &offered);
    let UpdatesPart { mut examined, verified, .. } = part;
    // Downloaded lists are not downloaded again.
    let coming = if offered.fetched { &[][..] } else { &offered.renewals };
    let plan = lists.planned(cx, coming, &offered.renewals);
    let goes = |one: &&VerifiedDownload| frees.actions.iter().any(|action| action.listed == one.path);
    let stay: Vec<&VerifiedDownload> = verified.iter().filter(|one| !goes(one)).collect();
    if !cx.scope.everything && !stay.is_empty() {
        let unit = ("intact download", "intact downloads");
        let bytes = stay.iter().map(|one| one.bytes).sum();
        examined.stays = Some(Stays { unit, things: stay.len() as u64, bytes });
    }
    examined.left = frees.left.clone();
    examined
        .left
        .extend(plan.left.iter().filter(|left| !frees.left.iter().any(|f| f.finding == left.finding)).cloned());
    examined.doubt = plan.doubt.clone();
    examined.steps.extend(freeing(frees));
    examined.steps.extend(listing(lists, plan, coming));
    examined.steps.extend(forgetting(&examined.findings));
    match configuring(cx.system, &examined.findings) {
        Some(Ok(step)) => examined.steps.push(step),
        Some(Err(left)) => examined.left.extend(left),
        None => {}
    }
    let answers = offered.renewals.iter().any(|renewal| renewal.error().is_none());
    if answers && let Some(step) = examined.steps.first_mut() {
        step.remarks.push("One small package is then downloaded as a test that updates work.".into());
    }
    Ok(examined)
}

/// Frees space first: downloads may need it.
fn freeing(frees: Plan) -> Option<Step> {
    let shows: Vec<ActionReport> = frees.actions.iter().map(ActionReport::planned).collect();
    let remark = "The deleted downloads can be fetched again; `veritum undo` does not restore them.";
    let work = FileWork { plan: frees, ..FileWork::default() };
    (!shows.is_empty()).then(|| Step::new(shows, Work::Files(work)).remarked(remark))
}

/// Moves damaged files aside and downloads new lists.
fn listing(lists: NewLists, plan: Plan, coming: &[Renewal]) -> Option<Step> {
    let mut shows: Vec<ActionReport> = plan.actions.iter().map(ActionReport::planned).collect();
    let fetches = coming.iter().any(Renewal::brings_something);
    for renewal in coming.iter().filter(|renewal| renewal.brings_something()) {
        let source = renewal.source.describe();
        let (things, bytes) = renewal.to_come();
        let findings = findings_of(&lists.problems, &source);
        // Its existing lists are replaced when the new ones are written.
        shows.retain(|action| !action.path.as_ref().is_some_and(|path| renewal.has(path)));
        let shown = ActionReport::on(ActionKind::Renew, Subject::Source { name: source }, findings);
        shows.push(ActionReport { things, bytes, ..shown });
    }
    if shows.is_empty() {
        return None;
    }
    let is_list = |path: &SystemPath| path.is_within(&SystemPath::literal(LISTS));
    let bare = shows.iter().any(|a| a.action == ActionKind::SetAside && a.path.as_ref().is_some_and(is_list));
    let work = match fetches {
        true => Work::Fetched(Arc::new(lists)),
        false => Work::Files(FileWork { plan, renews: true, ..FileWork::default() }),
    };
    let step = Step::new(shows, work);
    Some(match bare {
        true => step.remarked("Lists that are moved aside are replaced the next time lists are fetched."),
        false => step,
    })
}

/// Resets the failed state of services whose cause is repaired.
fn forgetting(findings: &[Finding]) -> Vec<Step> {
    let failed = findings.iter().filter(|finding| finding.is_mended_by(ActionKind::ForgetFailure));
    let step = |finding: &Finding| {
        let unit = finding.subject.name()?;
        let shows = vec![on_unit(ActionKind::ForgetFailure, unit, vec![finding.id.clone()])];
        let when = When::Confirmed("updates do not work yet, so its failed state is kept");
        Some(Step { when, ..Step::new(shows, Work::ForgetFailure(unit.to_owned())) })
    };
    failed.filter_map(step).collect()
}

/// Lets the package tool finish interrupted installations, or records why it cannot be run from here.
fn configuring(system: &System, findings: &[Finding]) -> Option<Result<Step, Vec<Left>>> {
    let begun = || findings.iter().filter(|finding| finding.is_mended_by(ActionKind::Configure));
    begun().next()?;
    let by_hand = system.by_hand(BY_HAND);
    if let Err(why) = way_to_configure(system) {
        return Some(Err(begun().map(|f| Left::new(f, why.clone(), Some(Action::command(BY_HAND)))).collect()));
    }
    let shows = begun().map(|f| ActionReport::on(ActionKind::Configure, f.subject.clone(), vec![f.id.clone()]));
    let tool = ToolRun {
        action: ActionKind::Configure,
        before: "incomplete",
        program: DPKG,
        words: CONFIGURE.map(str::to_owned).into(),
        environment: LOCKED,
        takes_locks: Debian.locks().into_iter().skip(1).collect(),
        runs_scripts: true,
        called: "dpkg",
        by_hand,
    };
    let remark = "The package tool finishes interrupted installations and runs the packages' own scripts as root. Modified \
                  configuration files are kept. `veritum undo` does not undo this.";
    let step = Step::new(shows.collect(), Work::Tool(tool)).remarked(remark);
    // The package database has changed afterwards.
    Some(Ok(Step { after: After::LookedAtAgain, ..step }))
}

/// Checks whether the machine's package tool can be run; the error is the reason.
fn way_to_configure(system: &System) -> Result<(), String> {
    let way = system.tool_runner().map_err(str::to_owned)?;
    if matches!(way, ToolRunner::Here) {
        return Ok(());
    }
    let null = system.machine.dir(&SystemPath::literal("/dev")).and_then(|dir| dir.look(b"null")).ok().flatten();
    if null.is_none_or(|stat| stat.kind != FileKind::Device) {
        return Err("that system is not running and has no device nodes, which its scripts need".into());
    }
    let cannot = |why: String| Err(format!("cannot run commands in that system ({why})"));
    match way.run(DPKG, &["--version"], &[], &system.settings.stop) {
        Ok(ran) if ran.is_fine() => Ok(()),
        Ok(ran) => cannot(ran.last_line()),
        Err(e) => cannot(error_words(&e)),
    }
}

/// An action on a unit of the service manager.
fn on_unit(action: ActionKind, unit: &str, findings: Vec<FindingId>) -> ActionReport {
    ActionReport::on(action, Subject::Service { name: unit.to_owned() }, findings)
}

/// New lists, and the files that are moved aside unless a new list replaces them.
#[derive(Debug)]
struct NewLists {
    problems: Vec<Finding>,
    asides: Vec<Aside>,
}

impl Fetch for NewLists {
    fn fetch(&self, cx: &Cx<'_>) -> Result<FileWork, WorkError> {
        let offered = cx.supply.fetch_offered(cx.scope.everything, cx.observer)?;
        let plan = self.planned(cx, &offered.renewals, &offered.renewals);
        Ok(FileWork { plan, renews: true, ..FileWork::default() })
    }
}

impl NewLists {
    /// Collects the damaged files, or all files of both caches.
    fn plan(cx: &Cx<'_>, part: &UpdatesPart, offered: &Offered) -> Self {
        let problems: Vec<Finding> = part.examined.problems().cloned().collect();
        let aside = |f: &&Finding| f.is_mended_by(ActionKind::SetAside);
        let of_path = |f: &Finding| Some((f.subject.as_path()?.clone(), vec![f.id.clone()]));
        let mut all: HashMap<SystemPath, Vec<FindingId>> = problems.iter().filter(aside).filter_map(of_path).collect();
        for (source, paths) in &part.wrong_lists {
            for path in paths {
                all.insert(path.clone(), findings_of(&problems, source));
            }
        }
        if cx.scope.everything && !offered.fetched {
            for path in all_of_both_caches(cx) {
                all.entry(path).or_default();
            }
        }
        let mut asides: Vec<Aside> = all.into_iter().map(|(path, findings)| Aside { path, findings }).collect();
        asides.sort_by(|a, b| a.path.cmp(&b.path));
        Self { problems, asides }
    }

    /// Plans which files are moved aside and which new lists replace them; `asked` holds the answer of each repository.
    fn planned(&self, cx: &Cx<'_>, coming: &[Renewal], asked: &[Renewal]) -> Plan {
        let mut lists = Vec::new();
        for renewal in coming {
            let findings = findings_of(&self.problems, &renewal.source.describe());
            lists.extend(renewal.lists().iter().map(|list| Coming { list, findings: findings.clone() }));
        }
        let place = |path: &SystemPath| cx.system.place_of_file(path);
        let mut plan = plan_updates(&self.problems, &self.asides, &lists, &rules(cx, &place));
        leave_the_rest(&mut plan, &self.problems);
        let answered = |finding: &Finding| plan.actions.iter().any(|a| a.findings.contains(&finding.id));
        let comes = |finding: &Finding| {
            coming.iter().any(|r| Some(r.source.describe().as_str()) == finding.subject.name() && r.brings_something())
        };
        let renewed = |f: &&Finding| f.is_mended_by(ActionKind::Renew);
        let left = self.problems.iter().filter(|f| renewed(f) && !answered(f) && !comes(f)).map(|f| left_of(asked, f));
        let left: Vec<Left> = left.collect();
        plan.left.extend(left);
        plan
    }
}

/// What is deleted to free space: only what a reachable repository offers again.
fn planned_room(cx: &Cx<'_>, part: &UpdatesPart, renewals: &[Renewal]) -> Plan {
    let answers = |one: &VerifiedDownload| {
        let source =
            cx.supply.open_repositories(|a| a.on_network(&one.package).map(|lacking| a.source_of(&lacking))).flatten();
        renewals.iter().any(|r| r.error().is_none() && Some(r.source.describe()) == source)
    };
    let files: Vec<SystemPath> = part.to_free.iter().filter(|one| answers(one)).map(|one| one.path.clone()).collect();
    let lacks: Vec<&Finding> = part.examined.problems().filter(|f| f.verdict == Verdict::DiskFull).collect();
    let ids: Vec<FindingId> = lacks.iter().map(|f| f.id.clone()).collect();
    let mut plan = plan_room(&files, &ids, &rules(cx, &|path| cx.system.place_of_file(path)));
    if plan.actions.is_empty() && !part.to_free.is_empty() {
        let reason = "downloads could be deleted, but no repository is reachable to get them again";
        let next = Some("free space in another way, or run the command again with a network".into());
        plan.left.extend(lacks.iter().map(|f| Left::new(f, reason.into(), next.clone())));
    }
    plan
}

/// Downloads, lists, partial downloads of both, and the caches derived from the lists; not the locks.
fn all_of_both_caches(cx: &Cx<'_>) -> Vec<SystemPath> {
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

/// The input of the planning.
fn rules<'a>(cx: &Cx<'a>, place: &'a PlaceOf<'a>) -> UpdateRules<'a> {
    UpdateRules {
        protection: &cx.system.protection,
        place,
        owner: cx.system.settings.policy.owner_of_root.unwrap_or((0, 0)),
        ignore_disk_errors: cx.system.settings.ignore_disk_errors,
    }
}

/// Why a finding with a remedy is not answered.
fn left_of(renewals: &[Renewal], finding: &Finding) -> Left {
    let source = finding.subject.name().unwrap_or_default();
    let renewal = renewals.iter().find(|renewal| renewal.source.describe() == source);
    let error = renewal.and_then(Renewal::error);
    let next = renewal.and_then(|r| Some(advice(r.error()?, &r.source.file.to_string())));
    let reason = match (error, renewal) {
        (Some(e), _) => format!("it could not be downloaded again: {e}"),
        (None, None) => "network use is disabled".into(),
        _ => "found by the final check".into(),
    };
    Left::new(finding, reason, next)
}

/// The findings on a source's lists.
fn findings_of(problems: &[Finding], source: &str) -> Vec<FindingId> {
    let of = |f: &&Finding| f.remedy.is_some() && f.subject.name() == Some(source);
    problems.iter().filter(of).map(|f| f.id.clone()).collect()
}
