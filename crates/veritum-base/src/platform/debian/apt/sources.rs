//! The repositories from which apt gets packages (sources.list(5)): one-line and deb822 style.

use super::{MAX_LINES, fragments};
use crate::formats::deb822::{Paragraph, paragraphs};
use crate::machine::Machine;
use crate::model::{SystemPath, error_chain};
use crate::platform::RecordProblem;

/// Further sources are not read.
const MAX_SOURCES: usize = 2000;

/// The keys that may sign for a source.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub struct Signers {
    /// Keyring files on the machine. If this and the other two are empty: apt's common keyrings.
    pub keyrings: Vec<SystemPath>,
    /// Only keys with these fingerprints, in upper-case hexadecimal.
    pub fingerprints: Vec<String>,
    /// Armoured keys in the source itself.
    pub embedded: Vec<String>,
}

impl Signers {
    /// Whether the source uses apt's common keyrings.
    #[must_use]
    pub fn is_common(&self) -> bool {
        self.keyrings.is_empty() && self.embedded.is_empty()
    }
}

/// How a source is accessed.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum SourceKind {
    /// Over the network: `http:` or `https:`.
    Network,
    /// A folder of the machine: `file:` or `copy:`.
    Folder,
    /// Neither; apt may still have copies of its lists.
    Other,
}

/// One repository with one suite.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Source {
    /// The repository's URL, ending with `/`.
    pub uri: String,
    /// The suite; one that ends with `/` is a folder relative to the URL, without components.
    pub suite: String,
    /// The components of the repository (`main`, …).
    pub components: Vec<String>,
    /// Architectures; empty for the machine's own.
    pub archs: Vec<String>,
    /// The keys that may sign.
    pub signers: Signers,
    /// The file that lists it.
    pub file: SystemPath,
}

impl Source {
    /// How it is accessed.
    #[must_use]
    pub fn kind(&self) -> SourceKind {
        match self.uri.split_once(':').map(|(scheme, _)| scheme) {
            Some("http" | "https") => SourceKind::Network,
            Some("file" | "copy") => SourceKind::Folder,
            _ => SourceKind::Other,
        }
    }

    /// Its folder on the machine, for a local repository.
    #[must_use]
    pub fn folder(&self) -> Option<SystemPath> {
        let (_, rest) = self.uri.split_once(':').filter(|_| self.kind() == SourceKind::Folder)?;
        let path = rest.strip_prefix("//").unwrap_or(rest);
        SystemPath::parse(path.trim_end_matches('/').as_bytes()).ok()
    }

    /// Whether the suite is a folder of its own, without `dists/` and components.
    #[must_use]
    pub fn is_flat(&self) -> bool {
        self.suite.ends_with('/')
    }

    /// The folder of the release file, relative to the URL, ending with `/`.
    #[must_use]
    pub fn release_folder(&self) -> String {
        if self.is_flat() { self.suite.trim_start_matches('/').to_owned() } else { format!("dists/{}/", self.suite) }
    }

    /// Whether its suite provides security updates, by the names that Debian and its derivatives use.
    #[must_use]
    pub fn is_security(&self) -> bool {
        let named = |text: &str, by: &[char]| text.split(by).any(|part| part == "security");
        named(&self.suite, &['-', '/']) || named(&self.uri, &['/', '.', '-'])
    }

    /// The name for people.
    #[must_use]
    pub fn describe(&self) -> String {
        let shown: String = without_user(&self.uri).chars().filter(|c| !c.is_control()).take(200).collect();
        format!("{shown} {}", self.suite)
    }
}

/// A URL without user and password.
fn without_user(uri: &str) -> String {
    match uri.split_once("://") {
        Some((scheme, rest)) => {
            let (host, path) = rest.split_at(rest.find('/').unwrap_or(rest.len()));
            format!("{scheme}://{}{path}", host.rsplit_once('@').map_or(host, |(_, host)| host))
        }
        None => uri.to_owned(),
    }
}

/// The machine's sources, and errors in them.
#[derive(Debug, Clone, Default)]
pub struct Sources {
    /// The enabled ones in apt's order; each repository and suite once.
    pub all: Vec<Source>,
    /// Files and entries that could not be read.
    pub problems: Vec<RecordProblem>,
    /// Sources that are listed twice, with the second file.
    pub doubled: Vec<(SystemPath, String)>,
}

