//! [`Stanza`]: one package's entry in dpkg's `status` (deb822(5), dpkg-query(1)), kept byte by byte.
//!
//! Parsed as strictly as dpkg parses it: errors at which dpkg would stop are reported, and no others.

use std::borrow::Cow;

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
    /// Its bytes, including the last line's end.
    pub raw: Vec<u8>,
    fields: Vec<(Cow<'static, str>, String)>,
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
        // Nearly always valid, which is known much faster than the lossy conversion finds it.
        let text = str::from_utf8(raw).map_or_else(|_| String::from_utf8_lossy(raw), Cow::Borrowed);
        let mut fields: Vec<(Cow<'static, str>, String)> = Vec::with_capacity(24);
        for line in text.lines() {
            if line.starts_with([' ', '\t']) {
                let Some((name, value)) = fields.last_mut() else {
                    return Err("a continuation line without a field".into());
                };
                if line.trim().is_empty() {
                    return Err(format!("a blank line in the field {name}"));
                }
                value.push('\n');
                value.push_str(line.trim_end());
                continue;
            }
            let Some((name, value)) = line.split_once(':') else {
                return Err(format!("invalid line: {}", shown(line)));
            };
            let name = name.trim_end();
            if name.is_empty() || name.contains(char::is_whitespace) || fields.len() >= MAX_FIELDS {
                return Err(format!("invalid line: {}", shown(line)));
            }
            if fields.iter().any(|(n, _)| n.eq_ignore_ascii_case(name)) {
                return Err(format!("duplicate field {}", shown(name)));
            }
            let known = ORDER.iter().find(|known| **known == name).map(|known| Cow::Borrowed(*known));
            fields.push((known.unwrap_or_else(|| Cow::Owned(name.to_owned())), value.trim().to_owned()));
        }
        Ok(Self { raw: raw.to_owned(), fields })
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
        self.fields.iter().find(|(n, _)| n.eq_ignore_ascii_case(name)).map(|(_, v)| v.as_str())
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
        let text = String::from_utf8(self.raw.clone()).ok()?;
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
        let theirs = control.fields.iter().filter(|(name, _)| !is_local(name));
        let same = |name: &str, theirs: &str| self.get(name).is_some_and(|ours| is_same(name, ours, theirs));
        let mut all: Vec<String> =
            theirs.filter(|(name, value)| !same(name, value)).map(|(n, _)| n.to_string()).collect();
        let ours = self.fields.iter().filter(|(name, _)| !is_local(name) && control.get(name).is_none());
        all.extend(ours.map(|(n, _)| n.to_string()));
        all
    }

    /// The entry for a package with this control file, with the machine's own fields from the first of `local` that has them.
    #[must_use]
    pub fn composed(control: &Self, local: &[&Self], conffiles: &str) -> Self {
        let ours = |name: &str| local.iter().find_map(|s| s.get(name)).map(ToOwned::to_owned);
        let value = |name: &str| match name {
            "Status" => Some(ours(name).unwrap_or_else(|| "install ok installed".into())),
            "Conffiles" => (!conffiles.is_empty()).then(|| conffiles.to_owned()),
            _ if LOCAL.contains(&name) => ours(name).or_else(|| control.get(name).map(ToOwned::to_owned)),
            _ => control.get(name).map(ToOwned::to_owned),
        };
        let mut fields: Vec<(Cow<'static, str>, String)> =
            ORDER.iter().filter_map(|name| Some((Cow::Borrowed(*name), value(name)?))).collect();
        let known = |name: &str| ORDER.iter().any(|o| o.eq_ignore_ascii_case(name));
        fields.extend(control.fields.iter().filter(|(name, _)| !known(name)).cloned());
        let mut raw = Vec::new();
        for (name, value) in &fields {
            let gap = if value.is_empty() || value.starts_with('\n') { "" } else { " " };
            raw.extend_from_slice(format!("{name}:{gap}{value}\n").as_bytes());
        }
        Self { raw, fields }
    }
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
        assert_eq!(String::from_utf8(made.raw.clone()).unwrap(), format!("{QUAY}Homepage: made up\n"));
        assert_eq!(Stanza::of_status(&made.raw).unwrap(), made);
        let alone = Stanza::composed(&control, &[], "");
        assert_eq!((alone.get("Status"), alone.get("Conffiles")), (Some("install ok installed"), None));
    }

    #[test]
    fn what_dpkg_would_stop_at_is_told() {
        let wrong: [(&str, &[u8]); 9] = [
            ("binary data", b"Package: quay\nStatus: \0\0\0\0\n"),
            ("truncated", b"Package: quay\nStatus: install ok inst"),
            ("invalid line:", b"Package: quay\nwhat is this\n"),
            ("a continuation line without a field", b" Package: quay\n"),
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
