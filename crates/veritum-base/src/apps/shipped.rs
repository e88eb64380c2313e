//! The built-in cards, and the defaults for an application without a card.

use std::sync::OnceLock;

use std::collections::BTreeSet;

use super::card::{Card, CardError, Class};
use super::pattern::Pattern;

/// The built-in cards, each with its file name.
const SHIPPED: [(&str, &str); 15] = [
    ("chromium", include_str!("cards/chromium.toml")),
    ("evolution", include_str!("cards/evolution.toml")),
    ("firefox", include_str!("cards/firefox.toml")),
    ("geany", include_str!("cards/geany.toml")),
    ("keepassxc", include_str!("cards/keepassxc.toml")),
    ("libreoffice", include_str!("cards/libreoffice.toml")),
    ("mousepad", include_str!("cards/mousepad.toml")),
    ("mpv", include_str!("cards/mpv.toml")),
    ("pidgin", include_str!("cards/pidgin.toml")),
    ("rhythmbox", include_str!("cards/rhythmbox.toml")),
    ("thunar", include_str!("cards/thunar.toml")),
    ("thunderbird", include_str!("cards/thunderbird.toml")),
    ("transmission", include_str!("cards/transmission.toml")),
    ("vlc", include_str!("cards/vlc.toml")),
    ("xournalpp", include_str!("cards/xournalpp.toml")),
];

/// Cards by desktop entry.
#[derive(Debug, Clone, Default)]
pub struct Cards {
    all: Vec<Card>,
}

impl Cards {
    /// The built-in cards.
    ///
    /// # Panics
    /// When one of them is invalid: a programming error, prevented by a test.
    #[must_use]
    pub fn shipped() -> &'static Self {
        static CARDS: OnceLock<Cards> = OnceLock::new();
        let card =
            |(name, text): &(&str, &str)| Card::parse(text).unwrap_or_else(|e| panic!("BUG: the card {name}: {e}"));
        CARDS.get_or_init(|| Self { all: SHIPPED.iter().map(card).collect() })
    }

    /// Adds a card of the administrator's; it takes precedence over earlier ones.
    ///
    /// # Errors
    /// As [`Card::parse`].
    pub fn add(&mut self, text: &str) -> Result<(), CardError> {
        self.all.insert(0, Card::parse(text)?);
        Ok(())
    }

    /// All cards.
    pub fn iter(&self) -> impl Iterator<Item = &Card> {
        self.all.iter()
    }

    /// The card of an application, by its desktop entry id.
    #[must_use]
    pub fn get(&self, id: &str) -> Option<&Card> {
        self.all.iter().find(|card| card.entries.iter().any(|entry| entry == id))
    }
}

/// The default for an application without a card, by its desktop entry id, program and package: the Base Directory
/// Specification, read cautiously. Caches and settings are the application's, data and everything else is the user's.
#[must_use]
pub fn cautious(name: &str, id: &str, program: Option<&str>, package: Option<&str>) -> Card {
    let last = id.rsplit('.').next();
    let program = program.and_then(|program| program.rsplit('/').next());
    let words: BTreeSet<&str> = [Some(id), last, program, package].into_iter().flatten().collect();
    let mut places = Vec::new();
    for word in words.into_iter().filter(|word| is_telling(word)) {
        for (base, class) in
            [("{config}", Class::Settings), ("{cache}", Class::Cache), ("{data}", Class::Own), ("{state}", Class::Own)]
        {
            places.extend(Pattern::parse(&format!("{base}/{word}")).ok().map(|pattern| (class, pattern)));
        }
    }
    let programs = vec![program.unwrap_or(id).chars().take(15).collect()];
    Card::new(name.to_owned(), vec![id.to_owned()], programs, places)
}

/// The default for a sandboxed application, by its id: everything in its home folder is its own or its user's.
#[must_use]
pub fn cautious_sandboxed(name: &str, id: &str) -> Card {
    let places = [("", Class::Own), ("/cache", Class::Cache), ("/config", Class::Settings), ("/data", Class::Own)];
    let place = |(below, class): (&str, Class)| Some((class, Pattern::parse(&format!("~/.var/app/{id}{below}")).ok()?));
    let last = id.rsplit('.').next().unwrap_or(id).chars().take(15).collect::<String>();
    let programs = vec![last.to_lowercase(), last];
    Card::new(name.to_owned(), vec![id.to_owned()], programs, places.into_iter().filter_map(place).collect())
}

