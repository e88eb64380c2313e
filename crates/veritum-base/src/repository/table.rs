//! The contents of verified indexes, for the packages of one machine.

use std::collections::{BTreeMap, BTreeSet, HashMap, HashSet};
use std::io::{self, Read};

use crate::model::PackageId;
use crate::platform::debian::apt::{FileSum, for_each_listed};
use crate::platform::debian::compare_versions;
use crate::trust::{Verified, sha256};

/// One package of a repository, with verified size and digest.
#[derive(Debug, Clone)]
pub struct Candidate {
    /// The position of its source among the repositories' sources.
    pub source: usize,
    /// Further sources that list the same package.
    pub others: Vec<usize>,
    /// Its path relative to the source's URL.
    pub path: String,
    /// Its size and digest.
    pub sum: Verified<FileSum>,
}

/// Marks of essential and required packages in a condensed index.
const ESSENTIAL: &str = "essential";
const REQUIRED: &str = "required";

/// The contents of all verified indexes for the installed packages.
#[derive(Debug, Default)]
pub struct Table {
    exact: HashMap<PackageId, Vec<Candidate>>,
    /// The newest versions listed, by name and architecture.
    newest: HashMap<(String, String), Newest, foldhash::fast::RandomState>,
    /// Names of essential packages, with the sources that mark them so.
    essential: BTreeMap<String, BTreeSet<usize>>,
    /// Names of packages of the priority `required`.
    required: BTreeSet<String>,
}

/// The newest versions of a package.
#[derive(Debug, Default)]
struct Newest {
    listed: String,
    /// Without sources whose versions are installed only on request.
    offered: Option<String>,
}

/// A condensed index: a line for each package, with tabs. Small and quick to search.
pub(super) fn condensed(index: &[u8]) -> Vec<u8> {
    let mut text = Vec::with_capacity(index.len() / 5);
    condense(index, &mut text);
    text
}

/// The condensed form of an index that is read piece by piece.
pub(super) fn condensed_from(from: &mut dyn Read) -> io::Result<Vec<u8>> {
    let (mut text, mut piece) = (Vec::new(), Vec::new());
    let mut buffer = vec![0; 256 * 1024];
    loop {
        let n = from.read(&mut buffer)?;
        piece.extend_from_slice(&buffer[..n]);
        // A piece ends with an empty line, so that every package is whole.
        let end = if n == 0 { piece.len() } else { memchr::memmem::rfind(&piece, b"\n\n").map_or(0, |at| at + 2) };
        condense(&piece[..end], &mut text);
        piece.drain(..end);
        if n == 0 {
            return Ok(text);
        }
    }
}

fn condense(index: &[u8], text: &mut Vec<u8>) {
    for_each_listed(index, |l| {
        let mark = match (l.essential, l.required) {
            (true, _) => ESSENTIAL,
            (false, true) => REQUIRED,
            (false, false) => "",
        };
        let fields = [l.name, l.version, l.arch, l.size, l.sha256, l.path, mark];
        if fields.iter().all(|f| !f.contains('\t')) {
            for (at, field) in fields.iter().enumerate() {
                text.extend_from_slice(field.as_bytes());
                text.push(if at + 1 < fields.len() { b'\t' } else { b'\n' });
            }
        }
    });
}

/// Names of packages of interest.
pub(super) struct Names<'a> {
    names: HashSet<&'a [u8]>,
    /// The digest of the names that a machine always has, for which selections are kept.
    digest: Option<[u8; 32]>,
}

impl<'a> Names<'a> {
    /// Names that are asked for once: no selection is kept for them.
    pub(super) fn once(names: impl Iterator<Item = &'a str>) -> Self {
        Self { names: names.map(str::as_bytes).collect(), digest: None }
    }

    /// The names of what is installed or in apt's cache.
    pub(super) fn new(names: impl Iterator<Item = &'a str>) -> Self {
        let names: HashSet<&[u8]> = names.map(str::as_bytes).collect();
        let mut sorted: Vec<&[u8]> = names.iter().copied().collect();
        sorted.sort_unstable();
        let digest = Some(sha256(&sorted.join(&b'\n')));
        Self { names, digest }
    }

    /// The key of what is selected from the index with this digest, if it is kept.
    pub(super) fn selection_of(&self, index: &FileSum) -> Option<[u8; 32]> {
        self.digest.map(|digest| sha256(&[index.sha256, digest].concat()))
    }

