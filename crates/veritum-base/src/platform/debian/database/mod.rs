//! dpkg's database as found: what can be read, what cannot, and what earlier copies still contain.

mod earlier;
mod recover;
pub(super) mod stanza;
mod suffixes;
mod witnesses;

pub use earlier::{Earlier, alternatives_backup, backups, earlier_copies};
pub use stanza::{Key, Stanza, pieces};
pub use suffixes::Suffixes;
pub use witnesses::changelog_of;

use std::collections::{BTreeMap, HashMap, HashSet};

use super::{in_database, last_versions, status};
use crate::machine::Machine;
use crate::model::{FileKind, SystemPath, error_chain};
use crate::platform::{Package, RecordProblem};

/// A larger status file is refused: the largest desktops have a tenth of it.
pub(super) const MAX_STATUS: u64 = 64 << 20;
/// No more than this many names in the info folder are examined.
const MAX_NAMES: usize = 1_000_000;
/// Further updates that dpkg has not merged yet are not read; dpkg itself merges them after 250.
const MAX_UPDATES: usize = 10_000;

/// The state of `status` as a file.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub enum StatusFile {
    /// It can be read.
    #[default]
    There,
    /// It does not exist.
    Missing,
    /// It cannot be read, with the reason.
    Unreadable(String),
    /// Another type of file is in its place.
    NotAFile,
}

/// Why the folder of the packages' records cannot be listed.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum InfoProblem {
    /// Another type of file is in its place.
    NotAFolder,
    /// It cannot be read, with the reason.
    Unreadable(String),
}

/// A piece of `status`, in file order.
#[derive(Debug, Clone)]
pub struct Piece {
    /// The entry, or why it cannot be parsed.
    pub read: Result<Stanza, String>,
}

/// An entry that `status` lacks, from an earlier copy.
#[derive(Debug, Clone)]
pub struct Recovered {
    /// The entry.
    pub stanza: Stanza,
    /// The version that was installed after that copy, by the package log.
    pub later: Option<String>,
}

/// An update that dpkg has not merged into `status` yet.
#[derive(Debug, Clone)]
pub struct Update {
    /// Its file.
    pub path: SystemPath,
    /// The entry, or why it cannot be parsed.
    pub read: Result<Stanza, String>,
}

/// dpkg's database as it was read.
#[derive(Debug, Clone, Default)]
pub struct Database {
    /// `status` as a file.
    pub file: StatusFile,
    /// Its pieces, with the unmerged updates applied.
    pub pieces: Vec<Piece>,
    /// The unmerged updates.
    pub updates: Vec<Update>,
    /// The records of each stem (`name` or `name:arch`).
    pub info: BTreeMap<String, Suffixes>,
    /// Why the folder of records cannot be read.
    pub info_problem: Option<InfoProblem>,
    /// Entries that exist only in earlier copies.
    pub recovered: Vec<Recovered>,
    /// Entries that marked a package as removed although its records still exist: corrected here to say that it is installed.
    pub revived: Vec<Key>,
    /// Packages with records or other evidence, but without an entry in any copy.
    pub lost: Vec<String>,
    /// Whether the last line of `status` lacks its end, at which dpkg would stop.
    pub unterminated: bool,
    /// Each package's last version in the package log, by name and architecture.
    pub logged: HashMap<Key, String>,
}

impl Database {
    /// Reads the database. Damage is reported in it; earlier copies are examined only if something is damaged. Of the package log only
    /// lines since a local time (`2026-03-02 14:10:03`) are evidence.
    #[must_use]
    pub fn read(machine: &Machine, logged_since: Option<&str>) -> Self {
        let mut database = Self { logged: last_versions(machine, logged_since), ..Self::default() };
        database.read_entries(machine);
        database.read_info(machine);
        database.revive(machine);
        let mut unnamed = database.unnamed();
        unnamed.extend(database.forgotten(machine));
        if database.is_damaged() || !unnamed.is_empty() {
            database.recover(machine, &unnamed);
        }
        database
    }

