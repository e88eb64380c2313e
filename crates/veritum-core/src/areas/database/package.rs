//! The records of one package: its list, its digests, its scripts, its entry in `status`.

use std::collections::{BTreeMap, BTreeSet, HashMap, HashSet};
use std::sync::{Mutex, OnceLock, PoisonError};

use super::DATABASE;
use super::{RecordContent, RecordFault, RecordFix, Unknown, in_database, on_record, some_of};
use crate::machine::{Dir, Machine};
use crate::model::{
    Authority, Digest, EntryKind, FileKind, Finding, Md5, PackageId, PathMap, PathSet, Subject, SystemPath, Verdict,
    readable,
};
use crate::platform::debian::database::{Database, Stanza};
use crate::platform::debian::{info_list, info_md5sums, info_stems};
use crate::platform::{Package, SettingsFile};
use crate::reference::{Described, PackageJudge};
use crate::store::{Manifest, Records};

/// Larger records are refused, in bytes.
const MAX_RECORD: u64 = 64 << 20;
/// The scripts that dpkg runs: an additional one would be executed as well.
const SCRIPTS: [&str; 5] = ["config", "postinst", "postrm", "preinst", "prerm"];

/// The info folder, opened once for all packages; collects the problems of each.
pub struct RecordJudge<'a> {
    machine: &'a Machine,
    database: &'a Database,
    folder: SystemPath,
    dir: Option<Dir>,
    entries: BTreeMap<(&'a str, &'a str), &'a Stanza>,
    /// The packages whose lists contain a path; read when the first list lacks something.
    listed: OnceLock<HashMap<Vec<u8>, Vec<u32>>>,
    /// The problems, by the position of the package.
    found: Mutex<BTreeMap<usize, Vec<RecordFault>>>,
}

/// What is wrong with a record's content.
type Tell<'a> = dyn Fn(&[u8]) -> String + 'a;

/// What is at a record's place.
enum Found {
    Bytes(Vec<u8>),
    Nothing,
    Unreadable(String),
    NoFile,
}

impl PackageJudge for RecordJudge<'_> {
    fn judge(&self, at: usize, package: &Package, described: Option<&Described<'_>>) {
        let faults = self.faults_of(package, described);
        if !faults.is_empty() {
            self.found.lock().unwrap_or_else(PoisonError::into_inner).insert(at, faults);
        }
    }
}

impl<'a> RecordJudge<'a> {
    /// Opens the info folder.
    #[must_use]
    pub fn new(machine: &'a Machine, database: &'a Database) -> Self {
        let folder = in_database("info");
        let dir = machine.resolve(&folder).and_then(|real| machine.dir(&real)).ok();
        let all = database.stanzas().chain(database.recovered.iter().map(|r| &r.stanza));
        let entries = all.map(|s| ((s.name(), s.get("Architecture").unwrap_or_default()), s)).collect();
        Self { machine, database, folder, dir, entries, listed: OnceLock::new(), found: Mutex::default() }
    }

    /// The problems of the records, by package.
    #[must_use]
    pub fn into_faults(self) -> Vec<RecordFault> {
        self.found.into_inner().unwrap_or_else(PoisonError::into_inner).into_values().flatten().collect()
    }

    /// Judges one package's records; `described` is the content of a verified .deb file.
    fn faults_of(&self, package: &Package, described: Option<&Described<'_>>) -> Vec<RecordFault> {
        let mut one = One { judge: self, package, stem: self.stem(package), faults: Vec::new() };
        match described {
            Some(described) => {
                one.list(described);
                if let Some(records) = described.records {
                    one.members(described, records);
                    one.entry(described, records);
                }
            }
            None => one.by_themselves(),
        }
        one.faults
    }

    /// The stem of the package's records.
    fn stem(&self, package: &Package) -> String {
        let stems = info_stems(package);
        let known = stems.iter().find(|s| self.database.info.get(*s).is_some_and(|all| all.contains("list")));
        known.or_else(|| stems.iter().find(|s| self.database.info.contains_key(*s))).unwrap_or(&stems[0]).clone()
    }

    fn path(&self, stem: &str, suffix: &str) -> SystemPath {
        self.folder.join(format!("{stem}.{suffix}").as_bytes()).unwrap_or_else(|_| self.folder.clone())
    }

