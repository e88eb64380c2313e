//! Dependencies between packages: `Depends` and `Pre-Depends` (Debian Policy 7.1).

use std::collections::{BTreeSet, HashMap};

use super::database::Stanza;

/// The dependencies of each installed package.
#[derive(Debug, Default)]
pub struct Needs<'a> {
    needs: HashMap<&'a str, Vec<&'a str>>,
    provided_by: HashMap<&'a str, Vec<&'a str>>,
}

impl<'a> Needs<'a> {
    /// The dependencies of all installed packages.
    #[must_use]
    pub fn new(installed: impl Iterator<Item = &'a Stanza>) -> Self {
        let mut all = Self::default();
        for stanza in installed {
            let Some(name) = stanza.get("Package") else { continue };
            let fields = ["Depends", "Pre-Depends"].into_iter().filter_map(|field| stanza.get(field));
            all.needs.entry(name).or_default().extend(fields.flat_map(names));
            for provided in stanza.get("Provides").into_iter().flat_map(names) {
                all.provided_by.entry(provided).or_default().push(name);
            }
        }
        all
    }

    /// The installed packages on which one depends, directly or not, including itself, by name.
    #[must_use]
    pub fn rests_on(&self, name: &str) -> BTreeSet<String> {
        let mut all = BTreeSet::new();
        let mut open = vec![name];
        while let Some(name) = open.pop() {
            let Some(needed) = self.needs.get(name) else {
                // There is no package of that name: the one that provides it counts.
                open.extend(self.provided_by.get(name).into_iter().flatten().filter(|by| !all.contains(**by)));
                continue;
            };
            if all.insert(name.to_owned()) {
                open.extend(needed.iter().filter(|needed| !all.contains(**needed)));
            }
        }
        all
    }
}

/// The packages on which one depends, including itself.
#[must_use]
pub fn rests_on<'a>(name: &str, installed: impl Iterator<Item = &'a Stanza>) -> BTreeSet<String> {
    Needs::new(installed).rests_on(name)
}

/// The names in a relation field, including alternatives.
fn names(field: &str) -> impl Iterator<Item = &str> {
    field.split([',', '|']).filter_map(|relation| {
        let name = relation.trim().split(|c: char| c.is_whitespace() || "(:[<".contains(c)).next()?;
        (!name.is_empty()).then_some(name)
    })
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn what_a_package_rests_on_is_followed_to_its_end() {
        let stanza = |name: &str, fields: &str| {
            Stanza::parse(format!("Package: {name}\n{fields}").as_bytes()).unwrap_or_else(|e| panic!("{e}"))
        };
        let all = [
            stanza("quay", "Depends: pier (>= 1.0) | jetty, ghost, mole:any\nPre-Depends: sand\n"),
            stanza("pier", "Depends: quay, water\n"),
            stanza("sand", ""),
            stanza("mole", ""),
            stanza("sea", "Provides: water (= 2), foam\n"),
            stanza("other", "Depends: quay\n"),
        ];
        let told: Vec<String> = rests_on("quay", all.iter()).into_iter().collect();
        assert_eq!(
            told,
            ["mole", "pier", "quay", "sand", "sea"],
            "in circles too, and what is not there is passed over"
        );
        assert!(rests_on("ghost", all.iter()).is_empty());
    }

    proptest::proptest! {
        #[test]
        fn the_names_of_a_damaged_field_stand_in_it(seed: u64) {
            let field = crate::testkit::mutated(b"pier (>= 1.0) | jetty, ghost, mole:any [amd64], sea <!nocheck>", seed);
            let field = String::from_utf8_lossy(&field).into_owned();
            for name in names(&field) {
                proptest::prop_assert!(!name.is_empty() && field.contains(name), "{name}");
            }
        }
    }
}
