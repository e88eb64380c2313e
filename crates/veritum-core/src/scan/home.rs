//! What an application keeps in one home, by its card: looked at, sorted, and gathered into what could be moved as one.
//!
//! Homes are hostile: links are never followed, other file systems never entered, what belongs to somebody else or is no
//! plain file is the user's own matter, and so is whatever looks like a user's own file. Everything is bounded.

use std::collections::BTreeMap;
use std::os::fd::AsFd as _;

use serde::{Deserialize, Serialize};

use crate::apps::{Bases, Card, Class, RawCard, looks_like_own};
use crate::model::{FileKind, Stat, SystemPath};
use crate::target::Dir;

/// More files of variables are not read.
const MAX_VARIABLES: usize = 200;
/// Folders are looked into so deep.
const MAX_DEPTH: usize = 128;
/// Of a file's beginning so much is read to see whether it looks like a user's own.
const TELLING: usize = 128;

/// Names, files and bytes.
#[derive(Debug, Clone, Copy, Default, PartialEq, Eq, Serialize, Deserialize)]
pub struct Tally {
    /// Files, links and other things that are no folders.
    pub files: u64,
    /// Their bytes, as their sizes say.
    pub bytes: u64,
}

impl Tally {
    fn add(&mut self, bytes: u64) {
        self.files += 1;
        self.bytes = self.bytes.saturating_add(bytes);
    }
}

/// Things of one class, and of one kind to the user.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct Belonging {
    /// What they are to the application.
    pub class: Class,
    /// What they are to the user.
    pub what: Option<String>,
    /// How many.
    pub tally: Tally,
}

/// What was found of an application in a home.
#[derive(Debug, Clone, Default, PartialEq, Eq, Serialize, Deserialize)]
pub struct Belongings {
    /// How much of each class there is, and of what that is to the user.
    pub parts: Vec<Belonging>,
    /// What can be moved as one: paths below the home with their class, none of them below another. Nothing of the user's own
    /// lies in them.
    pub tops: Vec<(Class, Vec<u8>)>,
    /// What was left out, by path below the home, and why.
    pub left: Vec<(Vec<u8>, String)>,
    /// Whether there were more names than are looked at: then nothing of it may be moved.
    pub too_many: bool,
}

/// What is needed to look into a home.
pub struct HomeCase<'a> {
    /// The application's card.
    pub card: &'a Card,
    /// Where the base directories lie.
    pub bases: &'a Bases,
    /// Whose home it is.
    pub owner: u32,
    /// More names than this are not looked at.
    pub most: u64,
}

/// A question about a home, as it is handed to who may look into it.
#[derive(Debug, Serialize, Deserialize)]
pub struct HomeQuestion {
    /// The application's card.
    pub card: RawCard,
    /// The home as the system names it: so the user's own files of variables may name it.
    pub home: SystemPath,
    /// Whose home it is.
    pub owner: u32,
    /// More names than this are not looked at.
    pub most: u64,
}

/// Where the user has put the base directories, by the files of variables that a session reads (environment.d(5)).
fn bases(dir: &Dir, home: &SystemPath) -> Bases {
    let mut bases = Bases::default();
    let Ok(variables) = dir.disk().open_dir(dir.fd(), b".config/environment.d").map(|fd| dir.beside(fd)) else {
        return bases;
    };
    let mut names = variables.disk().list(variables.fd()).unwrap_or_default();
    names.retain(|(name, _)| name.ends_with(b".conf"));
    names.sort_by(|a, b| a.0.cmp(&b.0));
    for (name, _) in names.into_iter().take(MAX_VARIABLES) {
        if let Ok(file) = variables.read(&name, 64 << 10) {
            bases.take_variables(&file, home.as_bytes());
        }
    }
    bases
}

/// Answers a question about the home that is open.
///
/// # Errors
/// When the question is none.
pub fn answer(home: &Dir, question: &str) -> Result<String, Box<dyn std::error::Error>> {
    let HomeQuestion { card, home: named, owner, most } = serde_json::from_str(question)?;
    let card = Card::of_raw(card)?;
    let bases = bases(home, &named);
    let found = belongings(home, &HomeCase { card: &card, bases: &bases, owner, most });
    Ok(serde_json::to_string(&found)?)
}