/// Whether a word is the name of one application rather than of many: a program may be called `sh` or `python3`.
fn is_telling(word: &str) -> bool {
    const SHARED: [&str; 22] = [
        "applications",
        "autostart",
        "bash",
        "dconf",
        "env",
        "flatpak",
        "fontconfig",
        "gtk-2.0",
        "gtk-3.0",
        "gtk-4.0",
        "ibus",
        "icons",
        "java",
        "menus",
        "mesa_shader_cache",
        "mime",
        "perl",
        "pulse",
        "python3",
        "sh",
        "systemd",
        "themes",
    ];
    word.len() > 2 && !word.starts_with(['.', '-']) && !word.contains(['*', '/']) && !SHARED.contains(&word)
}

#[cfg(test)]
mod tests {
    use super::super::pattern::Bases;
    use super::*;

    fn class(card: &Card, path: &str) -> Option<Class> {
        card.class_of(&Bases::default(), path.as_bytes()).map(|(class, _)| class)
    }

    #[test]
    fn every_card_that_is_carried_along_is_one_and_leaves_the_users_own_alone() {
        let cards = Cards::shipped();
        let own = [
            ("firefox-esr", ".mozilla/firefox/x.default/places.sqlite"),
            ("firefox-esr", ".mozilla/firefox/x.default/logins.json"),
            ("firefox-esr", ".mozilla/firefox/x.default/sessionstore.jsonlz4"),
            ("firefox-esr", ".mozilla/firefox/x.default/never-heard-of"),
            // Without it another profile would be begun, and the bookmarks be out of sight.
            ("firefox-esr", ".mozilla/firefox/profiles.ini"),
            // Newer versions keep their profiles among the settings.
            ("firefox-esr", ".config/mozilla/firefox/x.default/places.sqlite"),
            ("firefox-esr", ".config/mozilla/firefox/x.default/logins.db"),
            ("firefox-esr", ".config/mozilla/firefox/profiles.ini"),
            ("thunderbird", ".thunderbird/x.default/Mail/Local Folders/Inbox"),
            ("thunderbird", ".thunderbird/x.default/ImapMail/imap.example/INBOX"),
            ("thunderbird", ".thunderbird/x.default/abook.sqlite"),
            ("thunderbird", ".thunderbird/x.default/key4.db"),
            ("libreoffice-writer", ".config/libreoffice/4/user/template/letter.ott"),
            ("libreoffice-writer", ".config/libreoffice/4/user/backup/unsaved.odt_0.odt"),
            ("libreoffice-writer", ".config/libreoffice/4/user/wordbook/standard.dic"),
            ("libreoffice-writer", ".config/libreoffice/4/user/basic/Standard/Module1.xba"),
            ("vlc", ".local/share/vlc/ml.xspf"),
            ("chromium", ".config/chromium/Default/Bookmarks"),
            ("chromium", ".config/chromium/Default/Login Data"),
            ("chromium", ".config/chromium/Default/Local Storage/leveldb/000003.log"),
            ("chromium", ".config/chromium/Local State"),
            ("org.gnome.Evolution", ".local/share/evolution/mail/local/.Drafts/cur/1"),
            ("org.gnome.Evolution", ".config/evolution/sources/account.source"),
            ("org.gnome.Evolution", ".cache/evolution/mail/account/folders/INBOX/cur/1"),
            ("geany", ".config/geany/templates/files/letter"),
            ("mpv", ".local/state/mpv/watch_later/A"),
            ("org.xfce.mousepad", ".local/share/Mousepad/autosave-1"),
            ("pidgin", ".purple/accounts.xml"),
            ("pidgin", ".purple/logs/jabber/x/y.html"),
            ("org.gnome.Rhythmbox3", ".local/share/rhythmbox/rhythmdb.xml"),
            ("transmission-gtk", ".config/transmission/resume/x.resume"),
            ("com.github.xournalpp.xournalpp", ".cache/xournalpp/autosaves/1.xopp"),
            ("com.github.xournalpp.xournalpp", ".config/xournalpp/palettes/mine.gpl"),
        ];
        for (id, path) in own {
            assert_eq!(class(cards.get(id).unwrap(), path), Some(Class::Own), "{id}: {path}");
        }
        for (id, path, expected) in [
            ("firefox-esr", ".mozilla/firefox/x.default/prefs.js", Class::Settings),
            ("firefox-esr", ".config/mozilla/firefox/x.default/prefs.js", Class::Settings),
            ("firefox-esr", ".cache/mozilla/firefox/x.default/cache2/entries/A", Class::Cache),
            ("firefox-esr", ".mozilla/firefox/x.default/lock", Class::Locks),
            ("firefox-esr", ".mozilla/firefox/x.default/extensions/a.xpi", Class::AddOns),
            ("thunderbird", ".thunderbird/x.default/prefs.js", Class::Settings),
            ("thunderbird", ".thunderbird/x.default/Mail/Local Folders/Inbox.msf", Class::Cache),
            ("thunderbird", ".thunderbird/x.default/global-messages-db.sqlite", Class::Cache),
            ("libreoffice-calc", ".config/libreoffice/4/user/registrymodifications.xcu", Class::Settings),
            ("libreoffice-calc", ".config/libreoffice/4/.lock", Class::Locks),
            ("vlc", ".config/vlc/vlcrc", Class::Settings),
            ("vlc", ".cache/vlc/art/x/art.jpg", Class::Cache),
            ("thunar", ".config/Thunar/uca.xml", Class::Settings),
            ("chromium", ".config/chromium/Default/Preferences", Class::Settings),
            ("chromium", ".config/chromium/SingletonLock", Class::Locks),
            ("chromium", ".cache/chromium/Default/Cache/x", Class::Cache),
            ("org.gnome.Evolution", ".config/evolution/.running", Class::Locks),
            ("geany", ".config/geany/geany.conf", Class::Settings),
            ("org.keepassxc.KeePassXC", ".config/keepassxc/keepassxc.ini", Class::Settings),
            ("org.keepassxc.KeePassXC", ".cache/keepassxc/keepassxc.ini", Class::State),
            ("mpv", ".config/mpv/mpv.conf", Class::Settings),
            ("org.xfce.mousepad", ".config/Mousepad/accels.scm", Class::Settings),
            ("pidgin", ".purple/prefs.xml", Class::Settings),
            ("org.gnome.Rhythmbox3", ".cache/rhythmbox/album-art/store.tdb", Class::Cache),
            ("transmission-gtk", ".config/transmission/settings.json", Class::Settings),
            ("com.github.xournalpp.xournalpp", ".config/xournalpp/settings.xml", Class::Settings),
            ("thunar", ".config/xfce4/xfconf/xfce-perchannel-xml/thunar.xml", Class::Settings),
        ] {
            assert_eq!(class(cards.get(id).unwrap(), path), Some(expected), "{id}: {path}");
        }
        for card in &cards.all {
            for path in ["Documents/x", ".ssh/id", ".local/share/Trash/files/x", ".config/dconf/user", ".bashrc"] {
                assert_eq!(class(card, path), None, "{}: {path}", card.name);
            }
        }
    }

