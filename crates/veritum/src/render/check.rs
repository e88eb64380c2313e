//! The output of `check`: the answer, what needs the user, what a repair would do, what was compared, the next command.

use std::collections::BTreeSet;
use std::ffi::OsString;

use veritum_core::areas::{UPDATES, VOLUMES, about, blocks_updates, by_default_alone};
use veritum_core::model::{Authority, Finding, StartEffect, Verdict, quoted};
use veritum_core::plan::DiskDoubt;
use veritum_core::report::{AreaReport, CheckReport, Outcome, SourceState};

use super::findings::{groups, has_few_causes, needs_you, note_counts, note_lines, repairable, shared_causes};
use super::layout::{cell, headline, labelled, paragraph, table};
use super::style::{Label, paint};
use super::{count, grouped, next, plain, size};
use crate::context::Context;
use crate::places::place;

/// The prefix of a command to type.
const COMMAND: &str = "-> ";

pub(crate) fn describe(context: &Context, report: &CheckReport, what: &[OsString]) -> String {
    let mut text = answer(context, report, what);
    text.push_str(&doubt(context, report));
    text.push_str(&shared_causes(context, report));
    text.push_str(&needs_you(context, report));
    text.push_str(&repairable(context, report));
    if context.global.verbose {
        text.push_str(&note_lines(context, report));
        text.push_str(&areas(context, report));
    }
    let evidence = evidence(context, report, what);
    if !evidence.is_empty() && !report.findings.is_empty() {
        text.push('\n');
    }
    text.push_str(&evidence);
    text.push_str(&next(context, &commands(context, report, what)));
    text
}

/// The answer: one line.
fn answer(context: &Context, report: &CheckReport, what: &[OsString]) -> String {
    let machine = &report.machine;
    let name = if machine.hostname.is_empty() { "this machine" } else { &machine.hostname };
    let store = context.settings.store.as_ref().map_or_else(String::new, |s| format!("the store {}", place(s)));
    let of_machine = |area: &AreaReport| about(&area.area).is_none_or(|about| about.is_of_machine);
    let only_store = !report.areas.iter().any(of_machine) && !report.areas.is_empty();
    let place = if only_store { store } else { format!("{name} ({})", machine.system) };
    // A limited scope is named in the answer.
    let named = what.iter().map(|word| quoted(word.as_encoded_bytes())).collect::<Vec<_>>().join(" ");
    let place = match !only_store && !named.is_empty() && !report.everything {
        true => format!("{place}, {named} only"),
        false => place,
    };
    let of_updates = what.len() == 1 && what[0] == UPDATES.word();
    let place = if of_updates { format!("{name} ({})", machine.system) } else { place };
    let (label, word, rest) = match report.outcome {
        Outcome::Damaged if breaks_start(report).is_some() => {
            let word = if machine.live { "WILL NOT START" } else { "DOES NOT START" };
            (Label::Bad, word, start_answer(report))
        }
        Outcome::Damaged if of_updates && report.findings.iter().any(blocks_updates) => {
            (Label::Bad, "UPDATES BLOCKED", problem_words(report, false))
        }
        Outcome::Damaged if of_updates && report.problems() > 0 => {
            let blocks = if report.problems() == 1 { "it does not block updates" } else { "none blocks updates" };
            (Label::Bad, "DAMAGED", format!("{}; {blocks}", problem_words(report, false)))
        }
        Outcome::OkLimited if of_updates => {
            (Label::Good, "OK (limited)", "nothing found that blocks updates".to_owned())
        }
        Outcome::Ok if of_updates => (Label::Good, "OK", "nothing found that blocks updates".to_owned()),
        Outcome::Damaged if report.problems() == 0 => {
            let weak = count(report.too_weak, "entry is", "entries are");
            (Label::Bad, "DAMAGED", format!("no differences found, but {weak} verified less strongly than required"))
        }
        Outcome::Damaged if report.findings.iter().all(|finding| finding.effect.is_some()) => {
            // What was not examined may keep it from starting.
            let starts = match report.unexamined.is_empty() {
                true => "it still starts",
                false => "none of them keeps it from starting, but not everything was checked",
            };
            (Label::Bad, "DAMAGED", format!("{}; {starts}", problem_words(report, false)))
        }
        Outcome::Damaged => (Label::Bad, "DAMAGED", problem_words(report, only_store)),
        Outcome::Unchecked if report.areas.iter().any(|a| a.examined > 0) => {
            let left = report.unexamined.iter().map(|u| u.count).sum();
            let items = count(left, "item", "items");
            (Label::Bad, "NOT CHECKED", format!("{items} could not be checked; no problems in the rest"))
        }
        Outcome::Unchecked => (Label::Bad, "NOT CHECKED", "nothing could be checked".to_owned()),
        Outcome::OkLimited => (Label::Good, "OK (limited)", ok_words(report, what)),
        Outcome::Ok => (Label::Good, "OK", ok_words(report, what)),
    };
    let mut text = headline(label, word, &format!("{place}: {rest}"), context.width);
    if report.stopped {
        text.push_str(&format!("{}  interrupted before everything was checked\n", paint(Label::Bad, "INCOMPLETE")));
    }
    text
}