/// Reads a machine's sources.
#[must_use]
pub fn sources(machine: &Machine) -> Sources {
    let mut read = Sources::default();
    let mut files = vec![SystemPath::literal("/etc/apt/sources.list")];
    files.extend(fragments(machine, "/etc/apt/sources.list.d", &[".list", ".sources"]));
    for file in files {
        match machine.read_config(&file) {
            Ok(text) => read.add(&String::from_utf8_lossy(&text.unwrap_or_default()), &file),
            Err(e) => read.problems.push(RecordProblem { path: file, what: error_chain(&e) }),
        }
    }
    read
}

impl Sources {
    /// Adds the sources of one file; its name decides the style.
    pub fn add(&mut self, text: &str, file: &SystemPath) {
        if file.as_bytes().ends_with(b".sources") {
            for (at, paragraph) in paragraphs(text).take(MAX_SOURCES).enumerate() {
                let read = deb822(&paragraph, file);
                self.add_read(read, file, &format!("paragraph {}", at + 1));
            }
        } else {
            for (at, line) in text.lines().take(MAX_LINES).enumerate() {
                self.add_read(one_line(line, file), file, &format!("line {}", at + 1));
            }
        }
    }

    fn add_read(&mut self, read: Result<Vec<Source>, String>, file: &SystemPath, place: &str) {
        match read {
            Ok(new) => {
                for source in new {
                    self.merge(source);
                }
            }
            Err(what) if self.problems.len() < 20 => {
                self.problems.push(RecordProblem { path: file.clone(), what: format!("{place}: {what}") });
            }
            Err(_) => {}
        }
    }

    /// One repository and suite may be listed more than once, with further components.
    fn merge(&mut self, new: Source) {
        let same = |s: &&mut Source| (&s.uri, &s.suite, &s.signers) == (&new.uri, &new.suite, &new.signers);
        let room = self.all.len() < MAX_SOURCES;
        match self.all.iter_mut().find(same) {
            Some(known) => {
                let nothing_new = new.components.iter().all(|c| known.components.contains(c));
                if nothing_new && known.archs == new.archs && self.doubled.len() < 20 {
                    self.doubled.push((new.file.clone(), new.describe()));
                }
                let more: Vec<String> = new.components.into_iter().filter(|c| !known.components.contains(c)).collect();
                known.components.extend(more);
                if known.archs.is_empty() || new.archs.is_empty() {
                    known.archs.clear();
                } else {
                    let more: Vec<String> = new.archs.into_iter().filter(|a| !known.archs.contains(a)).collect();
                    known.archs.extend(more);
                }
            }
            None if room => self.all.push(new),
            None => {}
        }
    }
}

/// `deb [ option=value … ] URI SUITE [COMPONENT …]`.
fn one_line(line: &str, file: &SystemPath) -> Result<Vec<Source>, String> {
    // A comment begins outside the options only: a key's path may contain `#`.
    let options = line
        .find('[')
        .filter(|open| !line[..*open].contains('#'))
        .and_then(|open| line[open..].find(']').map(|end| open + end));
    let from = options.unwrap_or(0);
    let line = line[from..].find('#').map_or(line, |at| &line[..from + at]).trim();
    let Some(rest) = line.strip_prefix("deb").filter(|r| r.starts_with(char::is_whitespace)) else {
        let known = line.is_empty() || line.starts_with("deb-src");
        return if known { Ok(Vec::new()) } else { Err("not a source line".into()) };
    };
    let mut rest = rest.trim_start();
    let mut options = "";
    if let Some(after) = rest.strip_prefix('[') {
        (options, rest) = after.split_once(']').ok_or("unterminated options")?;
    }
    let mut words = words(rest).into_iter();
    let (Some(uri), Some(suite)) = (words.next(), words.next()) else { return Err("no repository URI".into()) };
    let mut source = Source {
        uri: whole_uri(&uri)?,
        suite,
        components: words.collect(),
        archs: Vec::new(),
        signers: Signers::default(),
        file: file.clone(),
    };
    for option in options.split_ascii_whitespace() {
        match option.split_once('=') {
            Some(("arch", value)) => source.archs = value.split(',').map(str::to_owned).collect(),
            Some(("signed-by", value)) => source.signers = signers(value)?,
            _ => {}
        }
    }
    checked(source).map(|s| vec![s])
}

