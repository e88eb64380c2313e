//! What `repair updates` prints beside the rest: what stays, and the proof that updates come.

use veritum_core::model::{ActionKind, Finding, Subject};
use veritum_core::report::{ActionReport, CheckReport, ProofOutcome, ProofReport, ProvedSource};

use super::style::{Label, paint};
use super::table::{cell, labelled, lines};
use super::{count, local, plain, size, subject};
use veritum_core::areas::UPDATES;

/// Whether a check looked at nothing but updates.
pub(crate) fn is_only_updates(check: &CheckReport) -> bool {
    !check.areas.is_empty() && check.areas.iter().all(|area| area.area == UPDATES)
}

/// What would be done, a line each.
pub(crate) fn action_lines(actions: &[ActionReport], findings: &[Finding], most: usize) -> String {
    let row = |action: &ActionReport| {
        let verdict = findings.iter().find(|f| action.findings.contains(&f.id)).map(|f| f.verdict.word());
        let amount = match &action.subject {
            Subject::Source { .. } if action.bytes == 0 => count(action.things, "file", "files"),
            Subject::Source { .. } => {
                format!("{}, {} to fetch", count(action.things, "file", "files"), size(action.bytes))
            }
            _ if action.bytes > 0 => size(action.bytes),
            _ => String::new(),
        };
        let told = [verdict.map(str::to_owned), (!amount.is_empty()).then_some(amount)];
        let told: Vec<String> = told.into_iter().flatten().collect();
        vec![cell(action.action.label()), cell(subject(&action.subject)), labelled(Label::Remark, told.join("; "))]
    };
    let rows: Vec<_> = actions.iter().take(most).map(row).collect();
    lines("  ", &rows)
}

/// What is said of services that are in the way.
pub(crate) fn hold_words(actions: &[ActionReport]) -> String {
    format!(
        "{} is fetching updates and holds a lock that is needed:\n{}\nIt is stopped for the time of the repair and started again after it. If that is cut short, `veritum recover` does so, and at \
the latest the next start of the machine.\n",
        paint(Label::Heading, "A service"),
        action_lines(actions, &[], usize::MAX)
    )
}

/// What is said of installations that were begun.
pub(crate) fn finish_words(actions: &[ActionReport], findings: &[Finding]) -> String {
    format!(
        "{} would finish what was begun:\n{}\nIt runs the components' own scripts, with root's rights. Settings files that were edited stay as they are. What it does cannot be \
taken back from here.\n",
        paint(Label::Heading, "The package tool"),
        action_lines(actions, findings, usize::MAX)
    )
}

/// What is said before the question, after the list of what would be done.
pub(crate) fn stay_words(stay: Option<(u64, u64)>, actions: &[ActionReport]) -> String {
    let stays = match stay {
        None | Some((0, _)) => String::new(),
        Some((n, bytes)) => format!(
            "{} {}, {}.\n",
            paint(Label::Heading, "Stays:"),
            count(n, "download that is right", "downloads that are right"),
            size(bytes)
        ),
    };
    let lists = actions.iter().filter(|a| a.action == ActionKind::SetAside).filter_map(|a| a.path.as_ref());
    let bare = match lists.into_iter().any(|path| path.as_bytes().starts_with(b"/var/lib/apt/lists/")) {
        true => "Nothing takes the place of the lists that go aside: they come when lists are fetched again.\n",
        false => "",
    };
    let deleted = match actions.iter().any(|action| action.action == ActionKind::Free) {
        true => {
            "What is deleted makes room; it can be fetched again, and is the one thing that `undo` does not bring back.\n"
        }
        false => "",
    };
    format!(
        "\n{deleted}{bare}What goes aside is kept, and `veritum undo` brings it back. Then one small package is downloaded, to prove that updates come.\n{stays}{} what is installed, sources and settings, users' folders.\n",
        paint(Label::Heading, "Not touched:")
    )
}

/// What the proof came to.
pub(crate) fn proof_words(proof: &ProofReport) -> String {
    match proof.outcome {
        ProofOutcome::NotTried => format!(
            "{} that updates come: {}\n\n",
            paint(Label::Note, "Not proved"),
            proof.why.as_deref().unwrap_or("nothing was asked")
        ),
        ProofOutcome::Proved => {
            format!("{}\n{}{}{}\n", paint(Label::Good, "Updates come."), came(proof), waits(proof), strangers(proof))
        }
        ProofOutcome::Failed => {
            let mut text = format!("{}:\n", paint(Label::Bad, "Updates do not come yet"));
            let failed = proof.sources.iter().filter(|s| s.why.is_some() && !s.unknown_key);
            let package = proof.package.as_ref().map(|p| (p.component.to_string(), p.why.as_ref(), p.advice.as_ref()));
            let of_sources = failed.map(|s| (plain(&s.source), s.why.as_ref(), s.advice.as_ref()));
            let mut all: Vec<_> = of_sources.chain(package.filter(|(_, why, _)| why.is_some())).collect();
            if all.is_empty() {
                all = proof.sources.iter().map(|s| (plain(&s.source), s.why.as_ref(), s.advice.as_ref())).collect();
            }
            for (name, why, advice) in all {
                text.push_str(&format!("  {name}\n"));
                text.push_str(&why.map(|why| format!("      {}\n", plain(why))).unwrap_or_default());
                text.push_str(&advice.map(|a| format!("      {}\n", paint(Label::Remark, a))).unwrap_or_default());
            }
            let good = proof.sources.iter().filter(|s| s.why.is_none()).count() as u64;
            if good > 0 {
                text.push_str(&format!(
                    "  {} answered as it should be.\n",
                    count(good, "other archive", "other archives")
                ));
            }
            text + "\n"
        }
    }
}

fn came(proof: &ProofReport) -> String {
    let good: Vec<&ProvedSource> = proof.sources.iter().filter(|s| s.why.is_none()).collect();
    let newest = good.iter().filter_map(|s| s.made.as_ref()).max();
    let lists = count(good.len() as u64, "archive", "archives");
    let dated = newest.map(|at| format!(", the newest made {}", local(at))).unwrap_or_default();
    let package = match &proof.package {
        Some(p) => {
            let (name, version, bytes) = (&p.component.name, &p.component.version, size(p.bytes));
            format!("{name} {version} ({bytes}) came and is the one that was signed")
        }
        None => "no package of theirs is installed or waits".into(),
    };
    format!("  {lists} gave lists that count as new{dated}\n  {package}\n")
}

/// Archives that only the machine knows.
fn strangers(proof: &ProofReport) -> String {
    let named: Vec<String> = proof.sources.iter().filter(|s| s.unknown_key).map(|s| plain(&s.source)).collect();
    match named.is_empty() {
        true => String::new(),
        false => format!("  not judged, since only this machine knows the key: {}\n", named.join(", ")),
    }
}

fn waits(proof: &ProofReport) -> String {
    let security = match (proof.updates, proof.security) {
        (_, 0) => String::new(),
        (updates, security) if updates == security => ", for security".into(),
        (_, security) => format!(", {security} of them for security"),
    };
    match proof.updates {
        0 => "  nothing waits to be installed\n".into(),
        n => {
            let verb = if n == 1 { "waits" } else { "wait" };
            format!("  {} {verb} to be installed{security} ({})\n", count(n, "update", "updates"), size(proof.bytes))
        }
    }
}
