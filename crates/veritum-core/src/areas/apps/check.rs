//! The check of the area `apps`: whether applications can be started, and the state of their data in users' homes.

use std::collections::BTreeMap;
use std::time::Instant;

use super::integration::needs_registering;
use super::{APPS, App, Icons, Integration, REGISTRY, apps, called, profiles};
use crate::areas::{Checked, Cx, Examined, FILES, FileWork, Step, ToolRun, Work};
use crate::model::{Action, ActionKind, ContentHasher, Finding, Remedy, Scope, Subject, SystemPath, Verdict};
use crate::plan::Left;
use crate::platform::Platform as _;
use crate::platform::debian::{Debian, Needs, rests_on};
use crate::report::ActionReport;
use crate::system::{System, WorkError};

/// The number of packages shared by several applications that are reported.
const MAX_SHARED: usize = 5;
/// The number of applications that are named for each.
const MAX_NAMED: usize = 5;

/// Adds applications, by their ids, and the packages that they depend on to the scope.
pub(super) fn resolve(cx: &Cx<'_>, scope: &mut Scope) -> Result<(), WorkError> {
    if scope.selected(&APPS).next().is_none() {
        return Ok(());
    }
    let system = cx.system;
    let (apps, whole_files) = (apps(system), scope.names(&FILES));
    for (_, typed) in scope.selected.iter_mut().filter(|(area, _)| *area == APPS) {
        let app = called(&apps, typed)?;
        typed.clone_from(&app.entry.id);
        if !whole_files {
            let own = app.package.iter().flat_map(|id| rests_on(&id.name, system.database.stanzas()));
            let installed = |name: &String| system.installed.packages.iter().any(|c| c.id.name == *name);
            scope.packages.extend(own.filter(installed));
        }
    }
    scope.packages.sort();
    scope.packages.dedup();
    Ok(())
}

/// Whether an application is examined in this run.
fn is_named(scope: &Scope, app: &App) -> bool {
    let mut named = scope.selected(&APPS).peekable();
    named.peek().is_none() || named.any(|id| id == app.entry.id)
}

/// Checks whether applications can be started from the desktop, and their data in their users' homes.
pub(super) fn check(cx: &Cx<'_>, earlier: &Checked) -> Result<Examined, WorkError> {
    let begun = Instant::now();
    let (system, scope) = (cx.system, cx.scope);
    let mut examined = Examined::new(APPS);
    let apps = apps(system);
    let wanted: Vec<&App> = apps.iter().filter(|app| is_named(scope, app)).collect();
    let integration = Integration::read(&system.machine);
    examined.findings.extend(integration.shared(&wanted.iter().map(|app| &app.entry).collect::<Vec<_>>()));
    examined.findings.extend(wanted.iter().filter_map(|app| finding_on(system, app, &integration)));
    examined.coverage.examined = wanted.len() as u64;
    let is_deep = scope.is_deep(&APPS);
    let (looked, busy) = if is_deep { profiles(cx, &wanted, &mut examined) } else { (0, Vec::new()) };
    examined.coverage.weak = !examined.coverage.unexamined.is_empty();
    examined.coverage.extent = Some(match wanted.is_empty() {
        true => "no applications are installed".into(),
        false => extent(is_deep.then_some(looked)),
    });
    let files: Vec<&Finding> = earlier.get(&FILES).into_iter().flat_map(|files| files.problems()).collect();
    for finding in &mut examined.findings {
        let action = if can_register(system, finding) {
            ActionKind::Register
        } else if comes_right(finding, &files, scope) {
            ActionKind::WithPackage
        } else {
            continue;
        };
        finding.remedy = Some(Remedy { action, from: None, download: None });
        finding.action = None;
    }
    if !is_deep {
        // What the repair of files answers is reported there.
        examined.findings.retain(|finding| !finding.is_mended_by(ActionKind::WithPackage));
        examined.findings.extend(without_icon(system, &wanted));
        examined.took(begun);
        return Ok(examined.referred(&Action::command("veritum repair apps")));
    }
    examined.steps.extend(registration(system, &examined.findings));
    examined.steps.extend(with_packages(&examined.findings));
    let left = |finding: &&Finding| finding.remedy.is_none();
    let reason = |finding: &Finding| finding.cause.clone().unwrap_or_default();
    examined.left = examined.findings.iter().filter(left).map(|f| Left::new(f, reason(f), f.action.clone())).collect();
    examined.findings.extend(shared_causes(cx, &files));
    examined.findings.extend(busy);
    examined.findings.extend(newer(cx, &wanted));
    examined.findings.extend(without_icon(system, &wanted));
    examined.took(begun);
    Ok(examined)
}

