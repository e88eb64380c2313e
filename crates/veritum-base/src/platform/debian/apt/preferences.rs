//! Pins: versions that an administrator prefers or rejects (apt_preferences(5)).

use super::fragments;
use crate::formats::deb822::paragraphs;
use crate::machine::Machine;
use crate::model::SystemPath;

/// Further pins are not read.
const MAX_PINS: usize = 10_000;
/// Longer texts are cut.
const MAX_WORDS: usize = 200;

/// A pin.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Pin {
    /// The file that contains it.
    pub file: SystemPath,
    /// The packages, as written; `*` for all.
    pub debs: String,
    /// The repository or version.
    pub of: String,
    /// Its priority; a version with a negative one is never installed.
    pub priority: i64,
}

/// The machine's pins; malformed ones are skipped.
#[must_use]
pub fn pins(machine: &Machine) -> Vec<Pin> {
    let mut files = vec![SystemPath::literal("/etc/apt/preferences")];
    files.extend(fragments(machine, "/etc/apt/preferences.d", &["", ".pref"]));
    let mut all = Vec::new();
    for file in files {
        let text = machine.read_config(&file).ok().flatten().unwrap_or_default();
        all.extend(pins_of(&String::from_utf8_lossy(&text), &file).take(MAX_PINS.saturating_sub(all.len())));
    }
    all
}

fn pins_of(text: &str, file: &SystemPath) -> impl Iterator<Item = Pin> {
    let words = |text: &str| text.chars().filter(|c| !c.is_control()).take(MAX_WORDS).collect::<String>();
    paragraphs(text).filter_map(move |paragraph| {
        Some(Pin {
            file: file.clone(),
            debs: words(paragraph.get("Package")?),
            of: words(paragraph.get("Pin")?),
            priority: paragraph.get("Pin-Priority")?.trim().parse().ok()?,
        })
    })
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_pin_is_read_whole_or_not_at_all() {
        let text = "Explanation: no\nPackage: *\nPin: release a=saltwort\nPin-Priority: -1\n\nPackage: quay\nPin-Priority: 5\n";
        let all: Vec<Pin> = pins_of(text, &SystemPath::literal("/etc/apt/preferences")).collect();
        assert_eq!(all.len(), 1);
        assert_eq!((all[0].debs.as_str(), all[0].of.as_str(), all[0].priority), ("*", "release a=saltwort", -1));
    }

    proptest::proptest! {
        #[test]
        fn a_damaged_pin_is_read_whole_or_not_at_all(seed: u64) {
            let text = crate::testkit::mutated(b"Package: *\nPin: release a=saltwort\nPin-Priority: -1\n\nPackage: quay\nPin: version 1\nPin-Priority: 5\n", seed);
            let text = String::from_utf8_lossy(&text).into_owned();
            for pin in pins_of(&text, &SystemPath::root()) {
                // Control characters are left out, and lines that go on are one.
                let plain = |text: &str| -> String {
                    text.chars().filter(|c| !c.is_control() && !c.is_whitespace()).collect()
                };
                // What goes on after a line that is none is further on.
                let stands = |value: &str| {
                    let text = plain(&text);
                    let mut rest = text.chars();
                    plain(value).chars().all(|wanted| rest.any(|c| c == wanted))
                };
                proptest::prop_assert!(stands(&pin.debs) && stands(&pin.of), "{pin:?} of {text:?}");
                proptest::prop_assert!(text.to_ascii_lowercase().contains("pin-priority:"), "{pin:?} of {text:?}");
            }
        }
    }
}
