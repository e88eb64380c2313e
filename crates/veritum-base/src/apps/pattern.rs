//! [`Pattern`]: a place in a home, as a card names it.

use std::fmt;

use globset::{GlobBuilder, GlobMatcher};

/// Patterns with more names are refused.
const MAX_NAMES: usize = 16;
/// Longer patterns are refused.
const MAX_BYTES: usize = 400;
/// The folder of a home for what is set aside.
pub const ASIDE: &str = ".veritum-set-aside";
/// Folders that applications share, or that belong to the user: no application's place begins there, except as below.
const NEVER: [&str; 4] = [".ssh", ".gnupg", ".pki", ASIDE];
/// Below the data folder: shared by applications, or the user's.
const NEVER_DATA: [&str; 4] = ["Trash", "keyrings", "applications", "fonts"];

/// The base of a pattern.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash)]
pub enum Base {
    /// `~`: the home itself.
    Home,
    /// `{config}`: `XDG_CONFIG_HOME`, else `~/.config` (Base Directory Specification 0.8).
    Config,
    /// `{cache}`: `XDG_CACHE_HOME`, else `~/.cache`.
    Cache,
    /// `{data}`: `XDG_DATA_HOME`, else `~/.local/share`.
    Data,
    /// `{state}`: `XDG_STATE_HOME`, else `~/.local/state`.
    State,
}

impl Base {
    const ALL: [(Base, &'static str); 5] = [
        (Base::Home, "~"),
        (Base::Config, "{config}"),
        (Base::Cache, "{cache}"),
        (Base::Data, "{data}"),
        (Base::State, "{state}"),
    ];
}

/// The base directories of a user, relative to the home and without slashes at either end; empty for the home itself.
#[derive(Debug, Clone, PartialEq, Eq, serde::Serialize, serde::Deserialize)]
pub struct Bases {
    /// The meaning of `~`.
    pub home: Vec<u8>,
    /// The meaning of `{config}`.
    pub config: Vec<u8>,
    /// The meaning of `{cache}`.
    pub cache: Vec<u8>,
    /// The meaning of `{data}`.
    pub data: Vec<u8>,
    /// The meaning of `{state}`.
    pub state: Vec<u8>,
}

impl Default for Bases {
    fn default() -> Self {
        let [config, cache, data, state] =
            [".config", ".cache", ".local/share", ".local/state"].map(|p| p.as_bytes().to_vec());
        Self { home: Vec::new(), config, cache, data, state }
    }
}

impl Bases {
    /// Those of a sandboxed application, which uses a folder of its own as its home.
    #[must_use]
    pub fn sandboxed(id: &str) -> Self {
        let home = format!(".var/app/{id}");
        let below = |name: &str| format!("{home}/{name}").into_bytes();
        Self {
            config: below("config"),
            cache: below("cache"),
            data: below("data"),
            state: below(".local/state"),
            home: home.into_bytes(),
        }
    }

    /// The sandboxed application to which these belong.
    #[must_use]
    pub fn sandbox(&self) -> Option<&str> {
        std::str::from_utf8(self.home.strip_prefix(b".var/app/")?).ok()
    }