    fn read(&self, stem: &str, suffix: &str) -> Found {
        let Some(dir) = &self.dir else { return Found::Nothing };
        let name = format!("{stem}.{suffix}");
        match dir.read(name.as_bytes(), MAX_RECORD) {
            Ok(bytes) => Found::Bytes(bytes),
            Err(e) if e.kind() == std::io::ErrorKind::NotFound => Found::Nothing,
            Err(e) => match dir.look(name.as_bytes()) {
                Ok(Some(stat)) if stat.kind != FileKind::File => Found::NoFile,
                _ => Found::Unreadable(crate::model::error_words(&e)),
            },
        }
    }
}

struct One<'a> {
    judge: &'a RecordJudge<'a>,
    package: &'a Package,
    stem: String,
    faults: Vec<RecordFault>,
}

impl One<'_> {
    fn id(&self) -> &PackageId {
        &self.package.id
    }

    fn fault(
        &mut self,
        authority: Option<Authority>,
        suffix: &str,
        verdict: Verdict,
        cause: Option<String>,
        fix: Result<RecordFix, Unknown>,
    ) {
        let path = self.judge.path(&self.stem, suffix);
        let finding = Finding { cause, ..on_record(self.id(), authority, &path, verdict) };
        self.faults.push(RecordFault { finding, fix });
    }

    /// The list of paths: the package's own, with existing configuration files of earlier versions.
    fn list(&mut self, described: &Described<'_>) {
        let authority = Some(described.authority);
        let shipped: Vec<&SystemPath> = described.manifest.entries.iter().map(|e| &e.path).collect();
        let text = |more: &[SystemPath], without: &HashSet<SystemPath>| {
            let paths = shipped.iter().copied().filter(|p| !p.is_root() && !without.contains(*p)).chain(more);
            let mut text = b"/.\n".to_vec();
            for path in paths {
                text.extend_from_slice(path.as_bytes());
                text.push(b'\n');
            }
            text
        };
        let write = |more: &[SystemPath], without: &HashSet<SystemPath>| {
            Ok(RecordFix::Write { content: RecordContent::Bytes(text(more, without)), mode: 0o644 })
        };
        // Configuration files of earlier versions stay in the list until they are purged.
        let package = self.package;
        let old = || -> Vec<SystemPath> {
            let known: HashSet<&SystemPath> = shipped.iter().copied().collect();
            let settings = package.settings.iter().map(|s| &s.path);
            settings.filter(|path| !known.contains(path)).cloned().collect()
        };
        let nothing = HashSet::new();
        let bytes = match self.judge.read(&self.stem, "list") {
            Found::Bytes(bytes) => bytes,
            other => {
                let (verdict, cause) = other.told();
                return self.fault(authority, "list", verdict, cause, write(&old(), &nothing));
            }
        };
        // Identical to the package's, including unusual names: nothing else to check.
        if bytes == text(&[], &nothing) {
            return;
        }
        let (listed, whole) = match (info_list(&bytes), bytes.last() == Some(&b'\n')) {
            (Ok(listed), whole) => (listed, whole),
            (Err(why), _) => {
                return self.fault(authority, "list", Verdict::Corrupt, Some(why), write(&old(), &nothing));
            }
        };
        let old = old();
        let listed: PathSet = listed.into_iter().collect();
        let known: HashSet<&SystemPath> = shipped.iter().copied().chain(&old).collect();
        let lacking: Vec<&SystemPath> =
            shipped.iter().copied().filter(|p| !p.is_root() && !listed.contains(*p)).collect();
        let extra: Vec<&SystemPath> = listed.iter().filter(|p| !p.is_root() && !known.contains(p)).collect();
        // A path that another package took over is only in that package's list.
        let folders: HashSet<&SystemPath> = {
            let all = described.manifest.entries.iter();
            all.filter(|e| e.kind == EntryKind::Folder).map(|e| &e.path).collect()
        };
        let over = |p: &&&SystemPath| !folders.contains(**p) && self.judge.lists_elsewhere(p, &self.stem);
        let taken: HashSet<SystemPath> = lacking.iter().filter(over).map(|p| (*p).clone()).collect();
        let mut gone: Vec<String> =
            lacking.iter().filter(|p| !taken.contains(**p)).map(|p| readable(p.as_bytes())).collect();
        let mut more: Vec<String> = extra.iter().map(|p| readable(p.as_bytes())).collect();
        gone.sort();
        more.sort();
        if gone.is_empty() && more.is_empty() && whole {
            return;
        }
        let cause = match (gone.is_empty(), more.is_empty()) {
            (true, true) => "last line is truncated".to_owned(),
            (false, true) => format!("the entry {} is missing", some_of(&gone)),
            (true, false) => format!("lists {}, which its package does not contain", some_of(&more)),
            (false, false) => {
                format!("lists {} instead of {}", some_of(&more), some_of(&gone))
            }
        };
        let verdict = if whole { Verdict::Altered } else { Verdict::Corrupt };
        let kept: Vec<SystemPath> = old.into_iter().filter(|p| listed.contains(p)).collect();
        self.fault(authority, "list", verdict, Some(cause), write(&kept, &taken));
    }

    /// All other members of the control part, byte by byte.
    fn members(&mut self, described: &Described<'_>, records: &Records) {
        let have = self.judge.database.info.get(&self.stem).copied().unwrap_or_default();
        let mut known: BTreeSet<&str> = BTreeSet::from(["list"]);
        for member in &records.members {
            known.insert(&member.name);
            let content = RecordContent::Member { name: member.name.clone(), digest: member.blake3, size: member.size };
            self.member(described, &member.name, &member.blake3, content, None);
        }
        if let Some(bytes) = records.md5sums_bytes() {
            let told = |found: &[u8]| differing_sums(found, &bytes);
            let content = RecordContent::Bytes(bytes.clone());
            self.member(described, "md5sums", &Digest::hash(&bytes), content, Some(&told));
        }
        known.insert("md5sums");
        if let Some(bytes) = records.conffiles_bytes().filter(|_| !known.contains("conffiles")) {
            // Lines with a flag before the path are for unpacking only, and are optional.
            let plain = |bytes: &[u8]| -> BTreeSet<Vec<u8>> {
                bytes.split(|b| *b == b'\n').filter(|l| l.first() == Some(&b'/')).map(<[u8]>::to_vec).collect()
            };
            let same = matches!(self.judge.read(&self.stem, "conffiles"), Found::Bytes(found) if plain(&found) == plain(&bytes));
            if !same {
                self.member(described, "conffiles", &Digest::hash(&bytes), RecordContent::Bytes(bytes.clone()), None);
            }
            known.insert("conffiles");
        }
        for script in SCRIPTS.iter().filter(|s| have.contains(s) && !known.contains(**s)) {
            let cause = "not part of its package, and dpkg would run it".to_owned();
            self.fault(Some(described.authority), script, Verdict::Altered, Some(cause), Ok(RecordFix::SetAside));
        }
    }

    fn member(
        &mut self,
        described: &Described<'_>,
        suffix: &str,
        digest: &Digest,
        content: RecordContent,
        tell: Option<&Tell<'_>>,
    ) {
        let authority = Some(described.authority);
        let is_script = SCRIPTS.contains(&suffix);
        let mode = if is_script { 0o755 } else { 0o644 };
        let (verdict, cause) = match self.judge.read(&self.stem, suffix) {
            Found::Bytes(found) if Digest::hash(&found) == *digest => {
                if is_script && !self.is_executable(suffix) {
                    let cause = "dpkg cannot execute it".to_owned();
                    self.fault(authority, suffix, Verdict::WrongPermissions, Some(cause), Ok(RecordFix::Mode(mode)));
                }
                return;
            }
            Found::Bytes(found) if found.is_empty() => (Verdict::Altered, Some("empty file".into())),
            Found::Bytes(found) => (Verdict::Altered, tell.map(|tell| tell(&found))),
            other => other.told(),
        };
        self.fault(authority, suffix, verdict, cause, Ok(RecordFix::Write { content, mode }));
    }

    fn is_executable(&self, suffix: &str) -> bool {
        let name = format!("{}.{suffix}", self.stem);
        let stat = self.judge.dir.as_ref().and_then(|d| d.look(name.as_bytes()).ok().flatten());
        stat.is_none_or(|s| s.mode & 0o100 != 0)
    }

    /// The package's entry in `status`.
    fn entry(&mut self, described: &Described<'_>, records: &Records) {
        let id = self.package.id.clone();
        let Ok(control) = Stanza::parse(with_end(&records.control).as_bytes()) else { return };
        let Some(stanza) = self.judge.entries.get(&(id.name.as_str(), id.arch.as_str())).copied() else { return };
        let recovered = !self.judge.database.stanzas().any(|s| std::ptr::eq(s, stanza));
        let mut differs = stanza.differs_from(&control);
        let named: HashSet<SystemPath> = stanza.settings().into_iter().map(|s| s.path).collect();
        if records.conffiles.iter().any(|path| !named.contains(path)) {
            differs.push("Conffiles".into());
        }
        if differs.is_empty() && !recovered {
            return;
        }
        let before = stanza.get("Conffiles").unwrap_or_default();
        let settings = settings_text(before, &named, described.manifest, records, described.md5);
        let text = Stanza::composed(&control, &[stanza], &settings).raw().to_owned();
        let fix = Ok(RecordFix::Entry { key: (id.name.clone(), id.arch.clone()), text, lost: recovered });
        let subject = Subject::record(&in_database("status"), Some(&format!("{}:{}", id.name, id.arch)));
        let mut finding = Finding::on(DATABASE, subject, Verdict::Altered);
        finding.package = Some(id);
        finding.verified_by = Some(described.authority);
        finding.cause = Some(match recovered {
            true => "the package's entry is missing".into(),
            false => format!("the field {} differs from the package", some_of(&differs)),
        });
        self.faults.push(RecordFault { finding, fix });
    }

    /// Without a package as reference, records can only contradict each other or be malformed.
    fn by_themselves(&mut self) {
        let authority = Some(Authority::Local);
        let lost = || Err(Unknown::for_want_of_deb());
        let sums = match self.judge.read(&self.stem, "md5sums") {
            Found::Bytes(bytes) => match (info_md5sums(&bytes), bytes.is_empty() || bytes.ends_with(b"\n")) {
                (Ok(sums), true) => sums,
                (Ok(_), false) => {
                    let cause = "last line is truncated".to_owned();
                    return self.fault(authority, "md5sums", Verdict::Corrupt, Some(cause), lost());
                }
                (Err(why), _) => return self.fault(authority, "md5sums", Verdict::Corrupt, Some(why), lost()),
            },
            Found::Nothing => PathMap::default(),
            other => {
                let (verdict, cause) = other.told();
                return self.fault(authority, "md5sums", verdict, cause, lost());
            }
        };
        let bytes = match self.judge.read(&self.stem, "list") {
            Found::Bytes(bytes) => bytes,
            other => {
                let (verdict, cause) = other.told();
                return self.fault(authority, "list", verdict, cause, lost());
            }
        };
        let listed = match info_list(&bytes) {
            Ok(listed) if bytes.ends_with(b"\n") => listed,
            Ok(_) => {
                let cause = "last line is truncated".to_owned();
                return self.fault(authority, "list", Verdict::Corrupt, Some(cause), lost());
            }
            Err(why) => return self.fault(authority, "list", Verdict::Corrupt, Some(why), lost()),
        };
        let listed: PathSet = listed.into_iter().collect();
        // dpkg creates one if the package has none, except for packages without files.
        if sums.is_empty() && listed.iter().any(|path| self.is_shipped_file(path)) {
            let there = self.judge.database.info.get(&self.stem).is_some_and(|all| all.contains("md5sums"));
            let (verdict, cause) = match there {
                true => (Verdict::Corrupt, Some("empty file".to_owned())),
                false => (Verdict::Missing, None),
            };
            self.fault(authority, "md5sums", verdict, cause, lost());
        }
        let lacks = |path: &&SystemPath| !listed.contains(*path) && !self.judge.lists_elsewhere(path, &self.stem);
        let mut lacking: Vec<String> = sums.keys().filter(lacks).map(|p| readable(p.as_bytes())).collect();
        // A file that is only to be removed has no digest and is in no list.
        let lacks = |s: &&SettingsFile| !s.obsolete && s.md5.is_some() && !listed.contains(&s.path);
        lacking.extend(self.package.settings.iter().filter(lacks).map(|s| readable(s.path.as_bytes())));
        lacking.sort();
        if !lacking.is_empty() {
            let cause = format!("does not list {}, which the package's other files name", some_of(&lacking));
            self.fault(authority, "list", Verdict::Inconsistent, Some(cause), lost());
        }
    }
}

