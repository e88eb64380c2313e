//! The grammar: verb, then what.

use std::ffi::OsString;
use std::path::PathBuf;

use clap::{Args, Parser, Subcommand, ValueEnum};
use jiff::civil::{Date, DateTime, Time};
use veritum_core::areas::AREAS;
use veritum_core::model::Authority;

/// Verify and repair an operating system against a trusted component store
#[derive(Debug, Parser)]
#[command(
    name = "veritum",
    version,
    max_term_width = 100,
    disable_help_subcommand = true,
    arg_required_else_help = true
)]
#[command(
    after_help = "Begin with `veritum status`, then `veritum check`. `veritum demo` shows everything on a made-up machine."
)]
pub(crate) struct Cli {
    #[command(subcommand)]
    pub(crate) verb: Verb,
    #[command(flatten)]
    pub(crate) global: Global,
}

/// Options of every command
#[derive(Debug, Clone, Args)]
pub(crate) struct Global {
    /// Work on the system mounted in this folder instead of the running one
    #[arg(long, short = 't', global = true, value_name = "DIR", env = "VERITUM_TARGET", help_heading = "Where")]
    pub(crate) target: Option<PathBuf>,
    /// Use this trusted component store: a folder, or the URL of one on a web server
    #[arg(long, short = 's', global = true, value_name = "LOCATION", env = "VERITUM_STORE", help_heading = "Where")]
    pub(crate) store: Option<PathBuf>,
    /// Also take what is needed from here: a folder of packages, install media, another archive (folder or URL),
    /// another store; repeatable
    #[arg(long, short = 'f', global = true, value_name = "SOURCE", help_heading = "Where")]
    pub(crate) from: Vec<OsString>,
    /// Never use the network
    #[arg(long, short = 'N', global = true, env = "VERITUM_NO_NETWORK", value_parser = clap::builder::FalseyValueParser::new(), help_heading = "Where")]
    pub(crate) no_network: bool,
    /// Keep downloaded packages in this folder
    #[arg(long, global = true, value_name = "DIR", env = "VERITUM_DOWNLOADS", help_heading = "Where")]
    pub(crate) downloads: Option<PathBuf>,
    /// Keep journals and replaced contents in this folder instead of the machine's own
    #[arg(long, global = true, value_name = "DIR", env = "VERITUM_STATE", help_heading = "Where")]
    pub(crate) state: Option<PathBuf>,
    /// Read settings from this file; what you trust lies beside it
    #[arg(long, global = true, value_name = "FILE", env = "VERITUM_CONFIG", help_heading = "Where")]
    pub(crate) config: Option<PathBuf>,
    /// Count what is vouched for more weakly than this as a problem
    #[arg(long, global = true, value_name = "STRENGTH", env = "VERITUM_REQUIRE", help_heading = "How")]
    pub(crate) require: Option<Require>,
    /// Also download the signed packages that are not at hand, and hold their components against them
    #[arg(long, global = true, help_heading = "How")]
    pub(crate) full_chain: bool,
    /// In a check, do not read again what has not changed since the last full check (device, inode, size, times)
    #[arg(long, global = true, help_heading = "How")]
    pub(crate) quick: bool,
    /// Show what would be done and change nothing
    #[arg(long, short = 'p', global = true, help_heading = "How")]
    pub(crate) plan: bool,
    /// Answer the question before a change with yes
    #[arg(long, short = 'y', global = true, help_heading = "How")]
    pub(crate) yes: bool,
    /// Write although the disk seems to fail (never implied by --yes)
    #[arg(long, global = true, help_heading = "How")]
    pub(crate) despite_disk: bool,
    /// Unlock files that are marked immutable or append-only for the time of a change
    #[arg(long, global = true, help_heading = "How")]
    pub(crate) clear_attributes: bool,
    /// Use this many threads
    #[arg(long, global = true, value_name = "N", env = "VERITUM_JOBS", help_heading = "How")]
    pub(crate) jobs: Option<usize>,
    /// Print one JSON document
    #[arg(long, global = true, help_heading = "Output")]
    pub(crate) json: bool,
    /// List every finding instead of grouping them
    #[arg(long, global = true, help_heading = "Output")]
    pub(crate) ungrouped: bool,
    /// Show no progress
    #[arg(long, short = 'q', global = true, help_heading = "Output")]
    pub(crate) quiet: bool,
    /// Show notes and details too
    #[arg(long, short = 'v', global = true, help_heading = "Output")]
    pub(crate) verbose: bool,
    /// Colour the output
    #[arg(long, global = true, value_name = "WHEN", env = "VERITUM_COLOR", help_heading = "Output")]
    pub(crate) color: Option<Color>,
}

