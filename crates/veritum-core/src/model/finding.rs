//! [`Finding`]: one thing that is not as it should be. Data, never an error.

use serde::{Deserialize, Serialize};

use super::{ComponentId, Digest, FileKind, SystemPath, text::readable};

/// A field of examination.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash, PartialOrd, Ord, Serialize, Deserialize, schemars::JsonSchema)]
#[serde(rename_all = "kebab-case")]
#[non_exhaustive]
pub enum Area {
    /// The store itself: what is checked and put right before anything is held against it.
    Store,
    /// The package database: what the system itself records as installed.
    Records,
    /// The machine's files against their reference.
    Files,
    /// Whether updates can come: what was downloaded for them, their lists and sources, and what was begun.
    Updates,
}

impl Area {
    /// Every area that is there, in working order.
    pub const ALL: [Area; 4] = [Area::Store, Area::Records, Area::Files, Area::Updates];

    /// The word that is typed.
    #[must_use]
    pub fn word(self) -> &'static str {
        match self {
            Self::Store => "store",
            Self::Records => "records",
            Self::Files => "files",
            Self::Updates => "updates",
        }
    }
}

/// Who answers for a reference, strongest first.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash, PartialOrd, Ord, Serialize, Deserialize, schemars::JsonSchema)]
#[serde(rename_all = "kebab-case")]
#[non_exhaustive]
pub enum Voucher {
    /// The store's owner, by a pinned key.
    Signed,
    /// The vendor, by the archive's signature.
    Archive,
    /// Only the machine's own records.
    #[serde(rename = "self")]
    Itself,
}

impl Voucher {
    /// The word for people and for JSON.
    #[must_use]
    pub fn word(self) -> &'static str {
        match self {
            Self::Signed => "signed",
            Self::Archive => "archive",
            Self::Itself => "self",
        }
    }
}

/// What is said of a subject, gravest first.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash, PartialOrd, Ord, Serialize, Deserialize, schemars::JsonSchema)]
#[serde(rename_all = "kebab-case")]
#[non_exhaustive]
pub enum Verdict {
    /// A known key's signature stands on something that it has not signed.
    BadSignature,
    /// A folder where a file belongs, a link where a folder belongs, …
    WrongKind,
    /// Nothing there.
    Missing,
    /// It cannot be read: the medium gives an error.
    Unreadable,
    /// A record that cannot be read as what it should be: cut off, or not even text.
    Garbled,
    /// Other content.
    Altered,
    /// A download that ended too early.
    CutShort,
    /// Signed, but by no key that is known here and counts.
    NoKey,
    /// Made in the future, by the clock: it is not accepted yet.
    AheadOfClock,
    /// A lock whose holder does nothing.
    Stuck,
    /// Too little room for what is to come.
    NoRoom,
    /// A record that contradicts others.
    AtOdds,
    /// A link that leads elsewhere.
    Relinked,
    /// Another owner, mode or capability.
    WrongMode,
    /// A component whose installation was begun and not finished.
    Incomplete,
    /// Two names that should be one file are two.
    LinkCut,
    /// Note: a settings file that was changed.
    Edited,
    /// Note: a settings file that was removed.
    SettingsRemoved,
    /// Note: a folder moved by an administrator, with a link left behind.
    Moved,
    /// Note: owner or mode of a folder or settings file was set by the system or an administrator.
    Adjusted,
    /// Note: owned by no component.
    Stray,
    /// Note: a lock that a program at work holds.
    Busy,
    /// Note: lists that no longer count as new.
    Expired,
    /// Note: an administrator or a pin keeps it from being updated.
    HeldBack,
    /// Note: something that would bring updates by itself is switched off.
    SwitchedOff,
    /// Note: a setting that lowers the protection of updates.
    Lowered,
    /// Note: the machine should be started again.
    RestartDue,
    /// Note: a download under way, or left.
    Begun,
    /// Note: a download of a version that is no longer the newest.
    Superseded,
    /// Note: nothing tells what it should be.
    Unvouched,
    /// Note: named more than once.
    Doubled,
}

