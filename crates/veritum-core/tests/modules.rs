//! What Cargo does not hold: no module uses a later one, no area another, and nothing below the line prints or asks its surroundings.

use std::path::{Path, PathBuf};

/// The modules in the order of `docs/architecture.md`: each may use only those before it.
const MODULES: [&str; 24] = [
    "model",
    "event",
    "formats",
    "devices",
    "machine",
    "apps",
    "platform",
    "trust",
    "store",
    "scan",
    "repository",
    "reference",
    "plan",
    "change",
    "report",
    "history",
    "savepoints",
    "system",
    "homes",
    "rescue",
    "supply",
    "areas",
    "work",
    "testkit",
];

fn source() -> PathBuf {
    Path::new(env!("CARGO_MANIFEST_DIR")).join("src")
}

/// The files of all modules, those of the crate beneath too.
fn all_files() -> Vec<PathBuf> {
    let base = Path::new(env!("CARGO_MANIFEST_DIR")).join("../veritum-base/src");
    let all = [files(&base), files(&source())].concat();
    assert!(all.len() > 250, "{}", all.len());
    all.into_iter().filter(|path| path.file_name().is_some_and(|name| name != "lib.rs" && name != "tests.rs")).collect()
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

fn module_of(path: &Path) -> String {
    let mut below = path.components().skip_while(|part| part.as_os_str() != "src").skip(1);
    below.next().unwrap().as_os_str().to_string_lossy().trim_end_matches(".rs").to_owned()
}

/// Modules that a line names: `crate::module`, also within braces.
fn used(line: &str) -> Vec<&'static str> {
    MODULES
        .iter()
        .copied()
        .filter(|module| line.contains(&format!("crate::{module}::")) || line.contains(&format!("crate::{module};")))
        .collect()
}

#[test]
fn no_module_uses_a_later_one() {
    let mut wrong = Vec::new();
    let place = |module: &str| MODULES.iter().position(|r| *r == module);
    for path in &all_files() {
        let module = module_of(path);
        let own = place(&module).unwrap_or_else(|| panic!("{module} is in no list of modules"));
        for line in lines(path) {
            assert!(!line.contains("use crate::{"), "{}: name each module on a line of its own", path.display());
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
    for path in all_files() {
        for line in lines(&path) {
            wrong.extend(forbidden.iter().filter(|w| line.contains(**w)).map(|w| format!("{}: {w}", path.display())));
        }
    }
    assert!(wrong.is_empty(), "{}", wrong.join("\n"));
}

#[test]
fn only_the_change_module_alters_the_machine() {
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
    for path in all_files() {
        let module = module_of(&path);
        // `history` keeps the last check in the state folder; by a process with its owner's rights a home is a disk like others;
        // `rescue` writes to another disk, and refuses one that is part of the machine; savepoints are files in Veritum's own folders.
        let by_owner = path.components().any(|part| part.as_os_str() == "as_owner");
        let own_folders = ["savepoints/pool.rs", "savepoints/parts.rs"].iter().any(|file| path.ends_with(file));
        if by_owner || own_folders || matches!(module.as_str(), "change" | "machine" | "testkit" | "history" | "rescue")
        {
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

#[test]
fn only_the_change_module_writes_to_disks_and_one_place_opens_them() {
    let mut wrong = Vec::new();
    for path in all_files() {
        let module = module_of(&path);
        let opens = path.ends_with("system/disks.rs") || module == "devices";
        for line in lines(&path) {
            let is_opened = line.contains("WritableDevice") && !opens;
            let is_written = line.contains("WriteAt") && !opens && !matches!(module.as_str(), "change" | "testkit");
            wrong.extend((is_opened || is_written).then(|| format!("{}: {line}", path.display())));
        }
    }
    assert!(wrong.is_empty(), "{}", wrong.join("\n"));
}

#[test]
fn no_area_uses_another() {
    let areas = source().join("areas");
    let names: Vec<String> = std::fs::read_dir(&areas)
        .unwrap()
        .map(|entry| entry.unwrap().path())
        .filter(|path| path.is_dir())
        .map(|path| path.file_name().unwrap().to_string_lossy().into_owned())
        .collect();
    assert!(names.len() >= 5, "{names:?}");
    let mut wrong = Vec::new();
    for name in &names {
        for path in files(&areas.join(name)) {
            for line in lines(&path) {
                let others = names.iter().filter(|other| *other != name);
                // One level up from a file of an area is the area itself, from its `mod.rs` all of them.
                let is_mod = path.file_name().is_some_and(|file| file == "mod.rs");
                let uses = |other: &&String| {
                    line.contains(&format!("areas::{other}::")) || is_mod && line.contains(&format!("super::{other}::"))
                };
                wrong.extend(others.filter(uses).map(|other| format!("{} uses {other}", path.display())));
            }
        }
    }
    assert!(wrong.is_empty(), "{}", wrong.join("\n"));
}
