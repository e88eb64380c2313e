//! A suite's release file: the data that a repository's signature covers.

use std::collections::HashMap;

use crate::formats::deb822::paragraphs;

/// Release files that list more files are refused; Debian's largest has a hundredth of it.
const MAX_FILES: usize = 500_000;

/// Size and SHA-256 of a file of the repository.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash)]
pub struct FileSum {
    /// Bytes.
    pub size: u64,
    /// SHA-256.
    pub sha256: [u8; 32],
}

impl FileSum {
    /// The digest in hexadecimal.
    #[must_use]
    pub fn hex(&self) -> String {
        hex::encode(self.sha256)
    }

    /// From hexadecimal, and a size in decimal.
    #[must_use]
    pub fn parse(hex: &str, size: &str) -> Option<Self> {
        let mut sha256 = [0; 32];
        hex::decode_to_slice(hex, &mut sha256).ok()?;
        Some(Self { size: size.parse().ok()?, sha256 })
    }
}

/// Why a release file cannot be used.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
#[non_exhaustive]
pub enum ReleaseError {
    /// It is not a release file.
    #[error("not a release file")]
    Shape,
    /// It lists its files only by digests that can be forged.
    #[error("lists only MD5 or SHA-1 checksums, which can be forged")]
    WeakDigests,
    /// It lists too many files.
    #[error("lists too many files")]
    TooLarge,
}

/// A release file's content.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub struct Release {
    /// The origin: who publishes the repository.
    pub origin: String,
    /// The suite's name (`stable`).
    pub suite: String,
    /// The suite's code name.
    pub codename: String,
    /// When it was created.
    pub date: Option<jiff::Timestamp>,
    /// When it expires.
    pub valid_until: Option<jiff::Timestamp>,
    /// Whether files can be downloaded by their digest.
    pub by_hash: bool,
    /// Whether packages for all architectures are in each architecture's index, so that their own index adds nothing.
    pub all_within: bool,
    /// Whether it lists `all` among its architectures, or none at all: otherwise apt downloads no index for `all`.
    pub names_all: bool,
    /// Whether its versions are installed only on request (`NotAutomatic`): they are not updates.
    pub on_demand: bool,
    /// The files that it lists, by path relative to its folder.
    pub files: HashMap<String, FileSum>,
}

impl Release {
    /// Why it is not the release file of this suite, judged by its own names; `None` when it may be.
    ///
    /// A suite is requested by its name (`stable`), its code name (`bookworm`) or, in the old form for security updates, by
    /// the code name and `/updates`. A file without either is accepted, and so is that of a flat repository.
    #[must_use]
    pub fn is_of_another_suite(&self, asked: &str) -> Option<String> {
        let names: Vec<&str> =
            [self.suite.as_str(), self.codename.as_str()].into_iter().filter(|n| !n.is_empty()).collect();
        let asked = asked.trim_matches('/');
        let fits = |name: &&str| *name == asked || asked.strip_suffix("/updates") == Some(*name);
        if names.is_empty() || names.iter().any(fits) {
            return None;
        }
        let own = match names[..] {
            [suite, codename] if suite != codename => format!("{suite} ({codename})"),
            _ => names[0].to_owned(),
        };
        Some(format!("release file is for {own}, not for {asked}"))
    }

    /// Parses a release file.
    ///
    /// # Errors
    /// When it is malformed, or lists no strong digests.
    pub fn parse(text: &str) -> Result<Self, ReleaseError> {
        let fields = paragraphs(text).next().ok_or(ReleaseError::Shape)?;
        let field = |name: &str| -> String {
            fields.get(name).unwrap_or_default().chars().filter(|c| !c.is_control()).take(200).collect()
        };
        let Some(list) = fields.get("SHA256") else {
            let weak = fields.get("MD5Sum").is_some() || fields.get("SHA1").is_some();
            return Err(if weak { ReleaseError::WeakDigests } else { ReleaseError::Shape });
        };
        let mut files = HashMap::new();
        for line in list.lines().filter(|l| !l.is_empty()) {
            let mut words = line.split_ascii_whitespace();
            let (Some(hex), Some(size), Some(name)) = (words.next(), words.next(), words.next()) else {
                return Err(ReleaseError::Shape);
            };
            let sum = FileSum::parse(hex, size).ok_or(ReleaseError::Shape)?;
            if files.len() >= MAX_FILES {
                return Err(ReleaseError::TooLarge);
            }
            // One name with two digests: it is unknown which is meant.
            if files.insert(name.to_owned(), sum).is_some_and(|before| before != sum) {
                return Err(ReleaseError::Shape);
            }
        }
        Ok(Self {
            origin: field("Origin"),
            suite: field("Suite"),
            codename: field("Codename"),
            date: fields.get("Date").and_then(date),
            valid_until: fields.get("Valid-Until").and_then(date),
            by_hash: fields.get("Acquire-By-Hash").is_some_and(|v| v.eq_ignore_ascii_case("yes")),
            on_demand: fields.get("NotAutomatic").is_some_and(|v| v.eq_ignore_ascii_case("yes")),
            names_all: fields.get("Architectures").is_none_or(|v| v.split_ascii_whitespace().any(|arch| arch == "all")),
            all_within: fields.get("No-Support-for-Architecture-all").is_some_and(|v| v.contains("Packages")),
            files,
        })
    }
}

