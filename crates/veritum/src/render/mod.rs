//! Results as text for people: the answer first, then the evidence, last the next command.

pub(crate) mod apps;
pub(crate) mod check;
pub(crate) mod disks;
pub(crate) mod explain;
mod findings;
pub(crate) mod layout;
pub(crate) mod list;
pub(crate) mod proof;
pub(crate) mod repair;
pub(crate) mod rescue;
pub(crate) mod rescue_back;
pub(crate) mod reset;
pub(crate) mod returned;
pub(crate) mod running;
pub(crate) mod savepoints;
pub(crate) mod starts;
pub(crate) mod status;
pub(crate) mod store;
pub(crate) mod style;
pub(crate) mod undo;
pub(crate) mod updates;
pub(crate) mod written;

use veritum_core::model::{Action, Subject, quoted};
use veritum_core::report::ActionReport;

use self::style::Label;

use crate::context::Context;

/// A number with its noun.
pub(crate) fn count(n: u64, one: &str, many: &str) -> String {
    format!("{} {}", grouped(n), if n == 1 { one } else { many })
}

/// The number of entries that actions concern; folders that are moved as one are counted apart.
pub(crate) fn entries<'a>(actions: impl Iterator<Item = &'a ActionReport>) -> String {
    let (mut files, mut folders) = (0, 0);
    for action in actions {
        *(if action.folder { &mut folders } else { &mut files }) += action.things;
    }
    let (files_words, folders_words) = (count(files, "file", "files"), count(folders, "folder", "folders"));
    match (files, folders) {
        (_, 0) => files_words,
        (0, _) => folders_words,
        _ => format!("{files_words} and {folders_words}"),
    }
}

/// A number with thousands separators.
pub(crate) fn grouped(n: u64) -> String {
    let digits = n.to_string();
    let mut text = String::new();
    for (at, digit) in digits.chars().enumerate() {
        if at > 0 && (digits.len() - at).is_multiple_of(3) {
            text.push(',');
        }
        text.push(digit);
    }
    text
}

/// Bytes in KiB, MiB or GiB.
#[expect(clippy::cast_precision_loss, reason = "shown with one digit")]
pub(crate) fn size(bytes: u64) -> String {
    let steps = [(1u64 << 30, "GiB"), (1 << 20, "MiB"), (1 << 10, "KiB")];
    match steps.iter().find(|(step, _)| bytes >= *step) {
        Some((step, unit)) => format!("{:.1} {unit}", bytes as f64 / *step as f64),
        None => count(bytes, "byte", "bytes"),
    }
}

/// A time of JSON (RFC 3339 in UTC) as local time with its zone.
pub(crate) fn local(utc: &str) -> String {
    match utc.parse::<jiff::Timestamp>() {
        Ok(time) => time.to_zoned(jiff::tz::TimeZone::system()).strftime("%Y-%m-%d %H:%M %Z").to_string(),
        Err(_) => utc.to_owned(),
    }
}

/// The last lines: the commands to type next; empty if nothing is left to do.
pub(crate) fn next(context: &Context, commands: &[(String, &str)]) -> String {
    let rows: Vec<Vec<layout::Cell>> = commands
        .iter()
        .enumerate()
        .map(|(at, (command, why))| {
            let head = layout::labelled(Label::Heading, if at == 0 { "Next:" } else { "" });
            let command = layout::labelled(Label::Command, command.clone());
            // A command is pasted: it is never shortened, and its description gives way to it.
            match context.width.is_below(command.width() + why.len() + 12) {
                true => vec![head, command],
                false => vec![head, command, layout::cell(*why)],
            }
        })
        .collect();
    layout::lines("", &rows)
}

/// What a person should do; its command is pasted, so it has a line of its own, unbroken.
pub(crate) fn instruction(context: &Context, head: &str, action: &Action) -> String {
    let action = context.completed(action.clone());
    let said = action.text.as_ref().map(|text| layout::headline(Label::Heading, head, text, context.width));
    let typed = action.command.as_ref().map(|command| {
        let head = if said.is_some() { "  ->" } else { head };
        layout::table(
            "",
            &[vec![layout::labelled(Label::Heading, head), layout::labelled(Label::Command, command)]],
            context.width,
        )
    });
    said.into_iter().chain(typed).collect()
}

/// The time since a moment, in the largest unit.
pub(crate) fn ago(at: &str, now: jiff::Timestamp) -> String {
    let Ok(at) = at.parse::<jiff::Timestamp>() else { return "at an unknown time".into() };
    let seconds = u64::try_from(now.as_second() - at.as_second()).unwrap_or(0);
    let units = [(86_400, "day", "days"), (3_600, "hour", "hours"), (60, "minute", "minutes")];
    match units.into_iter().find(|(length, ..)| seconds >= *length) {
        Some((length, one, many)) => format!("{} ago", count(seconds / length, one, many)),
        None => "just now".into(),
    }
}

/// Longer names are shortened for people; JSON has them complete.
const LONG_NAME: usize = 44;

/// A subject for people.
pub(crate) fn subject(subject: &Subject) -> String {
    match (subject.as_path(), subject.name()) {
        (Some(path), _) if matches!(subject, Subject::Record { entry: Some(_), .. }) => {
            let Subject::Record { entry, .. } = subject else { return quoted(path.as_bytes()) };
            format!("{} ({})", quoted(path.as_bytes()), plain(entry.as_deref().unwrap_or_default()))
        }
        (Some(path), _) => quoted(path.as_bytes()),
        (None, Some(name)) if name.chars().count() > LONG_NAME && matches!(subject, Subject::Object { .. }) => {
            format!("{}…", plain(&name.chars().take(LONG_NAME / 2).collect::<String>()))
        }
        (None, name) => plain(name.unwrap_or_default()),
    }
}

/// Foreign text to read, not to type: unchanged if it has only printable ASCII characters, else quoted.
pub(crate) fn plain(text: &str) -> String {
    let is_plain = text.chars().all(|c| c == ' ' || c.is_ascii_graphic());
    if is_plain { text.to_owned() } else { quoted(text.as_bytes()) }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn numbers_and_sizes_read_well() {
        assert_eq!(count(1, "problem", "problems"), "1 problem");
        assert_eq!(count(77359, "file", "files"), "77,359 files");
        assert_eq!(size(0), "0 bytes");
        assert_eq!(size(1536), "1.5 KiB");
        assert_eq!(size(3_760_000_000), "3.5 GiB");
    }

    #[test]
    fn an_age_is_told_in_its_largest_unit() {
        let now = "2026-03-04T12:00:00Z".parse().unwrap();
        let told = |at: &str| ago(at, now);
        assert_eq!(told("2026-03-04T11:59:30Z"), "just now");
        assert_eq!(told("2026-03-04T11:58:00Z"), "2 minutes ago");
        assert_eq!(told("2026-03-04T10:59:00Z"), "1 hour ago");
        assert_eq!(told("2026-02-01T12:00:00Z"), "31 days ago");
        assert_eq!(told("2027-01-01T00:00:00Z"), "just now", "a clock that was set back");
        assert_eq!(told("never"), "at an unknown time");
    }

    #[test]
    fn foreign_text_cannot_write_on_the_terminal() {
        assert_eq!(plain("http://a.example/ stable"), "http://a.example/ stable");
        assert_eq!(plain("a\u{1b}[2Jb"), r"$'a\x1b[2Jb'");
    }
}
