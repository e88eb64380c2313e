//! ext4's own check (e2fsck(8)) of a file system that is not mounted: read-only, or with changes that e2undo(8) undoes.

use std::collections::{BTreeMap, BTreeSet};
use std::ffi::OsString;
use std::path::Path;
use std::sync::atomic::AtomicBool;
use std::time::Duration;

use super::delegate::{Limit, ToolOutput, run_keeping};
use super::e2fsprogs::tool;
use crate::devices::ext4::FileSystem;
use crate::model::{error_words, word_enum};

/// At most so much of the output is read, from its end, in bytes.
const MAX_OUTPUT: u64 = 8 << 20;
/// A check with changes is not interrupted: that could leave more damage than there was.
const NO_END: Duration = Duration::from_secs(30 * 24 * 3600);
/// Exit statuses (e2fsck(8)): what is added up.
const CORRECTED: i32 = 1 | 2;
const LEFT: i32 = 4;

word_enum! {
    /// What a message of the check is about.
    pub enum Class {
        /// Files or folders with a wrong size, place, attribute or checksum.
        Inodes = "inodes",
        /// Entries of folders.
        Names = "names",
        /// Folders as a whole.
        Folders = "folders",
        /// Files and folders that no folder names.
        Nameless = "nameless",
        /// Counts of hard links.
        Links = "links",
        /// Blocks that several files use.
        Shared = "shared-blocks",
        /// Maps and counts of used space.
        Maps = "maps",
        /// The superblock, group descriptors or the file system's own log.
        Overall = "overall",
        /// Anything else.
        Other = "other",
    }
}

impl Class {
    /// Whether it is known which files are concerned.
    #[must_use]
    pub fn names_files(self) -> bool {
        matches!(self, Self::Inodes | Self::Names | Self::Folders | Self::Links | Self::Maps)
    }

    /// Such problems in words.
    #[must_use]
    pub fn words(self, count: u64) -> String {
        let (one, many) = match self {
            Self::Inodes => (
                "file or folder with a wrong size, place or checksum",
                "files or folders with a wrong size, place or checksum",
            ),
            Self::Names => ("wrong name in a folder", "wrong names in folders"),
            Self::Folders => ("damaged folder", "damaged folders"),
            Self::Nameless => (
                "file or folder without a name, which is put into lost+found",
                "files or folders without a name, which are put into lost+found",
            ),
            Self::Links => ("wrong number of hard links", "wrong numbers of hard links"),
            Self::Shared => {
                ("message about blocks that several files use", "messages about blocks that several files use")
            }
            Self::Maps => return "the maps and counts of used space are wrong".to_owned(),
            Self::Overall => {
                return "the superblock, the group descriptors or the file system's own log are damaged".to_owned();
            }
            Self::Other => ("other message", "other messages"),
        };
        if count == 1 { format!("1 {one}") } else { format!("{count} {many}") }
    }
}

/// What a check found, or corrected.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub struct Findings {
    /// The number of messages of each kind.
    pub classes: BTreeMap<Class, u64>,
    /// The inodes that it names.
    pub inodes: BTreeSet<u32>,
    /// Whether something is left to correct.
    pub is_damaged: bool,
    /// Whether it changed something.
    pub has_changed: bool,
}

impl Findings {
    /// What was found, in words.
    #[must_use]
    pub fn words(&self) -> String {
        let words: Vec<String> = self.classes.iter().map(|(class, count)| class.words(*count)).collect();
        if words.is_empty() { "damage that it does not name".to_owned() } else { words.join("; ") }
    }

    /// Parses the output of a check.
    #[must_use]
    pub fn parse(output: &str) -> Self {
        let mut found = Self::default();
        for line in output.lines() {
            let Some(message) = message_in(line) else { continue };
            let class = class_of(message);
            *found.classes.entry(class).or_default() += 1;
            if class != Class::Maps {
                found.inodes.extend(inodes_in(message));
            }
        }
        found
    }
}