    /// The lines of a condensed index about these packages, and about essential and required ones.
    pub(super) fn select(&self, condensed: &[u8]) -> Vec<u8> {
        let is_basic = |line: &[u8]| line.ends_with(ESSENTIAL.as_bytes()) || line.ends_with(REQUIRED.as_bytes());
        let lines = condensed.split_inclusive(|byte| *byte == b'\n');
        lines
            .filter(|line| is_basic(line.trim_ascii_end()) || self.names.contains(name_of(line)))
            .collect::<Vec<_>>()
            .concat()
    }
}

/// The first field of a condensed index's line.
fn name_of(line: &[u8]) -> &[u8] {
    &line[..memchr::memchr(b'\t', line).unwrap_or(line.len())]
}

impl Table {
    /// Reads the entries of these names from a condensed index.
    pub(super) fn add(&mut self, source: usize, on_demand: bool, condensed: &Verified<Vec<u8>>, names: &Names<'_>) {
        let bytes = condensed.get();
        let mut from = 0;
        while from < bytes.len() {
            let end = memchr::memchr(b'\n', &bytes[from..]).map_or(bytes.len(), |at| from + at);
            let range = from..end;
            from = end + 1;
            // The name rules out nearly all lines.
            let line = &bytes[range.clone()];
            let mark =
                if on_demand { b"" } else { &line[memchr::memrchr(b'\t', line).map_or(line.len(), |at| at + 1)..] };
            if (mark == ESSENTIAL.as_bytes() || mark == REQUIRED.as_bytes())
                && let Some(name) = line.split(|b| *b == b'\t').next().and_then(|name| std::str::from_utf8(name).ok())
            {
                match mark == ESSENTIAL.as_bytes() {
                    true => drop(self.essential.entry(name.to_owned()).or_default().insert(source)),
                    false => drop(self.required.insert(name.to_owned())),
                }
            }
            if !names.names.contains(name_of(line)) {
                continue;
            }
            let Ok(line) = std::str::from_utf8(line) else { continue };
            let fields: Vec<&str> = line.split('\t').collect();
            let [name, version, arch, _, _, path, _] = fields[..] else { continue };
            let Ok(id) = PackageId::new(name, version, arch) else { continue };
            let sum = condensed.part(|all| all).derive(|all| sum_of(&all[range]).ok_or(()));
            let Ok(sum) = sum else { continue };
            self.note_version(&id, on_demand);
            let known = self.exact.entry(id).or_default();
            // Several suites list the same package file.
            match known.iter().position(|c| c.sum.get() == sum.get()) {
                Some(at) if known[at].source != source && !known[at].others.contains(&source) => {
                    known[at].others.push(source);
                }
                None if known.len() < 20 => {
                    known.push(Candidate { source, others: Vec::new(), path: path.to_owned(), sum });
                }
                _ => {}
            }
        }
    }

    /// The .deb files that are exactly this package.
    #[must_use]
    pub fn candidates(&self, id: &PackageId) -> &[Candidate] {
        self.exact.get(id).map_or(&[], Vec::as_slice)
    }

    /// Whether an index lists exactly this package.
    #[must_use]
    pub fn lists(&self, id: &PackageId) -> bool {
        !self.candidates(id).is_empty()
    }

    /// Sizes and digests of exactly this package's .deb files.
    #[must_use]
    pub fn sums_of(&self, id: &PackageId) -> Vec<FileSum> {
        self.candidates(id).iter().map(|candidate| *candidate.sum.get()).collect()
    }

    /// Names of packages that are essential or required in these repositories.
    pub(super) fn basic(&self) -> impl Iterator<Item = &String> {
        self.essential.keys().chain(&self.required)
    }