impl One<'_> {
    /// Whether a listed path is a file on the machine and not a configuration file.
    fn is_shipped_file(&self, path: &SystemPath) -> bool {
        let machine = self.judge.machine;
        let stat = || {
            let parent = machine.resolve(&path.parent()?).ok()?;
            machine.dir(&parent).ok()?.look(path.name()).ok()?
        };
        let is_settings = self.package.settings.iter().any(|s| s.path == *path);
        !is_settings && !path.is_root() && stat().is_some_and(|s| s.kind == FileKind::File)
    }
}

impl RecordJudge<'_> {
    /// Whether the list of another package contains a path.
    fn lists_elsewhere(&self, path: &SystemPath, stem: &str) -> bool {
        let name = |stem: &str| stem.split(':').next().unwrap_or_default().to_owned();
        let stems: Vec<&String> = self.database.info.keys().collect();
        let listed = self.listed.get_or_init(|| {
            let mut listed: HashMap<Vec<u8>, Vec<u32>> = HashMap::new();
            for (at, stem) in stems.iter().enumerate() {
                let Found::Bytes(bytes) = self.read(stem, "list") else { continue };
                let at = u32::try_from(at).unwrap_or(u32::MAX);
                bytes.split(|b| *b == b'\n').for_each(|line| listed.entry(line.to_vec()).or_default().push(at));
            }
            listed
        });
        let others = listed.get(path.as_bytes()).into_iter().flatten();
        others.into_iter().any(|at| stems.get(*at as usize).is_some_and(|other| name(other) != name(stem)))
    }
}