/// The actions of one kind that answer these findings.
fn shown(findings: &[Finding], kind: ActionKind) -> Vec<ActionReport> {
    let shown = |finding: &Finding| ActionReport {
        path: finding.subject.as_path().cloned(),
        package: finding.package.clone(),
        ..ActionReport::on(kind, finding.subject.clone(), vec![finding.id.clone()])
    };
    findings.iter().filter(|finding| finding.is_mended_by(kind)).map(shown).collect()
}

/// Findings that disappear when another area repairs the files: shown, without an action of their own.
fn with_packages(findings: &[Finding]) -> Option<Step> {
    let shows = shown(findings, ActionKind::WithPackage);
    (!shows.is_empty()).then(|| Step::new(shows, Work::Files(FileWork::default())))
}

/// Has the desktop's own tool rebuild its list of applications.
fn registration(system: &System, findings: &[Finding]) -> Option<Step> {
    let shows = shown(findings, ActionKind::Register);
    let tool = ToolRun {
        action: ActionKind::Register,
        before: "not-registered",
        program: REGISTRY.program,
        words: vec![REGISTRY.folder.to_owned()],
        environment: &[],
        takes_locks: Vec::new(),
        runs_scripts: false,
        called: "the desktop's tool",
        by_hand: system.by_hand(&format!("{} {}", REGISTRY.program, REGISTRY.folder)),
    };
    let remark = "The desktop's own tool rebuilds its list of applications; `veritum undo` does not undo that.";
    (!shows.is_empty()).then(|| Step::new(shows, Work::Tool(tool)).remarked(remark))
}

/// Whether the desktop's own tool answers a finding and can be run.
fn can_register(system: &System, finding: &Finding) -> bool {
    let is_there = || system.machine.resolve(&SystemPath::literal(REGISTRY.program)).is_ok();
    needs_registering(finding) && system.tool_runner().is_ok() && is_there()
}

/// If files of an application's package, or of a dependency of a named application, are repaired, that repairs the
/// application: it needs no action of its own.
fn comes_right(finding: &Finding, files: &[&Finding], scope: &Scope) -> bool {
    let by_name = scope.selected(&APPS).next().is_some();
    finding.package.is_some()
        && matches!(finding.subject, Subject::App { .. })
        && finding.verdict != Verdict::NotRegistered
        && files.iter().any(|file| file.remedy.is_some() && (by_name || file.package == finding.package))
}

/// Damaged packages on which several of these applications depend, by this run's check of files or by the last check: they
/// come first.
fn shared_causes(cx: &Cx<'_>, files: &[&Finding]) -> Vec<Finding> {
    let mut damaged: BTreeMap<String, u64> = BTreeMap::new();
    if cx.wants(&FILES) {
        for id in files.iter().filter_map(|f| f.package.as_ref()) {
            *damaged.entry(id.name.clone()).or_default() += 1;
        }
    } else if let Some(last) = cx.system.last_check() {
        damaged = last.packages;
    }
    if damaged.is_empty() {
        return Vec::new();
    }
    let apps = apps(cx.system);
    let wanted = apps.iter().filter(|app| is_named(cx.scope, app));
    let needs = Needs::new(cx.system.database.stanzas());
    let mut rest_on: BTreeMap<&str, Vec<&str>> = BTreeMap::new();
    for app in wanted {
        let Some(id) = &app.package else { continue };
        for name in needs.rests_on(&id.name) {
            if let Some((name, _)) = damaged.get_key_value(&name) {
                rest_on.entry(name).or_default().push(&app.entry.id);
            }
        }
    }
    rest_on.retain(|_, apps| apps.len() > 1);
    let mut shared: Vec<_> = rest_on.into_iter().collect();
    shared.sort_by_key(|(_, apps)| std::cmp::Reverse(apps.len()));
    shared.into_iter().take(MAX_SHARED).map(|(name, apps)| shared_cause(name, damaged[name], &apps)).collect()
}