fn deb822(paragraph: &Paragraph<'_>, file: &SystemPath) -> Result<Vec<Source>, String> {
    let list = |name: &str| -> Vec<String> {
        paragraph.get(name).unwrap_or_default().split_ascii_whitespace().map(str::to_owned).collect()
    };
    let off = matches!(paragraph.get("Enabled").map(str::trim), Some("no" | "false" | "0" | "off" | "without"));
    if off || !list("Types").iter().any(|t| t == "deb") {
        return Ok(Vec::new());
    }
    let signers = signers(paragraph.get("Signed-By").unwrap_or_default())?;
    let mut all = Vec::new();
    for uri in list("URIs") {
        for suite in list("Suites") {
            if all.len() >= MAX_SOURCES {
                return Err("too many repositories".into());
            }
            all.push(checked(Source {
                uri: whole_uri(&uri)?,
                suite,
                components: list("Components"),
                archs: list("Architectures"),
                signers: signers.clone(),
                file: file.clone(),
            })?);
        }
    }
    if all.is_empty() { Err("no repository URI".into()) } else { Ok(all) }
}

/// Words separated by spaces; a part in brackets (a disc's name) may contain spaces.
fn words(text: &str) -> Vec<String> {
    let mut all = vec![String::new()];
    let mut depth = 0usize;
    for sign in text.chars() {
        match sign {
            '[' => depth += 1,
            ']' => depth = depth.saturating_sub(1),
            _ => {}
        }
        if sign.is_whitespace() && depth == 0 {
            all.push(String::new());
        } else if let Some(word) = all.last_mut() {
            word.push(sign);
        }
    }
    all.retain(|w| !w.is_empty());
    all
}

fn whole_uri(uri: &str) -> Result<String, String> {
    if !uri.contains(':') || uri.len() > 2000 || uri.chars().any(char::is_control) {
        return Err("invalid URL".into());
    }
    Ok(format!("{}/", uri.trim_end_matches('/')))
}

/// A suite and its components become parts of paths: they must not contain `..`.
fn checked(source: Source) -> Result<Source, String> {
    let climbs = |part: &String| part.split('/').any(|name| name == "..") || part.len() > 200;
    if climbs(&source.suite) || source.components.iter().any(climbs) || source.archs.iter().any(|a| a.contains('/')) {
        return Err("a name points outside the repository".into());
    }
    if source.components.is_empty() != source.is_flat() {
        return Err("suite and components do not match".into());
    }
    Ok(source)
}

/// `Signed-By`: keyring paths and fingerprints, or a key block.
fn signers(value: &str) -> Result<Signers, String> {
    let mut signers = Signers::default();
    if value.contains("-----BEGIN PGP PUBLIC KEY BLOCK-----") {
        // In continuation lines a single dot stands for an empty line (deb822(5)).
        let lines: Vec<&str> = value.lines().map(|l| if l.trim() == "." { "" } else { l.trim() }).collect();
        signers.embedded.push(lines.join("\n").trim().to_owned() + "\n");
        return Ok(signers);
    }
    for part in value.split([',', ' ', '\n', '\t']).filter(|p| !p.is_empty()) {
        let print = part.trim_start_matches("0x").trim_end_matches('!');
        if part.starts_with('/') {
            signers.keyrings.push(SystemPath::parse(part.as_bytes()).map_err(|e| format!("Signed-By: {e}"))?);
        } else if matches!(print.len(), 40 | 64) && print.bytes().all(|b| b.is_ascii_hexdigit()) {
            signers.fingerprints.push(print.to_ascii_uppercase());
        } else {
            return Err("Signed-By is neither a path nor a fingerprint".into());
        }
    }
    Ok(signers)
}

#[cfg(test)]
mod tests {
    use super::*;

    fn read(text: &str, name: &'static str) -> Sources {
        let mut sources = Sources::default();
        sources.add(text, &SystemPath::literal(name));
        sources
    }

    #[test]
    fn a_comment_begins_outside_the_options() {
        let file = SystemPath::literal("/etc/apt/sources.list");
        let one = |line: &str| one_line(line, &file).unwrap();
        let all = one("deb [signed-by=/etc/apt/keys/a#b.gpg arch=amd64] http://a.example/ s main # rest [x]");
        assert_eq!(
            (all[0].archs.as_slice(), all[0].components.as_slice()),
            (&["amd64".to_owned()][..], &["main".to_owned()][..])
        );
        assert_eq!(all[0].signers.keyrings[0].to_string(), "/etc/apt/keys/a#b.gpg");
        assert_eq!(one("deb http://a.example/ s main # [old] other")[0].components, ["main"]);
        assert!(one("# deb [x] http://a.example/ s main").is_empty());
    }