impl Verdict {
    /// Whether it is a problem; the others are notes.
    #[must_use]
    pub fn is_problem(self) -> bool {
        self <= Self::LinkCut
    }

    /// The word for people and for JSON.
    #[must_use]
    pub fn word(self) -> &'static str {
        match self {
            Self::BadSignature => "bad-signature",
            Self::WrongKind => "wrong-kind",
            Self::Missing => "missing",
            Self::Unreadable => "unreadable",
            Self::Garbled => "garbled",
            Self::Altered => "altered",
            Self::CutShort => "cut-short",
            Self::NoKey => "no-key",
            Self::AheadOfClock => "ahead-of-clock",
            Self::Stuck => "stuck",
            Self::NoRoom => "no-room",
            Self::AtOdds => "at-odds",
            Self::Relinked => "relinked",
            Self::WrongMode => "wrong-mode",
            Self::Incomplete => "incomplete",
            Self::LinkCut => "link-cut",
            Self::Edited => "edited",
            Self::SettingsRemoved => "settings-removed",
            Self::Moved => "moved",
            Self::Adjusted => "adjusted",
            Self::Stray => "stray",
            Self::Busy => "busy",
            Self::Expired => "expired",
            Self::HeldBack => "held-back",
            Self::SwitchedOff => "switched-off",
            Self::Lowered => "lowered",
            Self::RestartDue => "restart-due",
            Self::Begun => "begun",
            Self::Superseded => "superseded",
            Self::Unvouched => "unvouched",
            Self::Doubled => "doubled",
        }
    }
}

/// What a finding is about.
#[derive(Debug, Clone, PartialEq, Eq, Hash, PartialOrd, Ord, Serialize, Deserialize, schemars::JsonSchema)]
#[serde(tag = "kind", rename_all = "kebab-case")]
#[non_exhaustive]
pub enum Subject {
    /// A path on the machine.
    Path {
        /// The path as text.
        path: SystemPath,
        /// Its bytes in base64, when the text is not simply them.
        #[serde(default, skip_serializing_if = "Option::is_none")]
        path_b64: Option<String>,
    },
    /// A record of the package database.
    Record {
        /// Its file.
        path: SystemPath,
        /// Which entry of it, when it is about one.
        #[serde(default, skip_serializing_if = "Option::is_none")]
        entry: Option<String>,
    },
    /// A component as a whole.
    Component {
        /// Its name.
        name: String,
    },
    /// An archive that the machine gets components from.
    Source {
        /// Its URL and suite.
        name: String,
    },
    /// A service, timer or other unit of the service manager.
    Service {
        /// Its name, as the service manager calls it.
        name: String,
    },
    /// A setting.
    Setting {
        /// Its name, as it is written.
        name: String,
    },
    /// A content or manifest of a store.
    Object {
        /// Its file, below the store's folder.
        name: String,
    },
    /// A signed file of a store, or one that is made from those.
    Index {
        /// The file, below the store's folder.
        name: String,
    },
}

impl Subject {
    /// A path as a subject.
    #[must_use]
    pub fn path(path: &SystemPath) -> Self {
        use base64::Engine as _;
        let exact = readable(path.as_bytes()).as_bytes() == path.as_bytes();
        let path_b64 = (!exact).then(|| base64::engine::general_purpose::STANDARD.encode(path.as_bytes()));
        Self::Path { path: path.clone(), path_b64 }
    }

    /// A record of the package database as a subject.
    #[must_use]
    pub fn record(path: &SystemPath, entry: Option<&str>) -> Self {
        Self::Record { path: path.clone(), entry: entry.map(str::to_owned) }
    }

    /// The path, when it is one, or is about one.
    #[must_use]
    pub fn as_path(&self) -> Option<&SystemPath> {
        match self {
            Self::Path { path, .. } | Self::Record { path, .. } => Some(path),
            _ => None,
        }
    }

    /// What it is called, when it is no path.
    #[must_use]
    pub fn name(&self) -> Option<&str> {
        match self {
            Self::Path { .. } | Self::Record { .. } => None,
            Self::Component { name }
            | Self::Source { name }
            | Self::Service { name }
            | Self::Setting { name }
            | Self::Object { name }
            | Self::Index { name } => Some(name),
        }
    }
}