    fn folder(&self, base: Base) -> &[u8] {
        match base {
            Base::Home => &self.home,
            Base::Config => &self.config,
            Base::Cache => &self.cache,
            Base::Data => &self.data,
            Base::State => &self.state,
        }
    }
}

/// Why a text is not a pattern.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
#[error("{pattern}: {why}")]
pub struct PatternError {
    /// The pattern.
    pub pattern: String,
    /// The reason.
    pub why: &'static str,
}

/// A file, or a folder with its contents. `*` matches any characters within one name.
#[derive(Clone)]
pub struct Pattern {
    text: String,
    base: Base,
    names: Vec<Name>,
}

#[derive(Clone)]
enum Name {
    Exact(Vec<u8>),
    Like(GlobMatcher),
}

impl Name {
    fn fits(&self, name: &[u8]) -> bool {
        use std::os::unix::ffi::OsStrExt as _;
        match self {
            Self::Exact(exact) => exact == name,
            Self::Like(glob) => glob.is_match(std::ffi::OsStr::from_bytes(name)),
        }
    }
}

impl Pattern {
    /// Parses a pattern: a base, then names.
    ///
    /// # Errors
    /// When it is invalid, or names a place that several applications share.
    pub fn parse(text: &str) -> Result<Self, PatternError> {
        let fault = |why| PatternError { pattern: text.chars().take(MAX_BYTES).collect(), why };
        if text.len() > MAX_BYTES || text.contains(char::is_control) {
            return Err(fault("too long, or contains invalid characters"));
        }
        let (first, rest) = text.split_once('/').ok_or_else(|| fault("names no path below its base"))?;
        let known = Base::ALL.into_iter().find(|(_, word)| *word == first);
        let (base, _) = known.ok_or_else(|| fault("must begin with ~, {config}, {cache}, {data} or {state}"))?;
        let words: Vec<&str> = rest.split('/').collect();
        if words.len() > MAX_NAMES {
            return Err(fault("too many names"));
        }
        if words.iter().any(|word| matches!(*word, "" | "." | "..")) {
            return Err(fault("contains an invalid name"));
        }
        if words[0].contains('*') && words[0].trim_matches('*').len() < 3 {
            return Err(fault("its first name would match other applications' files"));
        }
        check_place(base, &words).map_err(fault)?;
        let names = words.iter().map(|word| name(word)).collect::<Option<Vec<Name>>>();
        let names = names.ok_or_else(|| fault("contains an invalid pattern"))?;
        Ok(Self { text: text.to_owned(), base, names })
    }

    /// How specific it is: the number of names.
    #[must_use]
    pub fn depth(&self) -> usize {
        self.names.len()
    }

    /// Whether a path below the home is this place or below it.
    #[must_use]
    pub fn covers(&self, bases: &Bases, path: &[u8]) -> bool {
        let Some(mut names) = below(path, bases.folder(self.base)) else { return false };
        self.names.iter().all(|own| names.next().is_some_and(|name| own.fits(name)))
    }

    /// Whether a place of this pattern may be below that folder, so that the folder must be examined.
    #[must_use]
    pub fn may_lie_below(&self, bases: &Bases, folder: &[u8]) -> bool {
        let base = bases.folder(self.base);
        if let Some(names) = below(folder, base) {
            return names.zip(&self.names).all(|(name, own)| own.fits(name));
        }
        // The folder leads to the base.
        below(base, folder).is_some()
    }
}

/// The names of a path relative to a folder; `None` when it is not below it.
fn below<'a>(path: &'a [u8], folder: &[u8]) -> Option<impl Iterator<Item = &'a [u8]>> {
    let rest = match folder {
        [] => path,
        _ => {
            let rest = path.strip_prefix(folder)?;
            if rest.is_empty() { rest } else { rest.strip_prefix(b"/")? }
        }
    };
    Some(rest.split(|byte| *byte == b'/').filter(|name| !name.is_empty()))
}

fn name(word: &str) -> Option<Name> {
    if !word.contains('*') {
        return Some(Name::Exact(word.as_bytes().to_vec()));
    }
    // Only `*` has a special meaning.
    let escaped: String =
        word.chars().flat_map(|c| if "?[]{}\\!".contains(c) { vec!['\\', c] } else { vec![c] }).collect();
    let glob = GlobBuilder::new(&escaped).literal_separator(true).backslash_escape(true).build().ok()?;
    Some(Name::Like(glob.compile_matcher()))
}

/// Refuses places that several applications share.
fn check_place(base: Base, words: &[&str]) -> Result<(), &'static str> {
    let shared = "matches a folder that is shared by several applications";
    match (base, words) {
        (Base::Home, [first, ..]) if !first.starts_with('.') => Err("must begin with a dot"),
        (Base::Home, [first, ..]) if NEVER.contains(first) => Err(shared),
        // The home folder of a sandboxed application belongs to that application.
        (Base::Home, [".var", "app", id, ..]) if id.contains('.') && !id.contains('*') => Ok(()),
        (Base::Home, [".config" | ".cache" | ".local" | ".var", ..]) => {
            Err("write {config}, {cache}, {data} or {state}")
        }
        (Base::Data, [first, ..]) if NEVER_DATA.contains(first) => Err(shared),
        _ => Ok(()),
    }
}

impl fmt::Debug for Pattern {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str(&self.text)
    }
}

