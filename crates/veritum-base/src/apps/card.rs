//! [`Card`]: what an application keeps in a home (`veritum.card/1`, TOML).

use serde::{Deserialize, Serialize};

use super::pattern::{Bases, Pattern, PatternError};

/// Larger files are refused.
const MAX_BYTES: usize = 48 << 10;
/// More places are refused.
const MAX_PLACES: usize = 1000;

/// The role of a file or folder in a home.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash, PartialOrd, Ord, Serialize, Deserialize, schemars::JsonSchema)]
#[serde(rename_all = "kebab-case")]
pub enum Class {
    /// The user's configuration.
    Settings,
    /// Data that the application creates again.
    Cache,
    /// Saved state such as window positions. Set aside with the settings.
    State,
    /// A marker of a running application; left behind after a crash.
    Locks,
    /// Extensions by others. Set aside only when named.
    AddOns,
    /// User data: documents, mail, bookmarks, passwords, and everything that no card names. Never touched.
    Own,
}

impl Class {
    /// The word in cards, for people and in JSON.
    #[must_use]
    pub fn word(self) -> &'static str {
        match self {
            Self::Settings => "settings",
            Self::Cache => "cache",
            Self::State => "state",
            Self::Locks => "locks",
            Self::AddOns => "add-ons",
            Self::Own => "own",
        }
    }
}