/// How strongly things must be vouched for
#[derive(Debug, Clone, Copy, PartialEq, Eq, ValueEnum, serde::Deserialize)]
#[serde(rename_all = "kebab-case")]
pub(crate) enum Require {
    /// By a signed store
    Signed,
    /// By a signed store or the vendor's archive
    Archive,
}

impl Require {
    pub(crate) fn least(self) -> Authority {
        match self {
            Self::Signed => Authority::SignedStore,
            Self::Archive => Authority::Archive,
        }
    }
}

/// When to colour
#[derive(Debug, Clone, Copy, PartialEq, Eq, ValueEnum, serde::Deserialize)]
#[serde(rename_all = "kebab-case")]
pub(crate) enum Color {
    /// On a terminal
    Auto,
    /// Always
    Always,
    /// Never
    Never,
}

#[derive(Debug, Subcommand)]
pub(crate) enum Verb {
    /// Tell what machine this is, what vouches for it, and what is pending
    Status,
    /// Examine, change nothing
    #[command(after_help = what_help())]
    Check {
        /// What to examine: an area, a path, component:NAME, app:NAME; everything but updates and apps when nothing
        /// is named
        #[arg(value_name = "WHAT")]
        what: Vec<OsString>,
    },
    /// Check, show the plan, ask, put right, check again
    #[command(after_help = what_help())]
    Repair {
        /// What to repair: an area, a path, component:NAME, app:NAME; everything but updates and apps when nothing
        /// is named
        #[arg(value_name = "WHAT")]
        what: Vec<OsString>,
        /// Of updates: set all of both caches aside, downloads and lists, not only what is damaged
        #[arg(long)]
        everything: bool,
    },
    /// Tell all about one path, finding, application or change
    Explain {
        /// A path, a finding's name (four signs are enough), app:NAME, or a change's number
        #[arg(value_name = "PATH|FINDING|APP|CHANGE")]
        what: OsString,
    },
    /// List components, applications, changes or updates
    List {
        /// What to list
        what: Listing,
        /// Of applications also how much they take: installed, and in users' homes
        #[arg(long, help_heading = "Applications")]
        sizes: bool,
        #[command(flatten)]
        updates: UpdatesArgs,
    },
    /// Set an application's settings, caches and the like aside, in its users' homes; nothing of their own is touched
    #[command(after_help = RESET_HELP)]
    Reset(ResetArgs),
    /// Take a change back
    Undo {
        /// The change's number; without it all changes of the latest run
        #[arg(value_parser = whole_number)]
        change: Option<u64>,
    },
    /// Finish or take back a change that was interrupted
    Recover,
    /// Keep a trusted component store
    #[command(subcommand, arg_required_else_help = true)]
    Store(StoreVerb),
    /// Build the made-up machine and run the whole example on it
    Demo(DemoArgs),
    /// Wait until a process has ended, then finish or take back what it left unfinished
    #[command(hide = true)]
    Guard {
        /// Its number
        pid: i32,
        /// When it began, as the kernel counts: its number may be another process's by now
        begun: u64,
    },
    /// Do what is asked over the socket that is the standard input, with the rights of a home's owner
    #[command(hide = true)]
    AsOwner,
    /// Write the JSON Schemas of all formats into a folder
    #[command(hide = true)]
    Schemas {
        /// The folder
        dir: PathBuf,
    },
    /// Write manual pages and completions for shells into a folder
    #[command(hide = true)]
    Manuals {
        /// The folder
        dir: PathBuf,
    },
}