    #[test]
    fn in_a_sandbox_all_is_one_applications_or_its_users() {
        let card = cautious_sandboxed("Notes", "org.quay.Notes");
        let class = |path: &str| class(&card, &format!(".var/app/{path}"));
        assert_eq!(class("org.quay.Notes/config/settings.ini"), Some(Class::Settings));
        assert_eq!(class("org.quay.Notes/cache/x"), Some(Class::Cache));
        for own in ["data/notes.db", ".local/share/y", "x", ""] {
            assert_eq!(class(&format!("org.quay.Notes/{own}")), Some(Class::Own), "{own}");
        }
        assert_eq!(class("org.quay.Other/cache/x"), None);
        assert_eq!(class("org.quay.Notes2/cache/x"), None);
    }

    #[test]
    fn an_operators_card_goes_before() {
        let mut cards = Cards { all: Cards::shipped().all.clone() };
        let text = "format = \"veritum.card/1\"\nname = \"Mine\"\nentries = [\"vlc\"]\nprograms = [\"vlc\"]\n[[part]]\nis = \"cache\"\nplaces = [\"{cache}/vlc\"]\n";
        cards.add(text).unwrap();
        assert_eq!(cards.get("vlc").unwrap().name, "Mine");
        assert!(cards.add("nothing").is_err() && cards.get("none").is_none());
    }

    #[test]
    fn without_a_card_only_settings_and_caches_of_that_name_are_the_applications() {
        let card = cautious("Notes", "org.quay.Notes", Some("/usr/bin/notes"), Some("quay-notes"));
        for name in ["org.quay.Notes", "Notes", "notes", "quay-notes"] {
            assert_eq!(class(&card, &format!(".config/{name}/rc")), Some(Class::Settings));
            assert_eq!(class(&card, &format!(".cache/{name}/x")), Some(Class::Cache));
            assert_eq!(class(&card, &format!(".local/share/{name}/notes.db")), Some(Class::Own));
        }
        assert_eq!(class(&card, ".notes/x"), None);
        let shared = cautious("x", "sh", Some("/bin/sh"), Some("systemd"));
        for path in [".config/sh/x", ".config/systemd/user/x", ".config/*/x"] {
            assert_eq!(class(&shared, path), None, "{path}");
        }
    }
}
