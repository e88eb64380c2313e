//! The installed modules of a kernel: whether the lists by which they are found are valid, agree with each other, and name what is there
//! (depmod(8)). What the modules contain is compared with their packages by another area.

use std::collections::{BTreeMap, BTreeSet};

use super::fault::{Fault, Faults, Stage};
use super::kernels::Kernel;
use super::module_lists::underscored;
use super::{counted, packages::PackageFiles};
use crate::formats::kernel_module::module_of;
use crate::formats::module_index::{Pair, aliases, dependencies, trie};
use crate::model::{Action, KnownBy, StartEffect, SystemPath, Verdict};

/// The list that a person reads, with what each module needs.
const DEPENDENCIES: &str = "modules.dep";
/// The other lists that there are as text, and as a binary trie, which programs read.
const OTHERS: [&str; 2] = ["modules.alias", "modules.symbols"];

/// Judges the lists in a kernel's folder of modules.
pub(super) fn judge(files: &PackageFiles<'_>, kernel: &Kernel, folder: &SystemPath, faults: &mut Faults) {
    let mut tree = Tree { files, kernel, folder, faults };
    let text = tree.dependencies();
    for list in OTHERS {
        tree.other(list);
    }
    if let Some(text) = text {
        tree.files(&text);
    }
}

struct Tree<'a, 'b> {
    files: &'a PackageFiles<'b>,
    kernel: &'a Kernel,
    folder: &'a SystemPath,
    faults: &'a mut Faults,
}

impl Tree<'_, '_> {
    fn push(&mut self, name: &str, verdict: Verdict, cause: &str, is_used: bool) {
        let Ok(path) = self.folder.child(name.as_bytes()) else { return };
        let version = &self.kernel.version;
        let effect = if is_used && self.kernel.is_default { StartEffect::SlowsStart } else { StartEffect::Latent };
        let fault = Fault::on_path(Stage::Mounts, &path, verdict, cause).effect(effect);
        let known = if verdict == Verdict::Corrupt { KnownBy::SelfProof } else { KnownBy::Derived };
        let action = Action::explained("have the lists made again, in the mounted system", format!("depmod {version}"));
        self.faults.push(fault.known_by(known).action(action));
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
        let pairs = trie(&self.read(&name, true)?);
        if pairs.is_none() {
            self.push(
                &name,
                Verdict::Corrupt,
                "it is cut off, or no list of modules: drivers are not found by it",
                true,
            );
        }
        pairs
    }

    /// What the text says that each module needs.
    fn dependencies(&mut self) -> Option<Vec<(String, Vec<String>)>> {
        let binary = self.binary(DEPENDENCIES);
        let text = dependencies(&self.read(DEPENDENCIES, false)?);
        let as_set = |all: &[(String, Vec<String>)]| all.iter().cloned().collect::<BTreeSet<_>>();
        let listed: Option<Vec<_>> =
            binary.map(|pairs| pairs.iter().flat_map(|(_, line)| dependencies(line.as_bytes())).collect());
        if listed.is_some_and(|listed| as_set(&listed) != as_set(&text)) {
            self.differ(DEPENDENCIES);
        }
        Some(text)
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
        self.push(list, Verdict::Inconsistent, &cause, true);
    }

    /// Whether the listed modules are there, and those that are there are listed.
    fn files(&mut self, listed: &[(String, Vec<String>)]) {
        let mut folders: BTreeMap<&str, BTreeSet<&str>> = BTreeMap::new();
        for (path, _) in listed {
            let (folder, name) = path.rsplit_once('/').unwrap_or(("", path));
            folders.entry(folder).or_default().insert(name);
        }
        let (mut lost, mut unlisted) = (0, 0);
        for (folder, names) in folders {
            let Ok(path) = self.folder.join(folder.as_bytes()) else { continue };
            let Ok(there) = self.files.names(&path) else { continue };
            let there: BTreeSet<String> = there.iter().map(|name| String::from_utf8_lossy(name).into_owned()).collect();
            lost += names.iter().filter(|name| !there.contains(**name)).count() as u64;
            let is_new = |name: &&String| module_of(name).is_some() && !names.contains(&***name);
            unlisted += there.iter().filter(is_new).count() as u64;
        }
        if lost > 0 {
            let cause =
                format!("it names {}", counted(lost, "module that does not exist", "modules that do not exist"));
            self.push(DEPENDENCIES, Verdict::Inconsistent, &cause, false);
        }
        if unlisted > 0 {
            let cause = format!("it does not name {} beside the others", counted(unlisted, "module", "modules"));
            self.push(DEPENDENCIES, Verdict::Inconsistent, &cause, false);
        }
    }
}
