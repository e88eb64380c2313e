//! [`Stanza`]: one package's entry in dpkg's `status` (deb822(5), dpkg-query(1)), kept byte by byte.
//!
//! Parsed as strictly as dpkg parses it: errors at which dpkg would stop are reported, and no others.

use std::borrow::Cow;
use std::ops::Range;

use crate::model::{Md5, SystemPath};
use crate::platform::SettingsFile;

/// Larger stanzas are refused; the largest of Debian have a tenth of it.
const MAX_STANZA: usize = 1 << 20;
/// Stanzas with more fields are refused.
const MAX_FIELDS: usize = 1000;
/// The order in which dpkg writes the fields it knows; the others follow unchanged.
const ORDER: [&str; 28] = [
    "Package",
    "Essential",
    "Protected",
    "Status",
    "Priority",
    "Section",
    "Installed-Size",
    "Origin",
    "Maintainer",
    "Bugs",
    "Architecture",
    "Multi-Arch",
    "Source",
    "Version",
    "Config-Version",
    "Replaces",
    "Provides",
    "Depends",
    "Pre-Depends",
    "Recommends",
    "Suggests",
    "Breaks",
    "Conflicts",
    "Enhances",
    "Conffiles",
    "Description",
    "Triggers-Pending",
    "Triggers-Awaited",
];
/// Fields that only this machine knows: packages do not have them, or the machine may have changed them.
const LOCAL: [&str; 7] =
    ["Status", "Conffiles", "Config-Version", "Triggers-Pending", "Triggers-Awaited", "Priority", "Section"];

/// Relation fields: dpkg reformats them, so spacing and line breaks do not matter.
const RELATIONS: [&str; 9] =
    ["Breaks", "Conflicts", "Depends", "Enhances", "Pre-Depends", "Provides", "Recommends", "Replaces", "Suggests"];

/// The key of an entry: name and architecture.
pub type Key = (String, String);

/// One entry.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Stanza {
    /// Its lines without white space at their ends; invalid UTF-8 is replaced.
    text: String,
    /// Its bytes, where they differ from `text`.
    original: Option<Vec<u8>>,
    fields: Vec<Field>,
}

/// Where a field is in an entry's text.
#[derive(Debug, Clone, PartialEq, Eq)]
struct Field {
    name: Range<u32>,
    value: Range<u32>,
}

impl Stanza {
    /// Parses one entry.
    ///
    /// # Errors
    /// The error at which dpkg would stop.
    pub fn parse(raw: &[u8]) -> Result<Self, String> {
        if raw.len() > MAX_STANZA {
            return Err("an entry exceeds the size limit".into());
        }
        let is_binary = |b: u8| b < b' ' && b != b'\n' && b != b'\t' && b != b'\r';
        // Without an early end, many bytes are compared at once.
        if raw.iter().fold(false, |found, b| found | is_binary(*b))
            && let Some(byte) = raw.iter().find(|b| is_binary(**b))
        {
            return Err(format!("binary data (0x{byte:02x})"));
        }
        if raw.last() != Some(&b'\n') {
            return Err("truncated in the middle of a line".into());
        }
        let (text, original) = without_line_ends(raw);
        let fields = fields(&text)?;
        Ok(Self { text, original, fields })
    }

    /// Its bytes, including the last line's end.
    #[must_use]
    pub fn raw(&self) -> &[u8] {
        self.original.as_deref().unwrap_or(self.text.as_bytes())
    }

    /// Parses one entry of `status`, which must name a package and its status.
    ///
    /// # Errors
    /// The error at which dpkg would stop.
    pub fn of_status(raw: &[u8]) -> Result<Self, String> {
        let stanza = Self::parse(raw)?;
        let name = stanza.get("Package").ok_or("an entry without a name")?;
        let plain = |b: u8| b.is_ascii_alphanumeric() || b"+-.".contains(&b);
        if name.is_empty() || !name.bytes().all(plain) {
            return Err(format!("invalid package name: {}", shown(name)));
        }
        let name = shown(name);
        let status = stanza.get("Status").ok_or_else(|| format!("{name} has no Status"))?;
        let words: Vec<&str> = status.split_ascii_whitespace().collect();
        let known = matches!(
            words[..],
            [
                "unknown" | "install" | "hold" | "deinstall" | "purge",
                "ok" | "reinstreq",
                "not-installed"
                    | "config-files"
                    | "half-installed"
                    | "unpacked"
                    | "half-configured"
                    | "triggers-awaited"
                    | "triggers-pending"
                    | "installed"
            ]
        );
        if !known {
            return Err(format!("{name} has an invalid Status"));
        }
        let has = |field: &str| stanza.get(field).is_some_and(|v| !v.is_empty() && !v.contains(char::is_whitespace));
        let state = words[2];
        if state != "not-installed" && !(has("Version") && (has("Architecture") || state == "config-files")) {
            return Err(format!("{name} has no Version or no Architecture"));
        }
        Ok(stanza)
    }

