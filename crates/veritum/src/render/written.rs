//! What is written to disks, exactly: the bytes, where they come from, and lines of files as they are and as they become.

use veritum_core::model::{ActionResult, quoted};
use veritum_core::report::{ActionReport, LineReport, RangeReport, VariableReport, WrittenReport};

use super::style::{Label, paint};
use super::{size, subject};

/// Further ranges of one part are counted.
const SHOWN: usize = 3;
/// A name on a disk begins with the disk's own.
const SEPARATOR: &str = ": ";

/// The parts that are written, each with its bytes and its source; all ranges on request.
pub(crate) fn describe(actions: &[ActionReport], all: bool) -> String {
    let mut text = String::new();
    for action in actions {
        let Some(written) = &action.written else { continue };
        text.push_str(&format!("  {}\n", paint(Label::Heading, &subject(&action.subject))));
        if !written.ranges.is_empty() {
            let words = ranges(written, all);
            let on = on_disk(action, written);
            text.push_str(&format!("      {words}{on}\n"));
        }
        for variable in &written.variables {
            let VariableReport { name, from, to } = variable;
            let becomes = paint(Label::Heading, to);
            text.push_str(&format!("      {name} is:\n          {from}\n      and becomes:\n          {becomes}\n"));
        }
        text.push_str(&format!("      from {}\n", written.source));
        for line in &written.lines {
            text.push_str(&difference(line));
        }
        if let (ActionResult::Failed, Some(why)) = (action.result, &action.why) {
            text.push_str(&format!("      {}\n", paint(Label::Problem, why)));
        }
    }
    text
}

/// The disk, where the name of the part does not say it.
fn on_disk(action: &ActionReport, written: &WrittenReport) -> String {
    let disk = written.ranges.first().map_or("", |range| &range.disk);
    let name = subject(&action.subject);
    let is_told = name.split(SEPARATOR).next().is_some_and(|first| first.starts_with(disk));
    if is_told { String::new() } else { format!(" of {disk}") }
}

/// `bytes 512 to 1023, 67108352 to 67108863 (1.0 KiB)`.
fn ranges(written: &WrittenReport, all: bool) -> String {
    let most = if all || written.ranges.len() == SHOWN + 1 { usize::MAX } else { SHOWN };
    let word = |range: &RangeReport| format!("{} to {}", range.from, range.to - 1);
    let mut words: Vec<String> = written.ranges.iter().take(most).map(word).collect();
    if written.ranges.len() > most {
        words.push(format!("{} more (--all)", written.ranges.len() - most));
    }
    let bytes = written.ranges.iter().map(|range| range.to - range.from).sum();
    format!("bytes {} ({})", words.join(", "), size(bytes))
}

/// A line as it is and as it becomes: whole, as the difference can be anywhere.
fn difference(line: &LineReport) -> String {
    let (path, number) = (quoted(line.path.as_bytes()), line.line);
    let becomes = paint(Label::Heading, &line.to);
    format!("      {path} line {number} is:\n          {}\n      and becomes:\n          {becomes}\n", line.from)
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn many_ranges_are_counted_and_all_are_listed_on_request() {
        let range = |at: u64| RangeReport { disk: "sda".into(), from: at * 1024, to: at * 1024 + 512 };
        let written = |count| WrittenReport {
            source: "x".into(),
            ranges: (0..count).map(range).collect(),
            ..WrittenReport::default()
        };
        assert_eq!(ranges(&written(2), false), "bytes 0 to 511, 1024 to 1535 (1.0 KiB)");
        assert_eq!(ranges(&written(4), false).matches(" to ").count(), 4);
        assert!(ranges(&written(9), false).ends_with("2048 to 2559, 6 more (--all) (4.5 KiB)"));
        assert_eq!(ranges(&written(9), true).matches(" to ").count(), 9);
    }
}
