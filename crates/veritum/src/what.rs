//! Parses what commands act on: an area's word, a path, `package:NAME`, a change, a finding.

use std::ffi::OsStr;
use std::os::unix::ffi::OsStrExt as _;
use std::path::Path;

use veritum_core::areas::{AREAS, BOOTCHAIN, FILES};
use veritum_core::model::{Action, AreaName, FindingId, Reach, Scope, SystemPath, quoted};

use crate::errors::{Failure, unknown_word};

/// The subject of `explain`.
pub(crate) enum Subject {
    Path(SystemPath),
    Finding(String),
    Change(u64),
    Savepoint(u64),
    App(String),
    /// How the machine can be started.
    Starts,
}

/// Parses the arguments of `check` and `repair`.
pub(crate) fn scope(words: &[std::ffi::OsString], target: &Path) -> Result<Scope, Failure> {
    let mut scope = Scope::default();
    for word in words {
        let bytes = word.as_bytes();
        if is_path(bytes) {
            scope.paths.push(path(word, target)?);
        } else if let Some(name) = bytes.strip_prefix(b"package:") {
            scope.packages.push(String::from_utf8_lossy(name).into_owned());
        } else if let Some(named) = selected(&word.to_string_lossy()) {
            scope.selected.push(named);
        } else if bytes == b"all" {
            scope.reach = Reach::Everything;
        } else if let Some(area) = AREAS.iter().find(|area| area.about().name.word().as_bytes() == bytes) {
            scope.areas.push(area.about().name.clone());
        } else {
            return Err(unknown(word));
        }
    }
    if !scope.paths.is_empty() && scope.packages.len() + scope.selected.len() > 0 {
        return Err(Failure::usage(
            "paths cannot be combined with packages or applications".into(),
            "one would restrict the other".into(),
            Some("use two commands".into()),
        ));
    }
    if scope.reach == Reach::Everything && words.len() > 1 {
        return Err(Failure::usage(
            "`all` includes everything else".into(),
            String::new(),
            Some("name only `all`".into()),
        ));
    }
    // All files include every path and package that was named as well.
    if scope.names(&FILES) {
        (scope.paths, scope.packages) = (Vec::new(), Vec::new());
    }
    Ok(scope)
}

/// One item of an area, by the area's selector: `app:NAME`.
fn selected(word: &str) -> Option<(AreaName, String)> {
    let (selector, name) = word.split_once(':')?;
    let area = AREAS.iter().find(|area| area.about().selector.is_some_and(|(known, _)| known == selector))?;
    Some((area.about().name.clone(), name.to_owned()))
}

/// The error for an unknown word, with the word that was probably meant.
fn unknown(word: &OsStr) -> Failure {
    let mut known: Vec<String> = AREAS.iter().map(|area| area.about().name.word().to_owned()).collect();
    known.extend(["all".to_owned(), "/PATH".to_owned(), "package:NAME".to_owned()]);
    known.extend(AREAS.iter().filter_map(|area| Some(format!("{}:NAME", area.about().selector?.0))));
    let known: Vec<&str> = known.iter().map(String::as_str).collect();
    let mut failure = unknown_word("area, path or package", &word.to_string_lossy(), &known);
    let typed = quoted(word.as_bytes());
    let meant = || -> Action {
        match word.as_bytes().contains(&b'/') {
            true => format!("a path begins with '/', as on the machine: /{}", typed.trim_start_matches("../")).into(),
            false => format!("for a package type package:{typed}").into(),
        }
    };
    failure.hint = failure.hint.or_else(|| Some(meant()));
    failure
}

