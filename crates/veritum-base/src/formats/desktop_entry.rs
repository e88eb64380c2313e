//! [`DesktopEntry`]: an application's entry in desktop menus (Desktop Entry Specification 1.5).

use super::keyfile::{KeyFile, KeyFileError};

/// The required group.
const GROUP: &str = "Desktop Entry";
/// Command lines with more words are refused.
const MAX_WORDS: usize = 1000;

/// Why a desktop cannot use an entry.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
#[non_exhaustive]
pub enum EntryError {
    /// It is not a key file.
    #[error(transparent)]
    File(#[from] KeyFileError),
    /// It has no group `Desktop Entry`.
    #[error("no group [Desktop Entry]")]
    NoEntry,
    /// It lacks a key that is required for its type.
    #[error("no {0}")]
    Lacks(&'static str),
    /// Its command line is malformed.
    #[error("invalid command line: {0}")]
    Command(&'static str),
}

/// The type of an entry.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Kind {
    /// A program.
    Application,
    /// A link, a menu folder, or a type of a later standard.
    Other,
}

/// A desktop entry.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct DesktopEntry {
    /// Its type.
    pub kind: Kind,
    /// Its name without a language.
    pub name: String,
    /// Its names in other languages.
    pub names: Vec<String>,
    /// The words of its command, with unexpanded field codes (`%U`); empty for an entry that is only started over the bus.
    pub command: Vec<String>,
    /// A program that must exist for the entry to be shown.
    pub needs: Option<String>,
    /// Its icon: a name or an absolute path.
    pub icon: Option<String>,
    /// The types of files that it opens.
    pub opens: Vec<String>,
    /// Whether menus show it.
    pub shown: bool,
    /// Whether it is marked as deleted.
    pub hidden: bool,
    /// Whether it is started over the message bus.
    pub on_bus: bool,
}

impl DesktopEntry {
    /// Parses an entry.
    ///
    /// # Errors
    /// Why a desktop cannot use it.
    pub fn parse(bytes: &[u8]) -> Result<Self, EntryError> {
        let file = KeyFile::parse(bytes)?;
        if !file.has(GROUP) {
            return Err(EntryError::NoEntry);
        }
        let kind = match file.raw(GROUP, "Type").map(str::trim_end).ok_or(EntryError::Lacks("Type"))? {
            "Application" => Kind::Application,
            _ => Kind::Other,
        };
        let name = file.string(GROUP, "Name").filter(|name| !name.is_empty()).ok_or(EntryError::Lacks("Name"))?;
        let on_bus = file.flag(GROUP, "DBusActivatable");
        let command = match file.string(GROUP, "Exec") {
            Some(line) => words(&line).map_err(EntryError::Command)?,
            None => Vec::new(),
        };
        let hidden = file.flag(GROUP, "Hidden");
        let shown = !file.flag(GROUP, "NoDisplay") && !hidden;
        // Hidden entries are not started from menus: some only carry a name and an icon.
        if kind == Kind::Application && command.is_empty() && !on_bus && shown {
            return Err(EntryError::Lacks("Exec"));
        }
        Ok(Self {
            kind,
            name,
            names: file.translations(GROUP, "Name"),
            command,
            needs: file.string(GROUP, "TryExec").filter(|program| !program.is_empty()),
            icon: file.string(GROUP, "Icon").filter(|icon| !icon.is_empty()),
            opens: file.strings(GROUP, "MimeType"),
            shown,
            hidden,
            on_bus,
        })
    }

