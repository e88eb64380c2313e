//! Byte strings as text: one form for JSON and messages, one for the shell.

use std::borrow::Cow;
use std::fmt::Write as _;

/// Converts bytes to text without loss: UTF-8 is kept, a backslash is doubled, every other byte becomes `\xHH`.
#[must_use]
pub fn readable(bytes: &[u8]) -> String {
    let mut text = String::with_capacity(bytes.len());
    for chunk in bytes.utf8_chunks() {
        for c in chunk.valid().chars() {
            if c == '\\' { text.push_str("\\\\") } else { text.push(c) }
        }
        for byte in chunk.invalid() {
            let _ = write!(text, "\\x{byte:02x}");
        }
    }
    text
}

/// Like [`readable`]; text that needs no conversion is not copied.
pub(crate) fn readable_or_same(bytes: &[u8]) -> Cow<'_, str> {
    match std::str::from_utf8(bytes) {
        Ok(text) if memchr::memchr(b'\\', bytes).is_none() => Cow::Borrowed(text),
        _ => Cow::Owned(readable(bytes)),
    }
}

/// The bytes that [`readable`] converted to that text; `None` if an escape is invalid.
pub(crate) fn from_readable(text: &str) -> Option<Vec<u8>> {
    let mut bytes = Vec::with_capacity(text.len());
    let mut rest = text.as_bytes();
    while let Some(at) = memchr::memchr(b'\\', rest) {
        bytes.extend_from_slice(&rest[..at]);
        rest = match &rest[at + 1..] {
            [b'\\', tail @ ..] => {
                bytes.push(b'\\');
                tail
            }
            [b'x', high, low, tail @ ..] => {
                let digit = |d: u8| char::from(d).to_digit(16);
                bytes.push(u8::try_from(digit(*high)? * 16 + digit(*low)?).ok()?);
                tail
            }
            _ => return None,
        };
    }
    bytes.extend_from_slice(rest);
    Some(bytes)
}

/// A name for people: unchanged when harmless, else quoted so that a shell reads it back, `$'…'`.
///
/// Control characters and those that change the writing direction never reach the terminal.
#[must_use]
pub fn quoted(bytes: &[u8]) -> String {
    let plain = |c: char| c.is_alphanumeric() || "/._-+:,@%=~^#".contains(c);
    if let Ok(text) = std::str::from_utf8(bytes)
        && !text.is_empty()
        && text.chars().all(plain)
        && !text.starts_with(['~', '#'])
    {
        return text.to_owned();
    }
    let mut out = String::from("$'");
    for chunk in bytes.utf8_chunks() {
        for c in chunk.valid().chars() {
            match c {
                '\n' => out.push_str("\\n"),
                '\t' => out.push_str("\\t"),
                '\r' => out.push_str("\\r"),
                '\\' => out.push_str("\\\\"),
                '\'' => out.push_str("\\'"),
                c if c.is_control() || changes_direction(c) => {
                    for byte in c.encode_utf8(&mut [0; 4]).bytes() {
                        let _ = write!(out, "\\x{byte:02x}");
                    }
                }
                c => out.push(c),
            }
        }
        for byte in chunk.invalid() {
            let _ = write!(out, "\\x{byte:02x}");
        }
    }
    out.push('\'');
    out
}

/// An error's own text, without the number that the standard library appends.
#[must_use]
pub fn error_words(error: &dyn std::error::Error) -> String {
    let text = error.to_string();
    match text.find(" (os error ") {
        Some(at) => text[..at].to_owned(),
        None => text,
    }
}

/// An error with its causes, in one line.
#[must_use]
pub fn error_chain(error: &dyn std::error::Error) -> String {
    let mut text = error_words(error);
    let mut cause = error.source();
    while let Some(next) = cause {
        let said = error_words(next);
        if !text.ends_with(&said) {
            text.push_str(": ");
            text.push_str(&said);
        }
        cause = next.source();
    }
    text
}

/// Whether a text can be shown unchanged: it contains no control or formatting characters.
#[must_use]
pub fn is_harmless(text: &str) -> bool {
    !text.chars().any(|c| c.is_control() || changes_direction(c))
}

/// Whether a character is invisible formatting: bidirectional controls, zero-width characters and separators.
fn changes_direction(c: char) -> bool {
    matches!(c, '\u{61c}' | '\u{200b}'..='\u{200f}' | '\u{2028}'..='\u{202e}' | '\u{2060}'..='\u{2069}' | '\u{feff}' | '\u{fff9}'..='\u{fffb}')
}

/// The lines of a text of bytes without their ends: as splitting at each line end, and several times as fast.
#[must_use]
pub fn byte_lines(text: &[u8]) -> ByteLines<'_> {
    ByteLines(Some(text))
}

/// See [`byte_lines`].
#[derive(Debug, Clone)]
pub struct ByteLines<'a>(Option<&'a [u8]>);

impl<'a> Iterator for ByteLines<'a> {
    type Item = &'a [u8];

    fn next(&mut self) -> Option<&'a [u8]> {
        let rest = self.0.take()?;
        let Some(end) = memchr::memchr(b'\n', rest) else { return Some(rest) };
        self.0 = Some(&rest[end + 1..]);
        Some(&rest[..end])
    }
}

impl<'a> DoubleEndedIterator for ByteLines<'a> {
    fn next_back(&mut self) -> Option<&'a [u8]> {
        let rest = self.0.take()?;
        let Some(end) = memchr::memrchr(b'\n', rest) else { return Some(rest) };
        self.0 = Some(&rest[..end]);
        Some(&rest[end + 1..])
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn awkward_names_are_quoted_and_harmless_ones_are_not() {
        assert_eq!(quoted(b"/usr/bin/x"), "/usr/bin/x");
        assert_eq!(quoted(b"/a b\n\x1b[31m"), "$'/a b\\n\\x1b[31m'");
        assert_eq!(quoted("/\u{202e}gpj.exe".as_bytes()), "$'/\\xe2\\x80\\xaegpj.exe'");
        assert_eq!(quoted(b"/\xff"), "$'/\\xff'");
        assert_eq!(quoted("/käse".as_bytes()), "/käse");
    }

    #[test]
    fn a_broken_escape_is_no_text_form() {
        for text in ["\\", "\\x", "\\xg0", "\\n", "a\\x1"] {
            assert_eq!(from_readable(text), None, "{text}");
        }
    }

    proptest::proptest! {
        #[test]
        fn any_bytes_are_restored_from_their_text(bytes: Vec<u8>) {
            proptest::prop_assert_eq!(from_readable(&readable(&bytes)), Some(bytes));
        }
        #[test]
        fn no_control_character_reaches_the_terminal(bytes: Vec<u8>) {
            proptest::prop_assert!(!quoted(&bytes).chars().any(|c| c.is_control() || changes_direction(c)));
        }
    }

    proptest::proptest! {
        #[test]
        fn lines_are_what_splitting_at_line_ends_gives(text in proptest::collection::vec(proptest::prop_oneof![proptest::strategy::Just(b'\n'), proptest::prelude::any::<u8>()], 0..40)) {
            let right: Vec<&[u8]> = text.split(|b| *b == b'\n').collect();
            proptest::prop_assert_eq!(byte_lines(&text).collect::<Vec<_>>(), right.clone());
            let back: Vec<&[u8]> = right.into_iter().rev().collect();
            proptest::prop_assert_eq!(byte_lines(&text).rev().collect::<Vec<_>>(), back);
        }
    }
}
