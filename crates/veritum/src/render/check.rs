//! What `check` prints.

use std::collections::BTreeMap;
use std::ffi::OsString;

use veritum_core::model::{AreaName, Authority, own_command, quoted};
use veritum_core::plan::DiskDoubt;
use veritum_core::report::{AreaReport, CheckReport, Outcome, SourceState};

use super::findings::{findings, is_advised, notes, place_of, shared_causes};
use super::style::{Label, paint};
use super::{count, grouped, next, plain, size, with_vouchers};
use crate::context::Context;
use crate::places::place;
use veritum_core::areas::about;

pub(crate) fn describe(context: &Context, report: &CheckReport, what: &[OsString]) -> String {
    let mut text = answer(context, report);
    if report.stopped {
        text.push_str(&format!("{}\n", paint(Label::Bad, "Incomplete: stopped before everything was examined.")));
    }
    text.push_str(&evidence(report));
    if let Some((uid, gid)) = context.settings.policy.owner_of_root {
        text.push_str(&format!("       owners are not judged: every one is taken for {uid}:{gid} (owner-of-root)\n"));
    }
    text.push_str(&shared_causes(context, report));
    text.push_str(&findings(context, report));
    text.push_str(&notes(context, report));
    text.push_str(&unexamined(report));
    for why in &report.not_remembered {
        text.push_str(&format!("\nNot remembered for the next time, when an older copy would not be noticed: {why}\n"));
    }
    text.push_str(&unverified(report));
    text.push_str(&downloads(report));
    text.push_str(&doubt(report));
    text.push('\n');
    text.push_str(&next(&commands(context, report, what)));
    text
}

/// The answer, in one line.
fn answer(context: &Context, report: &CheckReport) -> String {
    let machine = &report.machine;
    let name = if machine.hostname.is_empty() { "this machine".to_owned() } else { machine.hostname.clone() };
    let store = context.settings.store.as_ref().map_or_else(String::new, |s| format!("the store {}", place(s)));
    let of_machine = |area: &AreaReport| about(&area.area).is_none_or(|about| about.is_of_machine);
    let only_store = !report.areas.iter().any(of_machine) && !report.areas.is_empty();
    let place = if only_store { store } else { format!("{name} ({})", machine.system) };
    let problems = report.problems();
    let repairable: u64 = report.areas.iter().map(|a| a.repairable).sum();
    let part = if report.limited { "what was named on " } else { "" };
    match report.outcome {
        Outcome::Problems if problems == 0 => format!(
            "{part}{place} is {}: nothing wrong was found, but {} more weakly than required\n",
            paint(Label::Bad, "not vouched for as required"),
            count(report.too_weak, "thing is vouched for", "things are vouched for")
        ),
        Outcome::Problems => {
            let advised = report.areas.iter().all(|a| is_advised(&a.area) || a.problems == 0);
            let able = match repairable {
                0 if advised => "what to do stands beside each".to_owned(),
                0 => "none of them can be put right from here".to_owned(),
                n if n == problems => {
                    if n == 1 {
                        "it can be put right".to_owned()
                    } else {
                        "all can be put right".to_owned()
                    }
                }
                n => format!("{} can be put right", grouped(n)),
            };
            let on = if only_store { "in" } else { "on" };
            let elsewhere = report.areas.iter().filter(|area| !of_machine(area) && !only_store);
            let of_store: u64 = elsewhere.map(|area| area.problems).sum();
            let of_store = match of_store {
                0 => String::new(),
                n => format!(", {} of them in the store", grouped(n)),
            };
            format!("{} {on} {place}{of_store}; {able}\n", paint(Label::Bad, &count(problems, "problem", "problems")))
        }
        Outcome::Unexamined if report.areas.iter().any(|a| a.examined > 0) => {
            let left = report.unexamined.iter().map(|u| u.count).sum();
            format!(
                "{part}{place}: {} not be examined; nothing wrong was found in the rest\n",
                paint(Label::Bad, &count(left, "thing could", "things could"))
            )
        }
        Outcome::Unexamined => format!("{} of {part}{place} could be examined\n", paint(Label::Bad, "nothing")),
        Outcome::SoundAsKnown => {
            format!(
                "{part}{place} is {}: nothing wrong was found, but part of it is vouched for weakly\n",
                paint(Label::Good, "sound as far as is known")
            )
        }
        Outcome::Sound => format!("{part}{place} is {}\n", paint(Label::Good, "sound")),
    }
}

