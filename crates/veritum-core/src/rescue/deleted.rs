//! What was deleted and is still there: in trash folders (Trash specification 1.0), and in the folders of what Veritum set aside.

use std::collections::BTreeMap;

use super::source::{Found, Item, ItemKind, Source};
use crate::apps::ASIDE;
use crate::model::SystemPath;
use crate::report::Count;

/// Larger information files are not read, in bytes.
const MAX_INFO: u64 = 64 << 10;
/// A home's own trash folder.
const TRASH: &[u8] = b".local/share/Trash/";

/// A file or folder that was deleted or set aside.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Deleted {
    /// The position of its home in the source.
    pub home: usize,
    /// Where it is now.
    pub place: SystemPath,
    /// Where it was, if that is recorded.
    pub was: Option<SystemPath>,
    /// When it was deleted, in local time without a zone, as the trash records it.
    pub at: Option<String>,
    /// Whether Veritum set it aside.
    pub set_aside: bool,
    /// Its files.
    pub count: Count,
}

/// Lists what was deleted or set aside, of everything that was found.
#[must_use]
pub fn list_deleted(source: &dyn Source, found: &Found) -> Vec<Deleted> {
    let mut all: BTreeMap<(usize, Vec<u8>), Deleted> = BTreeMap::new();
    for item in &found.items {
        let Some((top, set_aside)) = top_of(&item.path) else { continue };
        let Ok(place) = source.homes()[item.home].place.join(top) else { continue };
        let known = all.entry((item.home, top.to_vec())).or_insert_with(|| {
            let (home, count) = (item.home, Count::default());
            Deleted { home, place, was: None, at: None, set_aside, count }
        });
        if item.is != ItemKind::Folder {
            super::selection::add(&mut known.count, item);
        }
    }
    for item in found.items.iter().filter(|item| item.is == ItemKind::File && item.size <= MAX_INFO) {
        let name = item.path.strip_prefix(TRASH).and_then(|rest| rest.strip_prefix(b"info/"));
        let Some(name) = name.and_then(|name| name.strip_suffix(b".trashinfo")) else { continue };
        let files = [TRASH, b"files/", name].concat();
        if let Some(deleted) = all.get_mut(&(item.home, files)) {
            let text = read(source, item).unwrap_or_default();
            let home = &source.homes()[item.home].place;
            deleted.was = value(&text, "Path").and_then(|path| original(home, &path));
            deleted.at = value(&text, "DeletionDate").filter(|at| at.parse::<jiff::civil::DateTime>().is_ok());
        }
    }
    all.into_values().collect()
}

/// The part of a path that was deleted as one, and whether Veritum set it aside.
fn top_of(path: &[u8]) -> Option<(&[u8], bool)> {
    let aside = [ASIDE.as_bytes(), b"/"].concat();
    let (start, is_aside) = match path.strip_prefix(TRASH) {
        Some(rest) if rest.starts_with(b"files/") => (TRASH.len() + 6, false),
        _ if path.starts_with(&aside) => (aside.len(), true),
        _ => return None,
    };
    let rest = path.get(start..).filter(|rest| !rest.is_empty())?;
    let end = rest.iter().position(|byte| *byte == b'/').unwrap_or(rest.len());
    Some((&path[..start + end], is_aside))
}

fn read(source: &dyn Source, item: &Item) -> Option<String> {
    let content = source.open(item).ok()?;
    let mut bytes = vec![0; usize::try_from(item.size).ok()?];
    let read = content.read_at(0, &mut bytes).ok()?;
    bytes.truncate(read);
    String::from_utf8(bytes).ok()
}

fn value(text: &str, key: &str) -> Option<String> {
    let line = text.lines().find_map(|line| line.strip_prefix(key)?.strip_prefix('='))?;
    Some(line.trim().to_owned())
}

/// The original path: percent-encoded, absolute or relative to the home.
fn original(home: &SystemPath, encoded: &str) -> Option<SystemPath> {
    let mut bytes = Vec::with_capacity(encoded.len());
    let mut rest = encoded.as_bytes();
    while let Some((first, more)) = rest.split_first() {
        let digits = more.get(..2).filter(|_| *first == b'%').and_then(|digits| std::str::from_utf8(digits).ok());
        match digits.and_then(|digits| u8::from_str_radix(digits, 16).ok()) {
            Some(byte) => {
                bytes.push(byte);
                rest = &more[2..];
            }
            None => {
                bytes.push(*first);
                rest = more;
            }
        }
    }
    if bytes.starts_with(b"/") { SystemPath::parse(&bytes).ok() } else { home.join(&bytes).ok() }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn what_was_deleted_as_one_is_one() {
        let told =
            |path: &str| top_of(path.as_bytes()).map(|(top, aside)| (String::from_utf8_lossy(top).into_owned(), aside));
        let trash = |name: &str| Some((format!(".local/share/Trash/files/{name}"), false));
        assert_eq!(told(".local/share/Trash/files/letter.odt"), trash("letter.odt"));
        assert_eq!(told(".local/share/Trash/files/Old/deep/x"), trash("Old"));
        assert_eq!(told(".veritum-set-aside/2026-1/.config/x"), Some((".veritum-set-aside/2026-1".into(), true)));
        for path in [".local/share/Trash", ".local/share/Trash/files", ".local/share/Trash/info/x.trashinfo", "Trash/x"]
        {
            assert_eq!(told(path), None, "{path}");
        }
    }

    #[test]
    fn an_original_path_is_decoded_and_never_climbs() {
        let home = SystemPath::literal("/home/mirela");
        let told = |text: &str| original(&home, text).map(|path| path.to_string());
        assert_eq!(told("/home/mirela/Old%20draft.txt").as_deref(), Some("/home/mirela/Old draft.txt"));
        assert_eq!(told("Letters/x").as_deref(), Some("/home/mirela/Letters/x"));
        assert_eq!(told("100%").as_deref(), Some("/home/mirela/100%"));
        assert_eq!((told("../../etc/passwd"), told("/a/../b"), told("a%00b")), (None, None, None));
    }
}