    /// Reads only the entries, without looking for packages whose entries are missing: that takes as long again. Where
    /// entries are visibly damaged, everything is read.
    #[must_use]
    pub fn read_briefly(machine: &Machine, logged_since: Option<&str>) -> Self {
        let mut database = Self::default();
        database.read_entries(machine);
        let is_torn = database.updates.iter().any(|update| update.read.is_err());
        if is_torn || database.is_damaged() { Self::read(machine, logged_since) } else { database }
    }

    fn read_entries(&mut self, machine: &Machine) {
        match machine.read_up_to(&in_database("status"), MAX_STATUS) {
            Ok(Some(mut text)) => {
                self.unterminated = text.last().is_some_and(|last| *last != b'\n');
                if self.unterminated {
                    text.push(b'\n');
                }
                self.pieces = stanza::pieces(&text).into_iter().map(piece).collect();
                if self.unterminated {
                    self.doubt_the_last(machine);
                }
            }
            Ok(None) => self.file = StatusFile::Missing,
            Err(_) if machine.is_no_file(&in_database("status")) => self.file = StatusFile::NotAFile,
            Err(e) => self.file = StatusFile::Unreadable(error_chain(&e)),
        }
        self.read_updates(machine);
    }

    /// The entries that can be parsed, in file order.
    pub fn stanzas(&self) -> impl Iterator<Item = &Stanza> {
        self.pieces.iter().filter_map(|p| p.read.as_ref().ok())
    }

    /// Why the other pieces cannot be parsed.
    pub fn garbled(&self) -> impl Iterator<Item = &str> {
        self.pieces.iter().filter_map(|p| p.read.as_ref().err()).map(String::as_str)
    }

    /// Whether `status` is visibly damaged.
    #[must_use]
    pub fn is_damaged(&self) -> bool {
        self.file != StatusFile::There || self.pieces.is_empty() || self.garbled().next().is_some()
    }

    /// Rebuilds `status`: its readable entries, with these in place of the entries of their packages, and what earlier copies
    /// still have. Pieces that cannot be parsed are left out.
    #[must_use]
    pub fn composed(&self, entries: &HashMap<Key, Vec<u8>>) -> Vec<u8> {
        let text = |stanza: &Stanza| entries.get(&stanza.key()).map_or(stanza.raw(), Vec::as_slice).to_owned();
        let mut all: Vec<(Key, Vec<u8>)> = self.stanzas().map(|s| (s.key(), text(s))).collect();
        let sorted = all.is_sorted_by(|a, b| a.0.0 <= b.0.0);
        let mut more: Vec<(Key, Vec<u8>)> = self.recovered.iter().map(|r| (r.stanza.key(), text(&r.stanza))).collect();
        let known: HashSet<Key> = all.iter().chain(&more).map(|(key, _)| key.clone()).collect();
        more.extend(entries.iter().filter(|(key, _)| !known.contains(*key)).map(|(k, t)| (k.clone(), t.clone())));
        more.sort();
        for (key, text) in more {
            // dpkg keeps its entries in order; where they are not, new ones are appended.
            let at = if sorted { all.partition_point(|(k, _)| k.0 <= key.0) } else { all.len() };
            all.insert(at, (key, text));
        }
        all.into_iter().flat_map(|(_, text)| [text.as_slice(), b"\n"].concat()).collect()
    }

    /// Adds the entry of a package of which only the name was known: its version has been determined.
    pub fn adopt(&mut self, stem: &str, stanza: Stanza) {
        self.lost.retain(|lost| lost != stem);
        self.recovered.push(Recovered { stanza, later: None });
    }

    /// The packages that have files in place, and what could not be read.
    #[must_use]
    pub fn packages(&self) -> (Vec<Package>, Vec<RecordProblem>) {
        let mut problems = Vec::new();
        let mut packages: Vec<Package> = Vec::new();
        let mut take = |read: Result<Option<Package>, String>| match read {
            Ok(package) => packages.extend(package),
            Err(what) => problems.push(RecordProblem { path: in_database("status"), what }),
        };
        self.stanzas().for_each(|stanza| take(status::package(stanza)));
        for recovered in &self.recovered {
            let read = status::package(&recovered.stanza);
            take(read.map(|package| package.map(|c| recovered.at_its_version(c))));
        }
        packages.sort_by(|a, b| a.id.cmp(&b.id));
        packages.dedup_by(|a, b| a.id.name == b.id.name && a.id.arch == b.id.arch);
        for stem in &self.lost {
            let what = format!("the installed version of {stem} is not recorded");
            problems.push(RecordProblem { path: in_database("status"), what });
        }
        (packages, problems)
    }