/// Looks into a home.
#[must_use]
pub fn belongings(home: &Dir, case: &HomeCase<'_>) -> Belongings {
    let mount = home.disk().mount_of(home.fd()).ok();
    let mut look = Look { case, found: Belongings::default(), parts: BTreeMap::new(), names: 0, mount };
    let tops = look.folder(home, &mut Vec::new(), 0).tops;
    let mut found = look.found;
    let part = |((class, what), tally)| Belonging { class, what, tally };
    found.parts = look.parts.into_iter().map(part).collect();
    found.tops = tops;
    found.tops.sort();
    if found.too_many {
        found.tops.clear();
    }
    found
}

struct Look<'a> {
    case: &'a HomeCase<'a>,
    found: Belongings,
    parts: BTreeMap<(Class, Option<String>), Tally>,
    names: u64,
    mount: Option<u64>,
}

/// What a folder came to.
struct Sorted {
    /// The class of all that lies in it; none when it holds something of the user's own, or of several classes.
    whole: Option<Class>,
    /// Whether anything lies in it.
    any: bool,
    tops: Vec<(Class, Vec<u8>)>,
}

impl Look<'_> {
    /// Sorts what lies in a folder; `path` is the folder's, below the home.
    fn folder(&mut self, dir: &Dir, path: &mut Vec<u8>, depth: usize) -> Sorted {
        let mut sorted = Sorted { whole: None, any: false, tops: Vec::new() };
        let Ok(mut names) = dir.disk().list(dir.fd()) else {
            self.leave(path, "it cannot be read");
            sorted.any = true;
            return sorted;
        };
        names.sort_by(|a, b| a.0.cmp(&b.0));
        let mut classes: Vec<Option<Class>> = Vec::new();
        for (name, _) in names {
            self.names += 1;
            if self.names > self.case.most {
                self.found.too_many = true;
                sorted.any = true;
                return sorted;
            }
            let above = path.len();
            if !path.is_empty() {
                path.push(b'/');
            }
            path.extend_from_slice(&name);
            classes.push(self.one(dir, &name, path, depth, &mut sorted.tops));
            path.truncate(above);
        }
        sorted.any = !classes.is_empty();
        // One class for all, the folder's own among them: then it moves as one.
        let own = self.class(path).map(|(class, _)| class);
        let same = classes.iter().all(|class| class.is_some() && *class == own);
        sorted.whole = own.filter(|class| *class != Class::Own && same);
        if sorted.whole.is_some() {
            sorted.tops.clear();
        }
        sorted
    }

    /// Sorts one name; answers the class of all of it, none when it is not to be moved as one.
    fn one(
        &mut self,
        dir: &Dir,
        name: &[u8],
        path: &mut Vec<u8>,
        depth: usize,
        tops: &mut Vec<(Class, Vec<u8>)>,
    ) -> Option<Class> {
        let class = self.class(path);
        let way = self.case.card.may_lie_below(self.case.bases, path);
        if class.is_none() && !way {
            return None;
        }
        let Ok(Some(stat)) = dir.look(name) else {
            self.leave(path, "it cannot be looked at");
            return None;
        };
        if stat.kind == FileKind::Folder {
            return self.inner(dir, name, path, depth, tops);
        }
        if class.is_none() {
            // What leads to a place of the application, and is no folder.
            let why = if stat.kind == FileKind::Link { "a link, which is not followed" } else { "no folder" };
            self.leave(path, why);
            return None;
        }
        let (class, what) = self.judged(dir, name, path, &stat);
        self.parts.entry((class, what)).or_default().add(stat.size);
        if class == Class::Own {
            return None;
        }
        tops.push((class, path.clone()));
        Some(class)
    }

    fn inner(
        &mut self,
        dir: &Dir,
        name: &[u8],
        path: &mut Vec<u8>,
        depth: usize,
        tops: &mut Vec<(Class, Vec<u8>)>,
    ) -> Option<Class> {
        if depth >= MAX_DEPTH {
            self.leave(path, "it lies too deep");
            return None;
        }
        let opened = dir.disk().open_dir(dir.fd(), name).ok().map(|fd| dir.beside(fd));
        let Some(inner) = opened else {
            self.leave(path, "it cannot be opened");
            return None;
        };
        if inner.disk().mount_of(inner.fd()).ok() != self.mount {
            self.leave(path, "another file system is mounted there");
            return None;
        }
        if inner.look_self().map_or(true, |stat| stat.uid != self.case.owner) {
            self.leave(path, "it belongs to somebody else");
            return None;
        }
        let sorted = self.folder(&inner, path, depth + 1);
        match sorted.whole {
            Some(class) => {
                tops.push((class, path.clone()));
                Some(class)
            }
            None => {
                tops.extend(sorted.tops);
                None
            }
        }
    }

    fn class(&self, path: &[u8]) -> Option<(Class, Option<&str>)> {
        self.case.card.class_of(self.case.bases, path)
    }

    /// What a thing that is no folder is: by the card, unless something says that it is the user's own all the same.
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

