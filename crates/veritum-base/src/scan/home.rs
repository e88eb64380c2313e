//! The data of an application in one home, by its card: found, classified, and grouped into parts that can be moved as one.
//!
//! Homes are hostile: symlinks are never followed, other file systems never entered; what belongs to another user, is not a
//! plain file, or looks like user data counts as user data. Everything is limited in size.

use std::collections::BTreeMap;
use std::os::fd::AsFd as _;

use serde::{Deserialize, Serialize};

use crate::apps::{Bases, Card, Class, UNSAVED_WORK, looks_user_authored};
use crate::machine::Dir;
use crate::model::{FileKind, Stat};

/// Deeper folders are not searched.
const MAX_DEPTH: usize = 128;
/// More files with unsaved work are only counted.
const MAX_UNSAVED: usize = 100;
/// The bytes at a file's beginning that are read to recognise user data.
const TELLING: usize = 128;

/// A number of names, files and bytes.
#[derive(Debug, Clone, Copy, Default, PartialEq, Eq, Serialize, Deserialize)]
pub struct Tally {
    /// Files, symlinks and other objects that are not folders.
    pub files: u64,
    /// Their sizes in bytes.
    pub bytes: u64,
}

impl Tally {
    fn add(&mut self, bytes: u64) {
        self.files += 1;
        self.bytes = self.bytes.saturating_add(bytes);
    }
}

/// The amount of data of one class and kind.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct AppDataItem {
    /// Their class.
    pub class: Class,
    /// The user's name for them.
    pub what: Option<String>,
    /// The amount.
    pub tally: Tally,
}

/// The data of an application in a home.
#[derive(Debug, Clone, Default, PartialEq, Eq, Serialize, Deserialize)]
pub struct AppData {
    /// The amount of each class and kind.
    pub parts: Vec<AppDataItem>,
    /// The parts that can be moved as one: paths relative to the home with their class, none below another. They contain no
    /// user data.
    pub tops: Vec<(Class, Vec<u8>)>,
    /// What was left out, by path relative to the home, and why.
    pub left: Vec<(Vec<u8>, String)>,
    /// Files with work that was not saved yet, relative to the home; not more than a hundred.
    #[serde(default)]
    pub unsaved: Vec<Vec<u8>>,
    /// Whether there are more names than the limit: then nothing may be moved.
    pub too_many: bool,
    /// The base directories.
    #[serde(default)]
    pub bases: Bases,
}

/// The parts to move; user data never is.
#[derive(Debug, Clone, Default, PartialEq, Eq, Serialize, Deserialize)]
pub struct Choice {
    /// Only these classes.
    pub classes: Vec<Class>,
    /// Except these kinds.
    pub keep: Vec<String>,
}

impl Choice {
    /// Everything that is not user data.
    #[must_use]
    pub fn everything() -> Self {
        let classes = vec![Class::Settings, Class::Cache, Class::State, Class::Locks, Class::AddOns];
        Self { classes, keep: Vec::new() }
    }

    /// Whether data of that class and kind is to be moved.
    #[must_use]
    pub fn takes(&self, class: Class, what: Option<&str>) -> bool {
        let kept = what.is_some_and(|what| self.keep.iter().any(|keep| keep == what));
        class != Class::Own && self.classes.contains(&class) && !kept
    }
}

/// What the search of a home needs.
#[derive(Clone, Copy)]
pub struct HomeCase<'a> {
    /// The application's card.
    pub card: &'a Card,
    /// The base directories.
    pub bases: &'a Bases,
    /// The owner of the home.
    pub owner: u32,
    /// The limit of names.
    pub most: u64,
    /// The parts to move.
    pub choice: &'a Choice,
}

/// Searches a home for an application's data.
#[must_use]
pub fn app_data(home: &Dir, case: &HomeCase<'_>) -> AppData {
    let mut look = Look::new(home, case);
    look.folder(home, &mut Vec::new(), 0);
    let mut found = look.found;
    found.bases = case.bases.clone();
    let part = |((class, what), tally)| AppDataItem { class, what, tally };
    found.parts = look.parts.into_iter().map(part).collect();
    found.tops.sort();
    found.unsaved.sort();
    if found.too_many {
        found.tops.clear();
    }
    found
}

/// A file or folder of an application, as it is found.
pub(super) struct Visit<'a> {
    /// The open folder that contains it.
    pub(super) dir: &'a Dir,
    /// Its name in that folder.
    pub(super) name: &'a [u8],
    /// Its path relative to the home.
    pub(super) path: &'a [u8],
    /// Its class.
    pub(super) class: Class,
    /// Its status.
    pub(super) stat: &'a Stat,
}

