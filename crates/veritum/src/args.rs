//! The command line's grammar: a verb, then its subject.

use std::ffi::OsString;
use std::path::PathBuf;

use clap::builder::{PossibleValuesParser, TypedValueParser};
use clap::{Args, Parser, Subcommand, ValueEnum};
use jiff::civil::{Date, DateTime, Time};
use veritum_core::model::Authority;
use veritum_core::report::DataKind;

/// Find damaged system files on Debian-family desktops and restore them from a trusted source
#[derive(Debug, Parser)]
#[command(
    name = "veritum",
    version,
    max_term_width = 100,
    disable_help_subcommand = true,
    disable_help_flag = true,
    subcommand_required = true
)]
pub(crate) struct Cli {
    #[command(subcommand)]
    pub(crate) verb: Verb,
    #[command(flatten)]
    pub(crate) global: Global,
}

/// Options that several commands share
#[derive(Debug, Clone, Args)]
pub(crate) struct Global {
    /// Work on the system mounted in this folder instead of the running one
    #[arg(
        long,
        short = 'r',
        global = true,
        value_name = "DIR",
        env = "VERITUM_ROOT",
        help_heading = "System and sources"
    )]
    pub(crate) root: Option<PathBuf>,
    /// Work on this disk or disk image instead of the running system: its partitions and file systems, without mounting
    /// them; with --root, it is the disk of that system (`check bootchain`); repeatable
    #[arg(long, global = true, value_name = "DEVICE|IMAGE", help_heading = "System and sources")]
    pub(crate) disk: Vec<PathBuf>,
    /// With --disk: of several systems there, the one with its root on this partition (default: the one that the disk starts)
    #[arg(long, global = true, value_name = "NUMBER", help_heading = "System and sources")]
    pub(crate) partition: Option<u32>,
    /// Use this trusted store: a folder, or the URL of one on a web server
    #[arg(
        long,
        short = 's',
        global = true,
        value_name = "LOCATION",
        env = "VERITUM_STORE",
        help_heading = "System and sources"
    )]
    pub(crate) store: Option<PathBuf>,
    /// Also use this source: a folder of .deb files, install media, a repository (folder or URL) or another store;
    /// repeatable
    #[arg(long, short = 'f', global = true, value_name = "SOURCE", help_heading = "System and sources")]
    pub(crate) from: Vec<OsString>,
    /// Never use the network
    #[arg(long, short = 'N', global = true, env = "VERITUM_NO_NETWORK", value_parser = clap::builder::FalseyValueParser::new(), help_heading = "System and sources")]
    pub(crate) no_network: bool,
    /// Keep downloads in this folder (default: /var/cache/veritum)
    #[arg(long, global = true, value_name = "DIR", env = "VERITUM_CACHE_DIR", help_heading = "System and sources")]
    pub(crate) cache_dir: Option<PathBuf>,
    /// Keep change logs and backups in this folder (default: /var/lib/veritum of the system)
    #[arg(long, global = true, value_name = "DIR", env = "VERITUM_STATE_DIR", help_heading = "System and sources")]
    pub(crate) state_dir: Option<PathBuf>,
    /// Read the configuration from this file; trusted keys are stored next to it
    #[arg(long, global = true, value_name = "FILE", env = "VERITUM_CONFIG", help_heading = "System and sources")]
    pub(crate) config: Option<PathBuf>,
    /// Fail unless everything is verified at least this strongly
    #[arg(long, global = true, value_name = "STRENGTH", env = "VERITUM_MIN_TRUST", help_heading = "Checking")]
    pub(crate) min_trust: Option<MinTrust>,
    /// Verify every package against its signed .deb file, not only against the local database; downloads missing ones
    #[arg(long, global = true, help_heading = "Checking")]
    pub(crate) complete: bool,
    /// With `volumes` or --disk: also read every block of each file system or partition, to find what cannot be read; takes as long
    /// as copying the disk
    #[arg(long, global = true, help_heading = "Checking")]
    pub(crate) surface: bool,
    /// With --surface: only the blocks that are in use (ext4)
    #[arg(long, global = true, help_heading = "Checking")]
    pub(crate) used: bool,
    /// Skip files unchanged since the last full check (by device, inode, size and times)
    #[arg(long, global = true, help_heading = "Checking")]
    pub(crate) quick: bool,
    /// Show what would be done and change nothing
    #[arg(long, short = 'p', visible_alias = "dry-run", global = true, help_heading = "Changing")]
    pub(crate) plan: bool,
    /// Assume yes at the prompt
    #[arg(long, short = 'y', global = true, help_heading = "Changing")]
    pub(crate) yes: bool,
    /// Continue even if the disk appears to be failing (never implied by --yes)
    #[arg(long, global = true, help_heading = "Changing")]
    pub(crate) ignore_disk_errors: bool,
    /// Temporarily clear immutable and append-only attributes
    #[arg(long, global = true, help_heading = "Changing")]
    pub(crate) clear_immutable: bool,
    /// Print one JSON document
    #[arg(long, global = true, help_heading = "Output")]
    pub(crate) json: bool,
    /// List everything: no grouping, nothing left out
    #[arg(long, global = true, help_heading = "Output")]
    pub(crate) all: bool,
    /// Show notes and evidence too
    #[arg(long, short = 'v', global = true, help_heading = "Output")]
    pub(crate) verbose: bool,
    /// Show no progress
    #[arg(long, short = 'q', global = true, help_heading = "Output")]
    pub(crate) quiet: bool,
    /// When to use colours
    #[arg(long, global = true, value_name = "WHEN", env = "VERITUM_COLOR", help_heading = "Output")]
    pub(crate) color: Option<Color>,
    /// Use this many threads (default: one per processor core)
    #[arg(long, global = true, value_name = "N", env = "VERITUM_JOBS", help_heading = "Output")]
    pub(crate) jobs: Option<usize>,
    /// Show this help
    #[arg(long, short = 'h', global = true, action = clap::ArgAction::HelpShort, help_heading = "Output")]
    help: Option<bool>,
}

