//! The rules of the house: no room uses a later one, and the core neither prints nor asks its surroundings.

use std::path::{Path, PathBuf};

/// The rooms in the order of `docs/architecture.md`: each may use only those before it.
const ROOMS: [&str; 20] = [
    "model",
    "event",
    "machine",
    "apps",
    "platform",
    "trust",
    "store",
    "scan",
    "archive",
    "reference",
    "plan",
    "change",
    "report",
    "history",
    "system",
    "homes",
    "supply",
    "areas",
    "work",
    "testkit",
];

fn source() -> PathBuf {
    Path::new(env!("CARGO_MANIFEST_DIR")).join("src")
}

fn files(folder: &Path) -> Vec<PathBuf> {
    let mut all = Vec::new();
    for entry in std::fs::read_dir(folder).unwrap() {
        let path = entry.unwrap().path();
        if path.is_dir() {
            all.extend(files(&path));
        } else if path.extension().is_some_and(|e| e == "rs") {
            all.push(path);
        }
    }
    all.sort();
    all
}

/// A file's lines without its tests, comments and strings' ends.
fn lines(path: &Path) -> Vec<String> {
    let text = std::fs::read_to_string(path).unwrap();
    let code = text.split("#[cfg(test)]").next().unwrap_or_default();
    code.lines().map(|l| l.split("//").next().unwrap_or_default().to_owned()).collect()
}

fn room_of(path: &Path) -> String {
    let below = path.strip_prefix(source()).unwrap();
    let first = below.components().next().unwrap().as_os_str().to_string_lossy().into_owned();
    first.trim_end_matches(".rs").to_owned()
}

/// Rooms that a line names: `crate::room`, also within braces.
fn used(line: &str) -> Vec<&'static str> {
    ROOMS
        .iter()
        .copied()
        .filter(|room| line.contains(&format!("crate::{room}::")) || line.contains(&format!("crate::{room};")))
        .collect()
}

#[test]
fn no_room_uses_a_later_one() {
    let mut wrong = Vec::new();
    let place = |room: &str| ROOMS.iter().position(|r| *r == room);
    for path in files(&source()).iter().filter(|p| room_of(p) != "lib") {
        let room = room_of(path);
        let own = place(&room).unwrap_or_else(|| panic!("{room} is in no list of rooms"));
        for line in lines(path) {
            assert!(!line.contains("use crate::{"), "{}: name each room on a line of its own", path.display());
            wrong.extend(
                used(&line)
                    .into_iter()
                    .filter(|r| place(r) > Some(own))
                    .map(|r| format!("{} uses {r}", path.display())),
            );
        }
    }
    assert!(wrong.is_empty(), "{}", wrong.join("\n"));
}

#[test]
fn the_core_does_not_print_and_does_not_ask_its_surroundings() {
    let forbidden = [
        "println!",
        "eprintln!",
        "print!(",
        "dbg!",
        "std::env::",
        "env::var",
        "process::exit",
        "clap",
        "std::io::stdin",
        "io::stdout",
        "io::stderr",
        "Timestamp::now",
        "SystemTime::now",
    ];
    let mut wrong = Vec::new();
    for path in files(&source()) {
        for line in lines(&path) {
            wrong.extend(forbidden.iter().filter(|w| line.contains(**w)).map(|w| format!("{}: {w}", path.display())));
        }
    }
    assert!(wrong.is_empty(), "{}", wrong.join("\n"));
}

#[test]
fn only_the_change_room_alters_the_machine() {
    // Methods of `Disk` that alter something; the disk itself and the lock file's making are the exceptions.
    let changing = [
        ".rename(",
        ".unlink(",
        ".remove_dir(",
        ".set_owner(",
        ".set_mode(",
        ".set_mtime(",
        ".make_dir(",
        ".make_link(",
        ".make_node(",
        ".hard_link(",
    ];
    let mut wrong = Vec::new();
    for path in files(&source()) {
        let room = room_of(&path);
        // `history` keeps the last check in the state folder; by a process with its owner's rights a home is a disk like others.
        let by_owner = path.components().any(|part| part.as_os_str() == "as_owner");
        if by_owner || matches!(room.as_str(), "change" | "machine" | "testkit" | "history") {
            continue;
        }
        for line in lines(&path) {
            wrong.extend(
                changing
                    .iter()
                    .filter(|w| line.contains(&format!("disk(){w}")) || line.contains(&format!("disk{w}")))
                    .map(|w| format!("{}: {w}", path.display())),
            );
        }
    }
    assert!(wrong.is_empty(), "{}", wrong.join("\n"));
}
