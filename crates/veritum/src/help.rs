//! Help in addition to the parser's: from a symptom to a command, examples, exit statuses, and each command's options.

use clap::{Command, CommandFactory as _};
use veritum_core::areas::AREAS;

use crate::args::Cli;
use crate::options::has_effect;

/// The maximum width of a help page.
const WIDEST: usize = 100;

/// The help of a command besides its options.
pub(crate) struct Topic {
    /// The command, such as `store add`.
    pub(crate) verb: &'static str,
    /// Commands to paste, each with what it does.
    pub(crate) examples: &'static [(&'static str, &'static str)],
    /// Exit statuses, each with its meaning.
    pub(crate) statuses: &'static [(&'static str, &'static str)],
}

const FINE: (&str, &str) = ("0", "done");
const USAGE: (&str, &str) = ("2", "wrong usage");
const FAILED: (&str, &str) = ("3", "nothing could be carried out");
const DECLINED: (&str, &str) = ("0", "done, or the question was answered with no");
const STOPPED: (&str, &str) = ("130, 143", "interrupted before the change took effect: rolled back");
const READING: &[(&str, &str)] = &[FINE, USAGE, FAILED];
const STORING: &[(&str, &str)] =
    &[DECLINED, USAGE, FAILED, ("130, 143", "interrupted: run the command again to resume")];

