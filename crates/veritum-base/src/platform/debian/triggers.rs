//! dpkg's triggers (deb-triggers(5)): which generated files depend on which places.

use super::in_database;
use crate::machine::Machine;
use crate::model::{SystemPath, byte_lines};

/// The places in which packages are interested: when a file there changes, they generate something again.
#[derive(Debug, Clone, Default)]
pub struct FileTriggers(Vec<SystemPath>);

impl FileTriggers {
    /// Reads a machine's list; empty if there is none.
    #[must_use]
    pub fn read(machine: &Machine) -> Self {
        let text = machine.read_config(&in_database("triggers/File")).ok().flatten().unwrap_or_default();
        Self::parse(&text)
    }

    /// Parses the list: in each line a path and a package.
    #[must_use]
    pub fn parse(text: &[u8]) -> Self {
        let path = |line: &[u8]| {
            let path = line.split(u8::is_ascii_whitespace).next()?;
            SystemPath::parse(path).ok().filter(|path| !path.is_root())
        };
        let mut paths: Vec<SystemPath> = byte_lines(text).filter_map(path).collect();
        paths.sort();
        paths.dedup();
        Self(paths)
    }

    /// The triggers that a change of a file activates, by their names.
    pub fn matching<'a>(&'a self, path: &'a SystemPath) -> impl Iterator<Item = &'a SystemPath> {
        self.0.iter().filter(|trigger| path.is_within(trigger))
    }
}

/// The triggers that concern a package whenever it changes, by its `triggers` file: those that it activates, and its own, by which it
/// generates files itself.
#[must_use]
pub fn own_triggers(text: &[u8]) -> Vec<String> {
    let name = |line: &[u8]| {
        let line = String::from_utf8_lossy(line.split(|byte| *byte == b'#').next().unwrap_or_default()).into_owned();
        let mut words = line.split_ascii_whitespace();
        let (directive, name) = (words.next()?, words.next()?);
        let plain = !name.starts_with('-') && name.chars().all(|c| c.is_ascii_graphic());
        (["activate", "interest"].iter().any(|kind| directive.starts_with(kind)) && plain).then(|| name.to_owned())
    };
    byte_lines(text).filter_map(name).collect()
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_change_activates_what_watches_its_place_or_a_folder_above() {
        let triggers = FileTriggers::parse(b"/usr/share/man man-db\n/usr/share/icons/quay quay/noawait\nnonsense\n/\n");
        let told = |path: &'static str| -> Vec<String> {
            triggers.matching(&SystemPath::literal(path)).map(ToString::to_string).collect()
        };
        assert_eq!(told("/usr/share/man/man1/quay.1.gz"), ["/usr/share/man"]);
        assert_eq!(told("/usr/share/icons/quay"), ["/usr/share/icons/quay"]);
        assert!(told("/usr/share/manual").is_empty() && told("/usr/bin/quay").is_empty());
    }

    #[test]
    fn a_packages_own_file_names_its_triggers() {
        let text = b"# comment\ninterest-noawait /usr/share/quay\nactivate-noawait ldconfig # why\nactivate update-initramfs\nactivate --all\n";
        assert_eq!(own_triggers(text), ["/usr/share/quay", "ldconfig", "update-initramfs"]);
    }

    proptest::proptest! {
        #[test]
        fn of_a_damaged_list_only_absolute_places_are_taken(seed: u64) {
            let text = crate::testkit::mutated(b"/usr/share/man man-db\n/usr/share/icons/quay quay\n", seed);
            for path in FileTriggers::parse(&text).0 {
                proptest::prop_assert!(!path.is_root());
            }
            let _ = own_triggers(&text);
        }
    }
}