/// The first cause that keeps the machine from starting.
fn breaks_start(report: &CheckReport) -> Option<&Finding> {
    report.findings.iter().find(|finding| finding.effect == Some(StartEffect::BreaksStart))
}

/// `because disk.img: core image: there is none (2 such causes; 3 problems, all need you)`.
fn start_answer(report: &CheckReport) -> String {
    let Some(first) = breaks_start(report) else { return String::new() };
    let causes = report.findings.iter().filter(|finding| finding.effect == Some(StartEffect::BreaksStart)).count();
    let cause = first.cause.as_deref().unwrap_or(first.verdict.word());
    let such = if causes > 1 { format!("{causes} such causes; ") } else { String::new() };
    format!("because of {}: {cause} ({such}{})", super::subject(&first.subject), problem_words(report, false))
}

/// `53 problems in 17 packages, 51 can be repaired, 2 need you`; files that a few causes share are counted by package.
pub(super) fn problem_words(report: &CheckReport, only_store: bool) -> String {
    let problems = report.problems();
    let repairable: u64 = report.areas.iter().map(|a| a.repairable).sum();
    let of_package = || report.findings.iter().filter_map(|f| f.package.as_ref());
    // Problems of no package are counted with the others only if they are few.
    let in_packages = match of_package().count() * 2 > report.findings.len() {
        true => of_package().map(|id| &id.name).collect::<BTreeSet<_>>().len() as u64,
        false => 0,
    };
    let needs = |n: u64| format!("{} need{} you", grouped(n), if n == 1 { "s" } else { "" });
    let able = match repairable {
        0 if problems == 1 => "it needs you".to_owned(),
        0 => "all need you".to_owned(),
        n if n == problems && n == 1 => "it can be repaired".to_owned(),
        n if n == problems => "all can be repaired".to_owned(),
        n => format!("{} can be repaired, {}", grouped(n), needs(problems - n)),
    };
    let what = match (in_packages, has_few_causes(&report.findings)) {
        (1.., true) => {
            let differ = count(in_packages, "package differs", "packages differ");
            format!("{differ} ({})", count(problems, "problem", "problems"))
        }
        (0, _) => count(problems, "problem", "problems"),
        (n, false) => format!("{} in {}", count(problems, "problem", "problems"), count(n, "package", "packages")),
    };
    let of_store =
        report.areas.iter().filter(|a| !only_store && about(&a.area).is_some_and(|about| !about.is_of_machine));
    let of_store = match of_store.map(|area| area.problems).sum() {
        0 => String::new(),
        n => format!(", {} of them in the store", grouped(n)),
    };
    format!("{what}{of_store}, {able}")
}

fn ok_words(report: &CheckReport, what: &[OsString]) -> String {
    let whole = what.is_empty() || report.everything;
    let seconds: f64 = report.areas.iter().map(|area| area.seconds).sum();
    let mut parts: Vec<String> = Vec::new();
    // All packages are examined if all files are.
    if whole && report.machine.packages > 0 {
        parts.push(count(report.machine.packages, "package", "packages"));
    }
    let counted = report.areas.iter().filter(|area| area.examined > 0).filter_map(|area| {
        let about = about(&area.area)?;
        (!whole || about.by_package).then(|| count(area.examined, about.unit.0, about.unit.1))
    });
    parts.extend(counted);
    parts.push(format!("{seconds:.1} s"));
    format!("no problems in {}", parts.join(", "))
}