/// How strongly files must be verified
#[derive(Debug, Clone, Copy, PartialEq, Eq, ValueEnum, serde::Deserialize)]
#[serde(rename_all = "kebab-case")]
pub(crate) enum MinTrust {
    /// By a signed store
    Store,
    /// By a signed store or the vendor's signed repository
    Repository,
}

impl MinTrust {
    pub(crate) fn least(self) -> Authority {
        match self {
            Self::Store => Authority::Store,
            Self::Repository => Authority::Repository,
        }
    }
}

/// When to use colours
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
    /// Show the system, its last check result and anything pending
    Status,
    /// Check the system for damage (read-only)
    Check {
        /// An area, `all`, a path, package:NAME or app:NAME
        #[arg(value_name = "WHAT")]
        what: Vec<OsString>,
    },
    /// Repair damage: show the plan, ask, repair, verify
    Repair(RepairArgs),
    /// Show details of a file, problem, application, savepoint or change; with `bootchain`, how to start with fewer parts
    Explain {
        /// A path, problem ID (first 4 characters), app:NAME, savepoint:NUMBER, change number, or `bootchain`
        #[arg(value_name = "PATH|ID|APP|SAVEPOINT|CHANGE")]
        what: OsString,
    },
    /// List packages, applications, changes, updates, savepoints or disks
    List {
        /// What to list
        what: Listing,
        /// Also show disk usage
        #[arg(long, help_heading = "Applications")]
        sizes: bool,
        #[command(flatten)]
        updates: UpdatesArgs,
    },
    /// Reset an application: move its settings and caches aside; user data is not touched
    Reset(ResetArgs),
    /// Copy users' files to another disk and verify the copies; nothing is written to where they come from
    Rescue(RescueArgs),
    /// Record the system's state, without users' files, so that it can be returned to
    Savepoint(SavepointArgs),
    /// Return the system to a savepoint; users' files are not touched
    Return(ReturnArgs),
    /// Undo a change
    Undo {
        /// The change's number (default: all changes of the latest run)
        #[arg(value_parser = whole_number)]
        change: Option<u64>,
    },
    /// Complete or roll back an interrupted change
    Recover,
    /// Create and maintain a trusted store
    #[command(subcommand, arg_required_else_help = true)]
    Store(StoreVerb),
    /// Build a demo system and walk through the commands
    Demo(DemoArgs),
    /// Show help for a command
    Help {
        /// The command, such as `check` or `store add`
        #[arg(value_name = "VERB")]
        verb: Vec<String>,
    },
    /// Wait until a process ends, then complete or roll back the change that it left unfinished
    #[command(hide = true)]
    Guard {
        /// Its process id
        pid: i32,
        /// When it started, in the kernel's clock ticks: the process id may have been reused
        started: u64,
    },
    /// Become a program of a mounted system, inside it
    #[command(hide = true)]
    Inside {
        /// The folder that it is mounted in
        system: PathBuf,
        /// The folder for temporary files
        temporary: PathBuf,
        /// The program, by its path there
        program: OsString,
        /// Its arguments
        #[arg(trailing_var_arg = true, allow_hyphen_values = true)]
        words: Vec<OsString>,
    },
    /// Carry out requests on the socket that is standard input, with the rights of a home's owner
    #[command(hide = true)]
    AsOwner,
    /// Write the JSON Schemas of all formats into a folder
    #[command(hide = true)]
    Schemas {
        /// The folder
        dir: PathBuf,
    },
    /// Print the candidates for the last of these words
    #[command(hide = true)]
    Complete {
        /// The words after `veritum`
        #[arg(trailing_var_arg = true, allow_hyphen_values = true)]
        words: Vec<OsString>,
    },
    /// Write manual pages and shell completions into a folder
    #[command(hide = true)]
    Manuals {
        /// The folder
        dir: PathBuf,
    },
}

