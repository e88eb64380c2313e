//! The lists of modules in an initial file system, computed again from the modules that are in it.

use std::collections::{BTreeMap, BTreeSet};

use crate::formats::kernel_module::{ModuleInfo, module_of, named};
use crate::formats::module_index::{Pair, aliases, dependencies, trie};

/// The modules and the lists of an initial file system.
#[derive(Debug, Default)]
pub(super) struct ModuleLists {
    /// What each module says, by the path of its file below the folder of its kernel.
    modules: BTreeMap<String, ModuleInfo>,
    /// The lists, by their names.
    lists: BTreeMap<String, Vec<u8>>,
    /// Whether there are modules that could not be read, because they are compressed.
    has_unread: bool,
    /// The kernels whose modules they are.
    versions: BTreeSet<String>,
}

/// The lists that can be computed.
const COMPUTED: [&str; 7] = [
    "modules.dep",
    "modules.dep.bin",
    "modules.alias",
    "modules.alias.bin",
    "modules.symbols",
    "modules.symbols.bin",
    "modules.softdep",
];

impl ModuleLists {
    /// Whether a member is a module or a list of them, of which the content is needed.
    pub(super) fn wants(name: &str) -> bool {
        below(name).is_some_and(|path| module_of(path).is_some() || COMPUTED.contains(&path))
    }

    /// Adds a member.
    pub(super) fn add(&mut self, name: &str, content: &[u8]) {
        let Some(path) = below(name) else { return };
        self.versions.extend(version_of(name).filter(|_| module_of(path).is_some()).map(str::to_owned));
        if COMPUTED.contains(&path) {
            self.lists.insert(path.to_owned(), content.to_vec());
        } else {
            match crate::formats::kernel_module::module_info(content) {
                Some(info) => {
                    self.modules.insert(path.to_owned(), info);
                }
                None => self.has_unread = true,
            }
        }
    }

    /// The versions of the kernels of which there are modules.
    pub(super) fn versions(&self) -> impl Iterator<Item = &str> {
        self.versions.iter().map(|version| &**version)
    }

    /// Whether there are modules that could not be read.
    pub(super) fn has_unread(&self) -> bool {
        self.has_unread
    }

    /// The modules that a module needs itself; `None` if it is not here.
    pub(super) fn depends(&self, module: &str) -> Option<Vec<String>> {
        let (_, info) = self.modules.iter().find(|(path, _)| Self::name_of(path) == module)?;
        Some(info.depends.clone())
    }

    /// Whether the list by which modules are found contains one.
    pub(super) fn lists(&self, module: &str) -> bool {
        let pairs = self.lists.get("modules.dep.bin").and_then(|list| trie(list)).unwrap_or_default();
        pairs.iter().any(|(name, _)| named(name) == module)
    }

    /// The lists that are not what the modules say, and those that are.
    pub(super) fn compare(&self) -> (Vec<&str>, Vec<&str>) {
        let (mut wrong, mut right) = (Vec::new(), Vec::new());
        if self.has_unread || self.modules.is_empty() {
            return (wrong, right);
        }
        for (name, content) in &self.lists {
            match self.is_right(name, content) {
                true => right.push(&**name),
                false => wrong.push(&**name),
            }
        }
        (wrong, right)
    }

    fn is_right(&self, name: &str, content: &[u8]) -> bool {
        let set = |pairs: Vec<Pair>| pairs.into_iter().collect::<BTreeSet<Pair>>();
        match name {
            "modules.dep" => self.fits(dependencies(content)),
            // The value of each name is its line in the text.
            "modules.dep.bin" => trie(content).is_some_and(|pairs| {
                self.fits(pairs.iter().flat_map(|(_, line)| dependencies(line.as_bytes())).collect())
            }),
            "modules.alias" => set(aliases(content)) == self.aliases(),
            "modules.alias.bin" => trie(content).is_some_and(|pairs| set(pairs) == self.with_named(self.aliases())),
            "modules.symbols" => set(aliases(content)) == self.symbols(),
            "modules.symbols.bin" => trie(content).is_some_and(|pairs| set(pairs) == self.symbols()),
            _ => self.soft_depends() == soft_lines(content),
        }
    }

    /// In the trie, patterns are as they are matched: `-` counts as `_` outside of brackets.
    fn with_named(&self, pairs: BTreeSet<Pair>) -> BTreeSet<Pair> {
        pairs.into_iter().map(|(alias, module)| (underscored(&alias), module)).collect()
    }

    fn name_of(path: &str) -> String {
        module_of(path).unwrap_or_default()
    }

    /// Whether every module is listed with all modules that it needs, directly or through others, as far as they are here.
    fn fits(&self, listed: Vec<(String, Vec<String>)>) -> bool {
        let paths: BTreeMap<String, &String> = self.modules.keys().map(|path| (Self::name_of(path), path)).collect();
        let listed: BTreeMap<String, BTreeSet<String>> =
            listed.into_iter().map(|(path, needs)| (path, needs.into_iter().collect())).collect();
        listed.len() == self.modules.len()
            && self.modules.iter().all(|(path, info)| {
                let mut all: BTreeSet<String> = BTreeSet::new();
                let mut open: Vec<&ModuleInfo> = vec![info];
                while let Some(info) = open.pop() {
                    for needed in info.depends.iter().filter_map(|name| paths.get(name)) {
                        if all.insert((*needed).clone()) {
                            open.extend(self.modules.get(*needed));
                        }
                    }
                }
                listed.get(path) == Some(&all)
            })
    }

    fn pairs(&self, each: impl Fn(&ModuleInfo) -> Vec<String>) -> BTreeSet<Pair> {
        let of = |(path, info): (&String, &ModuleInfo)| {
            let module = Self::name_of(path);
            each(info).into_iter().map(move |key| (key, module.clone())).collect::<Vec<_>>()
        };
        self.modules.iter().flat_map(of).collect()
    }

    fn aliases(&self) -> BTreeSet<Pair> {
        self.pairs(|info| info.aliases.clone())
    }

    fn symbols(&self) -> BTreeSet<Pair> {
        self.pairs(|info| info.exports.iter().map(|symbol| format!("symbol:{symbol}")).collect())
    }

    fn soft_depends(&self) -> BTreeSet<Pair> {
        self.pairs(|info| info.soft_depends.clone())
    }
}

/// The lines of `modules.softdep`.
fn soft_lines(content: &[u8]) -> BTreeSet<Pair> {
    let text = String::from_utf8_lossy(content);
    let one = |line: &str| {
        let (module, rest) = line.strip_prefix("softdep ")?.split_once(' ')?;
        Some((rest.to_owned(), named(module)))
    };
    text.lines().filter_map(one).collect()
}

/// A pattern as it is matched: `-` counts as `_` outside of brackets.
pub(super) fn underscored(pattern: &str) -> String {
    let mut in_brackets = false;
    let letter = |c: char| {
        in_brackets = if c == '[' { true } else { in_brackets && c != ']' };
        if c == '-' && !in_brackets { '_' } else { c }
    };
    pattern.chars().map(letter).collect()
}

/// The part of a path below the folder of a kernel's modules.
fn below(name: &str) -> Option<&str> {
    Some(split(name)?.1)
}

/// The version of the kernel in a path of a module.
fn version_of(name: &str) -> Option<&str> {
    Some(split(name)?.0)
}

fn split(name: &str) -> Option<(&str, &str)> {
    name.strip_prefix("usr/").unwrap_or(name).strip_prefix("lib/modules/")?.split_once('/')
}
