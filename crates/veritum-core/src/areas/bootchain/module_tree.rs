//! The installed modules of a kernel: whether the lists by which they are found are valid, agree with each other, and name what is there
//! (depmod(8)); and the modules against their packages.

use std::collections::{BTreeMap, BTreeSet};
use std::io;

use rayon::prelude::*;

use super::counted;
use super::fault::{Fault, Faults, Stage};
use super::kernels::Kernel;
use super::module_lists::underscored;
use super::mount_modules::MountedKinds;
use super::packages::{Content, PackageFiles};
use crate::areas::{Cx, Examined};
use crate::formats::kernel_module::module_of;
use crate::formats::module_index::{Pair, aliases, dependencies, trie};
use crate::model::{Action, KnownBy, StartEffect, SystemPath, Verdict, quoted};

/// The list that a person reads, with what each module needs.
const DEPENDENCIES: &str = "modules.dep";
/// The other lists that there are as text, and as a binary trie, which programs read.
const OTHERS: [&str; 2] = ["modules.alias", SYMBOLS];
/// The list of what modules offer each other, by which none is loaded at a start.
const SYMBOLS: &str = "modules.symbols";

/// Why a list is not written.
const OF_TOOL: &str = "these lists are made by the system's own tool (depmod)";

/// Larger modules are not read, in bytes.
const MAX_MODULE: u64 = 64 << 20;
/// So many modules are named one by one.
const NAMED: usize = 3;

/// Judges a kernel's modules: the lists by which they are found, and with contents each of them.
pub(super) fn judge(
    cx: &Cx<'_>,
    (files, mounted): (&PackageFiles<'_>, &MountedKinds<'_>),
    kernel: &Kernel,
    with_contents: bool,
    faults: &mut Faults,
    examined: &mut Examined,
) {
    let Ok(folder) = SystemPath::literal("/lib/modules").child(kernel.version.as_bytes()) else { return };
    // Without it the kernel has no modules, which is reported with the kernel, or none of them was built as one.
    if !folder.child(b"kernel").is_ok_and(|path| files.exists(&path)) {
        return;
    }
    let needed = if kernel.is_default { mounted.modules(files, &kernel.version) } else { BTreeMap::new() };
    if kernel.is_default && mounted.is_unknown(files, &kernel.version) {
        let what = "which modules are needed to mount what fstab names";
        examined.leave_out(format!("{what}: /boot/config-{} cannot be read", kernel.version));
    }
    let mut tree = Tree { files, kernel, folder: &folder, needed, faults };
    let text = tree.dependencies();
    for list in OTHERS {
        tree.other(list);
    }
    if let Some(text) = text {
        tree.add_dependencies(&text);
        tree.files(&text, with_contents);
        if with_contents {
            tree.contents(cx, &text, examined);
        }
    }
}

/// The names of listed modules by their folders.
fn by_folder(listed: &[(String, Vec<String>)]) -> BTreeMap<&str, BTreeSet<&str>> {
    let mut folders: BTreeMap<&str, BTreeSet<&str>> = BTreeMap::new();
    for (path, _) in listed {
        let (folder, name) = path.rsplit_once('/').unwrap_or(("", path));
        folders.entry(folder).or_default().insert(name);
    }
    folders
}

struct Tree<'a, 'b> {
    files: &'a PackageFiles<'b>,
    kernel: &'a Kernel,
    folder: &'a SystemPath,
    /// The modules without which the start ends in emergency mode, each with the reason.
    needed: BTreeMap<String, String>,
    faults: &'a mut Faults,
}

impl Tree<'_, '_> {
    fn push(&mut self, name: &str, verdict: Verdict, cause: &str, is_used: bool) {
        let Ok(path) = self.folder.child(name.as_bytes()) else { return };
        let version = &self.kernel.version;
        let (effect, why) = match self.needed.iter().next() {
            _ if !is_used || !self.kernel.is_default => (StartEffect::Latent, String::new()),
            // By these lists they are found; how much of one is right is not examined.
            Some((module, why)) if verdict != Verdict::Inconsistent => {
                (StartEffect::BreaksStart, format!("; without it {module} is not found, and {why}"))
            }
            _ => (StartEffect::SlowsStart, String::new()),
        };
        let cause = format!("{cause}{why}");
        let fault = Fault::on_path(Stage::Mounts, &path, verdict, cause).effect(effect);
        let known = if verdict == Verdict::Corrupt { KnownBy::SelfProof } else { KnownBy::Derived };
        let action = Action::explained("have the lists made again, in the mounted system", format!("depmod {version}"));
        self.faults.push(fault.known_by(known).action(action).mended(Err(OF_TOOL.to_owned())));
    }

    /// Reads a list; `None` if it does not exist, or cannot be read, which is then reported.
    fn read(&mut self, name: &str, is_used: bool) -> Option<Vec<u8>> {
        match self.files.read(&self.folder.child(name.as_bytes()).ok()?) {
            Ok(Some(bytes)) => Some(bytes),
            Ok(None) => {
                self.push(name, Verdict::Missing, "modules are found by this list", is_used);
                None
            }
            Err(why) => {
                self.push(name, Verdict::Unreadable, &why, is_used);
                None
            }
        }
    }