/// Visits everything of an application in a home, folders before their contents; returns whether there are more names than
/// the limit.
pub(super) fn each(home: &Dir, case: &HomeCase<'_>, see: &mut dyn FnMut(Visit<'_>)) -> bool {
    let mut look = Look::new(home, case);
    look.see = Some(see);
    look.folder(home, &mut Vec::new(), 0);
    look.found.too_many
}

/// Whether an object in an open folder, at `path` below the home, belongs to the application with everything in it.
#[must_use]
pub(super) fn whole(dir: &Dir, name: &[u8], path: &[u8], case: &HomeCase<'_>) -> bool {
    let mut look = Look::new(dir, case);
    let depth = path.iter().filter(|byte| **byte == b'/').count();
    look.visit(dir, name, &mut path.to_vec(), depth).is_some() && !look.found.too_many
}

struct Look<'a> {
    case: &'a HomeCase<'a>,
    found: AppData,
    parts: BTreeMap<(Class, Option<String>), Tally>,
    names: u64,
    /// Receives everything that is found.
    see: Option<&'a mut dyn FnMut(Visit<'_>)>,
    /// The mount and device within which files can be moved.
    within: Option<(u64, u64)>,
}

fn within(dir: &Dir) -> Option<(u64, u64)> {
    Some((dir.disk().mount_of(dir.fd()).ok()?, dir.look_self().ok()?.id.dev))
}

impl<'a> Look<'a> {
    fn new(dir: &Dir, case: &'a HomeCase<'a>) -> Self {
        let within = within(dir);
        Self { case, found: AppData::default(), parts: BTreeMap::new(), names: 0, see: None, within }
    }

    fn tell(&mut self, dir: &Dir, name: &[u8], path: &[u8], class: Class, stat: &Stat) {
        if let Some(see) = &mut self.see {
            see(Visit { dir, name, path, class, stat });
        }
    }

    /// Classifies the contents of a folder at `path` below the home; returns the common class, `None` if it contains user data
    /// or several classes.
    fn folder(&mut self, dir: &Dir, path: &mut Vec<u8>, depth: usize) -> Option<Class> {
        let Ok(mut names) = dir.disk().list(dir.fd()) else {
            self.leave(path, "cannot be read");
            return None;
        };
        names.sort_by(|a, b| a.0.cmp(&b.0));
        let first = self.found.tops.len();
        let own = self.class(path).and_then(|(class, what)| self.taken(class, what));
        let mut whole = own;
        for (name, _) in names {
            self.names += 1;
            if self.names > self.case.most {
                self.found.too_many = true;
                return None;
            }
            let above = path.len();
            if !path.is_empty() {
                path.push(b'/');
            }
            path.extend_from_slice(&name);
            let class = self.visit(dir, &name, path, depth);
            path.truncate(above);
            // One class for everything, including the folder itself: it can be moved as one.
            whole = whole.filter(|_| class == own);
        }
        if whole.is_some() {
            self.found.tops.truncate(first);
        }
        whole
    }

    /// Classifies one name; returns the class of everything in it, `None` if it cannot be moved as one.
    fn visit(&mut self, dir: &Dir, name: &[u8], path: &mut Vec<u8>, depth: usize) -> Option<Class> {
        let class = self.class(path);
        if class.is_none() && !self.case.card.may_lie_below(self.case.bases, path) {
            return None;
        }
        let Ok(Some(stat)) = dir.look(name) else {
            self.leave(path, "cannot be examined");
            return None;
        };
        let told = class.map(|(class, _)| class);
        let class = match (stat.kind, class) {
            (FileKind::Folder, _) => {
                // Also for folders that lead to it: without access to them there is no access to the data.
                self.tell(dir, name, path, told.unwrap_or(Class::Own), &stat);
                self.inner(dir, name, path, depth)?
            }
            (kind, None) => {
                // A symlink in the application's place, or another object that is not a folder.
                let why = if kind == FileKind::Link { "a symlink (not followed)" } else { "not a folder" };
                self.leave(path, why);
                return None;
            }
            (_, Some(_)) => {
                let (class, what) = self.judged(dir, name, path, &stat);
                if let Some(told) = told {
                    self.tell(dir, name, path, if class == Class::Own { class } else { told }, &stat);
                }
                if what.as_deref() == Some(UNSAVED_WORK) && self.found.unsaved.len() < MAX_UNSAVED {
                    self.found.unsaved.push(path.clone());
                }
                let taken = self.taken(class, what.as_deref());
                self.parts.entry((class, what)).or_default().add(stat.size);
                taken?
            }
        };
        self.found.tops.push((class, path.clone()));
        Some(class)
    }

