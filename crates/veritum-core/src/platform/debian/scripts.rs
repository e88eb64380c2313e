//! Maintainer scripts, read for one question: which paths does the component itself configure?

/// A component's maintainer scripts (Debian Policy 6), without their comment lines.
#[derive(Debug, Clone, Default)]
pub struct Scripts {
    lines: String,
    sets_metadata: bool,
}

const TOOLS: [&str; 4] = ["chmod", "chown", "setcap", "dpkg-statoverride"];

impl Scripts {
    /// Adds one script.
    pub fn add(&mut self, script: &[u8]) {
        for line in String::from_utf8_lossy(script).lines().filter(|l| !l.trim_start().starts_with('#')) {
            self.sets_metadata |= TOOLS.iter().any(|tool| line.contains(tool));
            self.lines.push_str(line);
            self.lines.push('\n');
        }
    }

    /// Whether the scripts set owner, mode or privileges of this path: its last two names stand in them, and one
    /// of the tools that do such things. (Half of the real cases go through a function or a variable, so the tool
    /// need not stand on the same line.)
    #[must_use]
    pub fn configure(&self, path: &[u8]) -> bool {
        if !self.sets_metadata {
            return false;
        }
        let mut names = path.rsplit(|b| *b == b'/');
        let (Some(last), Some(before)) = (names.next(), names.next()) else { return false };
        let Ok(tail) = String::from_utf8([before, b"/", last].concat()) else { return false };
        let ends_there = |at: usize| {
            !self.lines[at + tail.len()..].starts_with(|c: char| c.is_alphanumeric() || "._-+/".contains(c))
        };
        let begins_there = |at: usize| {
            before.is_empty() || !self.lines[..at].ends_with(|c: char| c.is_alphanumeric() || "._-+".contains(c))
        };
        self.lines.match_indices(&tail).any(|(at, _)| ends_there(at) && begins_there(at))
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_path_is_configured_only_where_the_scripts_name_it() {
        let mut scripts = Scripts::default();
        scripts
            .add(b"#!/bin/sh\n# chmod /usr/bin/comment\nf() { chown root:ferry \"$1\"; }\nf /usr/lib/ferry/helper\n");
        assert!(scripts.configure(b"/usr/lib/ferry/helper"));
        assert!(!scripts.configure(b"/usr/lib/ferry/help") && !scripts.configure(b"/usr/bin/comment"));
        assert!(!scripts.configure(b"/usr/lib/notferry/helper2"));
        let mut harmless = Scripts::default();
        harmless.add(b"echo /usr/lib/ferry/helper\n");
        assert!(!harmless.configure(b"/usr/lib/ferry/helper"));
    }
}