/// Applications whose icon is missing.
fn without_icon(system: &System, wanted: &[&App]) -> Vec<Finding> {
    let icons = Icons::read(&system.machine);
    let note = |app: &&App| {
        let entry = app.entry.entry.as_ref().ok().filter(|entry| entry.shown)?;
        let icon = entry.icon.as_deref().filter(|icon| icons.lacks(&system.machine, icon))?;
        let finding = Finding::on(APPS, Subject::App { name: app.entry.id.clone() }, Verdict::NoIcon);
        let cause = format!("its icon is not installed: {icon}");
        Some(Finding { package: app.package.clone(), cause: Some(cause), ..finding })
    };
    wanted.iter().filter_map(note).collect()
}

/// Newer versions of the packages of named applications, by the available lists.
fn newer(cx: &Cx<'_>, wanted: &[&App]) -> Vec<Finding> {
    if cx.scope.selected(&APPS).next().is_none() {
        return Vec::new();
    }
    let waiting = cx.supply.with_repositories(|repositories| cx.supply.waiting(repositories).ids);
    let note = |app: &&App| {
        let own = app.package.as_ref()?;
        let newer = waiting.iter().find(|id| id.name == own.name && id.arch == own.arch)?;
        let subject = Subject::App { name: app.entry.id.clone() };
        let finding = Finding::on(APPS, subject, Verdict::UpdateAvailable);
        let cause = format!("version {} is available", newer.version);
        Some(Finding { package: app.package.clone(), cause: Some(cause), ..finding })
    };
    wanted.iter().filter_map(note).collect()
}

/// What prevents the desktop from starting an application.
#[must_use]
pub fn finding_on(system: &System, app: &App, integration: &Integration<'_>) -> Option<Finding> {
    let finding = integration.judge(&app.entry)?;
    // What the vendor ships is not damaged, however unusual it is.
    if finding.verdict == Verdict::Corrupt && is_as_shipped(system, app) {
        return None;
    }
    // An entry that belongs to a package is repaired with it.
    let with_it = app.package.as_ref().filter(|_| finding.verdict != Verdict::NotRegistered);
    let action = with_it.map(|_| Action::command(format!("veritum repair app:{}", app.entry.id)));
    Some(Finding { package: app.package.clone(), action: action.or_else(|| finding.action.clone()), ..finding })
}

/// Whether an application's entry is byte for byte what its package ships, by the local package database.
fn is_as_shipped(system: &System, app: &App) -> bool {
    let md5 = || {
        let id = app.package.as_ref()?;
        let package = system.installed.packages.iter().find(|c| c.id == *id)?;
        let shipped =
            Debian.records(&system.machine).read_list(package, None).ok()?.md5s.get(&app.entry.path).copied()?;
        let bytes = system.machine.read_up_to(&app.entry.path, 1 << 20).ok()??;
        let mut hasher = ContentHasher::md5();
        hasher.update(&bytes);
        Some((shipped, hasher.finish().1?))
    };
    md5().is_some_and(|(shipped, found)| shipped == found)
}

fn shared_cause(name: &str, problems: u64, apps: &[&str]) -> Finding {
    let mut named = apps.iter().take(MAX_NAMED).copied().collect::<Vec<_>>().join(", ");
    if apps.len() > MAX_NAMED {
        named.push_str(&format!(" and {} more", apps.len() - MAX_NAMED));
    }
    let finding = Finding::on(APPS, Subject::Package { name: name.to_owned() }, Verdict::SharedCause);
    let s = if problems == 1 { "problem" } else { "problems" };
    let cause = format!("{problems} {s}; used by {} applications ({named})", apps.len());
    Finding { cause: Some(cause), action: Some(Action::command(format!("veritum repair package:{name}"))), ..finding }
}

/// The result of a check.
fn extent(kept: Option<u64>) -> String {
    let homes = match kept {
        None => String::new(),
        Some(0) => "; no files in users' homes".to_owned(),
        Some(1) => "; 1 file in users' homes".to_owned(),
        Some(n) => format!("; {n} files in users' homes"),
    };
    format!(
        "desktop entries, programs, icons, file types and D-Bus services{homes} (program files: `veritum check files`)"
    )
}