    /// Whether the last entry was truncated or only lacks its line end is decided by an earlier copy: whether it continues there.
    fn doubt_the_last(&mut self, machine: &Machine) {
        let Some(Piece { read: Ok(last) }) = self.pieces.last() else { return };
        let lines = |raw: &[u8]| raw.trim_ascii_end().split(|b| *b == b'\n').map(<[u8]>::to_vec).collect::<Vec<_>>();
        let Some(end) = lines(last.raw()).pop() else { return };
        let copies = earlier_copies(machine, "status");
        let copy = copies.iter().flat_map(Earlier::stanzas).find(|stanza| stanza.key() == last.key());
        let goes_on = copy.is_some_and(|copy| {
            let all = lines(copy.raw());
            let at = all.iter().position(|line| line.starts_with(&end));
            at.is_some_and(|at| at + 1 < all.len() || all[at].len() > end.len())
        });
        if goes_on && let Some(piece) = self.pieces.last_mut() {
            piece.read = Err("truncated in the middle of a line".into());
        }
    }

    fn read_updates(&mut self, machine: &Machine) {
        let folder = in_database("updates");
        let listed = machine.resolve(&folder).and_then(|real| machine.dir(&real)).and_then(|d| d.disk().list(d.fd()));
        let mut names: Vec<Vec<u8>> = listed.unwrap_or_default().into_iter().map(|(name, _)| name).collect();
        // dpkg's own names: digits only; other files are ignored.
        names.retain(|name| !name.is_empty() && name.iter().all(u8::is_ascii_digit));
        names.sort();
        for name in names.into_iter().take(MAX_UPDATES) {
            let Ok(path) = folder.child(&name) else { continue };
            let read = match machine.read_up_to(&path, 1 << 20) {
                Ok(text) => Stanza::of_status(&text.unwrap_or_default()),
                Err(e) => Err(error_chain(&e)),
            };
            if let Ok(stanza) = &read {
                self.enter(stanza);
            }
            self.updates.push(Update { path, read });
        }
    }

    /// Replaces an earlier entry with a later one.
    fn enter(&mut self, stanza: &Stanza) {
        let key = stanza.key();
        let piece = Piece { read: Ok(stanza.clone()) };
        match self.pieces.iter_mut().find(|p| p.read.as_ref().is_ok_and(|s| s.key() == key)) {
            Some(before) => *before = piece,
            None => self.pieces.push(piece),
        }
    }

    fn read_info(&mut self, machine: &Machine) {
        let folder = in_database("info");
        let listed = machine.resolve(&folder).and_then(|real| machine.dir(&real)).and_then(|d| d.disk().list(d.fd()));
        let listed = match listed {
            Ok(listed) => listed,
            Err(e) => {
                self.info_problem = Some(match machine.kind_at(&folder) {
                    None | Some(FileKind::Folder) => InfoProblem::Unreadable(crate::model::error_words(&e)),
                    Some(_) => InfoProblem::NotAFolder,
                });
                return;
            }
        };
        for (name, _) in listed.into_iter().take(MAX_NAMES) {
            let Some((stem, suffix)) = std::str::from_utf8(&name).ok().and_then(|n| n.rsplit_once('.')) else {
                continue;
            };
            if is_stem(stem) && !suffix.is_empty() {
                match self.info.get_mut(stem) {
                    Some(suffixes) => suffixes.insert(suffix),
                    None => self.info.entry(stem.to_owned()).or_default().insert(suffix),
                }
            }
        }
    }
}

impl Recovered {
    fn at_its_version(&self, mut package: Package) -> Package {
        if let Some(later) = &self.later
            && let Ok(id) = crate::model::PackageId::new(&package.id.name, later, &package.id.arch)
        {
            package.id = id;
        }
        package
    }
}

