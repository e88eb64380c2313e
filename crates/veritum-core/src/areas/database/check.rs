//! The check of the area `database`: compares the package database with packages, with its own copies, and with itself.

use std::collections::{BTreeMap, HashMap, HashSet};
use std::time::Instant;

use super::{
    DATABASE, RecordContent, RecordFault, RecordFix, RecordPlan, RecordRules, Unknown, judge_alternatives,
    judge_status, judge_tables, plan_records,
};
use crate::areas::{After, Coverage, Cx, Examined, FILES, FileWork, Gathered, Step, Work};
use crate::model::{
    Action, Authority, Digest, Finding, FindingId, Md5, PackageId, Reach, Scope, Subject, SystemPath, Verdict,
};
use crate::platform::Package;
use crate::platform::debian::database::changelog_of;
use crate::platform::debian::in_database;
use crate::reference::{ExpectedKind, Reference};
use crate::report::ActionReport;
use crate::system::{System, WorkError};

/// Larger diverted files are not read to identify them, in bytes.
const MAX_DIVERTED: u64 = 256 << 20;

/// Judges the package database: all of it, or what concerns the packages and paths in the scope.
pub(super) fn check(cx: &Cx<'_>) -> Result<Examined, WorkError> {
    let begun = Instant::now();
    cx.gather()?;
    // The time of the check of files is reported there.
    let begun = if cx.wants(&FILES) { Instant::now() } else { begun };
    let evidence = cx.evidence();
    let Some(gathered) = &evidence.gathered else { return Ok(Examined::not_reached(DATABASE)) };
    let mut faults = faults(cx, gathered);
    let (planned, hidden) = planned(cx, &mut faults);
    faults.retain(|fault| !hidden.contains(&fault.finding.id));
    let mut findings: Vec<Finding> = faults.into_iter().map(|fault| fault.finding).collect();
    let key = |f: &Finding| (f.verdict, f.subject.as_path().cloned(), f.subject.to_string());
    findings.sort_by_cached_key(key);
    findings.dedup_by(|a, b| a.id == b.id);
    let mut examined = Examined {
        findings,
        coverage: coverage(&gathered.reference),
        left: planned.plan.left.clone(),
        doubt: planned.plan.doubt.clone(),
        ..Examined::new(DATABASE)
    };
    leave_out(cx.system, &gathered.reference, &mut examined);
    if !planned.plan.actions.is_empty() {
        let shows = planned.plan.actions.iter().map(ActionReport::planned).collect();
        let work = FileWork { plan: planned.plan, made: planned.made, ..FileWork::default() };
        let mut step = Step { after: After::LookedAtAgain, ..Step::new(shows, Work::Files(work)) };
        if cx.wants(&FILES) {
            step = step
                .remarked("Files are checked again after the package database is repaired; you will be asked again.");
        }
        examined.steps.push(step);
    }
    examined.took(begun);
    Ok(examined)
}

/// Problems of the database that concern the scope.
fn faults(cx: &Cx<'_>, gathered: &Gathered) -> Vec<RecordFault> {
    let Gathered { reference, record_faults } = gathered;
    let System { machine, database, installed, .. } = cx.system;
    let holds = |place: &SystemPath, path: &SystemPath| holds(cx, reference, place, path);
    let mut faults = judge_status(database, installed);
    faults.extend(contradicted(cx.system).into_iter().map(|(id, version)| contradiction(id, &version)));
    faults.extend(record_faults.iter().cloned());
    faults.extend(judge_tables(machine, database, installed, record_faults, &holds));
    faults.extend(judge_alternatives(machine, database, record_faults));
    // If updates are repaired too, that area finishes installations.
    let told_there = cx.scope.reach == Reach::Everything;
    faults.retain(|fault| concerns(cx.scope, &fault.finding) && !(told_there && is_of_install(&fault.finding)));
    find_members(cx, &mut faults);
    faults
}

/// Whether a finding reports an unfinished installation.
fn is_of_install(finding: &Finding) -> bool {
    finding.verdict == Verdict::Incomplete && finding.package.is_some()
}

/// Adds remedies, and drops findings that are part of another: a damaged table is one finding, not one for each entry that
/// is lost.
fn planned(cx: &Cx<'_>, faults: &mut [RecordFault]) -> (RecordPlan, HashSet<FindingId>) {
    let is_whole = |f: &RecordFault| matches!(&f.finding.subject, Subject::Record { entry: None, .. });
    let whole = faults.iter().any(|f| matches!(f.fix, Ok(RecordFix::Status)) && is_whole(f));
    let system = cx.system;
    let rules = RecordRules {
        protection: &system.protection,
        place: &|path| system.place_of_file(path),
        owner: system.settings.policy.owner_of_root.unwrap_or((0, 0)),
        mtime: system.settings.now.as_second(),
        ignore_disk_errors: system.settings.ignore_disk_errors,
    };
    let mut planned = plan_records(faults, &system.database, &rules);
    if !whole {
        return (planned, HashSet::new());
    }
    let recovered = system.database.recovered.iter().map(|r| r.stanza.key());
    let lost: HashSet<String> = recovered.map(|(name, arch)| format!("{name}:{arch}")).collect();
    let is_part = |fault: &&RecordFault| match &fault.finding.subject {
        Subject::Record { entry: Some(entry), .. } => {
            matches!(fault.fix, Ok(RecordFix::Entry { lost: true, .. })) && lost.contains(entry)
        }
        _ => false,
    };
    let hidden: HashSet<FindingId> = faults.iter().filter(is_part).map(|f| f.finding.id.clone()).collect();
    planned.plan.actions.iter_mut().for_each(|action| action.findings.retain(|id| !hidden.contains(id)));
    (planned, hidden)
}