/// Why a text is not a card.
#[derive(Debug, thiserror::Error)]
#[non_exhaustive]
pub enum CardError {
    /// It is larger than a card may be.
    #[error("larger than 64 KiB")]
    TooLarge,
    /// It is not TOML, or lacks a required key.
    #[error("not a valid application card")]
    Toml(#[from] toml::de::Error),
    /// It was written for a newer Veritum.
    #[error("unsupported format: {0}")]
    Newer(String),
    /// It contains an invalid place.
    #[error("invalid path pattern")]
    Pattern(#[from] PatternError),
    /// It lacks something required.
    #[error("{0} is missing")]
    Lacks(&'static str),
}

/// A card as written.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, schemars::JsonSchema)]
#[serde(deny_unknown_fields)]
pub struct RawCard {
    /// `veritum.card/1`.
    format: String,
    /// The application's name, for people.
    name: String,
    /// Ids of its desktop entries, without `.desktop`.
    entries: Vec<String>,
    /// Names of its processes, as the kernel records them (at most 15 characters), to detect whether it runs.
    programs: Vec<String>,
    /// The data it keeps.
    part: Vec<RawPart>,
}

impl RawCard {
    /// Names of its processes.
    #[must_use]
    pub fn programs(&self) -> &[String] {
        &self.programs
    }
}

/// The description of a part with work that an application has not saved yet.
pub const UNSAVED_WORK: &str = "unsaved work";

/// A part of an application's data.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, schemars::JsonSchema)]
#[serde(deny_unknown_fields)]
struct RawPart {
    /// Its role.
    is: Class,
    /// The user's name for it: `mail`, `bookmarks`, …; [`UNSAVED_WORK`] is reported before the application is closed.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    what: Option<String>,
    /// Files, and folders with their contents: `~`, `{config}`, `{cache}`, `{data}` or `{state}`, then names; `*` matches any
    /// characters within one name. If several match, the one with the most names counts; of equals, `own`.
    places: Vec<String>,
}

/// The data that an application keeps in a home.
#[derive(Debug, Clone)]
pub struct Card {
    /// Its name.
    pub name: String,
    /// Ids of its desktop entries.
    pub entries: Vec<String>,
    /// Names of its processes.
    pub programs: Vec<String>,
    places: Vec<Place>,
}

#[derive(Debug, Clone)]
struct Place {
    class: Class,
    what: Option<String>,
    pattern: Pattern,
}

impl Card {
    /// The format's name.
    pub const FORMAT: &'static str = "veritum.card/1";

    /// Parses a card.
    ///
    /// # Errors
    /// When it is invalid, has a newer format, or names places that several applications share.
    pub fn parse(text: &str) -> Result<Self, CardError> {
        #[derive(Deserialize)]
        struct Head {
            format: String,
        }
        if text.len() > MAX_BYTES {
            return Err(CardError::TooLarge);
        }
        let raw: RawCard = match toml::from_str(text) {
            Ok(raw) => raw,
            Err(e) => match toml::from_str::<Head>(text) {
                Ok(head) if head.format != Self::FORMAT => {
                    return Err(CardError::Newer(head.format.chars().take(60).collect()));
                }
                _ => return Err(e.into()),
            },
        };
        Self::of_raw(raw)
    }

    /// Converts a card that another process sent.
    ///
    /// # Errors
    /// As [`Card::parse`].
    pub fn of_raw(raw: RawCard) -> Result<Self, CardError> {
        if raw.format != Self::FORMAT {
            return Err(CardError::Newer(raw.format.chars().take(60).collect()));
        }
        let lacks = [
            (raw.name.trim().is_empty(), "name"),
            (raw.entries.is_empty(), "desktop entry"),
            (raw.programs.is_empty(), "program"),
            (raw.part.iter().all(|part| part.places.is_empty()), "place"),
        ];
        if let Some((_, what)) = lacks.into_iter().find(|(lacks, _)| *lacks) {
            return Err(CardError::Lacks(what));
        }
        let mut places = Vec::new();
        for RawPart { is: class, what, places: texts } in raw.part {
            for text in texts.into_iter().take(MAX_PLACES) {
                places.push(Place { class, what: what.clone(), pattern: Pattern::parse(&text)? });
            }
        }
        places.truncate(MAX_PLACES);
        Ok(Self { name: raw.name, entries: raw.entries, programs: raw.programs, places })
    }

    /// The card in its written form.
    #[must_use]
    pub fn raw(&self) -> RawCard {
        let part = |place: &Place| RawPart {
            is: place.class,
            what: place.what.clone(),
            places: vec![place.pattern.to_string()],
        };
        RawCard {
            format: Self::FORMAT.into(),
            name: self.name.clone(),
            entries: self.entries.clone(),
            programs: self.programs.clone(),
            part: self.places.iter().map(part).collect(),
        }
    }

    /// Makes a card of known places.
    pub(super) fn new(
        name: String,
        entries: Vec<String>,
        programs: Vec<String>,
        places: Vec<(Class, Pattern)>,
    ) -> Self {
        let place = |(class, pattern)| Place { class, what: None, pattern };
        Self { name, entries, programs, places: places.into_iter().map(place).collect() }
    }

    /// The class of a path below the home, and the user's name for it; `None` when the application does not use it.
    #[must_use]
    pub fn class_of(&self, bases: &Bases, path: &[u8]) -> Option<(Class, Option<&str>)> {
        let fits = self.places.iter().filter(|place| place.pattern.covers(bases, path));
        // The closest match counts; of equals, user data, which comes last.
        let closest = fits.max_by_key(|place| (place.pattern.depth(), place.class))?;
        Some((closest.class, closest.what.as_deref()))
    }

    /// The parts: class, the user's name for them, and the places as written.
    pub fn parts(&self) -> impl Iterator<Item = (Class, Option<&str>, &Pattern)> {
        self.places.iter().map(|place| (place.class, place.what.as_deref(), &place.pattern))
    }

    /// Whether a folder below the home may contain data of the application.
    #[must_use]
    pub fn may_lie_below(&self, bases: &Bases, folder: &[u8]) -> bool {
        self.places
            .iter()
            .any(|place| place.pattern.may_lie_below(bases, folder) || place.pattern.covers(bases, folder))
    }
}

#[cfg(test)]
mod tests {
    use super::super::example::QUAY;
    use super::*;

    #[test]
    fn the_closest_place_counts_and_what_nobody_names_is_the_users() {
        let card = Card::parse(QUAY).unwrap();
        let class = |path: &str| card.class_of(&Bases::default(), path.as_bytes());
        assert_eq!(class(".quay/x/prefs"), Some((Class::Settings, None)));
        assert_eq!(class(".quay/x/other"), Some((Class::Own, None)));
        assert_eq!(class(".quay/x/mail/inbox"), Some((Class::Own, Some("mail"))));
        assert_eq!(class(".quay/x/mail/index/1"), Some((Class::Cache, None)));
        assert_eq!(class(".config/quay/rc"), Some((Class::Settings, None)));
        assert_eq!(class(".config/quay/letters/1"), Some((Class::Own, Some("mail"))));
        assert_eq!(class("Documents/prefs"), None);
        assert!(card.may_lie_below(&Bases::default(), b"") && !card.may_lie_below(&Bases::default(), b"Documents"));
    }

    #[test]
    fn what_is_no_card_is_refused_with_the_reason() {
        let with = |from: &str, to: &str| Card::parse(&QUAY.replacen(from, to, 1)).unwrap_err();
        assert!(matches!(with("veritum.card/1", "veritum.card/9"), CardError::Newer(_)));
        assert!(matches!(with("~/.quay\"", "~/Documents\""), CardError::Pattern(_)));
        assert!(matches!(with("[\"quay\"]", "[]"), CardError::Lacks("desktop entry")));
        assert!(matches!(with("is = \"cache\"", "is = \"rubbish\""), CardError::Toml(_)));
        assert!(matches!(with("name", "nome"), CardError::Toml(_)));
        assert!(matches!(Card::parse(&"#".repeat(300_000)).unwrap_err(), CardError::TooLarge));
    }

    proptest::proptest! {
        #[test]
        fn a_damaged_card_is_refused_or_claims_nothing_of_the_users(seed: u64) {
            let text = String::from_utf8_lossy(&crate::testkit::mutated(QUAY.as_bytes(), seed)).into_owned();
            if let Ok(card) = Card::parse(&text) {
                for own in ["Documents/letter.odt", ".ssh/id", "letter"] {
                    let class = card.class_of(&Bases::default(), own.as_bytes());
                    proptest::prop_assert!(class.is_none_or(|(class, _)| class == Class::Own), "{own}: {class:?}");
                }
            }
        }

        #[test]
        fn a_place_of_the_users_is_never_made_another_by_a_wider_one(name in "[a-z]{1,8}", deep in "[a-z/]{0,12}") {
            let card = Card::parse(QUAY).unwrap();
            let path = format!(".quay/{name}/mail/{deep}");
            if !path.starts_with(&format!(".quay/{name}/mail/index")) {
                proptest::prop_assert_eq!(card.class_of(&Bases::default(), path.as_bytes()).unwrap().0, Class::Own);
            }
        }
    }
}
