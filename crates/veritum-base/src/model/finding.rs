//! [`Finding`]: one thing that is not as it should be. Data, never an error.

use serde::{Deserialize, Serialize};

use super::{
    Action, ActionKind, AreaName, Digest, FileKind, PackageId, SystemPath, Verdict, text::readable, words::word_enum,
};

/// Who answers for a reference, strongest first.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash, PartialOrd, Ord, Serialize, Deserialize, schemars::JsonSchema)]
#[serde(rename_all = "kebab-case")]
#[non_exhaustive]
pub enum Authority {
    /// The store's owner, by a trusted key.
    Store,
    /// The vendor, by the repository's signature.
    Repository,
    /// Only the local package database.
    Local,
}

impl Authority {
    /// The word for people and for JSON.
    #[must_use]
    pub fn word(self) -> &'static str {
        match self {
            Self::Store => "store",
            Self::Repository => "repository",
            Self::Local => "local",
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
    /// A package as a whole.
    Package {
        /// Its name.
        name: String,
    },
    /// A repository that the machine gets packages from.
    Source {
        /// Its URL and suite.
        name: String,
    },
    /// A service, timer or other unit of the service manager.
    Service {
        /// Its name, as the service manager calls it.
        name: String,
    },
    /// An application.
    App {
        /// Its desktop entry's name, without `.desktop`.
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
            Self::Package { name }
            | Self::Source { name }
            | Self::Service { name }
            | Self::App { name }
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
    pub fn new(area: &AreaName, subject: &Subject, verdict: Verdict) -> Self {
        let what: Vec<u8> = match subject {
            Subject::Path { path, .. } | Subject::Record { path, entry: None } => path.as_bytes().to_vec(),
            Subject::Record { path, entry: Some(entry) } => [path.as_bytes(), b"\0", entry.as_bytes()].concat(),
            other => other.name().unwrap_or_default().as_bytes().to_vec(),
        };
        let digest = Digest::hash(&[area.word().as_bytes(), b"\0", &what, b"\0", verdict.word().as_bytes()].concat());
        let sign = |(at, byte): (usize, &u8)| {
            let signs = if at == 0 { LETTERS } else { SIGNS };
            char::from(signs[usize::from(*byte) % signs.len()])
        };
        Self(digest.as_bytes()[..8].iter().enumerate().map(sign).collect())
    }

    /// The eight characters.
    #[must_use]
    pub fn as_str(&self) -> &str {
        &self.0
    }

    /// Whether a typed word can be the name of a finding, or the beginning of one (four characters or more).
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

word_enum! {
    /// How much a problem matters, most first.
    pub enum Severity {
        /// The system may not start, run or be trusted: boot files, programs, libraries, the package database, signatures.
        High = "high",
        /// Something may not work as it should: configuration, data, services, updates.
        Medium = "medium",
        /// Little depends on it: documentation, translations, examples.
        Low = "low",
    }
}

impl Severity {
    /// The severity of a problem with a subject.
    #[must_use]
    pub fn new(subject: &Subject, verdict: Verdict) -> Self {
        const VITAL: [&str; 12] = [
            "/bin",
            "/sbin",
            "/lib",
            "/lib32",
            "/lib64",
            "/libx32",
            "/boot",
            "/usr/bin",
            "/usr/sbin",
            "/usr/lib",
            "/usr/libexec",
            "/usr/games",
        ];
        const PAPER: [&str; 6] = [
            "/usr/share/doc",
            "/usr/share/man",
            "/usr/share/info",
            "/usr/share/locale",
            "/usr/share/help",
            "/usr/share/lintian",
        ];
        match subject {
            _ if verdict == Verdict::BadSignature => Self::High,
            Subject::Record { .. } | Subject::Index { .. } => Self::High,
            Subject::Path { path, .. } if VITAL.iter().any(|place| path.is_within_place(place)) => Self::High,
            Subject::Path { path, .. } if PAPER.iter().any(|place| path.is_within_place(place)) => Self::Low,
            _ => Self::Medium,
        }
    }
}

/// What `repair` would do about a finding.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, schemars::JsonSchema)]
pub struct Remedy {
    /// What would be done.
    pub action: ActionKind,
    /// Where from: `store`, `repository`; for parts of a store also `other-store`, `machine`, `package`, `pin`, `index`.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub from: Option<String>,
    /// Bytes of the package's .deb file, when it must be downloaded first.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub download: Option<u64>,
}

/// What a damaged part of a store would have harmed, had it been used.
#[derive(Debug, Clone, Default, PartialEq, Eq, Serialize, Deserialize, schemars::JsonSchema)]
pub struct Harm {
    /// The packages that it belongs to.
    pub packages: Vec<PackageId>,
    /// Their paths that would have got it; the first of many.
    pub paths: Vec<SystemPath>,
    /// How many more paths there are.
    pub more_paths: u64,
}

/// One thing that is not as it should be, or a note.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, schemars::JsonSchema)]
pub struct Finding {
    /// Its name, the same from run to run.
    pub id: FindingId,
    /// Where it was found.
    pub area: AreaName,
    /// What it is about.
    pub subject: Subject,
    /// The gravest verdict.
    pub verdict: Verdict,
    /// How much it matters.
    pub severity: Severity,
    /// The other verdicts on the same subject.
    pub also: Vec<Verdict>,
    /// Whose it is.
    pub package: Option<PackageId>,
    /// Who answers for `expected`.
    pub verified_by: Option<Authority>,
    /// How it should be.
    pub expected: Option<State>,
    /// How it is.
    pub found: Option<State>,
    /// Why, where known.
    pub cause: Option<String>,
    /// What `repair` would do.
    pub remedy: Option<Remedy>,
    /// What a person should do.
    pub action: Option<Action>,
    /// For a part of a store: what it would have harmed.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub harms: Option<Harm>,
}

impl Finding {
    /// Whether a repair would do this about it.
    #[must_use]
    pub fn is_mended_by(&self, action: ActionKind) -> bool {
        self.remedy.as_ref().is_some_and(|remedy| remedy.action == action)
    }

    /// A bare finding on a path; the rest is filled in by the one that judges.
    #[must_use]
    pub fn on_path(area: AreaName, path: &SystemPath, verdict: Verdict) -> Self {
        Self::on(area, Subject::path(path), verdict)
    }

    /// A bare finding on anything.
    #[must_use]
    pub fn on(area: AreaName, subject: Subject, verdict: Verdict) -> Self {
        Self {
            id: FindingId::new(&area, &subject, verdict),
            severity: Severity::new(&subject, verdict),
            area,
            subject,
            verdict,
            also: Vec::new(),
            package: None,
            verified_by: None,
            expected: None,
            found: None,
            cause: None,
            remedy: None,
            action: None,
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
        let id = FindingId::new(&AreaName::new("files"), &subject, Verdict::Altered);
        assert_eq!(id, FindingId::new(&AreaName::new("files"), &subject, Verdict::Altered));
        assert_ne!(id, FindingId::new(&AreaName::new("files"), &subject, Verdict::Missing));
        assert!(FindingId::looks_like(id.as_str()) && FindingId::looks_like(&id.as_str()[..4]));
        assert!(!FindingId::looks_like("12345678") && !FindingId::looks_like("files") && !FindingId::looks_like("bcd"));
    }

    #[test]
    fn base64_is_given_with_a_path_only_where_the_text_differs() {
        let bytes = SystemPath::parse(b"/a\xffb").unwrap();
        assert!(matches!(Subject::path(&bytes), Subject::Path { path_b64: Some(b), .. } if b == "L2H/Yg=="));
        assert!(matches!(Subject::path(&SystemPath::literal("/a")), Subject::Path { path_b64: None, .. }));
    }
}
