//! Candidates for the word being typed, for the shells' completions (hidden).

use std::ffi::OsString;

use clap::{Arg, ArgAction, Command};
use veritum_core::report::ChangeState;
use veritum_core::work::Engine;

use crate::context::Context;
use crate::errors::Failure;
use crate::output::put;
use crate::{exit, help};

/// The number of packages that are offered before the first letter of a name is typed.
const MANY: usize = 400;

/// Prints the candidates for the last of these words, one per line; `engine` opens the machine, if that is needed.
pub(crate) fn run(context: &Context, words: &[OsString]) -> Result<u8, Failure> {
    let words: Vec<String> = words.iter().map(|word| word.to_string_lossy().into_owned()).collect();
    let (typed, before) = words.split_last().map_or(("", &words[..]), |(last, rest)| (last.as_str(), rest));
    let names = |kind: Kind| context.open().map(|engine| known(&engine, kind)).unwrap_or_default();
    let mut all = candidates(&help::command(), before, typed, &names);
    all.retain(|candidate| candidate.starts_with(typed));
    all.sort();
    all.dedup();
    put(&all.iter().map(|candidate| format!("{candidate}\n")).collect::<String>())?;
    Ok(exit::FINE)
}

/// Values that depend on the machine.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(crate) enum Kind {
    /// `app:ID`.
    Apps,
    /// IDs of applications.
    AppIds,
    /// `package:NAME`.
    Packages,
    /// Names of packages.
    PackageNames,
    /// Numbers of changes that can be undone.
    Changes,
    /// IDs of the last check's problems.
    Findings,
    /// Login users.
    Users,
}

fn known(engine: &Engine, kind: Kind) -> Vec<String> {
    let packages = || engine.list_packages().packages.into_iter().map(|line| line.package.name);
    let apps = || engine.list_apps(false).map(|report| report.apps).unwrap_or_default().into_iter().map(|app| app.id);
    match kind {
        Kind::Apps => apps().map(|id| format!("app:{id}")).collect(),
        Kind::AppIds => apps().collect(),
        Kind::Packages => packages().map(|name| format!("package:{name}")).collect(),
        Kind::PackageNames => packages().collect(),
        Kind::Changes => {
            let changes = engine.list_changes().map(|report| report.changes).unwrap_or_default();
            let done = changes.iter().filter(|change| change.state != ChangeState::Undone);
            done.map(|change| change.change.to_string()).collect()
        }
        Kind::Findings => engine.last_findings(),
        Kind::Users => engine.status(true).map(|report| report.users).unwrap_or_default(),
    }
}

/// The candidates for a word after these words.
fn candidates(command: &Command, before: &[String], typed: &str, names: &dyn Fn(Kind) -> Vec<String>) -> Vec<String> {
    let (mut at, mut verb) = (command.clone(), String::new());
    at.build();
    let mut pending: Option<Arg> = None;
    let mut given = 0;
    for word in before {
        if pending.take().is_some() {
            continue;
        }
        if let Some(option) = word.strip_prefix('-') {
            pending = option_of(&at, word).filter(|arg| takes_value(arg) && !option.contains('='));
        } else if let Some(sub) = at.find_subcommand(word) {
            verb = if verb.is_empty() { word.clone() } else { format!("{verb} {word}") };
            at = sub.clone();
            given = 0;
        } else {
            given += 1;
        }
    }
    if let Some(arg) = pending {
        return values(&arg, &verb, typed, names);
    }
    if typed.starts_with('-') {
        let visible = at.get_arguments().filter(|arg| !arg.is_hide_set());
        return visible.filter_map(|arg| arg.get_long().map(|long| format!("--{long}"))).collect();
    }
    let subs = at.get_subcommands().filter(|sub| !sub.is_hide_set()).map(|sub| sub.get_name().to_owned());
    let mut all: Vec<String> = subs.collect();
    let positional: Vec<&Arg> = at.get_positionals().collect();
    let many = |arg: &Arg| matches!(arg.get_action(), ArgAction::Append);
    if let Some(arg) = positional.get(given).or(positional.last().filter(|arg| many(arg))) {
        all.extend(values(arg, &verb, typed, names));
    }
    all
}

fn takes_value(arg: &Arg) -> bool {
    matches!(arg.get_action(), ArgAction::Set | ArgAction::Append)
}

fn option_of(command: &Command, word: &str) -> Option<Arg> {
    let short = word.chars().next_back();
    let is = |arg: &&Arg| match word.strip_prefix("--") {
        Some(long) => arg.get_long() == Some(long),
        None => arg.get_short() == short,
    };
    command.get_arguments().find(is).cloned()
}