/// What was compared with what, and what was not checked.
fn evidence(context: &Context, report: &CheckReport, what: &[OsString]) -> String {
    let mut lines: Vec<String> = Vec::new();
    lines.extend(verified(report));
    lines.extend(unverified(report));
    if report.unverified.is_some() && is_limited(context, report) && !is_fetchable(report) {
        lines.push(
            "A signed store with these packages verifies them too: --store LOCATION (veritum help store create)".into(),
        );
    }
    if let Some((uid, gid)) = context.settings.policy.owner_of_root {
        lines
            .push(format!("Owners were not checked: everything is expected to belong to {uid}:{gid} (owner-of-root)."));
    }
    lines.extend(extents(context, report, what));
    lines.extend(sources(context, report));
    lines.extend(not_checked(report, what));
    let notes = note_counts(report);
    if !notes.is_empty() && !context.global.verbose {
        lines.push(format!("Also: {notes} (--verbose)"));
    }
    for why in &report.not_remembered {
        lines.push(format!("Versions seen could not be saved, so an older copy would not be noticed next time: {why}"));
    }
    lines.extend(downloads_line(report));
    let line = |line: &String| match line.starts_with(COMMAND) {
        true => table("  ", &[vec![labelled(Label::Command, line.clone())]], context.width),
        false => paragraph("  ", line, context.width),
    };
    lines.iter().map(line).collect()
}

/// The number of packages compared with each reference.
fn verified(report: &CheckReport) -> Option<String> {
    let by_reference =
        |area: &&AreaReport| about(&area.area).is_some_and(|about| about.is_of_machine && about.by_reference);
    let examined: Vec<&AreaReport> = report.areas.iter().filter(by_reference).collect();
    if examined.is_empty() || report.packages.is_empty() {
        return None;
    }
    let parts: Vec<String> = report
        .packages
        .iter()
        .map(|(authority, n)| format!("{} ({})", authority_words(*authority), count(*n, "package", "packages")))
        .collect();
    let files = examined.iter().find(|area| about(&area.area).is_some_and(|about| about.by_package));
    let amount = files.map_or_else(String::new, |area| {
        let unit = about(&area.area).map_or(("file", "files"), |about| about.unit);
        let read = if area.bytes > 0 { format!(", {}", size(area.bytes)) } else { String::new() };
        format!("; {}{read} in {:.1} s", count(area.examined, unit.0, unit.1), area.seconds)
    });
    Some(format!("Verified against {}{amount}", listed(&parts)))
}

/// A list in a sentence: `a, b and c`.
fn listed(parts: &[String]) -> String {
    match parts {
        [] => String::new(),
        [one] => one.clone(),
        [all @ .., last] => format!("{} and {last}", all.join(", ")),
    }
}

/// The name of a reference.
pub(super) fn authority_words(authority: Authority) -> &'static str {
    match authority {
        Authority::Store => "the signed store",
        Authority::Repository => "the vendor's signed repository",
        _ => "the local package database",
    }
}

/// What could not be verified for lack of packages.
fn unverified(report: &CheckReport) -> Option<String> {
    let unverified = report.unverified.as_ref()?;
    let packages = count(unverified.packages, "package", "packages");
    let (is, their) = if unverified.packages == 1 { ("its", "package is") } else { ("their", "packages are") };
    Some(format!(
        "Owners, permissions and links of {packages} were not verified: {is} signed {their} not on this machine."
    ))
}

/// The coverage of areas that can go further, or that were named.
fn extents(context: &Context, report: &CheckReport, what: &[OsString]) -> Vec<String> {
    let all = !what.is_empty() || context.global.verbose || context.settings.quick;
    let told = report.areas.iter().filter(|_| all);
    told.filter_map(|area| Some(format!("{}: {}", capitalised(area.area.word()), area.extent.as_ref()?))).collect()
}

fn capitalised(word: &str) -> String {
    let mut chars = word.chars();
    chars.next().map_or_else(String::new, |first| first.to_uppercase().chain(chars).collect())
}

