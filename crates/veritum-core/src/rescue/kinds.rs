//! [`Classifier`]: what a file in a home is to its user, by application cards, its place and its name.

use crate::apps::{ASIDE, Bases, Card, Class, UNSAVED_WORK, looks_user_authored};
use crate::report::DataKind;

/// Places of keys and passwords that no card describes.
const KEYS: [&str; 7] =
    [".ssh", ".gnupg", ".pki", ".local/share/keyrings", ".local/share/kwalletd", ".password-store", ".cert"];
/// Places of mail that no card describes, as mail programs and mbox(5) name them.
const MAIL: [&str; 8] = ["Mail", "mail", "Maildir", ".Mail", ".mail", ".maildir", "mbox", ".mbox"];
const MEDIA: [&str; 30] = [
    "3gp", "aac", "aiff", "arw", "avi", "bmp", "cr2", "dng", "flac", "gif", "heic", "jpeg", "jpg", "m4a", "m4v", "mkv",
    "mov", "mp3", "mp4", "mpeg", "mpg", "nef", "ogg", "opus", "png", "tif", "tiff", "wav", "webm", "webp",
];
const OFTEN_HAD_AGAIN: [&str; 14] =
    ["7z", "appimage", "bz2", "deb", "gz", "img", "iso", "qcow2", "rpm", "tar", "vdi", "vmdk", "xz", "zst"];

/// Decides what files of one home are. Cards that cannot concern a folder are not asked about its files.
#[derive(Debug, Clone)]
pub struct Classifier<'a> {
    bases: &'a Bases,
    cards: Vec<&'a Card>,
}

impl<'a> Classifier<'a> {
    /// A classifier for the home's own folder.
    #[must_use]
    pub fn new(bases: &'a Bases, cards: Vec<&'a Card>) -> Self {
        Self { bases, cards }
    }

    /// A classifier for a folder below, by its path relative to the home.
    #[must_use]
    pub fn for_folder(&self, path: &[u8]) -> Self {
        let concerned = |card: &&&Card| card.may_lie_below(self.bases, path);
        Self { bases: self.bases, cards: self.cards.iter().filter(concerned).copied().collect() }
    }

    /// What a file is, by its path relative to the home.
    #[must_use]
    pub fn kind_of(&self, path: &[u8]) -> DataKind {
        let name = path.rsplit(|byte| *byte == b'/').next().unwrap_or_default();
        if is_below(path, b".local/share/Trash") || is_trash_folder(path) {
            return DataKind::Trash;
        }
        if KEYS.iter().any(|place| is_below(path, place.as_bytes())) {
            return DataKind::Keys;
        }
        let described = self.cards.iter().find_map(|card| card.class_of(self.bases, path));
        let by_place = match described {
            Some((class, what)) => by_card(class, what),
            None if MAIL.iter().any(|place| is_below(path, place.as_bytes())) => DataKind::Mail,
            None if self.is_cache(path) => DataKind::Caches,
            None if path.starts_with(b".") => DataKind::Profiles,
            None => return by_name(name),
        };
        let is_own = matches!(by_place, DataKind::Caches | DataKind::Profiles) && looks_user_authored(name, b"");
        if is_own { DataKind::Documents } else { by_place }
    }

    fn is_cache(&self, path: &[u8]) -> bool {
        let sandboxed = || {
            let rest = path.strip_prefix(b".var/app/")?;
            let (_, below) = rest.split_at(rest.iter().position(|byte| *byte == b'/')?);
            Some(is_below(&below[1..], b"cache"))
        };
        is_below(path, &self.bases.cache)
            || is_below(path, b".thumbnails")
            || is_below(path, ASIDE.as_bytes()) && path.windows(8).any(|part| part == b"/.cache/")
            || sandboxed() == Some(true)
    }
}

fn by_card(class: Class, what: Option<&str>) -> DataKind {
    let named = |word: &str| what.is_some_and(|what| what.contains(word));
    match class {
        Class::Cache | Class::Locks => DataKind::Caches,
        Class::Own if what == Some(UNSAVED_WORK) => DataKind::Documents,
        Class::Own if named("mail") || named("calendars") => DataKind::Mail,
        Class::Own if named("passwords") || named("keys") || named("certificates") => DataKind::Keys,
        _ => DataKind::Profiles,
    }
}

/// By the end of a visible file's name.
fn by_name(name: &[u8]) -> DataKind {
    let end = name.rsplit(|byte| *byte == b'.').next().unwrap_or_default();
    let end = String::from_utf8_lossy(end).to_lowercase();
    match end.as_str() {
        end if MEDIA.binary_search(&end).is_ok() => DataKind::Media,
        end if OFTEN_HAD_AGAIN.binary_search(&end).is_ok() => DataKind::Other,
        _ => DataKind::Documents,
    }
}

/// A trash folder at the top of a file system that is mounted as a home (Trash specification 1.0).
fn is_trash_folder(path: &[u8]) -> bool {
    path.starts_with(b".Trash-") || is_below(path, b".Trash")
}

fn is_below(path: &[u8], place: &[u8]) -> bool {
    path.strip_prefix(place).is_some_and(|rest| rest.is_empty() || rest[0] == b'/')
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::apps::Cards;

    #[test]
    fn each_file_is_what_it_is_to_its_user() {
        let bases = Bases::default();
        let all = Classifier::new(&bases, Cards::shipped().iter().collect());
        for (path, kind) in [
            ("Documents/letter.odt", DataKind::Documents),
            ("notes", DataKind::Documents),
            ("Work/project/.git/HEAD", DataKind::Documents),
            ("Pictures/quay.JPG", DataKind::Media),
            ("Downloads/foreshore.iso", DataKind::Other),
            ("Downloads/backup.tar.gz", DataKind::Other),
            (".ssh/id_ed25519", DataKind::Keys),
            (".local/share/keyrings/login.keyring", DataKind::Keys),
            ("Maildir/cur/1", DataKind::Mail),
            (".thunderbird/x.default/Mail/Local Folders/Inbox", DataKind::Mail),
            (".thunderbird/x.default/prefs.js", DataKind::Profiles),
            (".mozilla/firefox/x.default/places.sqlite", DataKind::Profiles),
            (".cache/mozilla/firefox/x/cache2/entries/A0", DataKind::Caches),
            (".cache/anything/thumb.png", DataKind::Caches),
            (".cache/anything/thesis.odt", DataKind::Documents),
            (".config/anything/rc", DataKind::Profiles),
            (".var/app/org.example.Quay/cache/x", DataKind::Caches),
            (".var/app/org.example.Quay/data/x", DataKind::Profiles),
            (".local/share/Trash/files/letter.odt", DataKind::Trash),
            (".Trash-1000/files/x", DataKind::Trash),
            (".veritum-set-aside/1/.cache/x", DataKind::Caches),
            (".veritum-set-aside/1/.config/x", DataKind::Profiles),
        ] {
            assert_eq!(all.kind_of(path.as_bytes()), kind, "{path}");
            let mut narrowed = all.clone();
            for (at, _) in path.match_indices('/') {
                narrowed = narrowed.for_folder(&path.as_bytes()[..at]);
            }
            assert_eq!(narrowed.kind_of(path.as_bytes()), kind, "{path} by the cards of its folder");
        }
        assert!(MEDIA.is_sorted() && OFTEN_HAD_AGAIN.is_sorted());
    }
}