/// Which application, for whom, and what of it
#[derive(Debug, Args)]
pub(crate) struct ResetArgs {
    /// The application: its ID, its name or its package (see `veritum list apps`)
    #[arg(value_name = "APP")]
    pub(crate) app: OsString,
    /// Reset for this user only (default: all login users)
    #[arg(long, value_name = "USER")]
    pub(crate) user: Option<String>,
    /// Do not move this part: settings, state, cache, locks, or a data name shown in the list (e.g. mail); repeatable
    #[arg(long, value_name = "PART")]
    pub(crate) keep: Vec<String>,
    /// Move only this part
    #[arg(long, value_name = "PART")]
    pub(crate) only: Option<OnlyPart>,
    /// Read all user data before and after to verify that nothing changed (otherwise sizes and timestamps are compared)
    #[arg(long)]
    pub(crate) prove: bool,
}

/// What `repair` repairs.
#[derive(Debug, Args)]
pub(crate) struct RepairArgs {
    /// An area, `all`, a path, package:NAME or app:NAME
    #[arg(value_name = "WHAT")]
    pub(crate) what: Vec<OsString>,
    /// With `updates`: replace all cached downloads and package lists, not only damaged ones
    #[arg(long)]
    pub(crate) everything: bool,
    /// With `volumes` or volume:NAME: have the file systems checked at the next start, even if no damage was found
    #[arg(long)]
    pub(crate) check_at_next_start: bool,
    /// The folder that `rescue` copied the users' files to; needed before file systems on a failing disk are checked
    #[arg(long, value_name = "DIR")]
    pub(crate) rescued: Option<PathBuf>,
    /// With `bootchain`: also write a partition table that is only proposed, by the file systems that were found; look at the plan first
    #[arg(long)]
    pub(crate) yes_table: bool,
}

/// Why a savepoint is made
#[derive(Debug, Args)]
pub(crate) struct SavepointArgs {
    /// The reason, shown in the list of savepoints
    #[arg(long, value_name = "TEXT")]
    pub(crate) reason: Option<String>,
    /// Make savepoints before apt changes packages, from now on; the first one at once
    #[arg(long, value_name = "WHEN", conflicts_with = "reason")]
    pub(crate) automatic: Option<Switch>,
    /// Called by apt, with the packages on standard input
    #[arg(long, hide = true, conflicts_with_all = ["reason", "automatic"])]
    pub(crate) before_packages: bool,
}

/// On or off
#[derive(Debug, Clone, Copy, PartialEq, Eq, ValueEnum)]
pub(crate) enum Switch {
    /// On
    On,
    /// Off
    Off,
}