/// A piece counts as readable if it names a package: rejecting it would hide the package's files.
fn piece(raw: &[u8]) -> Piece {
    let read = Stanza::of_status(raw).and_then(|stanza| {
        let checked = status::check(&stanza);
        checked.map(|()| stanza).map_err(|why| format!("entry of {}: {why}", shown(raw)))
    });
    Piece { read }
}

/// The first line of an entry, for messages.
fn shown(raw: &[u8]) -> String {
    let line = raw.split(|b| *b == b'\n').next().unwrap_or_default();
    let name = line.split(|b| *b == b':').nth(1).unwrap_or_default();
    crate::model::readable(name.trim_ascii()).chars().take(60).collect()
}

/// Whether a file's name without its suffix is a package's, with or without its architecture.
fn is_stem(stem: &str) -> bool {
    let (name, arch) = stem.split_once(':').unwrap_or((stem, "all"));
    let word =
        |w: &str, more: &[u8]| !w.is_empty() && w.bytes().all(|b| b.is_ascii_alphanumeric() || more.contains(&b));
    word(name, b"+-.") && word(arch, b"-")
}

#[cfg(test)]
mod tests {
    use std::fs;
    use std::sync::Arc;

    use super::*;
    use crate::machine::LiveDisk;

    fn entry(name: &str, more: &str) -> String {
        format!("Package: {name}\nStatus: install ok installed\nVersion: 1\nArchitecture: all\n{more}\n")
    }

    struct Place(tempfile::TempDir);

    impl Place {
        fn new() -> Self {
            let dir = tempfile::tempdir().unwrap();
            for folder in ["var/lib/dpkg/info", "var/lib/dpkg/updates", "var/backups", "var/log", "usr", "etc"] {
                fs::create_dir_all(dir.path().join(folder)).unwrap();
            }
            Self(dir)
        }

        fn put(&self, path: &str, text: impl AsRef<[u8]>) -> &Self {
            fs::write(self.0.path().join("var").join(path), text).unwrap();
            self
        }

        fn read(&self) -> Database {
            Database::read(&Machine::open(self.0.path(), Arc::new(LiveDisk)).unwrap(), None)
        }
    }

    fn names(database: &Database) -> Vec<String> {
        database.packages().0.iter().map(|c| format!("{} {}", c.id.name, c.id.version)).collect()
    }

    #[test]
    fn something_else_in_the_place_of_the_table_or_the_folder_is_no_fault_of_the_medium() {
        let place = Place::new();
        let at = |path: &str| place.0.path().join("var/lib/dpkg").join(path);
        fs::create_dir(at("status")).unwrap();
        assert_eq!(place.read().file, StatusFile::NotAFile);
        fs::remove_dir(at("status")).unwrap();
        std::os::unix::fs::symlink("status", at("status")).unwrap();
        assert_eq!(place.read().file, StatusFile::NotAFile, "a link to itself");
        fs::remove_file(at("status")).unwrap();
        assert_eq!(place.read().file, StatusFile::Missing);
        assert_eq!(place.read().info_problem, None);
        fs::remove_dir(at("info")).unwrap();
        assert!(matches!(place.read().info_problem, Some(InfoProblem::Unreadable(_))), "missing");
        place.put("lib/dpkg/info", "a file");
        assert_eq!(place.read().info_problem, Some(InfoProblem::NotAFolder));
    }

    #[test]
    fn what_a_cut_table_lost_comes_from_the_newest_copy_that_has_it() {
        let place = Place::new();
        let whole = entry("berth", "") + &entry("quay", "Depends: rope\n") + &entry("rope", "");
        place.put("lib/dpkg/status", &whole[..whole.len() - 30]).put("lib/dpkg/status-old", &whole);
        for name in ["berth", "quay", "rope", "knot"] {
            place.put(&format!("lib/dpkg/info/{name}.list"), "/.\n");
        }
        place.put("backups/dpkg.status.0", entry("knot", "") + &entry("rope", "Depends: old\n"));
        let database = place.read();
        assert!(database.is_damaged() && database.lost.is_empty());
        assert_eq!(names(&database), ["berth 1", "knot 1", "quay 1", "rope 1"]);
        let made = database.composed(&HashMap::new());
        assert_eq!(
            String::from_utf8(made).unwrap(),
            entry("berth", "") + &entry("knot", "") + &entry("quay", "Depends: rope\n") + &entry("rope", "")
        );
    }