/// All public commands, in the order of the help.
pub(crate) const TOPICS: &[Topic] = &[
    Topic {
        verb: "status",
        examples: &[
            ("veritum status", "the running system"),
            ("veritum status --root /mnt", "a system mounted at /mnt"),
        ],
        statuses: &[FINE, ("1", "a change is unfinished"), USAGE, FAILED],
    },
    Topic {
        verb: "check",
        examples: &[
            ("veritum check", "every area, without the network and users' homes"),
            ("veritum check all", "users' homes and repositories too"),
            ("veritum check --complete", "also download what is needed to verify everything"),
            ("veritum check /usr/bin package:bash", "one folder; one package"),
            ("veritum check --root /mnt --json", "a mounted system, as JSON"),
            ("veritum check bootchain --disk /dev/sda", "why a system does not start; nothing is mounted"),
        ],
        statuses: &[
            ("0", "OK, or OK (limited)"),
            ("1", "problems were found, or something named was not checked, or a change is unfinished"),
            USAGE,
            FAILED,
            ("130, 143", "interrupted"),
        ],
    },
    Topic {
        verb: "repair",
        examples: &[
            ("veritum repair", "show the plan, ask, repair, verify"),
            ("veritum repair --plan", "show the plan only"),
            ("veritum repair /usr/bin/env", "one file"),
            ("veritum repair updates", "clear damaged downloads and lists, and test that updates work"),
            ("veritum repair --root /mnt --yes", "a mounted system, without asking"),
        ],
        statuses: &[
            ("0", "all repaired, nothing to repair, or the question was answered with no"),
            ("1", "problems remain, or a change is unfinished; with --plan as `check`"),
            USAGE,
            FAILED,
            ("4", "all repaired, a restart is due"),
            STOPPED,
        ],
    },
    Topic {
        verb: "explain",
        examples: &[
            ("veritum explain /usr/bin/env", "a file: expected and found"),
            ("veritum explain kq3v", "a problem, by its ID in `veritum check`"),
            ("veritum explain app:editor", "an application and its data in users' homes"),
            ("veritum explain savepoint:4", "a savepoint: what differs from it now"),
            ("veritum explain 3", "a change"),
            ("veritum explain bootchain", "how to start the system with fewer parts, and back"),
        ],
        statuses: &[("0", "shown"), ("1", "it has a problem"), USAGE, FAILED],
    },
    Topic {
        verb: "list",
        examples: &[
            ("veritum list changes", "what Veritum changed"),
            ("veritum list updates --trouble 2026-03-02", "marks the updates of the week before"),
            ("veritum list savepoints --trouble 2026-03-02", "names the last one before the trouble"),
            ("veritum list apps --sizes", "applications and their disk usage"),
            ("veritum list disks", "disks, partitions, and which system is on them"),
        ],
        statuses: READING,
    },
    Topic {
        verb: "reset",
        examples: &[
            ("veritum reset editor --plan", "what would be moved aside, what stays"),
            ("veritum reset editor --only cache", "the caches only"),
            ("veritum reset editor --user USER --keep mail", "for one user, without the mail"),
            ("veritum undo", "restore everything that was moved"),
        ],
        statuses: &[
            DECLINED,
            ("1", "the application is running, or something could not be moved"),
            USAGE,
            FAILED,
            STOPPED,
        ],
    },
    Topic {
        verb: "rescue",
        examples: &[
            ("veritum rescue --to /media/stick --plan", "what would be copied, and whether it fits"),
            ("veritum rescue --to /media/stick --root /mnt", "from a system mounted at /mnt"),
            ("veritum rescue --to /media/stick --disk /dev/sda", "from a disk that is not mounted (ext4)"),
            ("veritum rescue --to /media/stick --only documents,mail", "only these"),
            ("veritum rescue --image /media/stick/sda.img --disk /dev/sda", "a failing disk as it is, first of all"),
            ("veritum rescue --deleted --user USER", "what is still in the trash"),
            ("veritum rescue --verify /media/stick", "compare the copies with their manifest, later"),
            ("veritum rescue --back /media/stick --plan", "what would be restored in the homes"),
        ],
        statuses: &[
            ("0", "everything was copied, read back and compared"),
            ("1", "something is missing or incomplete; or copies differ from the manifest"),
            USAGE,
            FAILED,
            ("130, 143", "interrupted: run the command again to resume"),
        ],
    },
    Topic {
        verb: "savepoint",
        examples: &[
            ("veritum savepoint --reason driver", "record the present state"),
            ("veritum savepoint --automatic on", "make one before each change of packages by apt"),
            ("veritum list savepoints", "all savepoints, and what changed since each"),
        ],
        statuses: &[
            FINE,
            ("1", "some files could not be recorded"),
            USAGE,
            FAILED,
            ("130, 143", "interrupted: no savepoint was made"),
        ],
    },
    Topic {
        verb: "return",
        examples: &[
            ("veritum return 4 --plan", "what would change, what would stay"),
            ("veritum return 4", "show the plan, ask, return as a whole or not at all"),
            ("veritum return 4 --package gullmail", "one package only"),
            ("veritum return 4 --root /mnt", "a mounted system that does not start"),
            ("veritum undo", "undo the return"),
        ],
        statuses: &[
            DECLINED,
            ("1", "contents are no longer kept: nothing was changed"),
            USAGE,
            FAILED,
            ("4", "returned, a restart is due"),
            STOPPED,
        ],
    },
    Topic {
        verb: "undo",
        examples: &[
            ("veritum undo", "the changes of the latest run"),
            ("veritum undo 3", "change 3; undo the undo to redo it"),
            ("veritum undo --plan", "show what would be restored"),
        ],
        statuses: &[
            ("0", "undone, nothing to undo, or the question was answered with no"),
            ("1", "something could not be undone"),
            USAGE,
            FAILED,
            STOPPED,
        ],
    },
    Topic {
        verb: "recover",
        examples: &[("veritum recover", "complete or roll back what was interrupted")],
        statuses: &[("0", "recovered, or nothing to recover"), ("1", "a change is still unfinished"), USAGE, FAILED],
    },
    Topic {
        verb: "store create",
        examples: &[("veritum store create /media/stick/store --keys ~/veritum-keys", "an empty store and its keys")],
        statuses: READING,
    },
    Topic {
        verb: "store add",
        examples: &[
            ("veritum store add --installed --store /media/stick/store", "all installed packages"),
            ("veritum store add packages/ --store /media/stick/store", "a folder of .deb files"),
            ("veritum store add --from /srv/store --store /media/stick/store", "all packages of another store"),
        ],
        statuses: STORING,
    },
    Topic {
        verb: "store sign",
        examples: &[
            ("veritum store sign --store /media/stick/store", "sign the added packages"),
            ("veritum store sign --keys ~/veritum-keys --store /srv/store", "with keys that are in another place now"),
        ],
        statuses: READING,
    },
    Topic {
        verb: "store trust",
        examples: &[
            ("veritum store trust /media/stick/store", "show the store's key, ask, trust it"),
            ("veritum store trust /etc/apt/keyrings/vendor.gpg", "a vendor's repository key"),
        ],
        statuses: &[DECLINED, USAGE, FAILED],
    },
    Topic {
        verb: "store show",
        examples: &[
            ("veritum store show --store /media/stick/store", "all packages"),
            ("veritum store show bash --store /media/stick/store", "one package and its files"),
        ],
        statuses: READING,
    },
    Topic {
        verb: "demo",
        examples: &[
            ("veritum demo", "build ./veritum-demo and run every command on it"),
            ("veritum demo --pause", "wait after each command"),
            ("veritum demo --build-only --fault all", "build it with all kinds of damage"),
        ],
        statuses: READING,
    },
];