/// What can be named, an area a line.
fn what_help() -> String {
    let about = || AREAS.iter().map(|area| area.about());
    let areas = about().map(|about| (about.name.word().to_owned(), about.help));
    let named = [
        ("/usr/bin/NAME".to_owned(), "one path as the machine knows it, and what lies below it"),
        ("component:NAME".to_owned(), "everything of one component"),
    ];
    let selected = about().filter_map(|about| about.selector).map(|(word, help)| (format!("{word}:NAME"), help));
    let lines = areas.chain(named).chain(selected).map(|(word, help)| format!("\n  {word:<16}  {}", wrapped(help)));
    format!("WHAT can be given more than once:{}", lines.collect::<String>())
}

/// Text beside the words that can be named, broken into lines that fit.
fn wrapped(text: &str) -> String {
    let mut lines = vec![String::new()];
    for word in text.split_whitespace() {
        if lines.last().is_some_and(|line| line.len() + word.len() > HELP_WIDTH) {
            lines.push(String::new());
        }
        if let Some(line) = lines.last_mut() {
            line.push_str(if line.is_empty() { "" } else { " " });
            line.push_str(word);
        }
    }
    lines.join("\n                    ")
}

/// So wide is the text beside the words that can be named.
const HELP_WIDTH: usize = 78;

const RESET_HELP: &str = "The list of what would be set aside and what stays comes first, then a question. An application that runs is not\ntouched, and never ended. Things are set aside in the home itself, in ~/.veritum-set-aside, with the rights of the\nhome's owner; `undo` brings them back.\n\nPARTs: settings, state, cache, locks, or what something is to the user, as the list names it.";

/// Which application, for whom, and what of it
#[derive(Debug, Args)]
pub(crate) struct ResetArgs {
    /// The application: its id, its name, or its component's (`list apps` shows them)
    #[arg(value_name = "APP")]
    pub(crate) app: OsString,
    /// Only for this user; for all who log in without it
    #[arg(long, value_name = "USER")]
    pub(crate) user: Option<String>,
    /// Leave this part where it is; repeatable
    #[arg(long, value_name = "PART")]
    pub(crate) keep: Vec<String>,
    /// Set only this aside
    #[arg(long, value_name = "PART")]
    pub(crate) only: Option<OnlyPart>,
    /// Read every file of the users' own before and after, to prove that none changed; without it sizes and times are held
    /// against each other
    #[arg(long)]
    pub(crate) prove: bool,
}

/// What alone is set aside
#[derive(Debug, Clone, Copy, PartialEq, Eq, ValueEnum)]
pub(crate) enum OnlyPart {
    /// What it makes again by itself
    Cache,
    /// How it was set up, where it was left, and that it runs
    Settings,
    /// What others hang into it
    AddOns,
    /// That it runs: what it leaves behind when it crashes
    Locks,
}

const FILL_HELP: &str = "What to take in, one of:\n  PATH…               packages, taken as they are: you vouch for them when you publish\n  --installed         what is installed on the machine, each package verified by its archive; shown before it is done\n  --from STORE        all that another store has that you trust\n\nAn interrupted filling goes on where it was when it is typed again.";

#[derive(Debug, Clone, Copy, PartialEq, Eq, ValueEnum)]
pub(crate) enum Listing {
    /// Installed components and who vouches for them
    Components,
    /// Applications, the components that they belong to, and how they stood at the last check
    Apps,
    /// What was changed, and whether it can be taken back
    Changes,
    /// What was installed, updated and removed when
    Updates,
}

