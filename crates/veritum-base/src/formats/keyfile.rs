//! [`KeyFile`]: groups of keys and values, one per line (Desktop Entry Specification 1.5, "Basic format of the file").

use std::collections::HashMap;

/// Larger files are refused: the longest entries, with a hundred languages, have a twentieth of it.
pub(crate) const MAX_BYTES: u64 = 1 << 20;
/// Files with more lines are refused.
const MAX_LINES: usize = 50_000;

/// Why bytes are not a key file: an error that stops a desktop.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
#[error("line {line}: {what}")]
pub struct KeyFileError {
    /// The line, counted from 1.
    pub line: usize,
    /// The error.
    pub what: &'static str,
}

/// The values of a file, by group and key. If a key occurs twice, the last value counts.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub struct KeyFile {
    groups: HashMap<String, HashMap<String, String>>,
}

impl KeyFile {
    /// Parses a file.
    ///
    /// # Errors
    /// The error, with its line.
    pub fn parse(bytes: &[u8]) -> Result<Self, KeyFileError> {
        let fault = |line: usize, what: &'static str| Err(KeyFileError { line, what });
        if bytes.len() as u64 > MAX_BYTES {
            return fault(1, "exceeds the size limit");
        }
        let mut file = Self::default();
        let mut group: Option<String> = None;
        for (at, line) in bytes.split(|byte| *byte == b'\n').enumerate() {
            let number = at + 1;
            if number > MAX_LINES {
                return fault(number, "too many lines");
            }
            if line.contains(&0) {
                return fault(number, "filled with zeros, as after a power cut");
            }
            let Ok(line) = std::str::from_utf8(line) else { return fault(number, "not text") };
            let line = line.trim_end_matches('\r').trim_start();
            if line.is_empty() || line.starts_with('#') {
                continue;
            }
            if let Some(name) = line.strip_prefix('[') {
                let Some(name) = name.trim_end().strip_suffix(']') else {
                    return fault(number, "unterminated group name");
                };
                if name.is_empty() || name.contains(['[', ']']) || name.chars().any(char::is_control) {
                    return fault(number, "invalid group name");
                }
                file.groups.entry(name.to_owned()).or_default();
                group = Some(name.to_owned());
                continue;
            }
            let Some((key, value)) = line.split_once('=') else {
                return fault(number, "neither a group, a key=value pair nor a comment");
            };
            let Some(group) = &group else { return fault(number, "a key before the first group") };
            let key = key.trim_end();
            if !is_key(key) {
                return fault(number, "invalid key");
            }
            file.groups.entry(group.clone()).or_default().insert(key.to_owned(), value.trim_start().to_owned());
        }
        Ok(file)
    }

    /// Whether a group exists.
    #[must_use]
    pub fn has(&self, group: &str) -> bool {
        self.groups.contains_key(group)
    }

    /// A value as written; `None` if the key does not exist.
    #[must_use]
    pub fn raw(&self, group: &str, key: &str) -> Option<&str> {
        self.groups.get(group)?.get(key).map(String::as_str)
    }

    /// A value of type `string`: escapes are decoded (`\s`, `
    /// `, `\t`, `\r`, `\\`); any other is kept.
    #[must_use]
    pub fn string(&self, group: &str, key: &str) -> Option<String> {
        self.raw(group, key).map(|raw| unescaped(raw, Value::One).0)
    }

    /// A key's values in all languages, in no particular order.
    #[must_use]
    pub fn translations(&self, group: &str, key: &str) -> Vec<String> {
        let values = self.groups.get(group).into_iter().flatten();
        let other = |name: &str| name.strip_prefix(key).is_some_and(|rest| rest.starts_with('['));
        let mut all: Vec<String> =
            values.filter(|(name, _)| other(name)).map(|(_, value)| unescaped(value, Value::One).0).collect();
        all.sort();
        all.dedup();
        all
    }

    /// A value of type `strings`: separated by `;`, where `\;` is not a separator.
    #[must_use]
    pub fn strings(&self, group: &str, key: &str) -> Vec<String> {
        let Some(mut rest) = self.raw(group, key) else { return Vec::new() };
        let mut all = Vec::new();
        while !rest.is_empty() {
            let (one, used) = unescaped(rest, Value::Several);
            rest = &rest[used..];
            all.extend(Some(one).filter(|one| !one.is_empty()));
        }
        all
    }

    /// A value of type `boolean`; `false` if the key does not exist.
    #[must_use]
    pub fn flag(&self, group: &str, key: &str) -> bool {
        self.raw(group, key).is_some_and(|value| value.trim_end() == "true")
    }
}