/// Exit statuses of all commands.
pub(crate) const STATUSES: &[(&str, &str)] = &[
    ("0", "OK, or OK (limited); done; or a question was answered with no"),
    ("1", "problems were found or remain, or something named was not checked, or a change is unfinished"),
    USAGE,
    FAILED,
    ("4", "all repaired, a restart is due"),
    STOPPED,
];

/// From a symptom to the first command.
pub(crate) const SYMPTOMS: &[(&str, &str)] = &[
    ("Something is wrong, cause unknown", "veritum check"),
    ("System files damaged or missing", "veritum repair"),
    ("Updates do not work", "veritum check updates"),
    ("An application does not start", "veritum check app:NAME"),
    ("... it starts, but misbehaves", "veritum reset NAME --plan"),
    ("Trouble since an update", "veritum list updates --trouble DATE"),
    ("... back to before it", "veritum list savepoints --trouble DATE"),
    ("The system does not start", "veritum check --root /mnt"),
    ("The disk is failing", "veritum rescue --to DIR"),
    ("A change made it worse", "veritum undo"),
    ("Learn it on a demo system", "veritum demo --pause"),
];

/// The output of `veritum` alone.
pub(crate) fn overview() -> String {
    let mut text = format!(
        "Veritum {}: finds damaged system files on Debian-family desktops\nand restores them from a trusted source.\n\n",
        env!("CARGO_PKG_VERSION")
    );
    let width = SYMPTOMS.iter().map(|(symptom, _)| symptom.len()).max().unwrap_or(0);
    for (symptom, command) in SYMPTOMS {
        text.push_str(&format!("  {symptom:width$}  {command}\n"));
    }
    text.push_str("\nRun as root to check everything. /mnt: where the system's disk is mounted.\n");
    text.push_str("All commands: veritum help      One command: veritum help check\n");
    text
}

/// The parser with, for each command, only its own options, examples and exit statuses.
pub(crate) fn command() -> Command {
    let mut command = Cli::command();
    let globals: Vec<clap::Arg> = command.get_arguments().filter(|arg| arg.is_global_set()).cloned().collect();
    let verbs: Vec<String> = command.get_subcommands().map(|verb| verb.get_name().to_owned()).collect();
    for verb in verbs {
        command = command.mut_subcommand(&verb, |sub| {
            let inner: Vec<String> = sub.get_subcommands().map(|inner| inner.get_name().to_owned()).collect();
            let mut sub = with_own_help(sub, &verb, &globals);
            for name in inner {
                let whole = format!("{verb} {name}");
                sub = sub.mut_subcommand(&name, |inner| with_own_help(inner, &whole, &globals));
            }
            sub
        });
    }
    // Only options that have an effect without a command are shown.
    let hidden: Vec<String> = globals.iter().map(|arg| arg.get_id().to_string()).collect();
    for id in hidden {
        command = command.mut_arg(id, |arg| arg.hide(true));
    }
    command.after_help("Options of a command, examples and exit statuses: veritum help VERB")
}

/// A command's options, examples and exit statuses.
fn with_own_help(mut command: Command, verb: &str, globals: &[clap::Arg]) -> Command {
    for arg in globals {
        let hide = !has_effect(arg.get_id().as_str(), verb);
        command = command.arg(arg.clone().hide(hide).hide_env(true));
    }
    let Some(topic) = TOPICS.iter().find(|topic| topic.verb == verb) else { return command };
    let what = if matches!(verb, "check" | "repair") { what_table() + "\n\n" } else { String::new() };
    let examples = columns("Examples:", topic.examples.iter().map(|(a, b)| ((*a).to_owned(), (*b).to_owned())));
    let statuses = columns("Exit status:", topic.statuses.iter().map(|(a, b)| ((*a).to_owned(), (*b).to_owned())));
    command.after_help(format!("{what}{examples}\n\n{statuses}"))
}