/// Which updates to list
#[derive(Debug, Clone, Default, Args)]
pub(crate) struct UpdatesArgs {
    /// Only updates from this day on (2026-03-02, or "2026-03-02 14:00"), in the machine's own time
    #[arg(long, value_name = "DATE", value_parser = first_moment, help_heading = "Updates")]
    pub(crate) since: Option<DateTime>,
    /// Only what concerns this component
    #[arg(long, value_name = "NAME", help_heading = "Updates")]
    pub(crate) component: Option<String>,
    /// When the trouble began: marks what was done in the week before
    #[arg(long, value_name = "DATE", value_parser = last_moment, help_heading = "Updates")]
    pub(crate) trouble: Option<DateTime>,
}

/// A day's first moment, or the moment that was typed.
fn first_moment(text: &str) -> Result<DateTime, String> {
    moment(text, Time::midnight())
}

/// A day's last moment, or the moment that was typed.
fn last_moment(text: &str) -> Result<DateTime, String> {
    moment(text, Time::constant(23, 59, 59, 0))
}

fn moment(text: &str, of_day: Time) -> Result<DateTime, String> {
    let day = text.parse::<Date>().ok().filter(|_| !text.contains(':'));
    let moment = day.map(|day| day.to_datetime(of_day)).or_else(|| text.parse().ok());
    moment.ok_or_else(|| "a date is written like 2026-03-02, or with a time like \"2026-03-02 14:00\"".into())
}

#[derive(Debug, Subcommand)]
pub(crate) enum StoreVerb {
    /// Make an empty store and its keys
    Create {
        /// The store's folder
        dir: PathBuf,
        /// Where the private keys go; keep it apart from the store
        #[arg(long, value_name = "KEYDIR")]
        keys: PathBuf,
    },
    /// Take packages into a store: those that are named, those of every installed component, or another store's
    #[command(after_help = FILL_HELP)]
    Fill {
        /// .deb files, or folders of them
        #[arg(value_name = "PATH")]
        paths: Vec<PathBuf>,
        /// Every installed component of the machine: from other stores (--from), packages at hand, and the archive
        #[arg(long, conflicts_with = "paths")]
        installed: bool,
        /// Keep no contents: such a store vouches for files and gives nothing back
        #[arg(long)]
        manifests_only: bool,
    },
    /// Sign what was taken in
    Publish {
        /// Where the private keys lie
        #[arg(long, value_name = "KEYDIR")]
        keys: PathBuf,
    },
    /// Show the keys of a store, or of a vendor's keyring file, and, if you say so, trust them from now on
    Trust {
        /// The store's folder or URL, or a keyring file
        location: PathBuf,
    },
    /// Show what a store holds
    Show {
        /// Only this component, with its files
        component: Option<String>,
    },
}

/// A number as people type it, with words for when it is none.
fn whole_number(text: &str) -> Result<u64, String> {
    text.parse().map_err(|_| "a change is named by its number, as `veritum list changes` shows it".to_owned())
}

#[derive(Debug, Args)]
pub(crate) struct DemoArgs {
    /// Build it in this folder
    #[arg(long, value_name = "DIR", default_value = "veritum-demo")]
    pub(crate) dir: PathBuf,
    /// Build it and stop
    #[arg(long)]
    pub(crate) build_only: bool,
    /// Damage it so: names from --list-faults, `all` or `none`
    #[arg(long, value_name = "NAME", value_delimiter = ',')]
    pub(crate) fault: Vec<String>,
    /// List the kinds of damage, a line each
    #[arg(long)]
    pub(crate) list_faults: bool,
    /// Serve the archives of the machine that was built in --dir until it is interrupted, so that `repair updates` can be
    /// tried on it
    #[arg(long, conflicts_with_all = ["build_only", "fault", "list_faults"])]
    pub(crate) serve: bool,
    /// Make everything from this number
    #[arg(long, value_name = "N", default_value_t = 42)]
    pub(crate) seed: u64,
}