fn coverage(reference: &Reference) -> Coverage {
    let verified_by: BTreeMap<Authority, u64> = reference.records_verified_by.clone();
    Coverage {
        examined: verified_by.values().sum(),
        weak: verified_by.contains_key(&Authority::Local),
        packages: reference.packages_by_authority(),
        verified_by,
        ..Coverage::default()
    }
}

fn leave_out(system: &System, reference: &Reference, examined: &mut Examined) {
    let lost = system.database.lost.len() as u64;
    if lost > 0 {
        let why = "packages whose version is not recorded: their files were not checked";
        examined.leave_out_many(why, lost, None);
    }
    let bad = reference.bad_records.len() as u64;
    if bad > 0 {
        let why = "the store's own copy of what records should be is damaged: veritum check store";
        examined.leave_out_many(why, bad, None);
    }
}

/// Packages whose entries contradict the package log and their own changelogs, with the version in these; corrected entries
/// are not included.
fn contradicted(system: &System) -> Vec<(PackageId, String)> {
    let logged = &system.database.logged;
    let known = |c: &Package| {
        let version =
            logged.get(&(c.id.name.clone(), c.id.arch.clone())).filter(|version| **version != c.id.version)?;
        let (_, written) = changelog_of(&system.machine, &c.id.name)?;
        (written == *version).then(|| (c.id.clone(), version.clone()))
    };
    system.installed.packages.iter().filter_map(known).collect()
}

/// Members that no store has come from available packages, or cannot be restored.
fn find_members(cx: &Cx<'_>, faults: &mut [RecordFault]) {
    let mut debs: HashMap<PackageId, Option<BTreeMap<String, Vec<u8>>>> = HashMap::new();
    for fault in faults {
        let (Ok(RecordFix::Write { content, .. }), Some(id)) = (&mut fault.fix, &fault.finding.package) else {
            continue;
        };
        let RecordContent::Member { name, digest, .. } = content else { continue };
        if cx.supply.in_a_store(digest) {
            continue;
        }
        let members = debs.entry(id.clone()).or_insert_with(|| {
            cx.supply.open_repositories(|repositories| repositories.members(&cx.system.machine, id)).flatten()
        });
        match members.as_ref().and_then(|m| m.get(name)).filter(|bytes| Digest::hash(bytes) == *digest) {
            Some(bytes) => *content = RecordContent::Bytes(bytes.clone()),
            None => {
                let reason = "not in a store, and its .deb file is not available".to_owned();
                let next = Some("name a folder that has its .deb file: --from PATH".into());
                fault.fix = Err(Unknown { reason, next, package_helps: true });
            }
        }
    }
}

/// Whether a place contains exactly the content of a listed path.
fn holds(cx: &Cx<'_>, reference: &Reference, place: &SystemPath, path: &SystemPath) -> bool {
    let Some(expected) = reference.at(path).map(|at| &reference.expected[at]) else { return false };
    let Ok(Some(bytes)) = cx.system.machine.read_up_to(place, MAX_DIVERTED) else { return false };
    match &expected.kind {
        ExpectedKind::File { digest, .. } => Digest::hash(&bytes) == *digest,
        ExpectedKind::Recorded(md5) => Md5::hash(&bytes) == *md5,
        _ => false,
    }
}

/// Reports that the package log and a changelog name another version than an entry.
fn contradiction(id: PackageId, version: &str) -> RecordFault {
    let entry = format!("{}:{}", id.name, id.arch);
    let subject = Subject::Record { path: in_database("status"), entry: Some(entry) };
    let mut finding = Finding::on(DATABASE, subject, Verdict::Inconsistent);
    finding.cause = Some(format!(
        "its entry says version {}; the dpkg log and the changelog say {version}, for which no reference is available",
        id.version
    ));
    let next = Action::command(format!("apt-get install --reinstall {}", id.name));
    finding.package = Some(id);
    let unknown = Unknown {
        reason: "no .deb file is available that shows which is right".into(),
        next: Some(next),
        package_helps: false,
    };
    RecordFault { finding, fix: Err(unknown) }
}

/// Whether a finding concerns the scope.
fn concerns(scope: &Scope, finding: &Finding) -> bool {
    let of_package = || finding.package.as_ref().is_some_and(|id| scope.packages.contains(&id.name));
    let at_path = || finding.subject.as_path().is_some_and(|path| scope.paths.iter().any(|p| path.is_within(p)));
    scope.is_all() || of_package() || at_path()
}