    /// A field's value: the first line trimmed, the others unchanged. Names are case-insensitive.
    #[must_use]
    pub fn get(&self, name: &str) -> Option<&str> {
        let bytes = |range: &Range<u32>| &self.text.as_bytes()[range.start as usize..range.end as usize];
        let field = self.fields.iter().find(|field| bytes(&field.name).eq_ignore_ascii_case(name.as_bytes()))?;
        Some(&self.text[field.value.start as usize..field.value.end as usize])
    }

    /// The fields in their order: names and values.
    fn fields(&self) -> impl Iterator<Item = (&str, &str)> {
        let part = |range: &Range<u32>| &self.text[range.start as usize..range.end as usize];
        self.fields.iter().map(move |field| (part(&field.name), part(&field.value)))
    }

    /// Its name.
    #[must_use]
    pub fn name(&self) -> &str {
        self.get("Package").unwrap_or_default()
    }

    /// Its name and architecture.
    #[must_use]
    pub fn key(&self) -> Key {
        (self.name().to_owned(), self.get("Architecture").unwrap_or_default().to_owned())
    }

    /// Its state of installation: the last word of its Status.
    #[must_use]
    pub fn state(&self) -> &str {
        self.get("Status").and_then(|s| s.split_ascii_whitespace().nth(2)).unwrap_or_default()
    }

    /// The same entry with another state; `None` if the state is invalid.
    #[must_use]
    pub fn in_state(&self, state: &str) -> Option<Self> {
        let wish = self.get("Status")?.split_ascii_whitespace().next()?;
        self.with_status(&format!("{wish} ok {state}"))
    }

    /// The same entry with another Status; `None` if that is invalid.
    #[must_use]
    pub fn with_status(&self, after: &str) -> Option<Self> {
        let before = self.get("Status")?;
        let text = str::from_utf8(self.raw()).ok()?;
        let at =
            |line: &&str| line.split_once(':').is_some_and(|(name, _)| name.trim_end().eq_ignore_ascii_case("Status"));
        let line = text.lines().find(at)?;
        debug_assert!(line.contains(before));
        Self::of_status(text.replacen(line, &format!("Status: {after}"), 1).as_bytes()).ok()
    }

    /// Its configuration files.
    #[must_use]
    pub fn settings(&self) -> Vec<SettingsFile> {
        settings(self.get("Conffiles").unwrap_or_default())
    }

    /// The fields that differ from the package's control file; those that only the machine knows are not compared.
    #[must_use]
    pub fn differs_from(&self, control: &Self) -> Vec<String> {
        let is_local = |name: &str| LOCAL.iter().any(|l| l.eq_ignore_ascii_case(name));
        let theirs = control.fields().filter(|(name, _)| !is_local(name));
        let same = |name: &str, theirs: &str| self.get(name).is_some_and(|ours| is_same(name, ours, theirs));
        let mut all: Vec<String> =
            theirs.filter(|(name, value)| !same(name, value)).map(|(n, _)| n.to_owned()).collect();
        let ours = self.fields().filter(|(name, _)| !is_local(name) && control.get(name).is_none());
        all.extend(ours.map(|(n, _)| n.to_owned()));
        all
    }

    /// The entry for a package with this control file, with the machine's own fields from the first of `local` that has them.
    #[must_use]
    pub fn composed(control: &Self, local: &[&Self], conffiles: &str) -> Self {
        let ours = |name: &str| local.iter().find_map(|s| s.get(name));
        let value = |name: &str| match name {
            "Status" => Some(ours(name).unwrap_or("install ok installed")),
            "Conffiles" => (!conffiles.is_empty()).then_some(conffiles),
            _ if LOCAL.contains(&name) => ours(name).or_else(|| control.get(name)),
            _ => control.get(name),
        };
        let known = |name: &str| ORDER.iter().any(|o| o.eq_ignore_ascii_case(name));
        let first = ORDER.iter().filter_map(|name| Some((*name, value(name)?)));
        let mut text = String::new();
        let mut fields = Vec::new();
        for (name, value) in first.chain(control.fields().filter(|(name, _)| !known(name))) {
            let gap = if value.is_empty() || value.starts_with('\n') { "" } else { " " };
            let begin = text.len();
            for part in [name, ":", gap, value, "\n"] {
                text.push_str(part);
            }
            let end = text.len() - 1;
            fields.push(Field { name: range(begin, begin + name.len()), value: range(end - value.len(), end) });
        }
        Self { text, original: None, fields }
    }
}