/// Which savepoint, and what of it
#[derive(Debug, Args)]
pub(crate) struct ReturnArgs {
    /// The savepoint's number (see `veritum list savepoints`)
    #[arg(value_parser = savepoint_number)]
    pub(crate) savepoint: u64,
    /// Only this package's files; files that tools generate from them are generated again; repeatable
    #[arg(long, value_name = "NAME", conflicts_with_all = ["accounts", "exact"])]
    pub(crate) package: Vec<String>,
    /// Also return configuration files that a person changed since
    #[arg(long)]
    pub(crate) config_files: bool,
    /// Also return accounts, passwords and groups
    #[arg(long)]
    pub(crate) accounts: bool,
    /// Also set aside everything that was made since in the places that a savepoint covers
    #[arg(long)]
    pub(crate) exact: bool,
}

/// What is copied, and where to
#[derive(Debug, Args)]
#[command(group = clap::ArgGroup::new("rescue").args(["to", "verify", "image", "back"]))]
pub(crate) struct RescueArgs {
    /// Copy into this folder of another disk; run the same command again to resume
    #[arg(long, value_name = "DIR")]
    pub(crate) to: Option<PathBuf>,
    /// Compare files that were copied into this folder with their manifest
    #[arg(long, value_name = "DIR", conflicts_with_all = ["user", "only", "caches"])]
    pub(crate) verify: Option<PathBuf>,
    /// Copy the disk named with --disk into this image file, what can be read first; run it again to resume
    #[arg(long, value_name = "FILE", conflicts_with_all = ["user", "only", "caches"])]
    pub(crate) image: Option<PathBuf>,
    /// List deleted files in trash folders; with --disk also others that ext4's journal still describes: add --to to copy these
    #[arg(long, conflicts_with_all = ["verify", "image", "back"])]
    pub(crate) deleted: bool,
    /// With --deleted and --to: only this deleted file, or those in this folder, by its path in the list; repeatable
    #[arg(long, value_name = "PATH", requires = "deleted")]
    pub(crate) file: Vec<OsString>,
    /// Restore the copies in this folder, each in its user's home; newer files there stay
    #[arg(long, value_name = "DIR", conflicts_with = "caches")]
    pub(crate) back: Option<PathBuf>,
    /// With --back: replace newer files in the homes too; they are set aside
    #[arg(long, requires = "back")]
    pub(crate) replace_newer: bool,
    /// Only this user's files (default: all login users'); repeatable
    #[arg(long, value_name = "USER")]
    pub(crate) user: Vec<String>,
    /// Only this kind of files; repeatable
    #[arg(long, value_name = "KIND", value_delimiter = ',', value_parser = kinds())]
    pub(crate) only: Vec<DataKind>,
    /// Caches too, which applications create again
    #[arg(long)]
    pub(crate) caches: bool,
}

/// The kinds of files, by their words.
fn kinds() -> impl TypedValueParser<Value = DataKind> {
    let kind = |word: String| DataKind::ALL.into_iter().find(|kind| kind.word() == word).unwrap_or(DataKind::Documents);
    PossibleValuesParser::new(DataKind::ALL.map(DataKind::word)).map(kind)
}

/// The only part to move
#[derive(Debug, Clone, Copy, PartialEq, Eq, ValueEnum)]
pub(crate) enum OnlyPart {
    /// Caches, which the application creates again
    Cache,
    /// Settings, saved state and locks
    Settings,
    /// Extensions and plug-ins
    AddOns,
    /// Locks left after a crash
    Locks,
}

#[derive(Debug, Clone, Copy, PartialEq, Eq, ValueEnum)]
pub(crate) enum Listing {
    /// Installed packages and what they can be verified with
    Packages,
    /// Applications, their packages and their state at the last check
    Apps,
    /// Changes made by Veritum, and whether they can be undone
    Changes,
    /// Packages installed, updated and removed, by date
    Updates,
    /// Savepoints, and what changed since each
    Savepoints,
    /// Disks, their partitions and what is on them
    Disks,
}