    /// The program that its command starts, without `env` and the variables it sets; `None` without a command.
    #[must_use]
    pub fn program(&self) -> Option<&str> {
        let mut words = self.command.iter().map(String::as_str);
        let first = words.next()?;
        if first.rsplit('/').next() != Some("env") {
            return Some(first);
        }
        words.find(|word| !word.contains('=') && !word.starts_with('-')).or(Some(first))
    }
}

/// The words of a command ("The Exec key"): separated by spaces; in double quotes `\` escapes `"`, `` ` ``, `$` and `\`.
fn words(line: &str) -> Result<Vec<String>, &'static str> {
    let mut words = Vec::new();
    let mut letters = line.chars().peekable();
    loop {
        while letters.next_if(|c| c.is_ascii_whitespace()).is_some() {}
        if letters.peek().is_none() {
            return Ok(words);
        }
        if words.len() >= MAX_WORDS {
            return Err("too many arguments");
        }
        let mut word = String::new();
        while let Some(letter) = letters.next_if(|c| !c.is_ascii_whitespace()) {
            if letter != '"' {
                word.push(letter);
                continue;
            }
            loop {
                match letters.next().ok_or("unterminated quotes")? {
                    '"' => break,
                    '\\' => word.push(letters.next().ok_or("unterminated quotes")?),
                    inside => word.push(inside),
                }
            }
        }
        words.push(word);
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn entry(lines: &str) -> Result<DesktopEntry, EntryError> {
        DesktopEntry::parse(format!("[Desktop Entry]\n{lines}").as_bytes())
    }

    #[test]
    fn an_entry_that_no_menu_shows_needs_no_command() {
        let entry =
            |lines: &str| DesktopEntry::parse(format!("[Desktop Entry]\nType=Application\nName=A\n{lines}").as_bytes());
        for lines in
            ["NoDisplay=true\n", "NoDisplay=true\nDBusActivatable=false\n", "DBusActivatable=true\n", "Hidden=true\n"]
        {
            assert!(entry(lines).is_ok(), "{lines}");
        }
        assert_eq!(entry("Icon=a\n"), Err(EntryError::Lacks("Exec")));
    }

    #[test]
    fn an_application_is_read() {
        let read = entry(
            "Type=Application\nName=Berthbook\nName[de]=Liegebuch\nExec=env A=1 \"/usr/bin/berth book\" --new %U\n\
             TryExec=berthbook\nIcon=berthbook\nMimeType=text/csv;x/y;\nNoDisplay=true\n",
        )
        .unwrap();
        assert_eq!((read.name.as_str(), read.program()), ("Berthbook", Some("/usr/bin/berth book")));
        assert_eq!(read.names, ["Liegebuch"]);
        assert_eq!(read.command.len(), 5);
        assert_eq!((read.opens.len(), read.shown, read.hidden), (2, false, false));
        assert_eq!((read.needs.as_deref(), read.icon.as_deref()), (Some("berthbook"), Some("berthbook")));
    }

    #[test]
    fn what_a_desktop_cannot_use_is_told() {
        assert_eq!(DesktopEntry::parse(b"[Other]\n").unwrap_err(), EntryError::NoEntry);
        for (lines, lacks) in
            [("Name=x\n", "Type"), ("Type=Application\nExec=x\n", "Name"), ("Type=Application\nName=x\n", "Exec")]
        {
            assert_eq!(entry(lines).unwrap_err(), EntryError::Lacks(lacks));
        }
        assert!(matches!(entry("Type=Application\nName=x\nExec=\"x\n").unwrap_err(), EntryError::Command(_)));
        assert!(entry("Type=Application\nName=x\nDBusActivatable=true\n").unwrap().on_bus);
        assert_eq!(entry("Type=Link\nName=x\n").unwrap().kind, Kind::Other);
    }

    #[test]
    fn a_command_is_taken_apart_as_the_standard_says() {
        assert_eq!(words(r#"sh -c "a \"b\" \$c""#).unwrap(), ["sh", "-c", r#"a "b" $c"#]);
        let bare = entry("Type=Application\nName=x\nExec=env\n").unwrap();
        assert_eq!(bare.program(), Some("env"));
    }

    proptest::proptest! {
        #[test]
        fn a_damaged_entry_that_can_be_used_has_what_a_desktop_needs(seed: u64) {
            let sample = b"[Desktop Entry]\nType=Application\nName=Quay\nName[de]=Kai\nExec=env A=1 \"/usr/bin/quay\" %U\nMimeType=text/csv;x/y;\n";
            if let Ok(entry) = DesktopEntry::parse(&crate::testkit::mutated(sample, seed)) {
                proptest::prop_assert!(!entry.name.is_empty());
                proptest::prop_assert!(entry.kind == Kind::Other || entry.on_bus || !entry.shown || !entry.command.is_empty());
            }
        }
    }
}