    /// Classifies a folder within another.
    fn inner(&mut self, dir: &Dir, name: &[u8], path: &mut Vec<u8>, depth: usize) -> Option<Class> {
        let opened = dir.disk().open_dir(dir.fd(), name).ok().map(|fd| dir.beside(fd));
        let why = match &opened {
            _ if depth >= MAX_DEPTH => "nested too deeply",
            None => "cannot be opened",
            Some(inner) if within(inner) != self.within => "another file system is mounted there",
            Some(inner) if inner.look_self().map_or(true, |stat| stat.uid != self.case.owner) => {
                "owned by another user"
            }
            Some(inner) => return self.folder(inner, path, depth + 1),
        };
        self.leave(path, why);
        None
    }

    /// The class, if data of that class is to be moved.
    fn taken(&self, class: Class, what: Option<&str>) -> Option<Class> {
        self.case.choice.takes(class, what).then_some(class)
    }

    fn class(&self, path: &[u8]) -> Option<(Class, Option<&str>)> {
        self.case.card.class_of(self.case.bases, path)
    }

    /// The class of an object that is not a folder: by the card, unless it is recognised as user data.
    fn judged(&self, dir: &Dir, name: &[u8], path: &[u8], stat: &Stat) -> (Class, Option<String>) {
        let (class, what) = self.class(path).unwrap_or((Class::Own, None));
        if class == Class::Own {
            return (class, what.map(str::to_owned));
        }
        let of_others = stat.uid != self.case.owner;
        let plain = matches!(stat.kind, FileKind::File | FileKind::Link);
        if of_others || !plain || stat.kind == FileKind::File && own_file(dir, name) {
            return (Class::Own, None);
        }
        (class, what.map(str::to_owned))
    }

    fn leave(&mut self, path: &[u8], why: &'static str) {
        self.found.left.push((path.to_owned(), why.to_owned()));
    }
}

/// Whether a file looks like user data; one that cannot be read counts as user data.
fn own_file(dir: &Dir, name: &[u8]) -> bool {
    if looks_user_authored(name, b"") {
        return true;
    }
    let mut begins = [0; TELLING];
    let read = dir.disk().open_file(dir.fd(), name).and_then(|file| dir.disk().read(file.as_fd(), &mut begins));
    read.map_or(true, |n| looks_user_authored(name, &begins[..n]))
}

#[cfg(test)]
mod tests {
    use std::fs;
    use std::os::unix::fs::symlink;
    use std::path::Path;

    use super::super::example::{put, with_quay};
    use super::*;
    use crate::apps::example::QUAY;

    fn look(home: &Path, most: u64) -> AppData {
        let look = |dir: &Dir, case: &HomeCase<'_>| app_data(dir, &HomeCase { most, ..*case });
        with_quay(home, &Choice::everything(), &look)
    }

    fn tops(found: &AppData) -> Vec<String> {
        found.tops.iter().map(|(class, path)| format!("{} {}", class.word(), String::from_utf8_lossy(path))).collect()
    }

    #[test]
    fn what_is_the_applications_is_gathered_and_the_users_own_stays_out_of_it() {
        let home = tempfile::tempdir().unwrap();
        let home = home.path();
        put(home, ".quay/a.default/prefs", "1");
        put(home, ".quay/a.default/look/one/deep", "22");
        put(home, ".quay/a.default/look/two", "333");
        put(home, ".quay/a.default/mail/inbox", "letters");
        put(home, ".quay/a.default/mail/index/x", "4444");
        put(home, ".quay/profiles", "own");
        put(home, ".config/quay/rc", "5");
        put(home, ".config/quay/thesis.odt", "own, wherever it lies");
        put(home, ".config/quay/begins", "%PDF-1.7 too");
        put(home, ".config/other/rc", "not looked at");
        put(home, ".cache/quay/\n\x1b[31m", "6");
        put(home, "Documents/prefs", "not looked at");
        symlink("127.0.1.1:+1", home.join(".quay/a.default/lock")).unwrap();
        let found = look(home, 1000);
        assert_eq!(
            tops(&found),
            [
                "settings .config/quay/rc",
                "settings .quay/a.default/look",
                "settings .quay/a.default/prefs",
                "cache .cache/quay",
                "cache .quay/a.default/mail/index",
                "locks .quay/a.default/lock",
            ]
        );
        let part = |class, what: Option<&str>| {
            let is = |part: &&AppDataItem| part.class == class && part.what.as_deref() == what;
            found.parts.iter().find(is).unwrap().tally
        };
        assert_eq!(part(Class::Settings, None), Tally { files: 4, bytes: 7 });
        assert_eq!(part(Class::Own, Some("mail")), Tally { files: 1, bytes: 7 });
        assert_eq!(part(Class::Own, None).files, 3, "profiles, and what looks like somebody's own");
        assert!(found.left.is_empty() && !found.too_many);
        let few = look(home, 4);
        assert!(few.too_many && few.tops.is_empty(), "what was not seen whole is not moved");
    }

