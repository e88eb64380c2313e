//! apt's configuration (apt.conf(5)): nested groups of names with values, as far as Veritum needs it.

use super::{MAX_LINES, fragments};
use crate::machine::Machine;
use crate::model::SystemPath;

/// Deeper groups are not read.
const MAX_DEPTH: usize = 32;
/// The depth of nested includes; apt itself allows ten.
const MAX_INCLUDED: usize = 10;
/// These begin like a comment but are directives.
const CLEAR: &str = "#clear";
const INCLUDE: &str = "#include";

/// apt's configuration: names in lower case, such as `acquire::http::proxy`, with their values in order.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub struct AptConf {
    values: Vec<(String, String)>,
}

impl AptConf {
    /// Reads a machine's configuration in apt's order.
    #[must_use]
    pub fn read(machine: &Machine) -> Self {
        let mut conf = Self::default();
        let mut files = fragments(machine, "/etc/apt/apt.conf.d", &["", ".conf"]);
        files.push(SystemPath::literal("/etc/apt/apt.conf"));
        for file in files {
            let text = machine.read_config(&file).ok().flatten().unwrap_or_default();
            conf.add_with(&String::from_utf8_lossy(&text), &|path| included(machine, path), 0);
        }
        conf
    }

    /// The last value of a name.
    #[must_use]
    pub fn get(&self, name: &str) -> Option<&str> {
        self.values.iter().rev().find(|(n, _)| n.eq_ignore_ascii_case(name)).map(|(_, v)| v.as_str())
    }

    /// Whether a setting exists and is false.
    #[must_use]
    pub fn is_off(&self, name: &str) -> bool {
        self.get(name).is_some_and(says_no)
    }

    /// The proxy for a URL of this scheme on this host: the host's own setting takes precedence; `None` where nothing is set.
    /// `DIRECT` means no proxy.
    #[must_use]
    pub fn proxy(&self, scheme: &str, host: &str) -> Option<&str> {
        let own = self.get(&format!("acquire::{scheme}::proxy::{host}"));
        own.or_else(|| self.get(&format!("acquire::{scheme}::proxy"))).filter(|p| !p.is_empty())
    }

    /// Adds the settings of a text; files that it includes are ignored.
    pub fn add(&mut self, text: &str) {
        self.add_with(text, &|_| None, 0);
    }

    fn add_with(&mut self, text: &str, read: &dyn Fn(&str) -> Option<String>, depth: usize) {
        let mut groups: Vec<String> = Vec::new();
        let mut words: Vec<String> = Vec::new();
        let mut lexer = Lexer { rest: text };
        while let Some(token) = lexer.next() {
            if self.values.len() >= MAX_LINES {
                return;
            }
            match token {
                Token::Word(word) => words.push(word),
                Token::Open => {
                    if groups.len() >= MAX_DEPTH {
                        return;
                    }
                    groups.push(words.first().cloned().unwrap_or_default());
                    words.clear();
                }
                Token::Close => {
                    self.statement(&groups, &words);
                    words.clear();
                    groups.pop();
                }
                Token::End => {
                    match words.first().map(|word| word.to_ascii_lowercase()).as_deref() {
                        Some(CLEAR) => words[1..].iter().for_each(|name| self.clear(name)),
                        Some(INCLUDE) if depth < MAX_INCLUDED => {
                            let texts: Vec<String> = words[1..].iter().filter_map(|path| read(path)).collect();
                            texts.iter().for_each(|text| self.add_with(text, read, depth + 1));
                        }
                        Some(INCLUDE) => {}
                        _ => self.statement(&groups, &words),
                    }
                    words.clear();
                }
            }
        }
        self.statement(&groups, &words);
    }

    /// Removes a name and everything below it.
    fn clear(&mut self, name: &str) {
        let name = name.trim_end_matches(':').to_ascii_lowercase();
        let below = format!("{name}::");
        self.values.retain(|(known, _)| *known != name && !known.starts_with(&below));
    }

    fn statement(&mut self, groups: &[String], words: &[String]) {
        let prefix = groups.join("::");
        let (name, value) = match (groups.is_empty(), words) {
            (_, []) => return,
            // A list item has no name of its own.
            (false, [item]) => (format!("{prefix}::"), item.clone()),
            (true, [_]) => return,
            (true, [name, value, ..]) => (name.clone(), value.clone()),
            (false, [name, value, ..]) => (format!("{prefix}::{name}"), value.clone()),
        };
        self.values.push((name.to_ascii_lowercase(), value));
    }
}

/// Whether a value is false, in any of apt's words for it.
#[must_use]
pub fn says_no(value: &str) -> bool {
    ["0", "no", "false", "without", "off", "disable"].iter().any(|word| value.eq_ignore_ascii_case(word))
}

/// Whether a value is true, in any of apt's words for it.
#[must_use]
pub fn says_yes(value: &str) -> bool {
    ["1", "yes", "true", "with", "on", "enable"].iter().any(|word| value.eq_ignore_ascii_case(word))
}