/// The message in a line, without the question that may follow it (two spaces separate them).
fn message_in(line: &str) -> Option<&str> {
    let line = line.trim();
    let asked = line.strip_suffix("? no").or_else(|| line.strip_suffix("? yes"));
    let message = match asked {
        Some(asked) => asked.rsplit_once("  ")?.0.trim(),
        None => line,
    };
    let starts =
        ["Pass ", "e2fsck ", "Overwriting existing filesystem", "To undo", "e2undo ", "Warning: skipping", "Warning!"];
    let has = ["*****", " non-contiguous), ", ": recovering ", "check forced", "UNEXPECTED INCONSISTENCY"];
    let is_none = message.is_empty()
        || starts.iter().any(|start| message.starts_with(start))
        || has.iter().any(|part| message.contains(part));
    (!is_none).then_some(message)
}

fn class_of(message: &str) -> Class {
    let has = |words: &[&str]| words.iter().any(|word| message.contains(word));
    if has(&["ultiply-claimed", "shared with", "claimed by"]) {
        Class::Shared
    } else if has(&["bitmap differences", "count wrong", "Padding at end", "bitmap for group"]) {
        Class::Maps
    } else if has(&["Unattached", "Unconnected"]) {
        Class::Nameless
    } else if message.starts_with("Entry ") {
        Class::Names
    } else if has(&["ref count is"]) {
        Class::Links
    } else if has(&["uperblock", "roup descriptor", "ournal", "Bad magic", "uper-block"]) {
        Class::Overall
    } else if has(&[
        "irectory inode",
        "directory corrupted",
        "irectory entry",
        "HTREE",
        "'..'",
        "'.'",
        "directory block",
    ]) {
        Class::Folders
    } else if has(&["node "]) {
        Class::Inodes
    } else {
        Class::Other
    }
}

/// The inodes that a message names: after the word, or in brackets after a path.
fn inodes_in(line: &str) -> Vec<u32> {
    let mut found = Vec::new();
    let mut before = "";
    for word in line.split([' ', ',', ':', '.']) {
        let number = word.trim_start_matches(['#', '(']).trim_end_matches(')');
        let is_named = before.ends_with("node") || before.ends_with("nodes");
        if let (true, Ok(inode)) = (is_named || word.starts_with('('), number.parse()) {
            found.push(inode);
        }
        before = word;
    }
    found
}

fn checker() -> Result<String, String> {
    let found = tool("e2fsck").ok_or("e2fsck (package e2fsprogs) is not installed")?;
    Ok(found.to_string_lossy().into_owned())
}

/// A copy of a superblock, by which a file system is checked whose first one is lost.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct SuperblockCopy {
    /// Its block.
    pub block: u64,
    /// The size of a block in bytes.
    pub size: u64,
}

impl SuperblockCopy {
    /// The copy by which a file system was opened, if its first superblock is lost.
    #[must_use]
    pub fn of(fs: &FileSystem<'_>) -> Option<Self> {
        let superblock = &fs.superblock;
        (fs.copy_in != 0).then(|| Self { block: superblock.start_of(fs.copy_in), size: superblock.block_size })
    }

    fn words(copy: Option<Self>) -> impl Iterator<Item = OsString> {
        let words = copy.map(|copy| ["-b".to_owned(), copy.block.to_string(), "-B".to_owned(), copy.size.to_string()]);
        words.into_iter().flatten().map(OsString::from)
    }
}

/// Checks a file system without changing anything. `offset` is where it begins on the disk or in the image, in bytes.
///
/// # Errors
/// Why it could not be checked.
pub fn check(disk: &Path, offset: u64, copy: Option<SuperblockCopy>, stop: &AtomicBool) -> Result<Findings, String> {
    let mut place = disk.canonicalize().map_err(|e| error_words(&e))?.into_os_string();
    if offset > 0 {
        place.push(format!("?offset={offset}"));
    }
    let limit = Limit { most: NO_END, stop: Some(stop) };
    let fixed = [OsString::from("-n"), OsString::from("-f")].into_iter().chain(SuperblockCopy::words(copy));
    let words: Vec<OsString> = fixed.chain([place]).collect();
    let ran = run_keeping(&checker()?, &words, &[], limit, MAX_OUTPUT).map_err(|e| error_words(&e))?;
    judged(&ran)
}