/// Whether a file looks like a user's own; one that cannot be read counts as that.
fn own_file(dir: &Dir, name: &[u8]) -> bool {
    if looks_like_own(name, b"") {
        return true;
    }
    let mut begins = [0; TELLING];
    let read = dir.disk().open_file(dir.fd(), name).and_then(|file| dir.disk().read(file.as_fd(), &mut begins));
    read.map_or(true, |n| looks_like_own(name, &begins[..n]))
}

#[cfg(test)]
mod tests {
    use std::fs;
    use std::os::unix::fs::{MetadataExt as _, symlink};
    use std::path::Path;
    use std::sync::Arc;

    use super::*;
    use crate::target::{LiveDisk, Machine};

    const QUAY: &str = r#"
format = "veritum.card/1"
name = "Quay"
entries = ["quay"]
programs = ["quay"]
[[part]]
is = "own"
places = ["~/.quay"]
[[part]]
is = "settings"
places = ["~/.quay/*/prefs", "~/.quay/*/look", "{config}/quay"]
[[part]]
is = "own"
what = "mail"
places = ["~/.quay/*/mail"]
[[part]]
is = "cache"
places = ["{cache}/quay", "~/.quay/*/mail/index"]
[[part]]
is = "locks"
places = ["~/.quay/*/lock"]
"#;

    fn put(home: &Path, path: &str, text: &str) {
        let path = home.join(path);
        fs::create_dir_all(path.parent().unwrap()).unwrap();
        fs::write(path, text).unwrap();
    }

    fn look(home: &Path, most: u64) -> Belongings {
        let machine = Machine::open(home, Arc::new(LiveDisk)).unwrap();
        let dir = machine.dir(&SystemPath::root()).unwrap();
        let (card, bases) = (Card::parse(QUAY).unwrap(), Bases::default());
        let owner = fs::metadata(home).unwrap().uid();
        belongings(&dir, &HomeCase { card: &card, bases: &bases, owner, most })
    }

    fn tops(found: &Belongings) -> Vec<String> {
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
            let is = |part: &&Belonging| part.class == class && part.what.as_deref() == what;
            found.parts.iter().find(is).unwrap().tally
        };
        assert_eq!(part(Class::Settings, None), Tally { files: 4, bytes: 7 });
        assert_eq!(part(Class::Own, Some("mail")), Tally { files: 1, bytes: 7 });
        assert_eq!(part(Class::Own, None).files, 3, "profiles, and what looks like somebody's own");
        assert!(found.left.is_empty() && !found.too_many);
        // The same, when it is asked by word.
        let machine = Machine::open(home, Arc::new(LiveDisk)).unwrap();
        let question = HomeQuestion {
            card: Card::parse(QUAY).unwrap().raw(),
            home: SystemPath::literal("/home/mirela"),
            owner: fs::metadata(home).unwrap().uid(),
            most: 1000,
        };
        let dir = machine.dir(&SystemPath::root()).unwrap();
        let answered = answer(&dir, &serde_json::to_string(&question).unwrap()).unwrap();
        assert_eq!(serde_json::from_str::<Belongings>(&answered).unwrap(), found);
        assert!(answer(&dir, "{}").is_err());
        // Where the user has moved a base directory, it is looked for there.
        put(home, ".config/environment.d/place.conf", "XDG_CACHE_HOME=/home/mirela/.mine\n");
        put(home, ".mine/quay/x", "7");
        let answered = answer(&dir, &serde_json::to_string(&question).unwrap()).unwrap();
        let moved = serde_json::from_str::<Belongings>(&answered).unwrap();
        assert!(tops(&moved).contains(&"cache .mine/quay".to_owned()), "{:?}", moved.tops);
        assert!(!tops(&moved).contains(&"cache .cache/quay".to_owned()));
        fs::remove_dir_all(home.join(".config/environment.d")).unwrap();
        let few = look(home, 4);
        assert!(few.too_many && few.tops.is_empty(), "what was not seen whole is not moved");
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
        // Links are moved as links, never what they lead to.
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
        assert!(left.contains(&(6, "a link, which is not followed")), "{left:?}");
        assert!(left.iter().any(|(_, why)| *why == "it lies too deep"), "{left:?}");
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
