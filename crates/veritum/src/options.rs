//! The options of every command: where each has an effect, and how the given ones are repeated.
//!
//! Everything comes from the parser: what was typed in any form, and what the environment sets.

use std::ffi::OsString;

use clap::ArgMatches;
use clap::parser::ValueSource;
use veritum_core::model::{Action, quoted};

use crate::errors::Failure;

/// An option and its description.
struct Effect {
    id: &'static str,
    option: &'static str,
    kind: Kind,
    /// The commands that must repeat it when they are suggested: it decides what they act on.
    repeated: Groups,
    /// The commands in which it has an effect.
    commands: Groups,
}

#[derive(Clone, Copy, PartialEq, Eq)]
enum Kind {
    Value,
    Switch,
}

/// Groups of commands.
type Groups = &'static [&'static [&'static str]];

const LOOKS: &[&str] = &["status", "check", "repair", "explain", "list"];
const CHANGES: &[&str] = &["reset", "return", "undo", "recover"];
const SAVEPOINT: &[&str] = &["savepoint"];
const GUARD: &[&str] = &["guard"];
const FILL: &[&str] = &["store add"];
const RETURN: &[&str] = &["return"];
/// Commands on a store alone.
const STORES: &[&str] = &["store sign", "store trust", "store show"];

const WITH_A_STORE: Groups = &[LOOKS, FILL, &["store sign", "store show"]];
/// Every command on a machine opens the store in use, which may be on a web server.
const OPENING_A_STORE: Groups = &[LOOKS, CHANGES, SAVEPOINT, GUARD, FILL, STORES];
const WITH_SOURCES: Groups = &[LOOKS, RETURN, FILL];
const WITH_NETWORK: Groups = &[LOOKS, FILL, &["store trust", "store show"]];
const CHANGING: Groups = &[&["repair"], CHANGES, FILL, &["store trust"], RESCUE];
const PLANNED: Groups = &[&["repair"], CHANGES, FILL, &["store trust"], RESCUE];
const DETAILED: Groups =
    &[&["status", "check", "repair", "explain", "list", "reset", "undo", "savepoint", "store create"], FILL, STORES];
const REPORTING: Groups = &[LOOKS, CHANGES, SAVEPOINT, &["store create"], FILL, STORES, RESCUE];
const CHECK: Groups = &[&["check"]];
const RESCUE: &[&str] = &["rescue"];
const ON_A_ROOT: Groups = &[LOOKS, CHANGES, SAVEPOINT, GUARD, FILL, RESCUE];
const ON_DISKS: Groups = &[&["check", "repair", "explain", "list"], &["undo", "recover"], RESCUE];
const ON_A_SYSTEM_OF_DISKS: Groups = &[&["check", "repair", "explain"]];
const CHECK_AND_REPAIR: Groups = &[&["check", "repair"]];
const WRITING_FILES: Groups = &[&["repair", "return", "undo", "recover"]];
const LISTING: Groups = &[&["check", "repair", "list", "undo", "savepoint", "return"], RESCUE];

/// In the order in which they are repeated.
#[rustfmt::skip]
const EFFECTS: &[Effect] = &[
    Effect { id: "root", option: "--root", kind: Kind::Value, repeated: ON_A_ROOT, commands: ON_A_ROOT },
    Effect { id: "disk", option: "--disk", kind: Kind::Value, repeated: ON_DISKS, commands: ON_DISKS },
    Effect { id: "partition", option: "--partition", kind: Kind::Value, repeated: ON_A_SYSTEM_OF_DISKS, commands: ON_A_SYSTEM_OF_DISKS },
    Effect { id: "store", option: "--store", kind: Kind::Value, repeated: WITH_A_STORE, commands: OPENING_A_STORE },
    Effect { id: "state_dir", option: "--state-dir", kind: Kind::Value, repeated: ON_A_ROOT, commands: ON_A_ROOT },
    Effect { id: "cache_dir", option: "--cache-dir", kind: Kind::Value, repeated: WITH_SOURCES, commands: OPENING_A_STORE },
    Effect { id: "from", option: "--from", kind: Kind::Value, repeated: WITH_SOURCES, commands: WITH_SOURCES },
    Effect { id: "no_network", option: "--no-network", kind: Kind::Switch, repeated: WITH_NETWORK, commands: OPENING_A_STORE },
    Effect { id: "complete", option: "--complete", kind: Kind::Switch, repeated: CHECK_AND_REPAIR, commands: CHECK_AND_REPAIR },
    Effect { id: "min_trust", option: "--min-trust", kind: Kind::Value, repeated: CHECK_AND_REPAIR, commands: CHECK_AND_REPAIR },
    Effect { id: "clear_immutable", option: "--clear-immutable", kind: Kind::Switch, repeated: WRITING_FILES, commands: WRITING_FILES },
    Effect { id: "surface", option: "--surface", kind: Kind::Switch, repeated: &[], commands: CHECK },
    Effect { id: "used", option: "--used", kind: Kind::Switch, repeated: &[], commands: CHECK },
    // A quick check's result does not suggest another quick check.
    Effect { id: "quick", option: "--quick", kind: Kind::Switch, repeated: &[], commands: CHECK },
    Effect { id: "plan", option: "--plan", kind: Kind::Switch, repeated: &[], commands: PLANNED },
    Effect { id: "yes", option: "--yes", kind: Kind::Switch, repeated: &[], commands: CHANGING },
    Effect { id: "ignore_disk_errors", option: "--ignore-disk-errors", kind: Kind::Switch, repeated: &[], commands: CHECK_AND_REPAIR },
    Effect { id: "all", option: "--all", kind: Kind::Switch, repeated: &[], commands: LISTING },
    Effect { id: "verbose", option: "--verbose", kind: Kind::Switch, repeated: &[], commands: DETAILED },
    Effect { id: "json", option: "--json", kind: Kind::Switch, repeated: &[], commands: REPORTING },
];
/// Trusted keys are next to the configuration file, so every command needs the same one.
const CONFIG: Effect = Effect { id: "config", option: "--config", kind: Kind::Value, repeated: &[], commands: &[] };

/// These have an effect, or do no harm, wherever there is output.
const EVERYWHERE: [&str; 4] = ["jobs", "quiet", "color", "help"];

/// Whether an option, by its id in the parser, has an effect in a command.
pub(crate) fn has_effect(id: &str, verb: &str) -> bool {
    let everywhere = id == "config" || EVERYWHERE.contains(&id);
    let is_command = EFFECTS.iter().any(|effect| is_among(effect.commands, verb));
    EFFECTS
        .iter()
        .find(|effect| effect.id == id)
        .map_or(everywhere && is_command, |effect| is_among(effect.commands, verb))
}

fn is_among(groups: Groups, command: &str) -> bool {
    groups.iter().any(|group| group.contains(&command))
}

/// The given options.
#[derive(Debug, Default)]
pub(crate) struct Given {
    /// Of the configuration file.
    config: String,
    /// The others to repeat, each with its option's name.
    again: Vec<(&'static str, String)>,
}

impl Given {
    pub(crate) fn new(matches: &ArgMatches) -> Self {
        let again = EFFECTS.iter().filter(|effect| !effect.repeated.is_empty()).filter_map(|effect| {
            let typed = typed_again(effect, matches);
            (!typed.is_empty()).then_some((effect.option, typed))
        });
        Self { config: typed_again(&CONFIG, matches), again: again.collect() }
    }

    /// A command with the given options that decide what it acts on.
    pub(crate) fn complete(&self, command: &str) -> String {
        let verb = verb_of(command);
        let has = |option: &str| command.split(' ').any(|word| word == option);
        let mut whole = command.to_owned();
        if !has(CONFIG.option) {
            whole.push_str(&self.config);
        }
        for (option, typed) in &self.again {
            let needed = EFFECTS.iter().any(|e| e.option == *option && is_among(e.repeated, &verb));
            if needed && !has(option) {
                whole.push_str(typed);
            }
        }
        whole
    }
}

/// An option as it is repeated; empty when it was not given.
fn typed_again(effect: &Effect, matches: &ArgMatches) -> String {
    let given = matches!(matches.value_source(effect.id), Some(ValueSource::CommandLine | ValueSource::EnvVariable));
    match effect.kind {
        _ if !given => String::new(),
        Kind::Switch if matches.get_flag(effect.id) => format!(" {}", effect.option),
        Kind::Switch => String::new(),
        Kind::Value => {
            let values: Vec<OsString> =
                matches.get_raw(effect.id).into_iter().flatten().map(ToOwned::to_owned).collect();
            values.iter().map(|v| format!(" {} {}", effect.option, quoted(v.as_encoded_bytes()))).collect()
        }
    }
}

/// The command at the beginning of a list of words: `check`, `store add`.
fn verb_of(command: &str) -> String {
    let mut words = command.split(' ');
    match (words.next(), words.next()) {
        (Some("store"), Some(second)) => format!("store {second}"),
        (first, _) => first.unwrap_or_default().to_owned(),
    }
}

/// Refuses options that have no effect in the typed command.
pub(crate) fn refuse_without_effect(matches: &ArgMatches) -> Result<(), Failure> {
    let Some((first, inner)) = matches.subcommand() else { return Ok(()) };
    let verb = match (first, inner.subcommand_name()) {
        ("store", Some(second)) => format!("store {second}"),
        _ => first.to_owned(),
    };
    let typed = |id: &str| matches.value_source(id) == Some(ValueSource::CommandLine);
    // A check writes nothing; only reading all of a failing disk can do harm.
    let harmless = |e: &Effect| e.id == "ignore_disk_errors" && verb == "check" && !typed("surface");
    match EFFECTS.iter().find(|e| typed(e.id) && (!is_among(e.commands, &verb) || harmless(e))) {
        Some(effect) => Err(Failure::usage(
            format!("{} has no effect in `veritum {verb}`", effect.option),
            "nothing was done".into(),
            Some(Action::command(format!("veritum {verb} --help"))),
        )),
        None => Ok(()),
    }
}

#[cfg(test)]
mod tests {
    use clap::CommandFactory as _;

    use super::*;
    use crate::args::Cli;

    fn given(words: &[&str]) -> Given {
        Given::new(&Cli::command().no_binary_name(true).try_get_matches_from(words).unwrap())
    }

    #[test]
    fn every_option_of_the_table_is_one_of_the_parser_and_each_of_the_parser_is_in_the_table() {
        let command = Cli::command();
        let known: Vec<&str> = EFFECTS.iter().chain([&CONFIG]).map(|e| e.id).collect();
        let global: Vec<&str> =
            command.get_arguments().filter(|a| a.is_global_set()).map(|a| a.get_id().as_str()).collect();
        for id in &global {
            assert!(known.contains(id) || EVERYWHERE.contains(id), "{id}");
        }
        for effect in EFFECTS.iter().chain([&CONFIG]) {
            let argument = command.get_arguments().find(|a| a.get_id() == effect.id).unwrap();
            assert_eq!(argument.get_long(), effect.option.strip_prefix("--"));
        }
    }

    #[test]
    fn what_decides_what_is_acted_on_is_repeated_however_it_was_typed() {
        let all = "repair --root /mnt --no-network";
        for words in [
            &["check", "-N", "-r", "/mnt"][..],
            &["check", "-Nr", "/mnt"],
            &["check", "-Nr/mnt"],
            &["check", "-Nr=/mnt"],
            &["check", "-qNvr", "/mnt"],
            &["-vNqr/mnt", "check"],
            &["check", "--no-network", "--root=/mnt"],
            &["--root", "/mnt", "check", "-N"],
        ] {
            assert_eq!(given(words).complete("repair"), all, "{words:?}");
        }
        for cluster in ["-qr", "-pr", "-yr", "-pyqr", "-vr"] {
            let verb = if cluster.contains(['p', 'y']) { "undo" } else { "check" };
            assert_eq!(given(&[verb, cluster, "/mnt"]).complete("check"), "check --root /mnt", "{cluster}");
        }
        assert_eq!(given(&["check", "-sX", "-fA", "-f=B"]).complete("check"), "check --store X --from A --from B");
        assert_eq!(given(&["check", "-r", "/a b"]).complete("check"), r"check --root $'/a b'");
    }

    #[test]
    fn nothing_is_repeated_twice_nor_where_it_has_no_effect() {
        let given = given(&["check", "--store", "X", "--complete", "-r/mnt", "--config", "c.toml"]);
        assert_eq!(given.complete("check --store Y"), "check --store Y --config c.toml --root /mnt --complete");
        assert_eq!(given.complete("undo 3"), "undo 3 --config c.toml --root /mnt");
        assert_eq!(given.complete("store trust Y"), "store trust Y --config c.toml");
        assert_eq!(given.complete("store sign --keys K"), "store sign --keys K --config c.toml --store X");
        assert_eq!(given.complete("check --complete"), "check --complete --config c.toml --root /mnt --store X");
    }

    #[test]
    fn an_option_without_effect_is_refused() {
        let refused = |words: &[&str]| {
            let matches = Cli::command().no_binary_name(true).try_get_matches_from(words).unwrap();
            refuse_without_effect(&matches).err().map(|failure| failure.what)
        };
        assert_eq!(refused(&["check", "--plan"]).unwrap(), "--plan has no effect in `veritum check`");
        assert_eq!(refused(&["-y", "status"]).unwrap(), "--yes has no effect in `veritum status`");
        for words in [
            &["repair", "--quick"][..],
            &["undo", "--complete"],
            &["undo", "--from", "X"],
            &["store", "create", "D", "--keys", "K", "--root", "/mnt"],
            &["demo", "--json"],
            &["explain", "3", "--min-trust", "store"],
            &["check", "--ignore-disk-errors"],
        ] {
            assert!(refused(words).is_some(), "{words:?}");
        }
        for words in [
            &["check", "--quick"][..],
            &["repair", "-py"],
            &["store", "add", "--installed", "-r", "/mnt"],
            &["undo", "-N", "-s", "X", "--cache-dir", "D"],
            &["reset", "quay", "-N"],
        ] {
            assert_eq!(refused(words), None, "{words:?}");
        }
    }
}