/// What can be named: one line for each area and selector.
pub(crate) fn what_rows() -> Vec<(String, String)> {
    let about = || AREAS.iter().map(|area| area.about());
    let areas = about().map(|about| (about.name.word().to_owned(), about.help.to_owned()));
    let all = ("all".to_owned(), "every area, with users' homes and the network".to_owned());
    let named = [
        ("/usr/bin/NAME".to_owned(), "a path as on that system, and everything below it".to_owned()),
        ("package:NAME".to_owned(), "one package: its files and its entries in the database".to_owned()),
    ];
    let selected = about().filter_map(|about| about.selector);
    let selected = selected.map(|(word, help)| (format!("{word}:NAME"), help.to_owned()));
    areas.chain([all]).chain(named).chain(selected).collect()
}

fn what_table() -> String {
    columns("WHAT (default: every area, without users' homes and the network):", what_rows().into_iter())
}

/// Two columns under a heading; the second is wrapped to the terminal's width, or below the first if that is too wide.
fn columns(heading: &str, rows: impl Iterator<Item = (String, String)>) -> String {
    let rows: Vec<(String, String)> = rows.collect();
    let terminal = terminal_size::terminal_size().map_or(WIDEST, |(width, _)| usize::from(width.0)).min(WIDEST);
    let first = rows.iter().map(|(left, _)| left.chars().count()).max().unwrap_or(0);
    let below = first + 24 > terminal;
    let indent = if below { 6 } else { first + 4 };
    let mut text = heading.to_owned();
    for (left, right) in &rows {
        let lines = wrapped(right, terminal.saturating_sub(indent + 1).max(20));
        let pad = if below { format!("\n{:indent$}", "") } else { " ".repeat(indent - 2 - left.chars().count()) };
        text.push_str(&format!("\n  {left}{pad}{}", lines.join(&format!("\n{:indent$}", ""))));
    }
    text
}

/// Text broken into lines of at most so many characters, between words.
fn wrapped(text: &str, width: usize) -> Vec<String> {
    let mut lines = vec![String::new()];
    for word in text.split_whitespace() {
        let last = lines.len() - 1;
        let used = lines[last].chars().count();
        if used > 0 && used + 1 + word.chars().count() > width {
            lines.push(word.to_owned());
        } else {
            let line = &mut lines[last];
            line.push_str(if used > 0 { " " } else { "" });
            line.push_str(word);
        }
    }
    lines
}

/// The help page of a command such as `check` or `store add`; of the program without words. `None` for an unknown command.
pub(crate) fn page(words: &[String]) -> Option<String> {
    let mut whole = command();
    whole.build();
    let mut at = &mut whole;
    for word in words {
        at = at.find_subcommand_mut(word)?;
    }
    Some(at.render_help().ansi().to_string())
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn every_command_that_people_type_has_examples_and_exit_statuses() {
        let command = Cli::command();
        let visible = |command: &Command| -> Vec<String> {
            let verbs = command.get_subcommands().filter(|verb| !verb.is_hide_set());
            verbs.map(|verb| verb.get_name().to_owned()).collect()
        };
        let mut verbs: Vec<String> = Vec::new();
        for verb in visible(&command) {
            let inner = visible(command.find_subcommand(&verb).unwrap());
            match inner.as_slice() {
                [] => verbs.push(verb),
                inner => verbs.extend(inner.iter().map(|name| format!("{verb} {name}"))),
            }
        }
        verbs.retain(|verb| verb != "help");
        assert_eq!(verbs, TOPICS.iter().map(|topic| topic.verb.to_owned()).collect::<Vec<_>>());
    }

    #[test]
    fn a_page_shows_only_options_that_have_an_effect_and_every_example_can_be_typed() {
        let undo = page(&["undo".into()]).unwrap();
        assert!(
            undo.contains("--plan") && !undo.contains("--complete") && !undo.contains("--ignore-disk-errors"),
            "{undo}"
        );
        assert!(page(&["check".into()]).unwrap().contains("--complete"));
        assert!(page(&["nothing".into()]).is_none());
        for (example, _) in TOPICS.iter().flat_map(|topic| topic.examples) {
            let words = example.split(' ').skip(1);
            let parsed = command().no_binary_name(true).try_get_matches_from(words);
            let matches = parsed.unwrap_or_else(|e| panic!("{example}: {e}"));
            assert!(crate::options::refuse_without_effect(&matches).is_ok(), "{example}");
        }
    }

    #[test]
    fn words_are_wrapped_between_words() {
        assert_eq!(wrapped("one two three", 7), ["one two", "three"]);
    }
}
