//! `/var/log/apt/history.log`: a paragraph for each run of apt, with the command and the result.

use crate::formats::deb822::{Paragraph, paragraphs};
use crate::platform::{LogEntry, LogKind, Run};

/// Further packages of one run are not read.
const MAX_ITEMS: usize = 20_000;
/// Longer texts (a command, a reason) are cut.
const MAX_WORDS: usize = 400;
/// The meaning of each field.
const FIELDS: [(&str, LogKind); 6] = [
    ("Install", LogKind::Installed),
    ("Reinstall", LogKind::Installed),
    ("Upgrade", LogKind::Updated),
    ("Downgrade", LogKind::Updated),
    ("Remove", LogKind::Removed),
    ("Purge", LogKind::Removed),
];

/// The runs of a log, in its order; paragraphs that are not runs are skipped.
#[must_use]
pub fn runs(text: &[u8]) -> Vec<Run> {
    let text = String::from_utf8_lossy(text);
    paragraphs(&text).filter_map(|paragraph| run(&paragraph)).collect()
}

fn run(paragraph: &Paragraph<'_>) -> Option<Run> {
    let began = moment(paragraph.get("Start-Date")?)?;
    let mut entries = Vec::new();
    for (field, what) in FIELDS {
        let items = paragraph.get(field).into_iter().flat_map(|value| value.split("), "));
        let room = MAX_ITEMS.saturating_sub(entries.len());
        entries.extend(items.filter_map(|item| entry(item, what, &began)).take(room));
    }
    Some(Run {
        ended: paragraph.get("End-Date").and_then(moment),
        command: paragraph.get("Commandline").and_then(printable),
        by: paragraph.get("Requested-By").and_then(|by| printable(by.split(" (").next().unwrap_or_default())),
        failed: paragraph.get("Error").and_then(printable),
        entries,
        began,
    })
}

/// `2026-03-02  14:10:03`, with one space.
fn moment(text: &str) -> Option<String> {
    let text = text.split_ascii_whitespace().collect::<Vec<_>>().join(" ");
    text.parse::<jiff::civil::DateTime>().ok().map(|_| text)
}

fn printable(text: &str) -> Option<String> {
    let text: String = text.chars().filter(|c| !c.is_control()).take(MAX_WORDS).collect();
    (!text.is_empty()).then_some(text)
}

/// `name:arch (version)`, `name:arch (version, automatic)` or `name:arch (before, after)`.
fn entry(item: &str, what: LogKind, at: &str) -> Option<LogEntry> {
    let (package, versions) = item.trim().split_once(" (")?;
    let (name, arch) = package.split_once(':').unwrap_or((package, ""));
    let mut versions = versions.trim_end_matches(')').split(", ");
    let (first, second) = (versions.next()?, versions.next());
    let plain = |text: &str| !text.is_empty() && text.bytes().all(|b| b.is_ascii_graphic());
    if ![name, first].into_iter().chain(second).all(plain) || !arch.bytes().all(|b| b.is_ascii_graphic()) {
        return None;
    }
    let own = |text: &str| Some(text.to_owned());
    let (from, to) = match what {
        LogKind::Installed => (None, own(first)),
        LogKind::Updated => (own(first), own(second?)),
        LogKind::Removed => (own(first), None),
    };
    Some(LogEntry { at: at.to_owned(), what, name: name.to_owned(), arch: arch.to_owned(), from, to })
}

#[cfg(test)]
mod tests {
    use proptest::prelude::*;

    use super::*;

    const LOG: &str = "\n\
        Start-Date: 2026-03-02  14:10:03\n\
        Commandline: apt-get upgrade\n\
        Requested-By: mirela (1000)\n\
        Install: rig:amd64 (3.0, automatic), pier:all (2.0)\n\
        Upgrade: quay:amd64 (1:1.0, 1:1.1), lamp:amd64 (4, 5)\n\
        Remove: hook:i386 (7)\n\
        Error: Sub-process /usr/bin/dpkg returned an error code (1)\n\
        End-Date: 2026-03-02  14:10:20\n\n\
        Start-Date: 2026-03-03  9:00\n\n\
        Start-Date: 2026-03-04  09:00:00\n\
        Upgrade: quay:amd64 (1:1.1, ";

    #[test]
    fn a_run_tells_who_asked_for_what_and_what_came_of_it() {
        let all = runs(LOG.as_bytes());
        assert_eq!(
            all.iter().map(|r| r.began.as_str()).collect::<Vec<_>>(),
            ["2026-03-02 14:10:03", "2026-03-04 09:00:00"]
        );
        let run = &all[0];
        assert_eq!(
            (run.ended.as_deref(), run.command.as_deref(), run.by.as_deref()),
            (Some("2026-03-02 14:10:20"), Some("apt-get upgrade"), Some("mirela"))
        );
        assert!(run.failed.as_deref().is_some_and(|why| why.contains("error code")));
        let told: Vec<String> =
            run.entries.iter().map(|h| format!("{:?} {}:{} {:?} {:?}", h.what, h.name, h.arch, h.from, h.to)).collect();
        assert_eq!(
            told,
            [
                r#"Installed rig:amd64 None Some("3.0")"#,
                r#"Installed pier:all None Some("2.0")"#,
                r#"Updated quay:amd64 Some("1:1.0") Some("1:1.1")"#,
                r#"Updated lamp:amd64 Some("4") Some("5")"#,
                r#"Removed hook:i386 Some("7") None"#,
            ]
        );
        assert!(all[1].entries.is_empty() && all[1].ended.is_none(), "a log that breaks off");
    }

    proptest! {
        #[test]
        fn any_bytes_are_a_log_and_bring_no_control_characters(bytes: Vec<u8>, tail in "[ -~\\x1b]{0,60}") {
            let _ = runs(&bytes);
            let text = format!("Start-Date: 2026-03-02  14:10:03\nCommandline: {tail}\nInstall: {tail}\n");
            for run in runs(text.as_bytes()) {
                let names = run.entries.iter().map(|h| h.name.as_str()).chain(run.command.as_deref());
                prop_assert!(names.flat_map(str::chars).all(|c| !c.is_control()));
            }
        }
    }
}