/// Corrects a file system, and writes what it overwrites to a file for [`undo`]. Changes cannot be interrupted.
///
/// # Errors
/// Why it could not be corrected. What is left is not an error: another check finds it.
pub fn correct(device: &Path, copy: Option<SuperblockCopy>, undo_file: &Path) -> Result<Findings, String> {
    let limit = Limit { most: NO_END, stop: None };
    let fixed = [OsString::from("-f"), "-y".into(), "-z".into(), undo_file.into()];
    let words: Vec<OsString> = fixed.into_iter().chain(SuperblockCopy::words(copy)).chain([device.into()]).collect();
    let ran = run_keeping(&checker()?, &words, &[], limit, MAX_OUTPUT).map_err(|e| error_words(&e))?;
    judged(&ran)
}

fn judged(ran: &ToolOutput) -> Result<Findings, String> {
    let Some(status) = ran.status.filter(|status| status & !(CORRECTED | LEFT) == 0) else {
        return Err(format!("e2fsck failed: {}", ran.why()));
    };
    let found = Findings::parse(&ran.said);
    Ok(Findings { is_damaged: status & LEFT != 0, has_changed: status & CORRECTED != 0, ..found })
}

/// Undoes what a correction overwrote; `redo_file` gets what this overwrites.
///
/// # Errors
/// Why it could not be undone: the file system was changed since, for example.
pub fn undo(device: &Path, undo_file: &Path, redo_file: &Path) -> Result<(), String> {
    let program = tool("e2undo").ok_or("e2undo (package e2fsprogs) is not installed")?;
    let limit = Limit { most: NO_END, stop: None };
    let words = [OsString::from("-z"), redo_file.into(), undo_file.into(), device.into()];
    let ran = run_keeping(&program.to_string_lossy(), &words, &[], limit, MAX_OUTPUT).map_err(|e| error_words(&e))?;
    if ran.is_fine() { Ok(()) } else { Err(format!("e2undo failed: {}", ran.why())) }
}

#[cfg(test)]
mod tests {
    use super::*;

    const OUTPUT: &str = "e2fsck 1.47.0 (5-Feb-2023)\nPass 1: Checking inodes, blocks, and sizes\n\
        Inode 342, i_blocks is 99, should be 40.  Fix? no\n\nPass 2: Checking directory structure\n\
        Entry 'dpkg' in /usr/bin (339) has deleted/unused inode 418.  Clear? no\n\n\
        Entry 'dpkg' in /usr/bin (339) has an incorrect filetype (was 1, should be 0).\nFix? no\n\n\
        Pass 3: Checking directory connectivity\nPass 4: Checking reference counts\nUnattached inode 110\nConnect to /lost+found? no\n\n\
        Inode 356 ref count is 3, should be 1.  Fix? no\n\nPass 5: Checking group summary information\n\
        Block bitmap differences:  -(19016--19093) +(30000--30019)\nFix? no\n\nFree blocks count wrong (100868, counted=100888).\nFix? no\n\n\
        vtmroot: ********** WARNING: Filesystem still has errors **********\n\n\
        vtmroot: 16620/96192 files (0.2% non-contiguous), 283388/384256 blocks\n";

    #[test]
    fn messages_are_counted_by_what_they_are_about_with_the_inodes_that_they_name() {
        let found = Findings::parse(OUTPUT);
        let expected =
            [(Class::Inodes, 1), (Class::Names, 2), (Class::Nameless, 1), (Class::Links, 1), (Class::Maps, 2)];
        assert_eq!(found.classes, BTreeMap::from(expected));
        assert_eq!(found.inodes, BTreeSet::from([110, 339, 342, 356, 418]));
        assert!(found.words().starts_with("1 file or folder with a wrong size"), "{}", found.words());
        let sound = "e2fsck 1.47.0 (5-Feb-2023)\nPass 1: Checking inodes, blocks, and sizes\nPass 5: Checking group summary information\n\
            p.img: 11/16 files (0.0% non-contiguous), 5/64 blocks\n";
        assert!(Findings::parse(sound).classes.is_empty());
    }

    proptest::proptest! {
        #[test]
        fn damaged_output_is_read_without_panic(seed: u64) {
            let said = crate::testkit::mutated(OUTPUT.as_bytes(), seed);
            let found = Findings::parse(&String::from_utf8_lossy(&said));
            proptest::prop_assert!(found.inodes.len() <= OUTPUT.len());
        }
    }
}
