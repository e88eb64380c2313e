//! The cards that are carried along, and what is said of an application without one.

use std::sync::OnceLock;

use std::collections::BTreeSet;

use super::card::{Card, CardError, Class};
use super::pattern::Pattern;

/// The cards, each with its file's name.
const SHIPPED: [(&str, &str); 5] = [
    ("firefox", include_str!("cards/firefox.toml")),
    ("libreoffice", include_str!("cards/libreoffice.toml")),
    ("thunar", include_str!("cards/thunar.toml")),
    ("thunderbird", include_str!("cards/thunderbird.toml")),
    ("vlc", include_str!("cards/vlc.toml")),
];

/// Cards, by the desktop entries that they are about.
#[derive(Debug, Clone, Default)]
pub struct Cards {
    all: Vec<Card>,
}

impl Cards {
    /// Those that are carried along.
    ///
    /// # Panics
    /// When one of them is no card: a broken invariant, which a test holds.
    #[must_use]
    pub fn shipped() -> &'static Self {
        static CARDS: OnceLock<Cards> = OnceLock::new();
        let card =
            |(name, text): &(&str, &str)| Card::parse(text).unwrap_or_else(|e| panic!("BUG: the card {name}: {e}"));
        CARDS.get_or_init(|| Self { all: SHIPPED.iter().map(card).collect() })
    }

    /// Takes a card of the operator's: it goes before those that are there.
    ///
    /// # Errors
    /// As [`Card::parse`].
    pub fn take(&mut self, text: &str) -> Result<(), CardError> {
        self.all.insert(0, Card::parse(text)?);
        Ok(())
    }

    /// The card of an application, by its desktop entry's id.
    #[must_use]
    pub fn of(&self, id: &str) -> Option<&Card> {
        self.all.iter().find(|card| card.entries.iter().any(|entry| entry == id))
    }
}

/// What is said of an application that has no card, by its desktop entry's id, its program and its component: the Base Directory
/// Specification in its cautious reading. Caches may go, settings are set aside, data and all else is the user's own.
#[must_use]
pub fn cautious(name: &str, id: &str, program: Option<&str>, component: Option<&str>) -> Card {
    let last = id.rsplit('.').next();
    let program = program.and_then(|program| program.rsplit('/').next());
    let words: BTreeSet<&str> = [Some(id), last, program, component].into_iter().flatten().collect();
    let mut places = Vec::new();
    for word in words.into_iter().filter(|word| is_telling(word)) {
        for (base, class) in
            [("{config}", Class::Settings), ("{cache}", Class::Cache), ("{data}", Class::Own), ("{state}", Class::Own)]
        {
            places.extend(Pattern::parse(&format!("{base}/{word}")).ok().map(|pattern| (class, pattern)));
        }
    }
    let programs = vec![program.unwrap_or(id).chars().take(15).collect()];
    Card::of(name.to_owned(), vec![id.to_owned()], programs, places)
}

/// Whether a word is one application's name rather than a folder of many: a program may be called `sh` or `python3`.
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
        ];
        for (id, path) in own {
            assert_eq!(class(cards.of(id).unwrap(), path), Some(Class::Own), "{id}: {path}");
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
            ("thunar", ".config/xfce4/xfconf/xfce-perchannel-xml/thunar.xml", Class::Settings),
        ] {
            assert_eq!(class(cards.of(id).unwrap(), path), Some(expected), "{id}: {path}");
        }
        for card in ["firefox-esr", "thunderbird", "libreoffice-writer", "vlc", "thunar"] {
            let card = cards.of(card).unwrap();
            for path in ["Documents/x", ".ssh/id", ".local/share/Trash/files/x", ".config/dconf/user", ".bashrc"] {
                assert_eq!(class(card, path), None, "{}: {path}", card.name);
            }
        }
    }

    #[test]
    fn an_operators_card_goes_before() {
        let mut cards = Cards { all: Cards::shipped().all.clone() };
        let text = "format = \"veritum.card/1\"\nname = \"Mine\"\nentries = [\"vlc\"]\nprograms = [\"vlc\"]\n[[part]]\nis = \"cache\"\nplaces = [\"{cache}/vlc\"]\n";
        cards.take(text).unwrap();
        assert_eq!(cards.of("vlc").unwrap().name, "Mine");
        assert!(cards.take("nothing").is_err() && cards.of("none").is_none());
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