/// Text within the limit of an entry.
#[allow(clippy::cast_possible_truncation)]
fn range(begin: usize, end: usize) -> Range<u32> {
    begin as u32..end as u32
}

/// An entry as text without white space at the ends of its lines, and its bytes if they differ.
fn without_line_ends(raw: &[u8]) -> (String, Option<Vec<u8>>) {
    // Nearly always valid, which is known much faster than the lossy conversion finds it.
    let text = str::from_utf8(raw).map_or_else(|_| String::from_utf8_lossy(raw), Cow::Borrowed);
    let doubtful = |end: usize| {
        let last = text.as_bytes()[..end].last();
        last.is_some_and(|b| *b != b'\n' && (b.is_ascii_whitespace() || !b.is_ascii()))
    };
    if matches!(text, Cow::Borrowed(_)) && !memchr::memchr_iter(b'\n', raw).any(doubtful) {
        return (text.into_owned(), None);
    }
    let plain: String = text.split_terminator('\n').flat_map(|line| [line.trim_end(), "\n"]).collect();
    let original = (plain.as_bytes() != raw).then(|| raw.to_owned());
    (plain, original)
}

/// The fields of an entry's text.
fn fields(text: &str) -> Result<Vec<Field>, String> {
    let mut fields: Vec<Field> = Vec::with_capacity(24);
    let mut begin = 0;
    while begin < text.len() {
        let end = memchr::memchr(b'\n', &text.as_bytes()[begin..]).map_or(text.len(), |n| begin + n);
        let line = &text[begin..end];
        if line.is_empty() || line.starts_with([' ', '\t']) {
            let Some(Field { name, value }) = fields.last_mut() else {
                return Err("a continuation line or a blank line before the first field".into());
            };
            if line.is_empty() {
                return Err(format!("a blank line in the field {}", &text[name.start as usize..name.end as usize]));
            }
            value.end = range(begin, end).end;
        } else {
            let field = field(text, begin, end)?;
            let name = |field: &Field| &text.as_bytes()[field.name.start as usize..field.name.end as usize];
            if fields.len() >= MAX_FIELDS {
                return Err(format!("invalid line: {}", shown(line)));
            }
            if fields.iter().any(|other| name(other).eq_ignore_ascii_case(name(&field))) {
                return Err(format!("duplicate field {}", shown(&String::from_utf8_lossy(name(&field)))));
            }
            fields.push(field);
        }
        begin = end + 1;
    }
    Ok(fields)
}

/// The field that begins in this line.
fn field(text: &str, begin: usize, end: usize) -> Result<Field, String> {
    let line = &text[begin..end];
    let invalid = || format!("invalid line: {}", shown(line));
    let colon = memchr::memchr(b':', line.as_bytes()).ok_or_else(invalid)?;
    let name = line[..colon].trim_end();
    if name.is_empty() || name.contains(char::is_whitespace) {
        return Err(invalid());
    }
    let value = line[colon + 1..].trim_start();
    Ok(Field { name: range(begin, begin + name.len()), value: range(end - value.len(), end) })
}

/// Lines of `PATH MD5 [obsolete] [remove-on-upgrade]`; the path may contain spaces.
fn settings(lines: &str) -> Vec<SettingsFile> {
    let mut files = Vec::new();
    for line in lines.lines() {
        let mut rest = line.trim();
        let mut obsolete = false;
        while let Some((head, flag)) = rest.rsplit_once(' ') {
            match flag {
                "obsolete" => obsolete = true,
                "remove-on-upgrade" => {}
                _ => break,
            }
            rest = head;
        }
        let Some((path, md5)) = rest.rsplit_once(' ') else { continue };
        if let Ok(path) = SystemPath::parse(path.as_bytes()) {
            files.push(SettingsFile { path, md5: Md5::from_hex(md5.as_bytes()).ok(), obsolete });
        }
    }
    files
}

fn is_same(name: &str, one: &str, other: &str) -> bool {
    let is_relation = RELATIONS.iter().any(|r| r.eq_ignore_ascii_case(name));
    let bare = |text: &str| -> String { text.chars().filter(|c| !c.is_whitespace()).collect() };
    one == other || is_relation && bare(one) == bare(other)
}

/// Foreign text for people: short, without control characters.
fn shown(text: &str) -> Cow<'_, str> {
    if text.len() <= 40 && !text.chars().any(char::is_control) {
        return Cow::Borrowed(text);
    }
    Cow::Owned(text.chars().filter(|c| !c.is_control()).take(40).chain("…".chars()).collect())
}