/// Parses the argument of `explain`.
pub(crate) fn subject(word: &OsStr, target: &Path) -> Result<Subject, Failure> {
    if is_path(word.as_bytes()) {
        return path(word, target).map(Subject::Path);
    }
    let text = word.to_string_lossy();
    if let Some(name) = text.strip_prefix("app:") {
        return Ok(Subject::App(name.to_owned()));
    }
    if let Some(number) = text.strip_prefix("savepoint:") {
        let number = number.parse();
        return number.map(Subject::Savepoint).map_err(|_| {
            let hint = Some(Action::command("veritum list savepoints"));
            Failure::usage("a savepoint is named by its number: savepoint:4".into(), String::new(), hint)
        });
    }
    if text == BOOTCHAIN.word() {
        return Ok(Subject::Starts);
    }
    if let Ok(number) = text.parse::<u64>() {
        return Ok(Subject::Change(number));
    }
    if FindingId::looks_like(&text) {
        return Ok(Subject::Finding(text.into_owned()));
    }
    Err(Failure::usage(
        format!("unknown path, finding, application, savepoint or change: {}", quoted(word.as_bytes())),
        "type a path beginning with '/', a finding's ID from `veritum check`, app:NAME, savepoint:NUMBER, bootchain, or a change number".into(),
        None,
    ))
}

fn is_path(bytes: &[u8]) -> bool {
    bytes.starts_with(b"/") || bytes.starts_with(b"./") || bytes == b"."
}

/// A path on the machine. `./…` is relative to the current folder, if that is on the machine.
fn path(word: &OsStr, target: &Path) -> Result<SystemPath, Failure> {
    let bad =
        |why: String| Failure::usage(format!("{} is not a path on the machine", quoted(word.as_bytes())), why, None);
    let real_target = target.canonicalize().unwrap_or_else(|_| target.to_owned());
    let typed = Path::new(word);
    if typed.is_relative() {
        let here = std::env::current_dir().map_err(|e| bad(e.to_string()))?.join(typed);
        let inside = here
            .strip_prefix(&real_target)
            .map_err(|_| bad(format!("the current folder is not in {}", real_target.display())))?;
        return SystemPath::below_root(inside.as_os_str().as_bytes()).map_err(|e| bad(e.to_string()));
    }
    for root in [target, real_target.as_path()] {
        if root != Path::new("/")
            && let Ok(inside) = typed.strip_prefix(root)
        {
            let right = format!("/{}", inside.display());
            return Err(Failure::usage(
                format!("{} includes the root folder", quoted(word.as_bytes())),
                "type paths as they are on that machine".into(),
                Some(format!("type {}", quoted(right.as_bytes())).into()),
            ));
        }
    }
    SystemPath::parse(word.as_bytes()).map_err(|e| bad(e.to_string()))
}

#[cfg(test)]
mod tests {
    use veritum_core::areas::{STORE, is_wanted};

    use super::*;

    #[test]
    fn a_path_with_the_targets_folder_in_front_is_refused_with_the_right_spelling() {
        let failure = path(OsStr::new("/mnt/disk/etc/motd"), Path::new("/mnt/disk")).unwrap_err();
        assert_eq!(failure.hint, Some("type /etc/motd".into()));
        assert_eq!(path(OsStr::new("/etc/motd"), Path::new("/mnt/disk")).unwrap().as_bytes(), b"/etc/motd");
    }

    #[test]
    fn words_are_told_apart() {
        let scope = scope(&["package:berthbook".into()], Path::new("/")).unwrap();
        assert_eq!(scope.packages, ["berthbook"]);
        let areas = super::scope(&["store".into(), "/usr/bin/x".into()], Path::new("/")).unwrap();
        let wants = |scope: &Scope, area: AreaName| is_wanted(veritum_core::areas::find(&area).unwrap(), scope);
        assert!(wants(&areas, STORE) && wants(&areas, FILES) && !areas.is_all());
        let store = super::scope(&["store".into()], Path::new("/")).unwrap();
        assert!(wants(&store, STORE) && !wants(&store, FILES) && !store.is_whole());
        assert!(super::scope(&["files".into(), "/usr/bin/x".into()], Path::new("/")).unwrap().is_all());
        assert!(super::scope(&["flies".into()], Path::new("/")).is_err());
        assert!(matches!(subject(OsStr::new("12"), Path::new("/")), Ok(Subject::Change(12))));
        assert!(matches!(subject(OsStr::new("kq3v"), Path::new("/")), Ok(Subject::Finding(_))));
        assert!(subject(OsStr::new("what?"), Path::new("/")).is_err());
    }
}