fn evidence(report: &CheckReport) -> String {
    let mut text = String::new();
    for area in &report.areas {
        let seconds = format!("{:.1} s", area.seconds);
        text.push_str(&format!(
            "{}: {} examined{} in {seconds}\n",
            area.area.word(),
            examined_words(area),
            if area.bytes > 0 { format!(", {} read", size(area.bytes)) } else { String::new() }
        ));
        if let Some(extent) = &area.extent {
            text.push_str(&format!("       {extent}\n"));
        }
        if about(&area.area).is_some_and(|about| !about.is_of_machine) {
            continue;
        }
        let by = |authority: Authority, meaning: &str| {
            area.vouched.get(&authority).map(|n| format!("{} by {meaning}", grouped(*n)))
        };
        let parts: Vec<String> = [
            by(Authority::SignedStore, &report.reference),
            by(Authority::Archive, "the vendor's archive"),
            by(Authority::SelfReported, "the machine's own records (self)"),
        ]
        .into_iter()
        .flatten()
        .collect();
        if !parts.is_empty() {
            text.push_str(&format!("       vouched for: {}", parts.join(", ")));
            if area.presence_only > 0 {
                text.push_str(&format!("; of {} only presence is known", grouped(area.presence_only)));
            }
            text.push('\n');
        }
        if tells_standing(report, area) {
            text.push_str(&standing(report));
        }
    }
    text
}

/// Whether an area is the last of those that are held against what stores and archives say.
fn tells_standing(report: &CheckReport, area: &AreaReport) -> bool {
    let rests = |name: &AreaName| about(name).is_some_and(|about| about.is_of_machine && about.by_reference);
    report.areas.iter().rev().find(|area| rests(&area.area)).is_some_and(|last| last.area == area.area)
}

/// How many components stand on which reference, and which archives do not count.
fn standing(report: &CheckReport) -> String {
    let installed = count(report.machine.components, "component is installed", "components are installed");
    let mut text = format!("       {}\n", with_vouchers(&installed, &report.components, "on"));
    let mut out: BTreeMap<(bool, &str), Vec<String>> = BTreeMap::new();
    for source in &report.sources {
        let name = plain(&source.source);
        match (source.standing, &source.why) {
            // A bad signature is a finding of its own.
            (SourceState::Refused | SourceState::Unusable, Some(why)) => {
                out.entry((false, why)).or_default().push(name)
            }
            (SourceState::Absent, Some(why)) if report.components.contains_key(&Authority::SelfReported) => {
                out.entry((true, why)).or_default().push(name);
            }
            (SourceState::Vouched, Some(why)) => {
                text.push_str(&format!("       not used of the archive {name}: {why}\n"))
            }
            _ => {}
        }
    }
    for ((absent, why), names) in out {
        let head = if absent { "archive not at hand" } else { "archive not used" };
        names.iter().for_each(|name| text.push_str(&format!("       {head}: {name}\n")));
        // The reason, then on a line of its own what can be done about it.
        text.push_str(&format!("         {}\n", why.replace("; ", "\n         ")));
    }
    text
}

/// What could not be verified for want of packages.
fn unverified(report: &CheckReport) -> String {
    let Some(unverified) = &report.unverified else { return String::new() };
    let of = count(unverified.components, "component", "components");
    let mut text = format!(
        "\nNot verified: owners, permissions, links and configuration files of {of}; {} not at hand.\n",
        if unverified.components == 1 { "its signed package is" } else { "their signed packages are" }
    );
    if unverified.fetchable > 0 {
        let packages = count(unverified.fetchable, "package", "packages");
        text.push_str(&format!("To verify them too, {packages} must be downloaded: {}.\n", size(unverified.bytes)));
    }
    text
}

/// What must be downloaded before all of it can be put right.
pub(crate) fn downloads(report: &CheckReport) -> String {
    let open: Vec<_> = report.downloads.iter().filter(|d| d.failed.is_none()).collect();
    if open.is_empty() {
        return String::new();
    }
    let bytes = open.iter().map(|d| d.bytes).sum();
    let mut from: Vec<&str> = open.iter().map(|d| d.from.as_str()).collect();
    from.sort_unstable();
    from.dedup();
    let from = from.iter().map(|f| plain(f)).collect::<Vec<_>>().join(", ");
    let packages = count(open.len() as u64, "package", "packages");
    format!("\nA repair would download {packages} first, {}, from {from}.\n", size(bytes))
}