/// The pieces between blank lines.
#[must_use]
pub fn pieces(text: &[u8]) -> Vec<&[u8]> {
    let mut all = Vec::new();
    let (mut begin, mut at) = (0, 0);
    while at < text.len() {
        let end = memchr::memchr(b'\n', &text[at..]).map_or(text.len(), |n| at + n + 1);
        if text[at] == b'\n' {
            if at > begin {
                all.push(&text[begin..at]);
            }
            begin = end;
        }
        at = end;
    }
    if text.len() > begin {
        all.push(&text[begin..]);
    }
    all
}

#[cfg(test)]
mod tests {
    use super::*;

    const QUAY: &str = "Package: quay\nStatus: hold ok installed\nPriority: required\nArchitecture: all\nVersion: 1.0\n\
        Depends: rope,\n  knot\nConffiles:\n /etc/quay 900150983cd24fb0d6963f7d28e17f72\nDescription: a quay\n long\n";
    const CONTROL: &str = "Package: quay\nVersion: 1.0\nArchitecture: all\nDepends: rope,\n  knot\nPriority: optional\n\
        Description: a quay\n long\nHomepage: made up\n";

    #[test]
    fn what_only_the_machine_knows_is_no_difference_and_the_rest_is() {
        let control = Stanza::parse(CONTROL.as_bytes()).unwrap();
        let quay = Stanza::of_status(QUAY.as_bytes()).unwrap();
        assert_eq!(quay.differs_from(&control), ["Homepage"]);
        let spaced = QUAY.replace("rope,\n  knot", "rope , knot").replace("a quay", "a  quay");
        assert_eq!(Stanza::of_status(spaced.as_bytes()).unwrap().differs_from(&control), ["Description", "Homepage"]);
        let other = QUAY.replace("knot", "rot").replace("Version", "X-New: 1\nVersion");
        assert_eq!(
            Stanza::of_status(other.as_bytes()).unwrap().differs_from(&control),
            ["Depends", "Homepage", "X-New"]
        );
        assert_eq!((quay.state(), quay.settings()[0].path.as_bytes()), ("installed", &b"/etc/quay"[..]));
    }

    #[test]
    fn an_entry_is_made_from_its_control_file_and_what_is_known_of_the_machine() {
        let control = Stanza::parse(CONTROL.as_bytes()).unwrap();
        let quay = Stanza::of_status(QUAY.as_bytes()).unwrap();
        let made = Stanza::composed(&control, &[&quay], quay.get("Conffiles").unwrap());
        assert_eq!(String::from_utf8(made.raw().to_owned()).unwrap(), format!("{QUAY}Homepage: made up\n"));
        assert_eq!(Stanza::of_status(made.raw()).unwrap(), made);
        let alone = Stanza::composed(&control, &[], "");
        assert_eq!((alone.get("Status"), alone.get("Conffiles")), (Some("install ok installed"), None));
    }

    #[test]
    fn what_dpkg_would_stop_at_is_told() {
        let wrong: [(&str, &[u8]); 9] = [
            ("binary data", b"Package: quay\nStatus: \0\0\0\0\n"),
            ("truncated", b"Package: quay\nStatus: install ok inst"),
            ("invalid line:", b"Package: quay\nwhat is this\n"),
            ("a continuation line or a blank line before", b" Package: quay\n"),
            ("blank line", b"Package: quay\n  \nStatus: install ok installed\n"),
            ("duplicate field", b"Package: quay\npackage: rope\n"),
            ("without a name", b"Status: install ok installed\n"),
            ("has an invalid Status", b"Package: quay\nStatus: install ok instxlled\nVersion: 1\nArchitecture: all\n"),
            ("has no Version or no Architecture", b"Package: quay\nStatus: install ok installed\nArchitecture: all\n"),
        ];
        for (why, raw) in wrong {
            let told = Stanza::of_status(raw).unwrap_err();
            assert!(told.contains(why), "{told}");
        }
    }

    #[test]
    fn pieces_end_at_empty_lines_and_lose_no_byte_between_them() {
        assert_eq!(pieces(b"a: 1\n\n\nb: 2\nc"), [&b"a: 1\n"[..], b"b: 2\nc"]);
        assert!(pieces(b"\n\n").is_empty() && pieces(b"").is_empty());
    }

    proptest::proptest! {
        #[test]
        fn any_bytes_can_be_read_as_entries(bytes: Vec<u8>, cut in 0usize..300, at in 0usize..300, byte: u8) {
            let mut quay = QUAY.as_bytes()[..cut.min(QUAY.len())].to_vec();
            if let Some(b) = quay.get_mut(at) { *b = byte; }
            for piece in pieces(&bytes).into_iter().chain(pieces(&quay)) {
                if let Ok(stanza) = Stanza::of_status(piece) {
                    let again = Stanza::composed(&stanza, &[&stanza], stanza.get("Conffiles").unwrap_or_default());
                    proptest::prop_assert!(again.differs_from(&stanza).is_empty());
                }
            }
        }
    }
}