    #[test]
    fn a_repository_of_security_updates_is_known_by_its_name() {
        let is = |line: &str| read(line, "/etc/apt/sources.list").all[0].is_security();
        assert!(is("deb http://a.example/deb saltwort-security main"));
        assert!(is("deb http://security.a.example/ saltwort/updates main"));
        assert!(!is("deb http://insecurity.example/ saltwort-updates main"));
    }

    #[test]
    fn one_line_sources_are_read_with_their_options() {
        let text = "# off\ndeb [arch=amd64,arm64 signed-by=/usr/share/keyrings/a.gpg] http://quay.example/foreshore saltwort main extra # here\n\
            deb-src http://quay.example/foreshore saltwort main\ndeb http://quay.example/foreshore/ saltwort other\n\
            deb cdrom:[Foreshore 4.2 disc 1]/ saltwort main\ndeb file:/srv/local ./\nnonsense\ndeb http://x ../.. main\n";
        let all = read(text, "/etc/apt/sources.list");
        assert_eq!(all.problems.len(), 2);
        let [first, second, disc, local] = &all.all[..] else { panic!("{:?}", all.all) };
        assert_eq!((first.uri.as_str(), first.suite.as_str()), ("http://quay.example/foreshore/", "saltwort"));
        assert_eq!(
            (&first.components[..], &first.archs[..]),
            (&["main".into(), "extra".into()][..], &["amd64".into(), "arm64".into()][..])
        );
        assert_eq!(first.signers.keyrings, [SystemPath::literal("/usr/share/keyrings/a.gpg")]);
        assert!(second.signers.is_common() && second.kind() == SourceKind::Network);
        assert_eq!((disc.uri.as_str(), disc.kind()), ("cdrom:[Foreshore 4.2 disc 1]/", SourceKind::Other));
        assert_eq!((local.folder().unwrap(), local.is_flat()), (SystemPath::literal("/srv/local"), true));
    }

    #[test]
    fn deb822_sources_are_read_and_merged() {
        let text = "Types: deb deb-src\nURIs: https://u:p@quay.example/foreshore\nSuites: saltwort saltwort-updates\nComponents: main\n\
            Signed-By:\n -----BEGIN PGP PUBLIC KEY BLOCK-----\n .\n abc\n -----END PGP PUBLIC KEY BLOCK-----\n\n\
            Types: deb\nURIs: http://x.example/\nSuites: a\nComponents: b\nEnabled: no\n";
        let all = read(text, "/etc/apt/sources.list.d/a.sources");
        assert_eq!((all.all.len(), all.problems.len()), (2, 0));
        assert_eq!(all.all[1].describe(), "https://quay.example/foreshore/ saltwort-updates");
        assert_eq!(all.all[0].signers.embedded[0].lines().nth(1), Some(""));
        assert_eq!(all.all[0].release_folder(), "dists/saltwort/");
        let twice = read("deb http://x a main\ndeb http://x/ a more\n", "/etc/apt/sources.list");
        assert_eq!(twice.all[0].components, ["main", "more"]);
    }

    proptest::proptest! {
        #[test]
        fn a_damaged_source_has_an_address_and_a_suite_or_is_a_problem(seed: u64) {
            let lines = b"deb [arch=amd64 signed-by=/usr/share/keyrings/a.gpg] http://quay.example/foreshore saltwort main extra\ndeb file:/srv/local ./\n";
            let whole = b"Types: deb deb-src\nURIs: https://quay.example/foreshore\nSuites: saltwort saltwort-updates\nComponents: main\n";
            for (sample, name) in [(&lines[..], "/a.list"), (whole, "/a.sources")] {
                let text = String::from_utf8_lossy(&crate::testkit::mutated(sample, seed)).into_owned();
                let read = read(&text, name);
                for source in &read.all {
                    proptest::prop_assert!(source.uri.ends_with('/') && source.uri.contains(':') && !source.suite.is_empty(), "{source:?}");
                    proptest::prop_assert!(source.suite.split('/').all(|name| name != ".."), "{source:?}");
                }
            }
        }
    }
}
