//! [`Offered`]: which links of alternatives the packages' own scripts ask for.

use std::cell::OnceCell;
use std::collections::HashSet;

use super::{RecordFault, in_database};
use crate::machine::Machine;
use crate::model::{SystemPath, readable};
use crate::platform::debian::database::Database;

/// A script over this size is not read.
const MAX_SCRIPT: u64 = 4 << 20;

/// The scripts that offer choices (update-alternatives(1)), read when the first link is asked for. Those that are not as
/// their package has them do not count.
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

    /// Whether a script asks for a link at this place: the place is in it, or, where a script goes through several
    /// names, the folder with a variable behind it and the name.
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

/// Whether something is in a text that is no part of a longer name.
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
