//! [`Offered`]: the symlinks of alternatives that the packages' own scripts request.

use std::cell::OnceCell;
use std::collections::HashSet;

use super::{RecordFault, in_database};
use crate::machine::Machine;
use crate::model::{SystemPath, readable};
use crate::platform::debian::database::Database;

/// Larger scripts are not read.
const MAX_SCRIPT: u64 = 4 << 20;

/// The scripts that register alternatives (update-alternatives(1)), read when first needed. Scripts that differ from their
/// package's are ignored.
pub(super) struct Offered<'a> {
    machine: &'a Machine,
    database: &'a Database,
    faults: &'a [RecordFault],
    scripts: OnceCell<Vec<String>>,
}

impl<'a> Offered<'a> {
    pub(super) fn new(machine: &'a Machine, database: &'a Database, faults: &'a [RecordFault]) -> Self {
        Self { machine, database, faults, scripts: OnceCell::new() }
    }

    /// Whether a script requests a symlink at this path: it contains the path, or, if it loops over several names, the folder
    /// followed by a variable, and the name.
    pub(super) fn has(&self, link: &SystemPath) -> bool {
        let path = readable(link.as_bytes());
        let Some((folder, name)) = path.rsplit_once('/') else { return false };
        let through = [format!("{folder}/$"), format!("{folder}/\"$")];
        self.scripts().iter().any(|script| {
            has_word(script, &path) || through.iter().any(|start| script.contains(start)) && has_word(script, name)
        })
    }

    fn scripts(&self) -> &[String] {
        self.scripts.get_or_init(|| {
            let altered: HashSet<&SystemPath> =
                self.faults.iter().filter_map(|fault| fault.finding.subject.as_path()).collect();
            let stems = self.database.info.iter().filter(|(_, suffixes)| suffixes.contains("postinst"));
            let paths = stems.map(|(stem, _)| in_database(&format!("info/{stem}.postinst")));
            let read = |path: SystemPath| {
                let bytes = self.machine.read_up_to(&path, MAX_SCRIPT).ok().flatten()?;
                let text = String::from_utf8_lossy(&bytes).into_owned();
                text.contains("update-alternatives").then_some(text)
            };
            paths.filter(|path| !altered.contains(path)).filter_map(read).collect()
        })
    }
}

/// Whether a text contains something as a whole word.
fn has_word(text: &str, word: &str) -> bool {
    let part_of_name = |c: char| c.is_alphanumeric() || "._-+/".contains(c);
    text.match_indices(word)
        .any(|(at, _)| !text[..at].ends_with(part_of_name) && !text[at + word.len()..].starts_with(part_of_name))
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_word_is_no_part_of_a_longer_one() {
        assert!(has_word("--install /usr/bin/pager pager /bin/more 50", "/usr/bin/pager"));
        assert!(has_word("for i in a pager b; do", "pager"));
        for text in ["/usr/bin/pager2", "/opt/usr/bin/pager", "/usr/bin/pager/x", "less-pager"] {
            assert!(!has_word(text, "/usr/bin/pager") && !has_word(text, "pager-x"), "{text}");
        }
    }
}