    /// The pairs of a binary list, which programs read.
    fn binary(&mut self, list: &str) -> Option<Vec<Pair>> {
        let name = format!("{list}.bin");
        let is_used = list != SYMBOLS;
        let pairs = trie(&self.read(&name, is_used)?);
        if pairs.is_none() {
            let then = if is_used { ": drivers are not found by it" } else { "" };
            self.push(&name, Verdict::Corrupt, &format!("it is cut off, or no list of modules{then}"), is_used);
        }
        pairs
    }

    /// What each module needs, as programs read it, else as the text says it.
    fn dependencies(&mut self) -> Option<Vec<(String, Vec<String>)>> {
        let binary = self.binary(DEPENDENCIES);
        let binary: Option<Vec<_>> =
            binary.map(|pairs| pairs.iter().flat_map(|(_, line)| dependencies(line.as_bytes())).collect());
        let text = self.read(DEPENDENCIES, false).map(|text| dependencies(&text));
        if let Some(listed) = &binary {
            self.unlisted(listed);
        }
        let as_set = |all: &[(String, Vec<String>)]| all.iter().cloned().collect::<BTreeSet<_>>();
        if let (Some(binary), Some(text)) = (&binary, &text)
            && as_set(binary) != as_set(text)
        {
            self.differ(DEPENDENCIES);
        }
        binary.or(text)
    }

    /// Needed modules that are not listed: they are not found, if they are there at all.
    fn unlisted(&mut self, listed: &[(String, Vec<String>)]) {
        let names: BTreeSet<String> = listed.iter().filter_map(|(path, _)| module_of(path)).collect();
        let Ok(path) = self.folder.child(format!("{DEPENDENCIES}.bin").as_bytes()) else { return };
        for (name, why) in self.needed.iter().filter(|(name, _)| !names.contains(*name)) {
            let cause = format!("it does not name the module {name}; {why}");
            let fault = Fault::on_path(Stage::Mounts, &path, Verdict::Incomplete, cause).breaks();
            let action = Action::explained(
                "put the module back (its kernel's package), then have the lists made again, in the mounted system",
                format!("depmod {}", self.kernel.version),
            );
            self.faults.push(fault.known_by(KnownBy::Derived).action(action).mended(Err(OF_TOOL.to_owned())));
        }
    }

    fn other(&mut self, list: &str) {
        let binary = self.binary(list);
        let (Some(binary), Some(text)) = (binary, self.read(list, false)) else { return };
        let text: BTreeSet<Pair> =
            aliases(&text).into_iter().map(|(alias, module)| (underscored(&alias), module)).collect();
        let binary: BTreeSet<Pair> = binary.into_iter().map(|(alias, module)| (underscored(&alias), module)).collect();
        if binary != text {
            self.differ(list);
        }
    }

    fn differ(&mut self, list: &str) {
        let cause = format!("{list} and {list}.bin do not say the same; programs read the second");
        self.push(list, Verdict::Inconsistent, &cause, list != SYMBOLS);
    }

    /// Adds the modules that the needed ones need.
    fn add_dependencies(&mut self, listed: &[(String, Vec<String>)]) {
        let by_name: BTreeMap<String, &Vec<String>> =
            listed.iter().filter_map(|(path, needs)| Some((module_of(path)?, needs))).collect();
        let mut open: Vec<(String, String)> = self.needed.clone().into_iter().collect();
        while let Some((name, why)) = open.pop() {
            for other in
                by_name.get(&name).into_iter().flat_map(|needs| needs.iter()).filter_map(|path| module_of(path))
            {
                if !self.needed.contains_key(&other) {
                    self.needed.insert(other.clone(), why.clone());
                    open.push((other, why.clone()));
                }
            }
        }
    }

    /// Why a start needs a module.
    fn why(&self, path: &SystemPath) -> Option<&String> {
        self.needed.get(&module_of(&String::from_utf8_lossy(path.name()))?)
    }

    /// Whether the listed modules are there, and those that are there are listed.
    fn files(&mut self, listed: &[(String, Vec<String>)], with_contents: bool) {
        let (mut lost, mut unlisted) = (0, 0);
        for (folder, names) in by_folder(listed) {
            let Ok(path) = self.folder.join(folder.as_bytes()) else { continue };
            let Ok(there) = self.files.names(&path) else { continue };
            let there: BTreeSet<String> = there.iter().map(|name| String::from_utf8_lossy(name).into_owned()).collect();
            let gone: Vec<&str> = names.iter().copied().filter(|name| !there.contains(*name)).collect();
            lost += gone.len() as u64;
            let paths = gone.iter().filter_map(|name| path.child(name.as_bytes()).ok());
            let needed: Vec<SystemPath> = paths.filter(|path| !with_contents && self.why(path).is_some()).collect();
            self.wrong(Verdict::Missing, &needed);
            let is_new = |name: &&String| module_of(name).is_some() && !names.contains(&***name);
            unlisted += there.iter().filter(is_new).count() as u64;
        }
        // With contents, each of them is reported by itself.
        if lost > 0 && !with_contents {
            let cause =
                format!("it names {}", counted(lost, "module that does not exist", "modules that do not exist"));
            self.push(DEPENDENCIES, Verdict::Inconsistent, &cause, false);
        }
        if unlisted > 0 {
            let cause =
                format!("it does not name {}", counted(unlisted, "module that is there", "modules that are there"));
            self.push(DEPENDENCIES, Verdict::Inconsistent, &cause, false);
        }
    }