impl Found {
    fn told(self) -> (Verdict, Option<String>) {
        match self {
            Self::Nothing | Self::Bytes(_) => (Verdict::Missing, None),
            Self::NoFile => (Verdict::WrongType, None),
            Self::Unreadable(why) => (Verdict::Unreadable, Some(why)),
        }
    }
}

/// An entry's configuration files: its own (`before`), then those of the package that it lacks.
#[must_use]
pub fn settings_text(
    before: &str,
    named: &HashSet<SystemPath>,
    manifest: &Manifest,
    records: &Records,
    md5: &dyn Fn(&Digest, u64) -> Option<Md5>,
) -> String {
    let mut text = before.to_owned();
    for path in records.conffiles.iter().filter(|path| !named.contains(*path)) {
        let md5 = match manifest.entries.iter().find(|e| e.path == *path).map(|e| &e.kind) {
            Some(EntryKind::File { size, digest, .. }) => md5(digest, *size),
            _ => None,
        };
        // dpkg's placeholder for a configuration file whose digest it does not know yet.
        let md5 = md5.map_or_else(|| "newconffile".to_owned(), |md5| md5.to_hex());
        text.push_str(&format!("\n {} {md5}", String::from_utf8_lossy(path.as_bytes())));
    }
    text
}

/// The lines in which a table of digests differs from the package's.
fn differing_sums(found: &[u8], right: &[u8]) -> String {
    let Ok(found) = info_md5sums(found) else { return "not a list of checksums".into() };
    let Ok(right) = info_md5sums(right) else { return String::new() };
    let mut differing: Vec<String> =
        right.iter().filter(|(p, md5)| found.get(*p) != Some(md5)).map(|(p, _)| readable(p.as_bytes())).collect();
    differing.sort();
    match differing.len() {
        0 => "differs from the package".into(),
        1 => format!("the checksum of {} differs from the package", differing[0]),
        n => format!("{n} of {} checksums differ from the package, {} first", right.len(), differing[0]),
    }
}

fn with_end(text: &str) -> std::borrow::Cow<'_, str> {
    match text.ends_with('\n') {
        true => text.into(),
        false => format!("{text}\n").into(),
    }
}