/// The candidates for an argument: those of the parser and those of the machine. The shell completes paths itself.
fn values(arg: &Arg, verb: &str, typed: &str, names: &dyn Fn(Kind) -> Vec<String>) -> Vec<String> {
    let possible = arg.get_possible_values();
    if !possible.is_empty() {
        return possible.iter().filter(|value| !value.is_hide_set()).map(|value| value.get_name().to_owned()).collect();
    }
    let packages = |kind: Kind, prefix: &str| {
        let all = names(kind);
        // A list of thousands is useless: a letter must be typed first.
        if all.len() > MANY && typed.len() <= prefix.len() { vec![prefix.to_owned()] } else { all }
    };
    match (verb, arg.get_id().as_str()) {
        (_, "user") => names(Kind::Users),
        (_, "package") => packages(Kind::PackageNames, ""),
        ("check" | "repair", "what") => {
            let words = help::what_rows().into_iter().map(|(word, _)| word).filter(|word| !word.contains(['/', ':']));
            let more = if typed.starts_with("app:") { names(Kind::Apps) } else { vec!["app:".to_owned()] };
            let of_packages = match typed.starts_with("package:") {
                true => packages(Kind::Packages, "package:"),
                false => vec!["package:".to_owned()],
            };
            words.chain(more).chain(of_packages).collect()
        }
        ("explain", "what") if typed.starts_with("app:") => names(Kind::Apps),
        ("explain", "what") => [names(Kind::Findings), names(Kind::Changes), vec!["app:".to_owned()]].concat(),
        ("reset", "app") => names(Kind::AppIds),
        ("undo", "change") => names(Kind::Changes),
        ("help", "verb") => {
            help::TOPICS.iter().filter_map(|topic| topic.verb.split(' ').next().map(str::to_owned)).collect()
        }
        _ => Vec::new(),
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn after(words: &[&str], typed: &str) -> Vec<String> {
        let before: Vec<String> = words.iter().map(|word| (*word).to_owned()).collect();
        let names = |kind: Kind| match kind {
            Kind::Apps => vec!["app:berthbook".to_owned()],
            Kind::Packages => vec!["package:quay".to_owned()],
            Kind::Findings => vec!["kq3v7m2x".to_owned()],
            Kind::Changes => vec!["3".to_owned()],
            Kind::Users => vec!["mirela".to_owned()],
            Kind::AppIds => vec!["berthbook".to_owned()],
            Kind::PackageNames => (0..MANY + 1).map(|n| format!("quay{n}")).collect(),
        };
        let mut all = candidates(&help::command(), &before, typed, &names);
        all.retain(|candidate| candidate.starts_with(typed));
        all
    }

    #[test]
    fn what_can_be_typed_is_offered_and_what_is_hidden_or_has_no_effect_is_not() {
        let first = after(&[], "");
        assert!(["check", "repair", "store", "help"].iter().all(|verb| first.iter().any(|f| f == verb)), "{first:?}");
        assert!(
            !first.iter().any(|f| matches!(f.as_str(), "guard" | "as-owner" | "schemas" | "complete")),
            "{first:?}"
        );
        let what = after(&["check"], "");
        assert!(
            ["files", "updates", "all", "app:", "package:"].iter().all(|w| what.iter().any(|f| f == w)),
            "{what:?}"
        );
        assert_eq!(after(&["check", "files"], "app:"), ["app:berthbook"]);
        assert_eq!(after(&["repair"], "package:"), ["package:quay"]);
        assert_eq!(after(&["explain"], "k"), ["kq3v7m2x"]);
        assert_eq!(after(&["undo"], ""), ["3"]);
        assert_eq!(after(&["reset", "quay", "--user"], ""), ["mirela"]);
        assert_eq!(after(&["reset"], "b"), ["berthbook"]);
        assert_eq!(after(&["list"], "a"), ["apps"]);
        assert_eq!(after(&["check", "--min-trust"], "st"), ["store"]);
        assert!(after(&["store"], "a").contains(&"add".to_owned()));
        assert!(after(&["undo"], "--").contains(&"--plan".to_owned()));
        assert!(!after(&["undo"], "--").contains(&"--complete".to_owned()));
        assert_eq!(after(&["list", "updates", "--package"], ""), [""], "a letter first");
        assert_eq!(after(&["list", "updates", "--package"], "quay40").len(), 2, "quay40, quay400");
    }
}
