//! The last run of the package tools, by their own logs, in plain words.

use super::{ExaminedPart, at_path};
use crate::model::{Action, SystemPath, Verdict};
use crate::platform::Run;

/// apt's log of commands and their results.
const HISTORY: &str = "/var/log/apt/history.log";
/// apt's log of the package tool's output.
pub(crate) const TERM: &str = "/var/log/apt/term.log";
/// The number of bytes that are read from its end.
pub(crate) const TERM_TAIL: u64 = 256 << 10;
/// The number of packages whose errors are reported; the rest is counted.
const TOLD: usize = 3;
/// Longer reasons are cut.
const MAX_WORDS: usize = 200;

/// Reports the latest run if it failed or was interrupted; `runs` are newest first, `term` is the end of the output.
pub(crate) fn history(runs: &[Run], term: &[u8]) -> ExaminedPart {
    let mut part = ExaminedPart::default();
    part.examined += u64::from(!runs.is_empty());
    let Some(run) = runs.first() else { return part };
    let command = run.command.as_ref().map(|c| format!(" ({c})")).unwrap_or_default();
    let cause = match (&run.failed, &run.ended) {
        (Some(error), _) => {
            let errors = said(term);
            let more = errors.len().saturating_sub(TOLD);
            let told: Vec<String> = errors.into_iter().take(TOLD).collect();
            let rest = if more > 0 { format!("; and {more} more") } else { String::new() };
            let why = if told.is_empty() { in_words(error) } else { told.join("; ") + &rest };
            format!("the last package run of {}{command} failed: {why}", run.began)
        }
        (None, None) => format!(
            "the last package run of {}{command} did not finish: it was interrupted or is still running",
            run.began
        ),
        (None, Some(_)) => return part,
    };
    let advice =
        Action::explained("finish interrupted installations, then run the same update again", "veritum repair updates");
    part.add(at_path(&SystemPath::literal(HISTORY), Verdict::LastRunFailed, &cause, Some(advice)));
    part
}

/// The local time of the last installation or update without an error.
pub(crate) fn last_success(runs: &[Run]) -> Option<&str> {
    let fine = |run: &&Run| run.failed.is_none() && run.ended.is_some() && !run.entries.is_empty();
    runs.iter().find(fine).map(|run| run.began.as_str())
}

/// apt's reason for a failed run.
fn in_words(error: &str) -> String {
    let known = [
        ("segmentation fault", "dpkg crashed; test memory and disk"),
        ("returned an error code", "dpkg or a package's script failed"),
        ("exited unexpectedly", "dpkg was killed"),
        ("No space left", "the disk was full"),
    ];
    match known.iter().find(|(sign, _)| error.contains(sign)) {
        Some((_, words)) => (*words).to_owned(),
        None => plain(error),
    }
}

fn plain(text: &str) -> String {
    text.chars().filter(|c| !c.is_control()).take(MAX_WORDS).collect::<String>().trim().to_owned()
}

/// Packages with an error in the last run, each with the reason in plain words.
fn said(term: &[u8]) -> Vec<String> {
    let text = String::from_utf8_lossy(term);
    let last = text.rfind("Log started:").map_or(&text[..], |at| &text[at..]);
    let mut lines = last.lines();
    let mut all: Vec<String> = Vec::new();
    while let Some(line) = lines.next() {
        let Some(rest) = line.strip_prefix("dpkg: error processing ") else { continue };
        let what = rest.strip_prefix("package ").or_else(|| rest.strip_prefix("archive ")).unwrap_or(rest);
        let name = plain(what.split(" (").next().unwrap_or_default().trim_end_matches(':'));
        let reason = reason(lines.next().unwrap_or_default());
        let told = format!("{name}: {reason}");
        if !all.contains(&told) && all.len() < 100 {
            all.push(told);
        }
    }
    all
}

/// dpkg's reason, in plain words if it is a common one.
fn reason(line: &str) -> String {
    let script = ["pre-installation", "post-installation", "pre-removal", "post-removal"];
    if let Some(which) = script.iter().find(|which| line.contains(&format!("{which} script"))) {
        return format!("its {which} script failed");
    }
    let known = [
        ("No space left on device", "the disk was full"),
        ("dependency problems", "its dependencies are not configured"),
        ("trying to overwrite", "one of its files belongs to another package"),
        ("cannot access archive", "its .deb file is missing"),
        ("unexpected end of file", "its .deb file is truncated"),
        ("lzma error", "its .deb file is damaged"),
        ("decompress", "its .deb file is damaged"),
        ("Read-only file system", "the file system is read-only"),
        ("Input/output error", "the disk reported an error"),
    ];
    match known.iter().find(|(sign, _)| line.contains(sign)) {
        Some((_, words)) => (*words).to_owned(),
        None => plain(line),
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn run(failed: Option<&str>, ended: bool) -> Run {
        Run {
            began: "2026-03-02 17:42:00".into(),
            ended: ended.then(|| "2026-03-02 17:43:00".into()),
            command: Some("apt-get upgrade".into()),
            failed: failed.map(str::to_owned),
            ..Run::default()
        }
    }

    fn told(runs: &[Run], term: &str) -> Option<String> {
        history(runs, term.as_bytes()).findings.pop().map(|f| f.cause.unwrap())
    }

    #[test]
    fn only_the_last_run_counts_and_its_failure_is_told_in_plain_words() {
        let error = "Sub-process /usr/bin/dpkg returned an error code (1)";
        let term = "Log started: 2026-03-01  10:00:00\ndpkg: error processing package old (--configure):\n x\n\
            Log started: 2026-03-02  17:42:00\n\
            dpkg: error processing package harbourcam (--configure):\n installed harbourcam package post-installation script subprocess returned error exit status 1\n\
            dpkg: error processing archive /var/cache/apt/archives/quay_1_amd64.deb (--unpack):\n cannot copy extracted data for './x': failed to write (No space left on device)\n";
        let words = told(&[run(Some(error), true), run(None, true)], term).unwrap();
        assert!(words.contains("harbourcam: its post-installation script failed"), "{words}");
        assert!(words.contains("quay_1_amd64.deb: the disk was full") && !words.contains("old"), "{words}");
        assert!(told(&[run(Some(error), true)], "").unwrap().ends_with("dpkg or a package's script failed"));
        assert!(told(&[run(None, false)], "").unwrap().contains("did not finish"));
        assert_eq!(told(&[run(None, true), run(Some(error), true)], term), None);
        assert_eq!(told(&[], ""), None);
    }

    proptest::proptest! {
        #[test]
        fn a_damaged_log_brings_no_control_characters(seed: u64) {
            let term = b"Log started: 2026-03-02  17:42:00\ndpkg: error processing package quay (--configure):\n installed quay \x1b[1m package post-installation script subprocess returned error exit status 1\n";
            let error = "Sub-process /usr/bin/dpkg returned an error code (1)";
            let found = history(&[run(Some(error), true)], &crate::testkit::mutated(term, seed)).findings;
            proptest::prop_assert_eq!(found.len(), 1, "that it failed stands in another log");
            let cause = found[0].cause.as_deref().unwrap();
            proptest::prop_assert!(!cause.chars().any(char::is_control), "{cause:?}");
        }
    }
}