/// Which updates to list
#[derive(Debug, Clone, Default, Args)]
pub(crate) struct UpdatesArgs {
    /// Only updates from this day on (2026-03-02, or "2026-03-02 14:00"), in the system's local time
    #[arg(long, value_name = "DATE", value_parser = first_moment, help_heading = "Updates")]
    pub(crate) since: Option<DateTime>,
    /// Only updates of this package
    #[arg(long, value_name = "NAME", help_heading = "Updates")]
    pub(crate) package: Option<String>,
    /// When the trouble began: marks updates of the week before; with `savepoints`: the last one before it
    #[arg(long, value_name = "DATE", value_parser = last_moment, help_heading = "Updates")]
    pub(crate) trouble: Option<DateTime>,
}

/// A day's first moment, or the given time.
fn first_moment(text: &str) -> Result<DateTime, String> {
    moment(text, Time::midnight())
}

/// A day's last moment, or the given time.
fn last_moment(text: &str) -> Result<DateTime, String> {
    moment(text, Time::constant(23, 59, 59, 0))
}

fn moment(text: &str, of_day: Time) -> Result<DateTime, String> {
    let day = text.parse::<Date>().ok().filter(|_| !text.contains(':'));
    let moment = day.map(|day| day.to_datetime(of_day)).or_else(|| text.parse().ok());
    moment.ok_or_else(|| "type a date like 2026-03-02, or with a time like \"2026-03-02 14:00\"".into())
}

#[derive(Debug, Subcommand)]
pub(crate) enum StoreVerb {
    /// Create an empty store and its keys
    Create {
        /// The store's folder
        dir: PathBuf,
        /// Folder for the private keys; keep it apart from the store
        #[arg(long, value_name = "KEYDIR")]
        keys: PathBuf,
    },
    /// Add packages to a store: .deb files, all installed packages, or another store's
    Add {
        /// .deb files or folders of them; added as they are, you verify them by signing
        #[arg(value_name = "PATH")]
        paths: Vec<PathBuf>,
        /// All installed packages, each verified by its repository: from --from, apt's cache, or downloaded
        #[arg(long, conflicts_with = "paths")]
        installed: bool,
        /// Store checksums only: can verify files but not restore them
        #[arg(long)]
        checksums_only: bool,
    },
    /// Sign the added packages
    Sign {
        /// Folder of the private keys (default: where `store create` wrote them)
        #[arg(long, value_name = "KEYDIR")]
        keys: Option<PathBuf>,
    },
    /// Show the keys of a store or of a vendor's keyring, ask, and trust them
    Trust {
        /// The store's folder or URL, or a keyring file
        location: PathBuf,
    },
    /// Show the contents of a store
    Show {
        /// Only this package, with its files
        package: Option<String>,
    },
}

/// A number, with an error message for other words.
fn whole_number(text: &str) -> Result<u64, String> {
    text.parse().map_err(|_| "CHANGE must be a number (see `veritum list changes`)".to_owned())
}

/// A savepoint's number, also as `savepoint:N`.
fn savepoint_number(text: &str) -> Result<u64, String> {
    let number = text.strip_prefix("savepoint:").unwrap_or(text);
    number.parse().map_err(|_| "SAVEPOINT must be a number (see `veritum list savepoints`)".to_owned())
}

#[derive(Debug, Args)]
pub(crate) struct DemoArgs {
    /// Build it in this folder
    #[arg(long, value_name = "DIR", default_value = "veritum-demo")]
    pub(crate) dir: PathBuf,
    /// Build it, without the walk through the commands
    #[arg(long)]
    pub(crate) build_only: bool,
    /// Wait for the Enter key after each command
    #[arg(long, conflicts_with_all = ["build_only", "list_faults"])]
    pub(crate) pause: bool,
    /// Apply these kinds of damage: names from --list-faults, `all` or `none`
    #[arg(long, value_name = "NAME", value_delimiter = ',')]
    pub(crate) fault: Vec<String>,
    /// List the kinds of damage
    #[arg(long)]
    pub(crate) list_faults: bool,
    /// Serve the repositories of the machine built in --dir until interrupted, to try `repair updates` on it
    #[arg(long, conflicts_with_all = ["build_only", "pause", "fault", "list_faults"])]
    pub(crate) serve: bool,
    /// Random seed
    #[arg(long, value_name = "N", default_value_t = 42)]
    pub(crate) seed: u64,
}