impl fmt::Display for Pattern {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str(&self.text)
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn covers(pattern: &str, path: &str) -> bool {
        Pattern::parse(pattern).unwrap().covers(&Bases::default(), path.as_bytes())
    }

    #[test]
    fn a_place_is_a_file_or_a_folder_with_all_below() {
        assert!(covers("~/.quay/*/prefs", ".quay/ab.default/prefs"));
        assert!(covers("~/.quay/*/mail", ".quay/x/mail/deep/inbox"));
        assert!(!covers("~/.quay/*/mail", ".quay/x/mailbox") && !covers("~/.quay/*/mail", ".quay/mail"));
        assert!(covers("{config}/quay", ".config/quay") && !covers("{config}/quay", ".config/quayside"));
        assert!(covers("{data}/quay/a*z.db", ".local/share/quay/abz.db"));
        assert!(covers("{data}/quay/[x]*", ".local/share/quay/[x]1"), "only the star means anything");
        assert!(!covers("~/.quay/*", ".quay"), "a star stands for a name");
        let sandboxed = Bases::sandboxed("org.quay.Quay");
        let pattern = Pattern::parse("{config}/quay").unwrap();
        assert!(pattern.covers(&sandboxed, b".var/app/org.quay.Quay/config/quay/x"));
        assert!(!pattern.covers(&sandboxed, b".config/quay/x"));
        assert!(covers("~/.var/app/org.quay.Quay/cache", ".var/app/org.quay.Quay/cache/x"));
    }

    #[test]
    fn what_leads_to_a_place_is_looked_into_and_nothing_else() {
        let pattern = Pattern::parse("{data}/quay/*/mail").unwrap();
        let may = |folder: &str| pattern.may_lie_below(&Bases::default(), folder.as_bytes());
        for folder in
            ["", ".local", ".local/share", ".local/share/quay", ".local/share/quay/x", ".local/share/quay/x/mail"]
        {
            assert!(may(folder), "{folder}");
        }
        for folder in ["Documents", ".local/bin", ".local/share/other", ".local/share/quay/x/other"] {
            assert!(!may(folder), "{folder}");
        }
    }

    #[test]
    fn what_is_no_single_applications_is_refused() {
        for text in [
            "~",
            "~/",
            "~/Documents/x",
            "~/.ssh/known_hosts",
            "~/.config/quay",
            "~/.var/app",
            "~/.var/app/*",
            "~/.var/app/quay*/cache",
            "~/.var/other/org.quay.Quay",
            "{config}",
            "{config}/",
            "{config}/*",
            "{cache}/a*",
            "{data}/Trash/files",
            "{data}/keyrings",
            "{home}/x",
            "/etc/passwd",
            "~/../x",
            "~/.x/./y",
            "~/.x//y",
            "~/.x\n",
        ] {
            assert!(Pattern::parse(text).is_err(), "{text}");
        }
    }

    proptest::proptest! {
        #[test]
        fn a_damaged_pattern_is_refused_or_covers_nothing_of_the_users(seed: u64) {
            for sample in ["{config}/quay/rc", "~/.quay/*/prefs", "{cache}/quay", "~/.local/share/quay/look"] {
                let text = String::from_utf8_lossy(&crate::testkit::mutated(sample.as_bytes(), seed)).into_owned();
                let Ok(pattern) = Pattern::parse(&text) else { continue };
                for own in ["", "Documents/letter.odt", ".ssh/id", "letter", "../other"] {
                    proptest::prop_assert!(!pattern.covers(&Bases::default(), own.as_bytes()), "{text} covers {own}");
                }
            }
        }

        #[test]
        fn whatever_is_covered_lies_where_is_looked(names in proptest::collection::vec("[a-c*]{1,3}", 1..4), path in "[a-c/]{0,12}") {
            let Ok(pattern) = Pattern::parse(&format!("~/.q/{}", names.join("/"))) else { return Ok(()) };
            let (bases, path) = (Bases::default(), format!(".q/{path}"));
            if pattern.covers(&bases, path.as_bytes()) {
                let above = path.rsplit_once('/').map_or("", |(above, _)| above);
                proptest::prop_assert!(pattern.may_lie_below(&bases, above.as_bytes()));
            }
        }
    }
}