/// A file that a configuration includes.
fn included(machine: &Machine, path: &str) -> Option<String> {
    let path = SystemPath::parse(path.as_bytes()).ok()?;
    let text = machine.read_config(&path).ok()??;
    Some(String::from_utf8_lossy(&text).into_owned())
}

enum Token {
    Word(String),
    Open,
    Close,
    End,
}

struct Lexer<'a> {
    rest: &'a str,
}

impl Lexer<'_> {
    fn next(&mut self) -> Option<Token> {
        loop {
            self.rest = self.rest.trim_start();
            let first = self.rest.chars().next()?;
            let directive = [CLEAR, INCLUDE].into_iter().find(|word| {
                let start = self.rest.get(..word.len()).is_some_and(|start| start.eq_ignore_ascii_case(word));
                start && self.rest[word.len()..].starts_with(char::is_whitespace)
            });
            if let Some(word) = directive {
                self.rest = &self.rest[word.len()..];
                return Some(Token::Word(word.to_owned()));
            }
            if self.rest.starts_with("//") || first == '#' {
                self.rest = self.rest.split_once('\n').map_or("", |(_, rest)| rest);
            } else if let Some(comment) = self.rest.strip_prefix("/*") {
                self.rest = comment.split_once("*/").map_or("", |(_, rest)| rest);
            } else if let Some(quoted) = self.rest.strip_prefix('"') {
                let (word, rest) = quoted.split_once('"').unwrap_or((quoted, ""));
                self.rest = rest;
                return Some(Token::Word(word.to_owned()));
            } else if let Some(at) = "{};".find(first) {
                self.rest = &self.rest[1..];
                return [Token::Open, Token::Close, Token::End].into_iter().nth(at);
            } else {
                let end = self.rest.find(|c: char| c.is_whitespace() || "{};\"".contains(c));
                let (word, rest) = self.rest.split_at(end.unwrap_or(self.rest.len()));
                self.rest = rest;
                return Some(Token::Word(word.to_owned()));
            }
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn conf(text: &str) -> AptConf {
        let mut conf = AptConf::default();
        conf.add(text);
        conf
    }

    #[test]
    fn groups_and_single_lines_mean_the_same() {
        let text = "# a comment\nAcquire { http { Proxy \"http://quay.example:3142\"; Proxy::direct.example \"DIRECT\"; };\n /* no */ Retries \"3\"; };\n\
                    Acquire::https::Proxy \"http://other.example/\"; // end\nDir::Cache \"a;b\";\nAPT::Never { \"one\"; \"two\"; };";
        let conf = conf(text);
        assert_eq!(conf.proxy("http", "quay.example"), Some("http://quay.example:3142"));
        assert_eq!(conf.proxy("http", "direct.example"), Some("DIRECT"));
        assert_eq!(conf.proxy("https", "x"), Some("http://other.example/"));
        assert_eq!((conf.get("acquire::RETRIES"), conf.get("dir::cache")), (Some("3"), Some("a;b")));
        assert_eq!(conf.get("apt::never::"), Some("two"));
    }

    #[test]
    fn the_last_word_counts_and_an_empty_proxy_is_none() {
        assert_eq!(conf("A \"1\"; a \"2\";").get("A"), Some("2"));
        assert_eq!(conf("Acquire::http::Proxy \"\";").proxy("http", "x"), None);
    }

    #[test]
    fn what_begins_like_a_comment_may_clear_and_include() {
        let mut conf = AptConf::default();
        let read = |path: &str| (path == "/etc/apt/more").then(|| "A::C \"3\"; #include \"/etc/apt/more\";".to_owned());
        conf.add_with(
            "A::B \"1\"; A::B::D \"2\"; Ab \"4\";\n#clear A::B;\n#clearly a comment;\n#include /etc/apt/more;",
            &read,
            0,
        );
        assert_eq!((conf.get("A::B"), conf.get("A::B::D"), conf.get("Ab")), (None, None, Some("4")));
        assert_eq!(conf.get("A::C"), Some("3"), "and a file that includes itself ends");
    }

    #[test]
    fn yes_and_no_have_six_words_each() {
        for no in ["0", "no", "false", "without", "off", "Disable"] {
            assert!(says_no(no) && !says_yes(no) && conf(&format!("A \"{no}\";")).is_off("a"), "{no}");
        }
        for yes in ["1", "yes", "TRUE", "with", "on", "enable"] {
            assert!(says_yes(yes) && !says_no(yes), "{yes}");
        }
        assert!(!says_no("never") && !says_yes("10"));
    }

    proptest::proptest! {
        #[test]
        fn a_damaged_configuration_tells_only_values_that_stand_in_it(seed: u64) {
            let text = crate::testkit::mutated(b"Acquire { http { Proxy \"http://quay.example:3142\"; }; Retries \"3\"; };\n// x\nDir::Cache \"a;b\";\n", seed);
            let text = String::from_utf8_lossy(&text).into_owned();
            let conf = conf(&text);
            for name in ["Acquire::http::Proxy", "Acquire::Retries", "Dir::Cache"] {
                let value = conf.get(name).unwrap_or_default();
                proptest::prop_assert!(text.contains(value), "{value}");
            }
        }
    }
}
