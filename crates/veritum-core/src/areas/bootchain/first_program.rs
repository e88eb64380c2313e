//! The first program of the installed system, with everything without which it is not started: its libraries, the folders on which the
//! initial file system mounts, and systemd's first targets. What is needed is found first, and then compared with its packages.

use std::collections::BTreeSet;

use super::fault::{Fault, Faults, Stage};
use super::menu::Started;
use super::packages::{Content, PackageFiles, without_dots};
use crate::areas::Examined;
use crate::formats::program::program_needs;
use crate::model::{Action, KnownBy, SystemPath, Verdict};

/// What the kernel, or the initial file system, starts if no argument says otherwise.
const INIT: &str = "/sbin/init";
/// What the initial file system has mounted moves here.
const FOLDERS: [&str; 4] = ["/dev", "/proc", "/run", "/sys"];
/// Where systemd finds its units (systemd.unit(5)).
pub(super) const UNITS: [&str; 4] =
    ["/etc/systemd/system", "/usr/local/lib/systemd/system", "/lib/systemd/system", "/usr/lib/systemd/system"];
/// The targets that come before all others.
pub(super) const TARGETS: [&str; 3] = ["sysinit.target", "basic.target", "local-fs.target"];
/// Where the dynamic linker looks for libraries, beside the folder in which it is itself (ld.so(8)).
const LIBRARIES: [&str; 4] = ["/lib", "/usr/lib", "/lib64", "/usr/lib64"];
/// More programs and libraries are not followed.
const MAX_PROGRAMS: usize = 200;

/// What a needed file is.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
enum Kind {
    Folder,
    Program,
    Library,
    Target,
}

/// Something without which the installed system does not start as it should.
#[derive(Debug)]
pub(super) struct Needed {
    kind: Kind,
    /// Where it can be; the best place first.
    places: Vec<SystemPath>,
    /// Where it is, symlinks followed.
    found: Option<SystemPath>,
    /// A symlink that is one of the places and leads to what does not exist, and where it leads.
    broken: Option<(SystemPath, SystemPath)>,
    why: String,
}

impl Needed {
    /// The paths at which packages can ship it.
    pub(super) fn paths(&self) -> impl Iterator<Item = SystemPath> + '_ {
        let led = self.broken.iter().map(|(_, target)| target);
        self.places.iter().chain(&self.found).chain(led).cloned()
    }
}

/// Finds what is needed to start with the arguments of the menu's default entry.
pub(super) fn find(files: &PackageFiles<'_>, started: Option<&Started>) -> Vec<Needed> {
    let path = first_program(started);
    let mut search = Search { files, needed: Vec::new(), seen: BTreeSet::new(), loaded: BTreeSet::new(), linker: None };
    for folder in FOLDERS.map(SystemPath::literal) {
        search.add(Kind::Folder, vec![folder], "what the kernel provides is mounted there".to_owned());
    }
    search.add(Kind::Program, vec![path.clone()], "it is the first program of the system".to_owned());
    search.follow();
    if is_systemd(files, started) {
        let first = default_target(started);
        for name in std::iter::once(first).chain(TARGETS) {
            let places = UNITS.iter().filter_map(|folder| SystemPath::literal(folder).child(name.as_bytes()).ok());
            search.add(Kind::Target, places.collect(), "systemd starts less than it should without it".to_owned());
        }
    }
    search.needed
}

/// The first program with the arguments of a menu entry.
fn first_program(started: Option<&Started>) -> SystemPath {
    let words = started.map(|started| &started.arguments[..]).unwrap_or_default();
    let named = words.iter().rev().find_map(|word| word.strip_prefix("init="));
    named.and_then(|path| SystemPath::parse(path.as_bytes()).ok()).unwrap_or_else(|| SystemPath::literal(INIT))
}

/// Whether the first program is systemd.
pub(super) fn is_systemd(files: &PackageFiles<'_>, started: Option<&Started>) -> bool {
    files.physical(&first_program(started)).is_some_and(|path| path.name() == b"systemd")
}

/// The unit that systemd starts with the arguments of a menu entry (systemd(1), kernel-command-line(7)).
pub(super) fn default_target(started: Option<&Started>) -> &str {
    let named = |word: &'_ String| match &**word {
        "single" | "rescue" | "s" | "S" | "1" => Some("rescue.target"),
        "emergency" | "-b" => Some("emergency.target"),
        _ => None,
    };
    let words = started.map(|started| &started.arguments[..]).unwrap_or_default();
    let found = words.iter().rev().find_map(|word| word.strip_prefix("systemd.unit=").or_else(|| named(word)));
    found.unwrap_or("default.target")
}

struct Search<'a, 'b> {
    files: &'a PackageFiles<'b>,
    needed: Vec<Needed>,
    seen: BTreeSet<SystemPath>,
    /// The names of libraries that are loaded already: the dynamic linker searches no other ones.
    loaded: BTreeSet<String>,
    /// The folder of the dynamic linker, in which the system's libraries are, too.
    linker: Option<SystemPath>,
}

impl Search<'_, '_> {
    fn add(&mut self, kind: Kind, places: Vec<SystemPath>, why: String) {
        let found = places.iter().find_map(|place| self.files.physical(place));
        let key = found.as_ref().or(places.first());
        if key.is_some_and(|key| self.seen.insert(key.clone())) {
            let is_missing = found.is_none();
            let mut broken = places.iter().filter_map(|place| Some((place.clone(), self.files.leads_to(place)?)));
            let broken = broken.next().filter(|_| is_missing);
            self.needed.push(Needed { kind, places, found, broken, why });
        }
    }