/// A date as in RFC 2822; repositories write the zone as `UTC`.
fn date(text: &str) -> Option<jiff::Timestamp> {
    let text = text.trim().replace("UTC", "+0000");
    jiff::fmt::rfc2822::DateTimeParser::new().relaxed_weekday(true).parse_timestamp(&text).ok()
}

#[cfg(test)]
mod tests {
    use super::*;

    const SAMPLE: &str = "Origin: Foreshore\nSuite: stable\nCodename: saltwort\nDate: Mon, 02 Mar 2026 08:00:00 UTC\n\
        Valid-Until: Tue,  1 Jan 2126 00:00:00 +0000\nAcquire-By-Hash: yes\nSHA256:\n \
        e3b0c44298fc1c149afbf4c8996fb92427ae41e4649b934ca495991b7852b855 0 main/binary-amd64/Packages\n";

    #[test]
    fn a_release_file_is_of_the_suite_that_it_names_itself() {
        let release = |suite: &str, codename: &str| Release {
            suite: suite.into(),
            codename: codename.into(),
            ..Release::default()
        };
        let debian = release("stable", "trixie");
        for asked in ["stable", "trixie", "trixie/updates"] {
            assert_eq!(debian.is_of_another_suite(asked), None, "{asked}");
        }
        let why = debian.is_of_another_suite("trixie-security").unwrap();
        assert_eq!(why, "release file is for stable (trixie), not for trixie-security");
        assert!(release("oldstable-updates", "bookworm-updates").is_of_another_suite("bookworm-security").is_some());
        for nameless in [release("", ""), release("any", "")] {
            assert_eq!(nameless.is_of_another_suite("any"), None);
        }
        assert_eq!(release("", "").is_of_another_suite("whatever"), None);
    }

    #[test]
    fn a_release_file_tells_dates_and_files() {
        let release = Release::parse(SAMPLE).unwrap();
        assert_eq!(release.date.unwrap().to_string(), "2026-03-02T08:00:00Z");
        assert_eq!(release.valid_until.unwrap().to_string(), "2126-01-01T00:00:00Z");
        assert_eq!((release.by_hash, release.files["main/binary-amd64/Packages"].size), (true, 0));
    }

    #[test]
    fn an_index_of_what_fits_every_machine_is_only_got_where_it_is_named() {
        let names_all = |archs: &str| {
            let text = SAMPLE.replace("Suite:", &format!("Architectures: {archs}\nSuite:"));
            Release::parse(&text).unwrap().names_all
        };
        assert!(names_all("all amd64") && !names_all("amd64 i386"));
        assert!(Release::parse(SAMPLE).unwrap().names_all, "nothing is ruled out");
    }

    #[test]
    fn forgeable_digests_alone_are_refused() {
        let weak = SAMPLE.replace("SHA256:", "MD5Sum:");
        assert_eq!(Release::parse(&weak), Err(ReleaseError::WeakDigests));
        assert_eq!(Release::parse("<html>Log in"), Err(ReleaseError::Shape));
        let twice = format!("{SAMPLE} {} 1 main/binary-amd64/Packages\n", "00".repeat(32));
        assert_eq!(Release::parse(&twice), Err(ReleaseError::Shape));
    }

    proptest::proptest! {
        #[test]
        fn a_damaged_release_file_tells_only_sums_that_stand_in_it(seed: u64) {
            let text = String::from_utf8_lossy(&crate::testkit::mutated(SAMPLE.as_bytes(), seed)).into_owned();
            if let Ok(release) = Release::parse(&text) {
                for (name, sum) in &release.files {
                    proptest::prop_assert!(text.contains(name) && text.to_ascii_lowercase().contains(&sum.hex()), "{name}");
                }
            }
        }
    }
}