/// Repositories that were not used, and why.
fn sources(context: &Context, report: &CheckReport) -> Vec<String> {
    let local = report.packages.contains_key(&Authority::Local);
    let mut lines = Vec::new();
    for source in &report.sources {
        // What is a finding is reported there.
        if report.findings.iter().any(|finding| finding.subject.name() == Some(&source.source)) {
            continue;
        }
        let name = plain(&source.source);
        let Some(why) = &source.why else { continue };
        match source.standing {
            SourceState::Refused | SourceState::Unusable => lines.push(format!("Repository ignored: {name}: {why}")),
            SourceState::Absent if local => lines.push(format!("Repository not available: {name}: {why}")),
            SourceState::Verified => lines.push(format!("Repository index ignored: {name}: {why}")),
            SourceState::Absent => {}
        }
        if let Some(action) = source.action.clone().map(|action| context.completed(action)) {
            lines.extend(action.text.map(|text| format!("{}:", capitalised(&text))));
            lines.extend(action.command.map(|command| format!("{COMMAND}{command}")));
        }
    }
    lines
}

/// What could not be examined of disks by themselves, or of anything else where nothing more is known, one line each.
pub(super) fn disks_not_checked(report: &CheckReport) -> String {
    let of_disks = report.machine.root.is_empty();
    let lines = if of_disks || report.outcome == Outcome::Unchecked {
        not_checked(report, &[OsString::new()])
    } else {
        Vec::new()
    };
    lines.iter().map(|line| format!("  {line}\n")).collect()
}

/// What was not checked: what only `all` examines, and what could not be examined.
fn not_checked(report: &CheckReport, what: &[OsString]) -> Vec<String> {
    let mut lines: Vec<String> = Vec::new();
    for part in &report.unexamined {
        let example = part.example.as_ref().map(|p| quoted(p.as_bytes()));
        let amount = match (part.count, example) {
            (1, None) => String::new(),
            (1, Some(example)) => format!(" ({example})"),
            (n, None) => format!(" ({})", grouped(n)),
            (n, Some(example)) => format!(" ({}, {example} first)", grouped(n)),
        };
        lines.push(format!("Not checked: {}{amount}", part.reason));
    }
    if what.is_empty() {
        lines.push(format!("Not checked: {} (veritum check all)", by_default_alone().join(", ")));
    }
    lines
}

/// What a repair would download first.
fn downloads_line(report: &CheckReport) -> Option<String> {
    let open: Vec<_> = report.downloads.iter().filter(|download| download.failed.is_none()).collect();
    if open.is_empty() {
        return None;
    }
    let bytes = open.iter().map(|d| d.bytes).sum();
    let mut from: Vec<&str> = open.iter().map(|d| d.from.as_str()).collect();
    from.sort_unstable();
    from.dedup();
    let from = from.iter().map(|f| plain(f)).collect::<Vec<_>>().join(", ");
    let debs = count(open.len() as u64, "package", "packages");
    Some(format!("A repair downloads {debs} first ({}) from {from}.", size(bytes)))
}

/// The same as a separate paragraph.
pub(crate) fn downloads(context: &Context, report: &CheckReport) -> String {
    downloads_line(report).map_or_else(String::new, |line| paragraph("  ", &line, context.width))
}

/// Every area that was examined, with counts, bytes and seconds.
fn areas(context: &Context, report: &CheckReport) -> String {
    let row = |area: &AreaReport| {
        let (one, many) = about(&area.area).map_or(("item", "items"), |about| about.unit);
        let mut parts = vec![count(area.examined, one, many)];
        if area.bytes > 0 {
            parts.push(size(area.bytes));
        }
        parts.push(format!("{:.2} s", area.seconds));
        if area.presence_only > 0 {
            parts.push(format!("{} checked for existence only", grouped(area.presence_only)));
        }
        let problems = if area.problems > 0 {
            count(area.problems, "problem", "problems")
        } else {
            area.outcome.word().to_owned()
        };
        vec![labelled(Label::Heading, area.area.word()), cell(problems), cell(listed(&parts))]
    };
    let rows: Vec<_> = report.areas.iter().map(row).collect();
    format!("\n  {}\n{}", paint(Label::Heading, "Areas"), table("    ", &rows, context.width))
}

