//! [`Suffixes`]: which records dpkg's info folder has of one package, as a set of bits.

/// The records that are distinguished (deb(5), deb-triggers(5)); of the others only that there are some is kept.
const KNOWN: [&str; 12] = [
    "list",
    "md5sums",
    "conffiles",
    "triggers",
    "preinst",
    "postinst",
    "prerm",
    "postrm",
    "config",
    "templates",
    "shlibs",
    "symbols",
];
/// The bit of all other records.
const OTHERS: u16 = 1 << KNOWN.len();

/// A set of suffixes of records.
#[derive(Debug, Clone, Copy, Default, PartialEq, Eq)]
pub struct Suffixes(u16);

impl Suffixes {
    /// Adds a record's suffix.
    pub fn insert(&mut self, suffix: &str) {
        self.0 |= bit(suffix);
    }

    /// Whether one of the distinguished records exists; false for all others.
    #[must_use]
    pub fn contains(self, suffix: &str) -> bool {
        self.0 & bit(suffix) & !OTHERS != 0
    }

    /// Whether a record other than these exists.
    #[must_use]
    pub fn has_more_than(self, these: &[&str]) -> bool {
        these.iter().fold(self.0, |left, suffix| left & !bit(suffix)) != 0
    }
}

fn bit(suffix: &str) -> u16 {
    KNOWN.iter().position(|known| *known == suffix).map_or(OTHERS, |at| 1 << at)
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn what_is_not_distinguished_still_counts_as_something() {
        let mut suffixes = Suffixes::default();
        assert!(!suffixes.has_more_than(&[]));
        suffixes.insert("postrm");
        assert!(suffixes.contains("postrm") && !suffixes.has_more_than(&["postrm"]));
        suffixes.insert("new-kind");
        assert!(suffixes.has_more_than(&["postrm", "list"]) && !suffixes.contains("new-kind"));
        assert!(!suffixes.contains("list"));
    }
}