/// A key, with the language that it may contain: `Name[de_AT]`.
fn is_key(key: &str) -> bool {
    let (name, language) = match key.split_once('[') {
        Some((name, rest)) => (name, rest.strip_suffix(']')),
        None => (key, Some("C")),
    };
    // Entries have plain names; lists derived from entries have types of files (`text/csv`).
    let plain = |c: char| !c.is_control() && !c.is_whitespace() && c != ']';
    !name.is_empty() && name.chars().all(plain) && language.is_some_and(|l| !l.is_empty() && !l.contains(['[', ']']))
}

/// How a value is parsed.
#[derive(Clone, Copy, PartialEq, Eq)]
enum Value {
    One,
    /// Separated by `;`.
    Several,
}

/// The text up to the end or the next unescaped `;`, and its length in bytes.
fn unescaped(raw: &str, value: Value) -> (String, usize) {
    let mut text = String::with_capacity(raw.len());
    let mut letters = raw.char_indices();
    while let Some((at, letter)) = letters.next() {
        match letter {
            ';' if value == Value::Several => return (text, at + 1),
            '\\' => match letters.next().map(|(_, next)| next) {
                Some('s') => text.push(' '),
                Some('n') => text.push('\n'),
                Some('t') => text.push('\t'),
                Some('r') => text.push('\r'),
                Some(';') if value == Value::Several => text.push(';'),
                Some('\\') | None => text.push('\\'),
                Some(other) => text.extend(['\\', other]),
            },
            other => text.push(other),
        }
    }
    (text, raw.len())
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn groups_keys_and_languages_are_read() {
        let text = "# a remark\n\n[Desktop Entry]\nName = Berthbook\nName[de]=Liegebuch\r\nName=Again\n[Other]\nk=\n";
        let file = KeyFile::parse(text.as_bytes()).unwrap();
        assert_eq!(file.raw("Desktop Entry", "Name"), Some("Again"));
        assert_eq!(file.raw("Desktop Entry", "Name[de]"), Some("Liegebuch"));
        assert_eq!((file.has("Other"), file.raw("Other", "k"), file.raw("None", "k")), (true, Some(""), None));
    }

    #[test]
    fn what_a_desktop_would_stop_at_is_told_with_its_line() {
        for (text, line) in [
            ("Name=x\n", 1),
            ("[A]\nhalf a l", 2),
            ("[A\n", 1),
            ("[A]\n\n\0\0\0", 3),
            ("[A]\n=x", 2),
            ("[A]\nName[=x", 2),
            ("[]\n", 1),
        ] {
            assert_eq!(KeyFile::parse(text.as_bytes()).unwrap_err().line, line, "{text:?}");
        }
        assert_eq!(KeyFile::parse(b"[A]\nk=\xff").unwrap_err().line, 2);
        assert!(KeyFile::parse(&vec![b'#'; 2 << 20]).is_err());
    }

    #[test]
    fn escapes_and_lists_are_resolved() {
        let file = KeyFile::parse(b"[A]\nt=\\sa\\tb\\\\\\q; r\nl=one;t\\;wo;;three\nyes=true\nno=yes\n").unwrap();
        assert_eq!(file.string("A", "t").unwrap(), " a\tb\\\\q; r");
        assert_eq!(file.strings("A", "l"), ["one", "t;wo", "three"]);
        assert!(file.flag("A", "yes") && !file.flag("A", "no") && !file.flag("A", "none"));
    }

    proptest::proptest! {
        #[test]
        fn damage_is_told_with_a_line_of_the_file(seed: u64) {
            let text = crate::testkit::mutated(b"[A]\nk=one;two\n\n# c\nn[de]=x\n[B]\nyes=true\n", seed);
            match KeyFile::parse(&text) {
                Ok(file) => proptest::prop_assert!(file.string("A", "k").is_none_or(|v| v.len() <= text.len())),
                Err(e) => {
                    let lines = text.split(|b| *b == b'\n').count();
                    proptest::prop_assert!((1..=lines).contains(&e.line), "{} of {lines}", e.line);
                }
            }
        }

        #[test]
        fn any_value_can_be_taken_apart(value in "[ -~\u{e4}\u{20ac}]{0,60}") {
            let file = KeyFile::parse(format!("[A]\nk={value}\n").as_bytes()).unwrap();
            let parts = file.strings("A", "k");
            proptest::prop_assert!(parts.iter().map(String::len).sum::<usize>() <= value.len());
            proptest::prop_assert!(file.string("A", "k").is_some_and(|text| text.len() <= value.len()));
        }
    }
}