    /// Adds what the programs need, directly or through others.
    fn follow(&mut self) {
        let mut at = 0;
        while at < self.needed.len().min(MAX_PROGRAMS) {
            let one = &self.needed[at];
            at += 1;
            let Some(path) = one.found.clone().filter(|_| one.kind != Kind::Folder) else { continue };
            let bytes = self.files.read(&path).ok().flatten().unwrap_or_default();
            let Some(needs) = program_needs(&bytes) else { continue };
            if let Some(linker) = needs.interpreter.and_then(|linker| SystemPath::parse(linker.as_bytes()).ok()) {
                self.linker = self.files.physical(&linker).and_then(|linker| linker.parent()).or(self.linker.take());
                self.add(Kind::Program, vec![linker], format!("{path} is started by it"));
            }
            let folders = self.folders(&path, &needs.search);
            for library in needs.libraries {
                if !self.loaded.insert(library.clone()) {
                    continue;
                }
                let places = folders.iter().filter_map(|folder| folder.child(library.as_bytes()).ok());
                self.add(Kind::Library, places.collect(), format!("{path} needs it"));
            }
        }
    }

    /// The folders in which a program's libraries are searched.
    fn folders(&self, path: &SystemPath, search: &[String]) -> Vec<SystemPath> {
        let origin = path.parent().map(|folder| folder.to_string()).unwrap_or_default();
        let own = search.iter().map(|folder| folder.replace("$ORIGIN", &origin).replace("${ORIGIN}", &origin));
        let own = own.filter_map(|folder| without_dots(&folder));
        let linker = self.linker.clone().map_or_else(|| self.of_architectures(), |folder| vec![folder]);
        own.chain(linker).chain(LIBRARIES.map(SystemPath::literal)).collect()
    }

    /// The folders with the libraries of each architecture: `/usr/lib/x86_64-linux-gnu`.
    fn of_architectures(&self) -> Vec<SystemPath> {
        let folder = SystemPath::literal("/usr/lib");
        let names = self.files.names(&folder).unwrap_or_default();
        let is_one = |name: &&Vec<u8>| name.windows(7).any(|part| part == b"-linux-");
        names.iter().filter(is_one).filter_map(|name| folder.child(name).ok()).collect()
    }
}

/// Judges what is needed: whether it is there, and what its package ships.
pub(super) fn judge(files: &PackageFiles<'_>, needed: &[Needed], faults: &mut Faults, examined: &mut Examined) {
    for one in needed {
        examined.coverage.examined += 1;
        match &one.found {
            None => missing(files, one, faults),
            Some(path) if matches!(one.kind, Kind::Program | Kind::Library) => {
                content(files, path, one, faults, examined)
            }
            Some(_) => {}
        }
    }
}

/// A fault of a file without which the system does not start.
fn fault(files: &PackageFiles<'_>, path: &SystemPath, verdict: Verdict, cause: String) -> Fault {
    Fault::on_path(Stage::FirstProgram, path, verdict, cause)
        .breaks()
        .package(files.owner(path))
        .action(files.repair(path))
}

fn missing(files: &PackageFiles<'_>, one: &Needed, faults: &mut Faults) {
    let owned = one.places.iter().find(|place| files.owner(place).is_some());
    let (path, cause) = match (&one.broken, owned.or(one.places.first())) {
        // The link is there: what it leads to is put back.
        (Some((link, target)), _) => (target, format!("{link} leads to it; {}", one.why)),
        (None, Some(path)) => (path, one.why.clone()),
        (None, None) => return,
    };
    let known = if files.owner(path).is_some() { KnownBy::Package } else { KnownBy::Derived };
    let fault = fault(files, path, Verdict::Missing, cause).known_by(known);
    let fault = match one.kind {
        Kind::Folder => {
            let make = Action::explained("make the folder, in the mounted system", format!("mkdir -m 755 {path}"));
            fault.action(make).mended(Err("it is a protected place: nothing is written there".to_owned()))
        }
        _ => fault,
    };
    // A library that no package is known to ship can be in a folder that only the dynamic linker's own list names.
    faults.push(fault.breaks_if(one.kind != Kind::Library || owned.is_some()));
}

fn content(files: &PackageFiles<'_>, path: &SystemPath, one: &Needed, faults: &mut Faults, examined: &mut Examined) {
    if one.kind == Kind::Program && !files.is_executable(path) {
        let cause = format!("it cannot be executed; {}", one.why);
        faults.push(fault(files, path, Verdict::WrongPermissions, cause).known_by(KnownBy::Derived));
    }
    let bytes = match files.read(path) {
        Ok(bytes) => bytes.unwrap_or_default(),
        Err(cause) => return faults.push(fault(files, path, Verdict::Unreadable, cause).known_by(KnownBy::Medium)),
    };
    examined.coverage.bytes += bytes.len() as u64;
    match files.compare(path, &bytes) {
        Content::Right((_, authority)) => *examined.coverage.verified_by.entry(authority).or_default() += 1,
        Content::Different(_) => {
            let cause = format!("it is not what its package ships; {}", one.why);
            faults.push(fault(files, path, Verdict::Altered, cause).known_by(KnownBy::Package));
        }
        Content::Unowned if bytes.is_empty() => {
            let cause = format!("it is empty; {}", one.why);
            faults.push(fault(files, path, Verdict::Truncated, cause).known_by(KnownBy::SelfProof));
        }
        Content::Unowned => examined.leave_out(format!("{path}: no known package ships it; {}", one.why)),
    }
}