impl std::fmt::Display for Subject {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        match (self, self.as_path()) {
            (Self::Record { path, entry: Some(entry) }, _) => write!(f, "{path} ({entry})"),
            (_, Some(path)) => path.fmt(f),
            (_, None) => f.write_str(self.name().unwrap_or_default()),
        }
    }
}

/// A finding's name: 8 of `bcdfghjkmnpqrstvwxz2-9`, a letter first, the same from run to run.
///
/// Without vowels no word can come about, and without `0 1 l` nothing is misread over the telephone.
#[derive(Debug, Clone, PartialEq, Eq, Hash, PartialOrd, Ord, Serialize, Deserialize, schemars::JsonSchema)]
#[serde(transparent)]
pub struct FindingId(String);

const LETTERS: &[u8] = b"bcdfghjkmnpqrstvwxz";
const SIGNS: &[u8] = b"bcdfghjkmnpqrstvwxz23456789";

impl FindingId {
    /// The name for what is found in `area` of `subject`.
    #[must_use]
    pub fn of(area: Area, subject: &Subject, verdict: Verdict) -> Self {
        let what: Vec<u8> = match subject {
            Subject::Path { path, .. } | Subject::Record { path, entry: None } => path.as_bytes().to_vec(),
            Subject::Record { path, entry: Some(entry) } => [path.as_bytes(), b"\0", entry.as_bytes()].concat(),
            other => other.name().unwrap_or_default().as_bytes().to_vec(),
        };
        let digest = Digest::of(&[area.word().as_bytes(), b"\0", &what, b"\0", verdict.word().as_bytes()].concat());
        let sign = |(at, byte): (usize, &u8)| {
            let signs = if at == 0 { LETTERS } else { SIGNS };
            char::from(signs[usize::from(*byte) % signs.len()])
        };
        Self(digest.as_bytes()[..8].iter().enumerate().map(sign).collect())
    }

    /// The eight signs.
    #[must_use]
    pub fn as_str(&self) -> &str {
        &self.0
    }

    /// Whether a typed word can be the name of a finding, or the beginning of one (four signs or more).
    #[must_use]
    pub fn looks_like(word: &str) -> bool {
        let bytes = word.as_bytes();
        (4..=8).contains(&bytes.len()) && LETTERS.contains(&bytes[0]) && bytes.iter().all(|b| SIGNS.contains(b))
    }
}

/// How something is, or should be. What is not known or does not apply is left out.
#[derive(Debug, Clone, Default, PartialEq, Eq, Serialize, Deserialize, schemars::JsonSchema)]
pub struct State {
    /// What kind of thing.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub kind: Option<FileKind>,
    /// Bytes.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub size: Option<u64>,
    /// BLAKE3 of the content.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub blake3: Option<Digest>,
    /// Mode in octal, four digits.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub mode: Option<String>,
    /// User and group as `user:group`, numbers where the machine has no name.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub owner: Option<String>,
    /// A link's target as text.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub target: Option<String>,
    /// Modification time, RFC 3339 in UTC.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub modified: Option<String>,
    /// Names of one file that belong together.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub same_file_as: Vec<SystemPath>,
    /// Privileges (file capabilities) that it carries.
    #[serde(default, skip_serializing_if = "std::ops::Not::not")]
    pub capabilities: bool,
}

/// What `repair` would do about a finding.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, schemars::JsonSchema)]
pub struct Remedy {
    /// What would be done.
    pub action: Action,
    /// Where from: `store`, `archive`; for parts of a store also `other-store`, `machine`, `package`, `pin`, `index`.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub from: Option<String>,
    /// Bytes of the component's package, when it must be downloaded first.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub download: Option<u64>,
}

