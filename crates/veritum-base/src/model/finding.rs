//! [`Finding`]: a problem or a note. Data, never an error.

use serde::{Deserialize, Serialize};

use super::{
    Action, ActionKind, AreaName, Digest, FileKind, PackageId, SystemPath, Verdict, text::readable, words::word_enum,
};

/// The authority behind a reference, strongest first.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash, PartialOrd, Ord, Serialize, Deserialize, schemars::JsonSchema)]
#[serde(rename_all = "kebab-case")]
#[non_exhaustive]
pub enum Authority {
    /// The store's owner, by a trusted key.
    Store,
    /// The vendor, by the repository's signature.
    Repository,
    /// The local package database alone.
    Local,
}

impl Authority {
    /// The word for people and JSON.
    #[must_use]
    pub fn word(self) -> &'static str {
        match self {
            Self::Store => "store",
            Self::Repository => "repository",
            Self::Local => "local",
        }
    }
}

/// The subject of a finding.
#[derive(Debug, Clone, PartialEq, Eq, Hash, PartialOrd, Ord, Serialize, Deserialize, schemars::JsonSchema)]
#[serde(tag = "kind", rename_all = "kebab-case")]
#[non_exhaustive]
pub enum Subject {
    /// A path on the machine.
    Path {
        /// The path as text.
        path: SystemPath,
        /// Its bytes in base64, if they are not valid UTF-8.
        #[serde(default, skip_serializing_if = "Option::is_none")]
        path_b64: Option<String>,
    },
    /// A record of the package database, or an entry of a list such as fstab.
    Record {
        /// The record's file.
        path: SystemPath,
        /// The entry, if the finding is about one entry of it.
        #[serde(default, skip_serializing_if = "Option::is_none")]
        entry: Option<String>,
    },
    /// A package as a whole.
    Package {
        /// Its name.
        name: String,
    },
    /// A repository from which the machine gets packages.
    Source {
        /// Its URL and suite.
        name: String,
    },
    /// A service, timer or other unit of the service manager.
    Service {
        /// The service manager's name of it.
        name: String,
    },
    /// An application.
    App {
        /// Its desktop entry's name, without `.desktop`.
        name: String,
    },
    /// A setting.
    Setting {
        /// Its name, as written in the configuration.
        name: String,
    },
    /// A file system of a disk or an image, or a part of one.
    Volume {
        /// The disk's path as it was given, the partition, and the part: `disk.img partition 2: /usr/bin/ferry`.
        name: String,
    },
    /// A content file or manifest of a store.
    Object {
        /// Its file, relative to the store's folder.
        name: String,
    },
    /// A signed file of a store, or a file derived from signed ones.
    Index {
        /// The file, relative to the store's folder.
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

    /// The path that the subject is or concerns.
    #[must_use]
    pub fn as_path(&self) -> Option<&SystemPath> {
        match self {
            Self::Path { path, .. } | Self::Record { path, .. } => Some(path),
            _ => None,
        }
    }

    /// The subject's name, if it is not a path.
    #[must_use]
    pub fn name(&self) -> Option<&str> {
        match self {
            Self::Path { .. } | Self::Record { .. } => None,
            Self::Package { name }
            | Self::Source { name }
            | Self::Service { name }
            | Self::App { name }
            | Self::Setting { name }
            | Self::Volume { name }
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

/// A finding's id: 8 of `bcdfghjkmnpqrstvwxz2-9`, a letter first, the same in every run.
///
/// Without vowels it cannot form words, and without `0 1 l` it is not misread over the telephone.
#[derive(Debug, Clone, PartialEq, Eq, Hash, PartialOrd, Ord, Serialize, Deserialize, schemars::JsonSchema)]
#[serde(transparent)]
pub struct FindingId(String);

const LETTERS: &[u8] = b"bcdfghjkmnpqrstvwxz";
const SIGNS: &[u8] = b"bcdfghjkmnpqrstvwxz23456789";

impl FindingId {
    /// The id of a finding in `area` about `subject`.
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

    /// Whether a typed word can be an id, or the beginning of one (four characters or more).
    #[must_use]
    pub fn looks_like(word: &str) -> bool {
        let bytes = word.as_bytes();
        (4..=8).contains(&bytes.len()) && LETTERS.contains(&bytes[0]) && bytes.iter().all(|b| SIGNS.contains(b))
    }
}

/// A state, expected or found. What is unknown or does not apply is left out.
#[derive(Debug, Clone, Default, PartialEq, Eq, Serialize, Deserialize, schemars::JsonSchema)]
pub struct State {
    /// Kind of file.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub kind: Option<FileKind>,
    /// Size in bytes.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub size: Option<u64>,
    /// BLAKE3 of the content.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub blake3: Option<Digest>,
    /// Mode in octal, four digits.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub mode: Option<String>,
    /// User and group as `user:group`, with ids where the machine has no name.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub owner: Option<String>,
    /// A symlink's target as text.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub target: Option<String>,
    /// Modification time, RFC 3339 in UTC.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub modified: Option<String>,
    /// The other names of the same file.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub same_file_as: Vec<SystemPath>,
    /// Whether it carries file capabilities.
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

word_enum! {
    /// What a problem means for the next start of the machine, most serious first.
    pub enum StartEffect {
        /// It does not start.
        BreaksStart = "breaks-start",
        /// It starts late, or only partly.
        SlowsStart = "slows-start",
        /// It starts: something else makes up for the problem, or it is not needed for that.
        Latent = "latent",
    }
}

word_enum! {
    /// How something about the start of a machine is known.
    pub enum KnownBy {
        /// It was compared with the file of a package.
        Package = "package",
        /// Its own checksum, or its structure, shows it.
        SelfProof = "self-proof",
        /// It follows from the partition table, the file systems and the files that are there.
        Derived = "derived",
        /// The medium reports an error.
        Medium = "medium",
    }
}

/// What `repair` would do about a finding.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, schemars::JsonSchema)]
pub struct Remedy {
    /// The action.
    pub action: ActionKind,
    /// The source: `store`, `repository`; for parts of a store also `other-store`, `machine`, `package`, `pin`, `index`.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub from: Option<String>,
    /// The size of the package's .deb file in bytes, if it must be downloaded first.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub download: Option<u64>,
}

/// What a damaged part of a store would have affected, had it been used.
#[derive(Debug, Clone, Default, PartialEq, Eq, Serialize, Deserialize, schemars::JsonSchema)]
pub struct Harm {
    /// The packages that use it.
    pub packages: Vec<PackageId>,
    /// The paths that would have received it; the first of many.
    pub paths: Vec<SystemPath>,
    /// The number of further paths.
    pub more_paths: u64,
}

/// A problem or a note.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, schemars::JsonSchema)]
pub struct Finding {
    /// Its id, the same in every run.
    pub id: FindingId,
    /// The area that found it.
    pub area: AreaName,
    /// Its subject.
    pub subject: Subject,
    /// The most serious verdict.
    pub verdict: Verdict,
    /// How much it matters.
    pub severity: Severity,
    /// Further verdicts on the same subject.
    pub also: Vec<Verdict>,
    /// The package that owns the subject.
    pub package: Option<PackageId>,
    /// The authority behind `expected`.
    pub verified_by: Option<Authority>,
    /// The expected state.
    pub expected: Option<State>,
    /// The state found.
    pub found: Option<State>,
    /// The cause, if known.
    pub cause: Option<String>,
    /// What `repair` would do.
    pub remedy: Option<Remedy>,
    /// What a person should do.
    pub action: Option<Action>,
    /// For a part of the boot chain: what it means for the next start.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub effect: Option<StartEffect>,
    /// For a part of the boot chain: how it is known.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub known_by: Option<KnownBy>,
    /// For a part of a store: what it would have affected.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub harms: Option<Harm>,
}

impl Finding {
    /// Whether a repair would take this action.
    #[must_use]
    pub fn is_mended_by(&self, action: ActionKind) -> bool {
        self.remedy.as_ref().is_some_and(|remedy| remedy.action == action)
    }

    /// A finding on a path with no details; the code that judges it adds them.
    #[must_use]
    pub fn on_path(area: AreaName, path: &SystemPath, verdict: Verdict) -> Self {
        Self::on(area, Subject::path(path), verdict)
    }

    /// A finding on any subject with no details.
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
            effect: None,
            known_by: None,
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
