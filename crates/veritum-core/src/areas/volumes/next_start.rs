//! The check of a mounted file system at the next start: arranging it, and what came of one that was arranged.
//!
//! A file system that is in use is checked by its own program before it is mounted, if its count of mounts is over its maximum
//! (e2fsck(8)). The file `/forcefsck` is not used: where the initramfs checks, it is ignored.

use std::collections::HashSet;
use std::path::Path;

use crate::areas::{Cx, Examined, Step, VOLUMES, Work};
use crate::change::{Standing, standings};
use crate::devices::ext4::{FileSystem, MountCounts, Paths, Superblock};
use crate::devices::{Device, ReadAt as _, Window};
use crate::machine::Volume;
use crate::model::{Action, ActionKind, Finding, FindingId, Remedy, Subject, SystemPath, Verdict, readable};
use crate::plan::{CountsChange, Left, ToolChange};
use crate::platform::e2fsprogs::{StartCheck, journal_of_checks, tool};
use crate::report::ActionReport;
use crate::system::{MountedExt4, System};

/// The counts that make a check due, also on battery. With this maximum it is due only once.
const DUE: MountCounts = MountCounts { mounts: 100, maximum: 50 };
/// The log of the checks that were made before the root was mounted (initramfs-tools(7)).
const EARLY_LOG: &str = "/run/initramfs/fsck.log";
/// Larger logs are not read completely, in bytes.
const MAX_LOG: u64 = 256 << 10;
/// Further messages of a check are counted.
const SHOWN: usize = 3;

const BEFORE: &str = "The file system is checked at the next start, before it is mounted: its own check can change or set aside damaged files \
    (in lost+found), and can stop at a console prompt where a person must decide.";
const FIRST: &str = "Users' files first: `veritum rescue --to DIR` copies them to another disk.";

