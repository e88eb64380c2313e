//! Maintainer scripts, read for one question: which paths does the package itself configure?

/// A package's maintainer scripts (Debian Policy 6), without their comment lines.
#[derive(Debug, Clone, Default)]
pub struct Scripts {
    lines: String,
    sets_metadata: bool,
    /// Lines of those scripts that set capabilities without asking the administrator.
    capable: String,
}

const TOOLS: [&str; 4] = ["chmod", "chown", "setcap", "dpkg-statoverride"];

impl Scripts {
    /// Adds one script.
    pub fn add(&mut self, script: &[u8]) {
        let mut lines = String::new();
        for line in String::from_utf8_lossy(script).lines().filter(|l| !l.trim_start().starts_with('#')) {
            lines.push_str(line);
            lines.push('\n');
        }
        self.sets_metadata |= TOOLS.iter().any(|tool| lines.contains(tool));
        // debconf-devel(7): the administrator may decline.
        if lines.contains("setcap") && !lines.contains("confmodule") && !lines.contains("db_get") {
            self.capable.push_str(&lines);
        }
        self.lines.push_str(&lines);
    }

    /// Whether the scripts set owner, mode or capabilities of this path: they contain its last two names, and one of the tools
    /// for it. (Half of the real cases use a function or a variable, so that the tool need not be on the same line.)
    #[must_use]
    pub fn configure(&self, path: &[u8]) -> bool {
        self.sets_metadata && names_path(&self.lines, path)
    }

    /// Whether a script that sets capabilities (setcap(8)) without asking names this path.
    #[must_use]
    pub fn give_capabilities(&self, path: &[u8]) -> bool {
        !self.capable.is_empty() && names_path(&self.capable, path)
    }
}

/// Whether these lines contain the last two names of a path.
fn names_path(lines: &str, path: &[u8]) -> bool {
    let mut names = path.rsplit(|b| *b == b'/');
    let (Some(last), Some(before)) = (names.next(), names.next()) else { return false };
    let Ok(tail) = String::from_utf8([before, b"/", last].concat()) else { return false };
    let ends_there =
        |at: usize| !lines[at + tail.len()..].starts_with(|c: char| c.is_alphanumeric() || "._-+/".contains(c));
    let begins_there =
        |at: usize| before.is_empty() || !lines[..at].ends_with(|c: char| c.is_alphanumeric() || "._-+".contains(c));
    lines.match_indices(&tail).any(|(at, _)| ends_there(at) && begins_there(at))
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

    #[test]
    fn capabilities_are_given_where_a_script_gives_them_without_asking() {
        let mut scripts = Scripts::default();
        scripts.add(b"P=$(dpkg-divert --truename /bin/ferry)\nsetcap cap_net_raw+ep $P || chmod u+s $P\n");
        scripts.add(b"echo /usr/bin/quay\n");
        assert!(scripts.give_capabilities(b"/bin/ferry") && !scripts.give_capabilities(b"/usr/bin/quay"));
        let mut asking = Scripts::default();
        asking.add(b". /usr/share/debconf/confmodule\ndb_get ferry/raw\nsetcap cap_net_raw+ep /bin/ferry\n");
        assert!(asking.configure(b"/bin/ferry") && !asking.give_capabilities(b"/bin/ferry"));
    }
}