/// Why the disk may be failing, and what to do first.
pub(crate) fn doubt(context: &Context, report: &CheckReport) -> String {
    let why = match &report.doubt {
        None => return String::new(),
        Some(DiskDoubt::ReadErrors { files }) => {
            format!("read errors in {}", count(*files, "file", "files"))
        }
        Some(DiskDoubt::MarkedErrors { errors }) => {
            format!("the kernel recorded {} on the file system", count(*errors, "error", "errors"))
        }
        Some(DiskDoubt::Failing { drives }) => {
            format!("{} so", count(*drives, "drive reports", "drives report"))
        }
        Some(DiskDoubt::ManyUnrelated { files, packages }) => {
            let files = count(*files, "altered file", "altered files");
            format!("{files} in {}", count(*packages, "unrelated package", "unrelated packages"))
        }
    };
    let only_volumes = report.areas.iter().all(|area| area.area == VOLUMES);
    let option = if only_volumes { "--rescued DIR or --ignore-disk-errors" } else { "--ignore-disk-errors" };
    let advice = format!(
        "Users' files first: {} (DIR on another disk). Then test disk and memory. Nothing is written until you pass {option}.",
        context.command("rescue --to DIR")
    );
    format!("{}  {why}\n{}", paint(Label::Bad, "DISK MAY BE FAILING"), paragraph("  ", &advice, context.width))
}

/// The command that ignores a doubt about the disk.
pub(crate) fn ignore_disk_errors(context: &Context, named: &str) -> (String, &'static str) {
    let command = context.command(&format!("repair{named} --ignore-disk-errors"));
    (command, "after disk and memory were tested and are good")
}

/// The problem that is suggested for `explain`.
fn first_shown(report: &CheckReport) -> Option<&Finding> {
    let (open, others): (Vec<&Finding>, Vec<&Finding>) = report.findings.iter().partition(|f| f.remedy.is_none());
    [open, others].iter().find_map(|all| groups(all, false).first()?.findings.first().copied())
}

/// Whether more could be verified.
fn is_limited(context: &Context, report: &CheckReport) -> bool {
    let weak = report.areas.iter().any(|a| a.verified_by.get(&Authority::Local).is_some_and(|n| *n > 0));
    let open = report.outcome == Outcome::OkLimited || report.too_weak > 0 && report.problems() == 0;
    open && weak && !context.settings.complete
}

fn is_fetchable(report: &CheckReport) -> bool {
    report.unverified.as_ref().is_some_and(|unverified| unverified.fetchable > 0)
}

/// What a file system's own check corrects.
const IS_CORRECTED: [Verdict; 3] = [Verdict::Corrupt, Verdict::Inconsistent, Verdict::ErrorsRecorded];

fn commands(context: &Context, report: &CheckReport, what: &[OsString]) -> Vec<(String, &'static str)> {
    let repairable: u64 = report.areas.iter().map(|a| a.repairable).sum();
    let mut commands = Vec::new();
    // Of disks by themselves nothing more is known than what is shown.
    if report.machine.root.is_empty() {
        if report.problems() > 0 {
            commands.push((context.command("rescue --to DIR"), "users' files first, to another disk"));
        }
        let is_corrected = |finding: &Finding| finding.area == VOLUMES && IS_CORRECTED.contains(&finding.verdict);
        if report.findings.iter().any(is_corrected) {
            commands
                .push((context.command("repair volumes"), "then lets the file system's own check correct it (ext4)"));
        }
        return commands;
    }
    if !report.unfinished_changes.is_empty() {
        commands.push((context.command("recover"), "completes or rolls back an interrupted change"));
    }
    let named: String = what.iter().map(|w| format!(" {}", quoted(w.as_encoded_bytes()))).collect();
    if repairable > 0 && report.doubt.is_none() {
        commands.push((context.command(&format!("repair{named}")), "shows the plan, then asks"));
    } else if repairable > 0 {
        commands.push(ignore_disk_errors(context, &named));
    }
    // What only another command repairs.
    let open = report.findings.iter().filter(|f| f.remedy.is_none());
    if let Some(words) = open.filter_map(|f| f.action.as_ref()?.complete_command()).next() {
        commands.push((context.command(words), "asks first"));
    }
    if let Some(finding) = first_shown(report) {
        commands.push((context.command(&format!("explain {}", &finding.id.as_str()[..4])), "one problem in detail"));
    }
    if is_limited(context, report) && is_fetchable(report) {
        commands.push((context.command(&format!("check{named} --complete")), "verifies those packages too"));
    }
    if commands.is_empty() && what.is_empty() {
        commands.push((context.command("check all"), "also users' homes and repositories"));
    }
    commands
}