    /// Names of the packages that are essential by the source that most packages come from.
    #[must_use]
    pub fn essential<'a>(&self, installed: impl Iterator<Item = &'a PackageId>) -> Vec<String> {
        let mut count: HashMap<usize, usize> = HashMap::new();
        for candidate in installed.flat_map(|id| self.candidates(id)) {
            for source in std::iter::once(&candidate.source).chain(&candidate.others) {
                *count.entry(*source).or_default() += 1;
            }
        }
        let main = count.into_iter().max_by_key(|(source, count)| (*count, std::cmp::Reverse(*source)));
        let Some((main, _)) = main else { return Vec::new() };
        let by_main = self.essential.iter().filter(|(_, sources)| sources.contains(&main));
        by_main.map(|(name, _)| name.clone()).collect()
    }

    /// All listed packages of that name.
    #[must_use]
    pub fn named(&self, name: &str) -> Vec<PackageId> {
        let mut all: Vec<PackageId> = self.exact.keys().filter(|id| id.name == name).cloned().collect();
        all.sort();
        all
    }

    /// The newest version of a package's name and architecture that is offered as an update.
    #[must_use]
    pub fn offered(&self, id: &PackageId) -> Option<&str> {
        self.newest.get(&(id.name.clone(), id.arch.clone()))?.offered.as_deref()
    }

    /// The newest version listed of a package's name and architecture.
    #[must_use]
    pub fn newest(&self, id: &PackageId) -> Option<&str> {
        self.newest.get(&(id.name.clone(), id.arch.clone())).map(|newest| newest.listed.as_str())
    }

    fn note_version(&mut self, id: &PackageId, on_demand: bool) {
        let newest = self.newest.entry((id.name.clone(), id.arch.clone())).or_default();
        if newest.listed.is_empty() || compare_versions(&newest.listed, &id.version).is_lt() {
            newest.listed.clone_from(&id.version);
        }
        let is_newer = |offered: &String| compare_versions(offered, &id.version).is_lt();
        if !on_demand && newest.offered.as_ref().is_none_or(is_newer) {
            newest.offered = Some(id.version.clone());
        }
    }
}