    /// Compares each module with its package.
    fn contents(&mut self, cx: &Cx<'_>, listed: &[(String, Vec<String>)], examined: &mut Examined) {
        let (files, own) = (self.files, self.folder);
        let folders: Vec<(&str, BTreeSet<&str>)> = by_folder(listed).into_iter().collect();
        let in_folder = |(folder, names): &(&str, BTreeSet<&str>)| {
            let Ok(folder) = own.join(folder.as_bytes()) else { return Vec::new() };
            let opened = files.open_folder(&folder);
            let one = |name: &&str| {
                let path = folder.child(name.as_bytes()).ok()?;
                let read = opened
                    .as_ref()
                    .map_err(|e| e.kind())
                    .and_then(|dir| dir.read(name.as_bytes(), MAX_MODULE).map_err(|e| e.kind()));
                let (verdict, size) = match read {
                    Ok(bytes) => match files.compare(&path, &bytes) {
                        Content::Right((_, authority)) => (Err(Some(authority)), bytes.len()),
                        Content::Different(_) => (Ok(Verdict::Altered), bytes.len()),
                        Content::Unowned => (Err(None), 0),
                    },
                    // Its package may have been removed since the list was made.
                    Err(io::ErrorKind::NotFound) => (files.owner(&path).map_or(Err(None), |_| Ok(Verdict::Missing)), 0),
                    Err(_) => (Ok(Verdict::Unreadable), 0),
                };
                Some((path, verdict, size))
            };
            names.iter().filter_map(one).collect()
        };
        let all: Vec<_> = cx.system.pool.install(|| folders.par_iter().flat_map_iter(in_folder).collect());
        let mut wrong: Vec<(Verdict, SystemPath)> = Vec::new();
        let mut unknown = 0;
        for (path, verdict, size) in all {
            let is_compared = verdict != Err(None);
            examined.coverage.examined += u64::from(is_compared);
            unknown += u64::from(!is_compared);
            examined.coverage.bytes += size as u64;
            match verdict {
                Ok(verdict) => wrong.push((verdict, path)),
                Err(Some(authority)) => *examined.coverage.verified_by.entry(authority).or_default() += 1,
                Err(None) => {}
            }
        }
        if unknown > 0 {
            let what = counted(unknown, "module", "modules");
            examined.note_extent(format!(
                "{what} of the kernel {} not compared: no known package ships them",
                self.kernel.version
            ));
        }
        for verdict in [Verdict::Missing, Verdict::Altered, Verdict::Unreadable] {
            let paths: Vec<SystemPath> =
                wrong.iter().filter(|(own, _)| *own == verdict).map(|(_, path)| path.clone()).collect();
            self.wrong(verdict, &paths);
        }
    }

    /// Reports modules that are not their packages': a driver is not there when it is needed.
    fn wrong(&mut self, verdict: Verdict, paths: &[SystemPath]) {
        let (known, what) = match verdict {
            Verdict::Missing => (KnownBy::Package, "its package ships it"),
            Verdict::Unreadable => (KnownBy::Medium, "it cannot be read"),
            _ => (KnownBy::Package, "it is not what its package ships"),
        };
        let (needed, paths): (Vec<SystemPath>, Vec<SystemPath>) =
            paths.iter().cloned().partition(|path| self.why(path).is_some());
        for path in needed {
            // Only the list of modules tells of one that no known package ships.
            let what = if self.files.owner(&path).is_none() { "the list of modules names it" } else { what };
            let cause = self.why(&path).map_or_else(String::new, |why| format!("{what}; {why}"));
            let path = self.files.listed(&path);
            let fault = Fault::on_path(Stage::Mounts, &path, verdict, cause).breaks().known_by(known);
            self.faults.push(fault.package(self.files.owner(&path)).action(self.files.repair(&path)));
        }
        if paths.len() > NAMED {
            let names: Vec<String> = paths.iter().take(NAMED).map(|path| quoted(path.name())).collect();
            let cause =
                format!("{} modules: {what}: {} and {} more", paths.len(), names.join(", "), paths.len() - NAMED);
            let fault = Fault::on_entry(Stage::Mounts, self.folder, "modules", verdict, cause);
            return self.faults.push(fault.latent().known_by(known).action(self.files.repair(self.folder)));
        }
        for path in &paths {
            let path = &self.files.listed(path);
            let fault = Fault::on_path(Stage::Mounts, path, verdict, what).latent().known_by(known);
            self.faults.push(fault.package(self.files.owner(path)).action(self.files.repair(path)));
        }
    }
}