/// The kinds of remedy.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize, schemars::JsonSchema)]
#[serde(rename_all = "kebab-case")]
#[non_exhaustive]
pub enum Action {
    /// Put back what belongs there.
    Restore,
    /// Make it one file with its other names again.
    Relink,
    /// Set owner and mode.
    SetMode,
    /// It comes back with the folder that it lies in.
    WithFolder,
    /// Move it out of the way.
    SetAside,
}

impl Action {
    /// The words for people.
    #[must_use]
    pub fn word(self) -> &'static str {
        match self {
            Self::Restore => "restore",
            Self::Relink => "relink",
            Self::SetMode => "set owner and mode",
            Self::WithFolder => "restore with its folder",
            Self::SetAside => "set aside",
        }
    }
}

/// What a damaged part of a store would have harmed, had it been used.
#[derive(Debug, Clone, Default, PartialEq, Eq, Serialize, Deserialize, schemars::JsonSchema)]
pub struct Harm {
    /// The components that it belongs to.
    pub components: Vec<ComponentId>,
    /// Their paths that would have got it; the first of many.
    pub paths: Vec<SystemPath>,
    /// How many more paths there are.
    pub more_paths: u64,
}

/// What a person should do, in a sentence.
pub type Advice = String;

/// One thing that is not as it should be, or a note.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, schemars::JsonSchema)]
pub struct Finding {
    /// Its name, the same from run to run.
    pub id: FindingId,
    /// Where it was found.
    pub area: Area,
    /// What it is about.
    pub subject: Subject,
    /// The gravest verdict.
    pub verdict: Verdict,
    /// The other verdicts on the same subject.
    pub also: Vec<Verdict>,
    /// Whose it is.
    pub component: Option<ComponentId>,
    /// Who answers for `expected`.
    pub vouched_by: Option<Voucher>,
    /// How it should be.
    pub expected: Option<State>,
    /// How it is.
    pub found: Option<State>,
    /// Why, where known.
    pub cause: Option<String>,
    /// What `repair` would do.
    pub remedy: Option<Remedy>,
    /// What a person should do.
    pub advice: Option<Advice>,
    /// For a part of a store: what it would have harmed.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub harms: Option<Harm>,
}

impl Finding {
    /// A bare finding on a path; the rest is filled in by whoever judges.
    #[must_use]
    pub fn on_path(area: Area, path: &SystemPath, verdict: Verdict) -> Self {
        Self::on(area, Subject::path(path), verdict)
    }

    /// A bare finding on anything.
    #[must_use]
    pub fn on(area: Area, subject: Subject, verdict: Verdict) -> Self {
        Self {
            id: FindingId::of(area, &subject, verdict),
            area,
            subject,
            verdict,
            also: Vec::new(),
            component: None,
            vouched_by: None,
            expected: None,
            found: None,
            cause: None,
            remedy: None,
            advice: None,
            harms: None,
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_findings_name_is_stable_and_can_be_typed() {
        let subject = Subject::path(&SystemPath::literal("/usr/bin/berthbook"));
        let id = FindingId::of(Area::Files, &subject, Verdict::Altered);
        assert_eq!(id, FindingId::of(Area::Files, &subject, Verdict::Altered));
        assert_ne!(id, FindingId::of(Area::Files, &subject, Verdict::Missing));
        assert!(FindingId::looks_like(id.as_str()) && FindingId::looks_like(&id.as_str()[..4]));
        assert!(!FindingId::looks_like("12345678") && !FindingId::looks_like("files") && !FindingId::looks_like("bcd"));
    }

    #[test]
    fn only_the_problems_count_as_problems() {
        assert!(Verdict::LinkCut.is_problem() && Verdict::WrongKind.is_problem());
        assert!(!Verdict::Edited.is_problem() && !Verdict::Stray.is_problem());
    }

    #[test]
    fn base64_stands_beside_a_path_only_where_the_text_differs() {
        let bytes = SystemPath::parse(b"/a\xffb").unwrap();
        assert!(matches!(Subject::path(&bytes), Subject::Path { path_b64: Some(b), .. } if b == "L2H/Yg=="));
        assert!(matches!(Subject::path(&SystemPath::literal("/a")), Subject::Path { path_b64: None, .. }));
    }
}
