//! Text is plain English: words that the glossary replaced stay out of strings, doc comments and documents.

use std::fs;
use std::path::{Path, PathBuf};

/// Words and phrases that must not be used, in lower case; a phrase stands for itself alone.
const FORBIDDEN: &[&str] = &[
    "component",
    "components",
    "unvouched",
    "vouch",
    "vouched",
    "vouches",
    "voucher",
    "garbled",
    "belied",
    "belies",
    "relinked",
    "superfluous",
    "operator",
    "operators",
    "operator's",
    "keeper",
    "keeper's",
    "pinned",
    "stray",
    "strays",
    "anew",
    "afresh",
    "lately",
    "at hand",
    "put right",
    "puts right",
    "putting right",
    "take back",
    "taken back",
    "takes back",
    "taking back",
    "bring back",
    "brings back",
    "brought back",
    "held against",
    "hold against",
    "holds against",
    "somebody",
    "somebody's",
    "nobody",
    "nobody's",
    "settings file",
    "settings files",
    "kept contents",
    "further name",
    "further names",
    "stands",
    "stood",
    "tells",
    "whoever",
    "desk",
    "shelf",
    "household",
    "teller",
    "ailing",
    "journal",
    "journals",
    "archive",
    "archives",
    "sound",
    "rests on",
    "rest on",
    "looks at",
    "looked at",
];

/// Where such a word is right all the same: in a text that also has one of these.
const RIGHT_BESIDE: &[(&str, &[&str])] = &[
    // Debian's own components, and the field that names them.
    ("component", &["main", "Component"]),
    ("components", &["main", "Components", "uite"]),
    // Files that pack others, and apt's folder of them.
    (
        "archive",
        &[
            ".deb",
            "ar archive",
            "apt or an archive",
            "archive entry",
            "newest archive",
            "(a document",
            "Archive <",
            "access archive",
            "archive \"",
            "archive.",
        ],
    ),
    ("archives", &["/archives", "archives of files"]),
    // The service manager's journal, a file system's, and our file of that name.
    (
        "journal",
        &[
            "file system's journal",
            "ext4's journal",
            "journalctl",
            "systemd",
            "veritum.journal",
            "seen.db",
            "\"journal\"",
            "/journal",
        ],
    ),
    ("sound", &["\"sound\"", "libsound"]),
];

fn folder() -> PathBuf {
    Path::new(env!("CARGO_MANIFEST_DIR")).join("../..")
}

fn files_below(folder: &Path, ending: &str, all: &mut Vec<PathBuf>) {
    for entry in fs::read_dir(folder).unwrap().flatten() {
        let path = entry.path();
        if path.is_dir() {
            files_below(&path, ending, all);
        } else if path.extension().is_some_and(|extension| extension == ending) {
            all.push(path);
        }
    }
}

/// String literals and doc comments of a source, each with its line; tests at its end are left out.
fn texts(source: &str) -> Vec<(usize, String)> {
    let source = source.split("#[cfg(test)]\nmod ").next().unwrap_or_default();
    let (mut all, mut rest, mut line) = (Vec::new(), source, 1);
    while let Some(next) = rest.chars().next() {
        let length = match next {
            '/' if rest.starts_with("//") => {
                let end = rest.find('\n').unwrap_or(rest.len());
                if rest.starts_with("///") || rest.starts_with("//!") {
                    all.push((line, rest[..end].to_owned()));
                }
                end
            }
            '\'' => char_literal(rest),
            '"' => {
                let mut end = 1;
                while !rest[end..].starts_with('"') {
                    let step = if rest[end..].starts_with('\\') { 2 } else { 1 };
                    end += rest[end..].chars().take(step).map(char::len_utf8).sum::<usize>();
                }
                all.push((line, rest[..=end].to_owned()));
                end + 1
            }
            other => other.len_utf8(),
        };
        line += rest[..length].matches('\n').count();
        rest = &rest[length..];
    }
    all
}

/// The length of a character literal; of a lifetime, just its quote.
fn char_literal(rest: &str) -> usize {
    let mut chars = rest.char_indices().skip(1);
    match chars.next() {
        Some((_, '\\')) => rest[2..].find('\'').map_or(1, |end| end + 3),
        Some(_) => chars.next().filter(|(_, c)| *c == '\'').map_or(1, |(at, _)| at + 1),
        None => 1,
    }
}

/// Text without what is code in it: what backticks enclose.
fn without_code(text: &str) -> String {
    text.split('`').step_by(2).collect::<Vec<_>>().join(" ")
}

/// The forbidden words of a text.
fn found(text: &str) -> Vec<&'static str> {
    let plain = without_code(text).to_lowercase();
    let is_part = |c: char| c.is_alphanumeric() || matches!(c, '_' | '-' | '/' | '.' | '\'');
    let has = |word: &str| {
        plain.match_indices(word).any(|(at, _)| {
            let before = plain[..at].chars().next_back().is_some_and(is_part);
            let after = plain[at + word.len()..].chars().next().is_some_and(|c| is_part(c) && !matches!(c, '.' | '\''));
            !before && !after
        })
    };
    let right =
        |word: &str| RIGHT_BESIDE.iter().any(|(of, beside)| *of == word && beside.iter().any(|b| text.contains(b)));
    FORBIDDEN.iter().copied().filter(|word| has(word) && !right(word)).collect()
}

#[test]
fn forbidden_words_are_found_and_right_contexts_are_not() {
    assert_eq!(found("\"2 components are sound\""), ["components", "sound"]);
    assert_eq!(found("/// Debian's component `main`: main, contrib"), Vec::<&str>::new());
    assert_eq!(found("/// The `component` in code, and compartments."), Vec::<&str>::new());
    let source =
        "/// Told.\nfn f(a: &'static str) { g('\"', \"a \\\" b\"); } // pinned\n#[cfg(test)]\nmod tests { \"anew\" }";
    assert_eq!(texts(source), [(1, "/// Told.".to_owned()), (2, "\"a \\\" b\"".to_owned())]);
}

#[test]
fn strings_doc_comments_and_documents_are_in_plain_words() {
    let mut wrong = Vec::new();
    let mut sources = Vec::new();
    for name in ["veritum-base", "veritum-core", "veritum", "veritum-demo"] {
        files_below(&folder().join("crates").join(name).join("src"), "rs", &mut sources);
    }
    for path in &sources {
        // The format of a file system's journal is described there.
        let is_format = path.to_string_lossy().contains("/devices/ext4/");
        for (line, text) in texts(&fs::read_to_string(path).unwrap()) {
            let words = found(&text).into_iter().filter(|word| !is_format || *word != "journal");
            wrong.extend(words.map(|word| format!("{}:{line}: {word}: {text}", path.display())));
        }
    }
    let mut documents: Vec<PathBuf> =
        ["README.md", "CONTRIBUTING.md", "CHANGELOG.md"].map(|name| folder().join(name)).into();
    files_below(&folder().join("docs"), "md", &mut documents);
    for path in &documents {
        for (at, text) in fs::read_to_string(path).unwrap().lines().enumerate() {
            wrong.extend(found(text).iter().map(|word| format!("{}:{}: {word}: {text}", path.display(), at + 1)));
        }
    }
    assert!(sources.len() > 200 && documents.len() > 10, "the project is read");
    assert!(wrong.is_empty(), "{}", wrong.join("\n"));
}