    #[test]
    fn the_log_knows_what_was_installed_after_the_copy_was_made() {
        let place = Place::new();
        place.put("lib/dpkg/status", "").put("lib/dpkg/status-old", entry("quay", "") + &entry("gone", ""));
        place.put("lib/dpkg/info/quay.list", "/.\n");
        let log = "2026-03-02 10:00:00 upgrade quay:all 1 2\n2026-03-02 10:00:01 remove gone:all 1 <none>\n";
        let database = place.put("log/dpkg.log", log).read();
        assert_eq!(names(&database), ["quay 2"]);
    }

    #[test]
    fn a_change_that_was_not_entered_yet_counts_and_a_torn_one_is_told() {
        let place = Place::new();
        place.put("lib/dpkg/status", entry("quay", "") + &entry("rope", ""));
        place.put(
            "lib/dpkg/updates/0001",
            entry("quay", "").replace("Version: 1", "Version: 2").trim_end().to_owned() + "\n",
        );
        place.put("lib/dpkg/updates/0002", b"\0\0\0\0").put("lib/dpkg/updates/tmp.i", "rest");
        let database = place.read();
        assert_eq!(names(&database), ["quay 2", "rope 1"]);
        assert_eq!(database.updates.iter().map(|u| u.read.is_ok()).collect::<Vec<_>>(), [true, false]);
        assert!(!database.is_damaged());
    }

    #[test]
    fn an_entry_that_calls_a_package_removed_is_contradicted_by_its_digests() {
        let place = Place::new();
        let gone = |name: &str| entry(name, "").replace("install ok installed", "deinstall ok config-files");
        place.put("lib/dpkg/status", gone("quay") + &gone("rope") + &gone("knot"));
        place.put("lib/dpkg/status-old", entry("quay", "").replace("install ok", "hold ok"));
        for file in ["quay.list", "quay.md5sums", "rope.list", "rope.postrm", "knot.list", "knot.md5sums"] {
            place.put(&format!("lib/dpkg/info/{file}"), "/.\n");
        }
        let database = place.read();
        assert_eq!(names(&database), ["knot 1", "quay 1"]);
        assert_eq!(database.stanzas().next().unwrap().get("Status"), Some("hold ok installed"));
        assert_eq!(database.revived.len(), 2);
    }

    #[test]
    fn read_briefly_evidence_without_an_entry_counts_only_where_entries_are_damaged() {
        let place = Place::new();
        let briefly = || Database::read_briefly(&Machine::open(place.0.path(), Arc::new(LiveDisk)).unwrap(), None);
        place.put("lib/dpkg/status", entry("quay", "")).put("lib/dpkg/info/rope.list", "/.\n");
        place.put("lib/dpkg/status-old", entry("quay", "") + &entry("rope", ""));
        assert_eq!(
            (names(&briefly()), names(&place.read())),
            (vec!["quay 1".into()], vec!["quay 1".into(), "rope 1".into()])
        );
        place.put("lib/dpkg/updates/0001", b"\0\0");
        assert_eq!(names(&briefly()), ["quay 1", "rope 1"], "a torn update");
        std::fs::remove_file(place.0.path().join("var/lib/dpkg/updates/0001")).unwrap();
        place.put("lib/dpkg/status", entry("quay", "") + "Package: ro");
        assert_eq!(names(&briefly()), ["quay 1", "rope 1"], "a truncated table");
    }

    #[test]
    fn of_what_no_copy_knows_at_least_the_name_is_told() {
        let place = Place::new();
        place.put("lib/dpkg/info/quay:amd64.list", "/.\n").put("lib/dpkg/info/no stem.list", "/.\n");
        let database = place.read();
        assert_eq!(
            (database.file.clone(), database.lost.as_slice()),
            (StatusFile::Missing, &["quay:amd64".to_owned()][..])
        );
    }
}
