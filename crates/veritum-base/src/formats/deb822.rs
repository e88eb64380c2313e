//! Control data: paragraphs of fields (deb822(5)).

/// A paragraph with more fields is cut there.
const MAX_FIELDS: usize = 1000;

/// One paragraph: field names as written, values with their continuation lines.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub struct Paragraph<'a> {
    fields: Vec<(&'a str, String)>,
    /// Lines that are neither a field nor a continuation.
    pub broken: usize,
}

impl Paragraph<'_> {
    /// A field's value; names are case-insensitive.
    #[must_use]
    pub fn get(&self, name: &str) -> Option<&str> {
        self.fields.iter().find(|(n, _)| n.eq_ignore_ascii_case(name)).map(|(_, v)| v.as_str())
    }
}

/// The paragraphs of a control file, without comments.
pub fn paragraphs(text: &str) -> impl Iterator<Item = Paragraph<'_>> {
    let mut lines = text.lines();
    std::iter::from_fn(move || {
        let mut paragraph = Paragraph::default();
        let mut any = false;
        for line in lines.by_ref() {
            if line.trim().is_empty() {
                if any {
                    break;
                }
                continue;
            }
            any = true;
            take_line(&mut paragraph, line);
        }
        any.then_some(paragraph)
    })
}

fn take_line<'a>(paragraph: &mut Paragraph<'a>, line: &'a str) {
    if line.starts_with('#') {
        return;
    }
    if line.starts_with([' ', '\t']) {
        match paragraph.fields.last_mut() {
            Some((_, value)) => {
                value.push('\n');
                value.push_str(line.trim());
            }
            None => paragraph.broken += 1,
        }
        return;
    }
    match line.split_once(':') {
        Some((name, value))
            if !name.is_empty() && !name.contains(char::is_whitespace) && paragraph.fields.len() < MAX_FIELDS =>
        {
            paragraph.fields.push((name, value.trim().to_owned()));
        }
        _ => paragraph.broken += 1,
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn fields_continue_over_lines_and_paragraphs_end_at_a_blank_one() {
        let text = "Package: a\nConffiles:\n /etc/a 12\n /etc/b 34\n\n\npackage: b\nnot a field\n";
        let all: Vec<_> = paragraphs(text).collect();
        assert_eq!(all.len(), 2);
        assert_eq!(all[0].get("conffiles"), Some("\n/etc/a 12\n/etc/b 34"));
        assert_eq!((all[1].get("Package"), all[1].broken), (Some("b"), 1));
    }

    proptest::proptest! {
        #[test]
        fn a_field_of_a_damaged_text_has_a_value_that_is_in_it(seed: u64) {
            let text = crate::testkit::mutated(b"Package: quay\nVersion: 1:2\nConffiles:\n /etc/a 12\n\nPackage: pier\nVersion: 3\n", seed);
            let text = String::from_utf8_lossy(&text).into_owned();
            for paragraph in paragraphs(&text) {
                for field in ["Package", "Version", "Conffiles"] {
                    let value = paragraph.get(field).unwrap_or_default();
                    proptest::prop_assert!(value.lines().all(|line| text.contains(line)), "{value}");
                }
            }
        }
    }
}