/// How many things of an area were examined.
fn examined_words(area: &AreaReport) -> String {
    let (one, many) = about(&area.area).map_or(("thing", "things"), |about| about.unit);
    count(area.examined, one, many)
}

fn unexamined(report: &CheckReport) -> String {
    let mut text = String::new();
    for part in &report.unexamined {
        let example = part.example.as_ref().map(|p| format!(", {} first", quoted(p.as_bytes()))).unwrap_or_default();
        let count = match part.count {
            1 if example.is_empty() => String::new(),
            n => format!(" ({}{example})", grouped(n)),
        };
        text.push_str(&format!("\n{}: {}{count}", paint(Label::Note, "not examined"), part.reason));
    }
    if text.is_empty() { text } else { text + "\n" }
}

/// Doubt about the disk, in words.
pub(crate) fn doubt(report: &CheckReport) -> String {
    let why = match &report.doubt {
        None => return String::new(),
        Some(DiskDoubt::ReadErrors { files }) => {
            format!("{} cannot be read: the disk gives errors", count(*files, "file", "files"))
        }
        Some(DiskDoubt::MarkedErrors { errors }) => {
            format!("the kernel has counted {} on its file system", count(*errors, "error", "errors"))
        }
        Some(DiskDoubt::ManyUnrelated { files, components }) => {
            format!(
                "{} altered files in {} unrelated components: the disk or the memory may be failing",
                grouped(*files),
                grouped(*components)
            )
        }
    };
    format!(
        "\n{}: {why}.\n  Bring the users' files to safety first, then test disk and memory. Repair writes nothing until then, unless told --despite-disk.\n",
        paint(Label::Bad, "doubt about the disk")
    )
}

/// What goes on in spite of a doubt about the disk.
pub(crate) fn despite_disk(context: &Context, named: &str) -> (String, &'static str) {
    (context.command(&format!("repair{named} --despite-disk")), "once disk and memory were tested and are sound")
}

fn commands(context: &Context, report: &CheckReport, what: &[OsString]) -> Vec<(String, &'static str)> {
    let repairable: u64 = report.areas.iter().map(|a| a.repairable).sum();
    let mut commands = Vec::new();
    if !report.unfinished_changes.is_empty() {
        commands.push((context.command("recover"), "finishes or takes back a change that was interrupted"));
    }
    let named: String = what.iter().map(|w| format!(" {}", quoted(w.as_encoded_bytes()))).collect();
    if repairable > 0 && report.doubt.is_none() {
        commands.push((context.command(&format!("repair{named}")), "shows what it would do, and asks"));
    } else if repairable > 0 {
        commands.push(despite_disk(context, &named));
    }
    // What nobody but an own command puts right.
    let mut resets =
        report.findings.iter().filter(|f| f.remedy.is_none()).filter_map(|f| own_command(f.advice.as_deref()?));
    if let Some(words) = resets.find(|words| words.split(' ').next() == Some("reset")) {
        commands.push((context.command(words), "sets that aside, after a list and a question"));
    }
    // The first that was told: they are told component by component.
    if let Some(finding) = report.findings.iter().min_by_key(|finding| place_of(finding)) {
        commands
            .push((context.command(&format!("explain {}", &finding.id.as_str()[..4])), "all about the first of them"));
    }
    let weak = report.areas.iter().any(|a| a.vouched.get(&Authority::SelfReported).is_some_and(|n| *n > 0));
    let open = report.outcome == Outcome::SoundAsKnown || report.too_weak > 0 && report.problems() == 0;
    if open && weak && !context.settings.full_chain {
        let fetchable = report.unverified.as_ref().is_some_and(|unverified| unverified.fetchable > 0);
        commands.push(match fetchable {
            true => (
                context.command(&format!("check{named} --full-chain")),
                "downloads these packages, and holds everything against them",
            ),
            false => (context.command("check --store LOCATION"), "a signed store would vouch for more"),
        });
    }
    if commands.is_empty() {
        commands.push((context.command("status"), "what else is pending on this machine"));
        if !report.limited {
            commands.push((context.command("check updates"), "whether updates can come, which this did not look at"));
        }
    }
    commands
}