fn sum_of(line: &[u8]) -> Option<FileSum> {
    let line = std::str::from_utf8(line).ok()?;
    let mut fields = line.split('\t').skip(3);
    let size = fields.next()?;
    FileSum::parse(fields.next()?, size)
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::trust::testing;

    const SUM: &str = "e3b0c44298fc1c149afbf4c8996fb92427ae41e4649b934ca495991b7852b855";

    fn index(debs: &[(&str, &str, &str)]) -> Verified<Vec<u8>> {
        let one = |(name, version, arch): &(&str, &str, &str)| {
            format!(
                "Package: {name}\nVersion: {version}\nArchitecture: {arch}\nFilename: pool/{name}.deb\nSize: 7\nSHA256: {SUM}\n\n"
            )
        };
        testing::verified(condensed(debs.iter().map(one).collect::<String>().as_bytes()))
    }

    fn id(name: &str, version: &str, arch: &str) -> PackageId {
        PackageId::new(name, version, arch).unwrap()
    }

    fn table(indexes: &[Verified<Vec<u8>>]) -> Table {
        let names = Names::new(["quay", "pier"].into_iter());
        let mut table = Table::default();
        for (at, index) in indexes.iter().enumerate() {
            // What is selected of an index says the same.
            let selected = index.part(|all| all).map(|all| names.select(all));
            table.add(at, false, if at == 0 { index } else { &selected }, &names);
        }
        table
    }

    #[test]
    fn a_selection_depends_on_the_index_and_on_the_names() {
        let all = index(&[("quay", "1:2", "all"), ("quayside", "1:2", "all"), ("pier", "1", "amd64")]);
        let names = Names::new(["pier", "quay"].into_iter());
        let selected = names.select(all.get());
        assert_eq!(selected.split(|b| *b == b'\n').filter(|line| !line.is_empty()).count(), 2);
        let sum = |digit: &str| FileSum::parse(&digit.repeat(64), "7").unwrap();
        assert_eq!(names.selection_of(&sum("1")), Names::new(["quay", "pier"].into_iter()).selection_of(&sum("1")));
        assert_ne!(names.selection_of(&sum("1")), names.selection_of(&sum("2")));
        assert_ne!(names.selection_of(&sum("1")), Names::new(["quay"].into_iter()).selection_of(&sum("1")));
        assert_eq!(Names::once(["pier", "quay"].into_iter()).selection_of(&sum("1")), None);
    }

    #[test]
    fn only_what_is_installed_is_taken_and_only_exactly_it_is_found() {
        let table = table(&[index(&[("quay", "1:2", "all"), ("quayside", "1:2", "all"), ("pier", "1", "amd64")])]);
        assert_eq!(table.candidates(&id("quay", "1:2", "all"))[0].path, "pool/quay.deb");
        assert_eq!(table.candidates(&id("pier", "1", "amd64"))[0].sum.get().size, 7);
        for other in [id("quayside", "1:2", "all"), id("quay", "2", "all"), id("pier", "1", "i386")] {
            assert!(table.candidates(&other).is_empty(), "{other:?}");
        }
    }

    #[test]
    fn the_newest_version_is_told_and_one_package_of_two_suites_is_one() {
        let table = table(&[
            index(&[("quay", "1.9", "all"), ("quay", "1.10", "all")]),
            index(&[("quay", "1.10~rc1", "all"), ("quay", "1.10", "all")]),
        ]);
        assert_eq!(table.newest(&id("quay", "0", "all")), Some("1.10"));
        assert_eq!(table.newest(&id("quay", "0", "amd64")), None);
        let candidates = table.candidates(&id("quay", "1.10", "all"));
        assert_eq!(candidates.iter().map(|c| (c.source, c.others.as_slice())).collect::<Vec<_>>(), [(0, &[1][..])]);
    }

    #[test]
    fn what_no_system_is_without_is_known_by_name_whatever_is_installed() {
        let text = format!(
            "Package: sand\nEssential: yes\nVersion: 1\nArchitecture: all\nFilename: a\nSize: 7\nSHA256: {SUM}\n\n\
             Package: salt\nPriority: required\nVersion: 1\nArchitecture: all\nFilename: c\nSize: 7\nSHA256: {SUM}\n\n\
             Package: quay\nEssential: no\nVersion: 1\nArchitecture: all\nFilename: b\nSize: 7\nSHA256: {SUM}\n"
        );
        let table = table(&[testing::verified(condensed(text.as_bytes()))]);
        assert_eq!(table.basic().collect::<Vec<_>>(), ["sand", "salt"]);
        assert!(table.named("sand").is_empty());
        assert_eq!(table.essential([&id("quay", "1", "all")].into_iter()), ["sand"], "they come from the same source");
        assert!(table.essential(std::iter::empty()).is_empty());
    }

    #[test]
    fn what_is_installed_only_when_it_is_asked_for_is_no_update() {
        let (stable, later) = (index(&[("quay", "1.9", "all")]), index(&[("quay", "2.0", "all")]));
        let (names, mut table) = (Names::new(["quay"].into_iter()), Table::default());
        table.add(0, false, &stable, &names);
        table.add(1, true, &later, &names);
        let quay = id("quay", "0", "all");
        assert_eq!((table.newest(&quay), table.offered(&quay)), (Some("2.0"), Some("1.9")));
    }

    /// A reader that returns a few bytes at a time.
    struct Slow<'a>(&'a [u8], usize);

    impl Read for Slow<'_> {
        fn read(&mut self, into: &mut [u8]) -> io::Result<usize> {
            let most = into.len().min(self.1);
            self.0.read(&mut into[..most])
        }
    }

    proptest::proptest! {
        #[test]
        fn an_index_that_is_read_in_pieces_is_condensed_to_the_same(seed: u64, most in 1usize..200) {
            let one = |name: &str| format!("Package: {name}\nVersion: 1\nArchitecture: all\nFilename: {name}\nSize: 7\nSHA256: {SUM}\n\n");
            let text = ["quay", "pier", "mole", "dock"].map(one).concat();
            let text = crate::testkit::mutated(text.as_bytes(), seed);
            proptest::prop_assert_eq!(condensed_from(&mut Slow(&text, most)).unwrap(), condensed(&text));
        }

        #[test]
        fn a_damaged_condensed_text_tells_only_sums_that_stand_in_it(seed: u64) {
            let text = crate::testkit::mutated(index(&[("quay", "1:2", "all"), ("pier", "1", "amd64")]).get(), seed);
            let words = String::from_utf8_lossy(&text).to_ascii_lowercase();
            let table = table(&[testing::verified(text)]);
            for id in ["quay", "pier"].iter().flat_map(|name| table.named(name)) {
                for candidate in table.candidates(&id) {
                    proptest::prop_assert!(words.contains(&candidate.sum.get().hex()) && words.contains(&id.version.to_ascii_lowercase()));
                }
            }
        }
    }
}