    #[test]
    fn work_that_was_not_saved_is_named() {
        let home = tempfile::tempdir().unwrap();
        put(home.path(), ".local/share/quay/notes/draft-1", "not saved");
        put(home.path(), ".local/share/quay/draft-0", "not saved");
        put(home.path(), ".config/quay/rc", "1");
        let parts = "[[part]]\nis = \"own\"\nwhat = \"unsaved work\"\nplaces = [\"{data}/quay\"]\n";
        let card = Card::parse(&format!("{}\n{parts}", crate::apps::example::QUAY)).unwrap();
        let look = |dir: &Dir, case: &HomeCase<'_>| app_data(dir, &HomeCase { card: &card, ..*case });
        let found = with_quay(home.path(), &Choice::everything(), &look);
        assert_eq!(found.unsaved, [&b".local/share/quay/draft-0"[..], b".local/share/quay/notes/draft-1"]);
        assert!(found.tops.iter().all(|(_, path)| !path.starts_with(b".local/share/quay")), "{found:?}");
    }

    #[test]
    fn a_hostile_home_leads_nowhere() {
        let outside = tempfile::tempdir().unwrap();
        put(outside.path(), "quay/secret", "of somebody else");
        let home = tempfile::tempdir().unwrap();
        let home = home.path();
        symlink(outside.path(), home.join(".cache")).unwrap();
        fs::create_dir(home.join(".config")).unwrap();
        symlink(outside.path().join("quay"), home.join(".config/quay")).unwrap();
        put(home, ".quay/a/prefs", "1");
        symlink("/etc/shadow", home.join(".quay/a/look")).unwrap();
        let pipe = home.join(".quay/a/mail/index/pipe");
        fs::create_dir_all(pipe.parent().unwrap()).unwrap();
        let mode = rustix::fs::Mode::RUSR | rustix::fs::Mode::WUSR;
        rustix::fs::mknodat(rustix::fs::CWD, &pipe, rustix::fs::FileType::Fifo, mode, 0).unwrap();
        fs::File::create(home.join(".quay/a/mail/index/hole")).unwrap().set_len(1 << 40).unwrap();
        let mut deep = home.join(".quay/a/mail/index");
        for _ in 0..200 {
            deep.push("d");
        }
        fs::create_dir_all(&deep).unwrap();
        let found = look(home, 1000);
        // Links are moved as links, never what they point to.
        assert_eq!(
            tops(&found),
            [
                "settings .config/quay",
                "settings .quay/a/look",
                "settings .quay/a/prefs",
                "cache .quay/a/mail/index/hole",
            ]
        );
        let left: Vec<(usize, &str)> = found.left.iter().map(|(path, why)| (path.len(), why.as_str())).collect();
        assert!(left.contains(&(6, "a symlink (not followed)")), "{left:?}");
        assert!(left.iter().any(|(_, why)| *why == "nested too deeply"), "{left:?}");
    }

    proptest::proptest! {
        #![proptest_config(proptest::prelude::ProptestConfig::with_cases(48))]
        #[test]
        fn nothing_of_the_users_own_lies_in_what_could_be_moved(
            paths in proptest::collection::vec("(\\.quay|\\.config/quay|\\.cache/quay)(/(a|b|mail|prefs|look|index|lock|x\\.odt)){1,4}", 1..14)
        ) {
            let home = tempfile::tempdir().unwrap();
            for path in &paths {
                let at = home.path().join(path);
                if at.parent().is_some_and(|above| fs::create_dir_all(above).is_ok()) && !at.exists() {
                    let _ = fs::write(&at, path);
                }
            }
            let found = look(home.path(), 10_000);
            let (card, bases) = (Card::parse(QUAY).unwrap(), Bases::default());
            let mut open = vec![home.path().to_owned()];
            while let Some(folder) = open.pop() {
                for entry in fs::read_dir(folder).unwrap().flatten() {
                    let at = entry.path();
                    if at.is_dir() {
                        open.push(at);
                        continue;
                    }
                    let below = at.strip_prefix(home.path()).unwrap().to_str().unwrap().to_owned();
                    let covers = |top: &[u8]| below.as_bytes() == top
                        || below.as_bytes().strip_prefix(top).is_some_and(|rest| rest.starts_with(b"/"));
                    let over: Vec<_> = found.tops.iter().filter(|(_, top)| covers(top)).collect();
                    let class = card.class_of(&bases, below.as_bytes()).map(|(class, _)| class);
                    let own = below.ends_with(".odt") || matches!(class, None | Some(Class::Own));
                    proptest::prop_assert_eq!(over.len(), usize::from(!own), "{} {:?}", below, found.tops);
                    if let [(as_class, _)] = over[..] {
                        proptest::prop_assert_eq!(Some(*as_class), class);
                    }
                }
            }
        }
    }
}
