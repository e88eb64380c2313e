//! The first difference between two contents, for `explain`.

use crate::report::FirstDifference;

/// The number of bytes shown from the first difference on.
pub(super) const SHOWN: usize = 16;
/// The number of lines shown of each side.
const SHOWN_LINES: usize = 3;
/// The number of characters shown of a line.
const SHOWN_SIGNS: usize = 160;

/// The lines of a text from a given one on, counted from 1.
pub(super) fn lines_from(text: &[u8], line: u64) -> Vec<String> {
    let skip = usize::try_from(line).unwrap_or(usize::MAX).saturating_sub(1);
    let lines = text.split(|b| *b == b'\n').skip(skip).take(SHOWN_LINES);
    let cut = |line: &[u8]| String::from_utf8_lossy(line).chars().take(SHOWN_SIGNS).collect::<String>();
    let mut all: Vec<String> = lines.map(cut).collect();
    // The text after the last line break is not a line.
    if all.last().is_some_and(String::is_empty) && text.ends_with(b"\n") && all.len() < SHOWN_LINES {
        all.pop();
    }
    all
}

/// Finds the first difference between two contents.
pub(super) struct Comparison {
    offset: u64,
    line: u64,
    text: bool,
    pub(super) found: Option<FirstDifference>,
}

impl Comparison {
    /// A comparison at its start.
    pub(super) fn new() -> Self {
        Self { offset: 0, line: 1, text: true, found: None }
    }

    /// Compares the next expected piece with the found bytes at the same position.
    pub(super) fn piece(&mut self, expected: &[u8], found: &[u8]) {
        let common = expected.iter().zip(found).take_while(|(a, b)| a == b).count();
        self.text &= !expected[..common].contains(&0);
        self.line += expected[..common].iter().filter(|b| **b == b'\n').count() as u64;
        let whole = common == expected.len() && (!expected.is_empty() || found.is_empty());
        if whole {
            self.offset += common as u64;
            return;
        }
        let shown = |bytes: &[u8]| {
            bytes.iter().skip(common).take(SHOWN).map(|b| format!("{b:02x}")).collect::<Vec<_>>().join(" ")
        };
        let text = self.text && !expected.iter().chain(found).any(|b| *b == 0);
        self.found = Some(FirstDifference {
            offset: self.offset + common as u64,
            line: text.then_some(self.line),
            expected: shown(expected),
            found: shown(found),
            expected_lines: Vec::new(),
            found_lines: Vec::new(),
        });
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn lines_are_shown_from_the_one_that_differs_on() {
        let text = b"one\ntwo\nthree\nfour\nfive\n";
        assert_eq!(lines_from(text, 2), ["two", "three", "four"]);
        assert_eq!(lines_from(text, 5), ["five"]);
        assert_eq!(lines_from(text, 6), [""; 0]);
        assert_eq!(lines_from(b"", 1), [""], "an empty text has one empty line");
        assert_eq!(lines_from(&[b'x'; 900], 1)[0].len(), SHOWN_SIGNS);
    }
}