/// What is known about the check of a file system at the next start.
enum Prospect {
    /// It is checked anyway.
    Due(&'static str),
    /// It can be arranged.
    Arrange(Box<CountsChange>),
    /// It cannot, and what else to do.
    Not(String, Action),
}

/// Plans what `repair` does about a mounted file system whose findings begin at `from`, and adds what is known about its check.
pub(super) fn plan(cx: &Cx<'_>, volume: &Volume, from: usize, examined: &mut Examined) {
    let answered = |finding: &Finding| {
        matches!(
            finding.verdict,
            Verdict::ErrorsRecorded
                | Verdict::Unreadable
                | Verdict::Corrupt
                | Verdict::Inconsistent
                | Verdict::Truncated
        )
    };
    let found = match cx.system.ext4_at(&volume.place) {
        Ok(found) => found,
        Err(why) => {
            let open: Vec<Finding> =
                examined.findings[from..].iter().filter(|f| f.verdict.is_problem()).cloned().collect();
            let reason = |finding: &Finding| match answered(finding) {
                true => format!("a check at the next start cannot be arranged: {why}"),
                false => NOT_OURS.to_owned(),
            };
            examined.left.extend(open.iter().map(|f| Left::new(f, reason(f), f.action.clone())));
            return;
        }
    };
    // What arranged an earlier check is set back before another is arranged.
    let mut found = found;
    let result = result_of_earlier(cx, volume, &found);
    if let Some((finding, step, counts)) = &result {
        let words = finding.cause.as_deref().unwrap_or_default();
        examined.note_extent(format!("{} was {words} (`veritum repair volumes` sets it back)", volume.place));
        examined.findings.push(finding.clone());
        examined.steps.push(step.clone());
        found.superblock.counts = *counts;
    }
    let prospect = prospect(cx.system, volume, &found);
    let damaged: Vec<usize> = (from..examined.findings.len()).filter(|at| answered(&examined.findings[*at])).collect();
    match prospect {
        Prospect::Arrange(change) if cx.scope.checks_at_start || !damaged.is_empty() => {
            let remedy = Some(Remedy { action: ActionKind::ArrangeCheck, from: None, download: None });
            let ids = damaged.iter().map(|at| {
                let finding = &mut examined.findings[*at];
                finding.remedy.clone_from(&remedy);
                finding.id.clone()
            });
            let shows = vec![on(ActionKind::ArrangeCheck, &volume.place, ids.collect())];
            let work = Work::Change(ToolChange::MountCounts(*change));
            examined.steps.push(Step::new(shows, work).remarked(BEFORE).remarked(FIRST));
        }
        Prospect::Due(why) => leave(examined, &damaged, why, &restart()),
        Prospect::Not(why, action) => {
            if cx.scope.checks_at_start && damaged.is_empty() {
                examined.leave_out(format!("{}: a check at the next start cannot be arranged: {why}", volume.place));
            }
            leave(examined, &damaged, &why, &action);
        }
        Prospect::Arrange(_) => {}
    }
    for at in from..examined.findings.len() {
        let finding = &examined.findings[at];
        if finding.verdict.is_problem() && !answered(finding) {
            examined.left.push(Left::new(finding, NOT_OURS.into(), finding.action.clone()));
        }
    }
    if found.superblock.counts.is_due() {
        let cause = "it is checked at the next start, before it is mounted".to_owned();
        let note = Finding::on_path(VOLUMES, &volume.place, Verdict::CheckArranged);
        examined.findings.push(Finding { cause: Some(cause), ..note });
    }
}

/// Why other problems of a file system are left.
const NOT_OURS: &str = "Veritum does not do this by itself";

fn leave(examined: &mut Examined, which: &[usize], why: &str, action: &Action) {
    for at in which {
        let left = Left::new(&examined.findings[*at], why.to_owned(), Some(action.clone()));
        examined.left.push(left);
    }
}

fn restart() -> Action {
    "copy the users' files to another disk first (veritum rescue --to DIR), then restart the machine".into()
}

fn on(kind: ActionKind, place: &SystemPath, findings: Vec<FindingId>) -> ActionReport {
    ActionReport { path: Some(place.clone()), ..ActionReport::on(kind, Subject::path(place), findings) }
}

fn prospect(system: &System, volume: &Volume, found: &MountedExt4) -> Prospect {
    let superblock = &found.superblock;
    if volume.checked_at_start != Some(true) {
        let why = "fstab says that it is not checked at a start (the sixth field of its line)".to_owned();
        let there = "unmount it, or start a rescue system; then let its own check correct it";
        return Prospect::Not(why, Action::explained(there, "veritum repair volumes --disk DEVICE"));
    }
    if superblock.marked {
        return Prospect::Due("it is marked with errors, so that it is checked at the next start anyway");
    }
    if superblock.counts.is_due() {
        return Prospect::Due("its check at the next start is arranged");
    }
    let why = match (rustix::process::geteuid().is_root(), tool("tune2fs")) {
        (false, _) => "only root can arrange it",
        (true, None) => "tune2fs (package e2fsprogs) is not installed",
        (true, Some(_)) => {
            return Prospect::Arrange(Box::new(counts_to(&volume.place, superblock, DUE)));
        }
    };
    let by_hand = match system.machine.is_live() {
        true => {
            "at the next start press e in the start menu and add fsck.mode=force to the line that begins with linux"
        }
        false => "in its start menu press e and add fsck.mode=force to the line that begins with linux",
    };
    Prospect::Not(why.to_owned(), by_hand.into())
}

fn counts_to(place: &SystemPath, superblock: &Superblock, after: MountCounts) -> CountsChange {
    let (place, uuid) = (place.clone(), superblock.uuid.clone());
    CountsChange { place, uuid, before: superblock.counts, after, last_check: superblock.last_check, found: None }
}

/// The result of a check that was arranged and has taken place, with the step that sets its maximum back, and the counts after that.
fn result_of_earlier(cx: &Cx<'_>, volume: &Volume, found: &MountedExt4) -> Option<(Finding, Step, MountCounts)> {
    let superblock = &found.superblock;
    let (number, arranged) = arranged(cx.system, volume, superblock)?;
    let is_set = superblock.counts.maximum == arranged.after.maximum;
    if !is_set || superblock.last_check == arranged.last_check {
        return None;
    }
    let log = if cx.system.machine.is_live() { log_of(cx.system, found) } else { None };
    let words = in_words(log.as_ref(), superblock);
    let back = arranged.inverse(superblock.counts, superblock.last_check)?;
    let counts = back.after;
    let back = ToolChange::MountCounts(CountsChange { found: Some(words.clone()), ..back });
    let at =
        jiff::Timestamp::from_second(superblock.last_check).map(|at| at.strftime("%Y-%m-%d %H:%M UTC").to_string());
    let cause = format!(
        "checked on {}, as change {number} arranged: {words}; the maximum of {} mounts is still set",
        at.unwrap_or_default(),
        superblock.counts.maximum,
    );
    let remedy = Some(Remedy { action: ActionKind::RestoreCounts, from: None, download: None });
    let finding =
        Finding { cause: Some(cause), remedy, ..Finding::on_path(VOLUMES, &volume.place, Verdict::CheckedAtStart) };
    let shows = vec![on(ActionKind::RestoreCounts, &volume.place, vec![finding.id.clone()])];
    Some((finding, Step::new(shows, Work::Change(back)), counts))
}

/// The latest change that arranged a check of a file system and was not undone.
fn arranged(system: &System, volume: &Volume, superblock: &Superblock) -> Option<(u64, CountsChange)> {
    let state = system.readable_state().ok()??;
    let overview = state.overview().ok()?;
    let of_volumes = overview.changes.iter().rev().filter(|change| change.area == VOLUMES && change.beside);
    let mut standing = None;
    for change in of_volumes {
        let log = state.change(change.change).ok()??;
        for tool in log.tools().into_iter().rev() {
            let ToolChange::MountCounts(counts) = tool.changes else { continue };
            let is_it = counts.after.is_due() && counts.place == volume.place && counts.uuid == superblock.uuid;
            if !is_it {
                continue;
            }
            let standings = standing.get_or_insert_with(|| standings(&state, &overview.changes).unwrap_or_default());
            return match standings.get(change.change, tool.key) {
                None | Some(Standing::Stands(_)) => Some((change.change, counts)),
                Some(Standing::Reverted(_)) => None,
            };
        }
    }
    None
}

/// What the check at the start printed about a file system of the running machine.
fn log_of(system: &System, found: &MountedExt4) -> Option<StartCheck> {
    let device = found.device.to_string_lossy();
    let label = found.superblock.label.as_str();
    let names: Vec<&str> = [&*device, label].into_iter().filter(|name| !name.is_empty()).collect();
    let early = system.end_of(&SystemPath::literal(EARLY_LOG), MAX_LOG);
    let mut check = StartCheck::parse(&String::from_utf8_lossy(&early), &names)
        .or_else(|| StartCheck::parse(&journal_of_checks().ok()?.said, &names))?;
    name_files(&found.device, &mut check.messages);
    Some(check)
}

/// Adds the paths of files that a check names by their inodes.
fn name_files(device: &Path, messages: &mut [String]) {
    let inodes: HashSet<u32> = messages.iter().take(SHOWN).filter_map(|message| inode_in(message)).collect();
    let Ok(device) = Device::open(device) else { return };
    let window = Window::new(&device, 0, device.size());
    let Ok(fs) = FileSystem::open(&window) else { return };
    let paths = if inodes.is_empty() { Paths::default() } else { Paths::find(&fs, &inodes) };
    for message in messages.iter_mut().take(SHOWN) {
        let path = inode_in(message).and_then(|inode| paths.of(inode).into_iter().next());
        if let Some(path) = path {
            *message = format!("{} ({message})", readable(&path));
        }
    }
}

/// The inode that a message is about.
fn inode_in(message: &str) -> Option<u32> {
    let mut words =
        message.split(|c: char| !c.is_ascii_alphanumeric()).skip_while(|word| !word.eq_ignore_ascii_case("inode"));
    words.nth(1)?.parse().ok()
}

/// What was found, in words.
fn in_words(check: Option<&StartCheck>, superblock: &Superblock) -> String {
    let Some(check) = check else {
        return match superblock.marked {
            true => "it is still marked with errors; what was found is not known here".to_owned(),
            false => "it is not marked with errors; what was corrected is not known here".to_owned(),
        };
    };
    let shown: Vec<&str> = check.messages.iter().take(SHOWN).map(String::as_str).collect();
    let more = check.messages.len() - shown.len();
    let more = if more == 0 { String::new() } else { format!(", and {more} more messages") };
    match (shown.is_empty(), check.gave_up) {
        (true, false) => "no damage was found".to_owned(),
        (true, true) => "it ended because a person has to decide".to_owned(),
        (false, false) => format!("it corrected: {}{more}", shown.join(" ")),
        (false, true) => format!("it ended because a person has to decide: {}{more}", shown.join(" ")),
    }
}
