//! The settings of a command, and the options to repeat in suggested commands.

use std::cell::OnceCell;
use std::ffi::OsString;
use std::io::{self, IsTerminal as _};
use std::path::{Path, PathBuf};
use std::sync::Arc;

use veritum_core::machine::LiveDisk;
use veritum_core::model::{Action, quoted};
use veritum_core::reference::Policy;
use veritum_core::report::MachineReport;
use veritum_core::repository::{Proxies, RepositorySettings};
use veritum_core::store::Location;
use veritum_core::work::{Engine, ServiceManager, Settings, Supplier};

use crate::args::{Color, Global, MinTrust};
use crate::config::Config;
use crate::errors::Failure;
use crate::options::Given;
use crate::processes::begun_at;
use crate::progress::Progress;
use crate::render::layout::Width;

/// The default folder of downloads (FHS 3.0, 5.5).
const DOWNLOADS: &str = "/var/cache/veritum";

/// Notes on mounted machines.
const NOTES: &str = "/var/lib/veritum/machines";

/// Everything that a command needs.
pub(crate) struct Context {
    pub(crate) global: Global,
    pub(crate) settings: Settings,
    pub(crate) progress: Progress,
    /// The width of lines of standard output.
    pub(crate) width: Width,
    machine: OnceCell<MachineReport>,
    /// The given options, for suggested commands.
    given: Given,
}

impl Context {
    pub(crate) fn new(global: Global, given: Given) -> Result<Self, Failure> {
        let config = Config::load(global.config.as_deref())?;
        set_color(global.color.or(config.color));
        require_sources(&global.from)?;
        if global.partition.is_some() && (global.disk.is_empty() || global.root.is_some()) {
            let why = "it says which of several systems on a disk that is not mounted is meant";
            return Err(Failure::usage("--partition needs --disk, and no --root".into(), why.into(), None));
        }
        let policy = Policy { owner_of_root: config.owner_of_root()? };
        let cores = std::thread::available_parallelism().map_or(2, usize::from);
        let jobs = global.jobs.or(config.jobs).unwrap_or(cores).clamp(1, 256);
        let now = jiff::Timestamp::now();
        let settings = Settings {
            root: global.root.clone().or(config.root.clone()).unwrap_or_else(|| PathBuf::from("/")),
            disks: global.disk.clone(),
            partition: global.partition,
            store: match (&global.store, &config.store) {
                (Some(typed), _) => Some(Location::parse(typed.as_os_str(), Path::new(""))),
                (None, Some(named)) => Some(Location::parse(named.as_ref(), &config.folder)),
                (None, None) => None,
            },
            trust: config.folder.join("trust"),
            notes: notes(&config),
            state_dir: global.state_dir.clone().or(config.state_dir.clone()),
            from: suppliers(&global.from, &config.from, &config.folder),
            repositories: RepositorySettings {
                network: !(global.no_network || config.no_network),
                proxies: proxies(),
                cache: cache(&config),
                downloads: global
                    .cache_dir
                    .clone()
                    .or(config.cache_dir.clone())
                    .unwrap_or_else(|| PathBuf::from(DOWNLOADS)),
                ..RepositorySettings::default()
            },
            complete: global.complete || config.complete,
            min_trust: global.min_trust.or(config.min_trust).map(MinTrust::least),
            quick: global.quick,
            scratch: vec!["/dev/shm".into(), "/run".into(), std::env::temp_dir(), "/var/tmp".into()],
            policy,
            jobs,
            answerable: unanswerable(&global).is_none(),
            ignore_disk_errors: global.ignore_disk_errors,
            clear_immutable: global.clear_immutable,
            run: format!("{}-{}", now.as_second(), std::process::id()),
            now,
            cards: config.cards.clone(),
            helper: ["/proc/self/exe", "as-owner"].map(OsString::from).to_vec(),
            services: config.services.clone().map_or_else(ServiceManager::default, ServiceManager::StandIn),
            firmware: None,
            inside: std::env::current_exe().map(|own| vec![own.into(), "inside".into()]).unwrap_or_default(),
            recovery: recovery(&global),
            stop: Arc::default(),
        };
        let progress = Progress::new(!global.quiet && !global.json, settings.stop.clone());
        Ok(Self { global, settings, progress, width: Width::of_stdout(), machine: OnceCell::new(), given })
    }

    pub(crate) fn open(&self) -> Result<Engine, Failure> {
        let engine = Engine::open(self.settings.clone(), Arc::new(LiveDisk))?;
        let _ = self.machine.set(engine.machine_report());
        Ok(engine)
    }

    /// Opens the machine for a brief answer.
    pub(crate) fn open_briefly(&self) -> Result<Engine, Failure> {
        let engine = Engine::open_briefly(self.settings.clone(), Arc::new(LiveDisk))?;
        let _ = self.machine.set(engine.machine_report());
        Ok(engine)
    }

    /// Records the machine that a command worked on without opening all of it.
    pub(crate) fn set_machine(&self, machine: MachineReport) {
        let _ = self.machine.set(machine);
    }

    /// The machine that was opened, if one was.
    pub(crate) fn machine(&self) -> Option<MachineReport> {
        self.machine.get().cloned()
    }

    /// A suggested command, with the options of this one that matter for it.
    pub(crate) fn command(&self, words: &str) -> String {
        let words = self.given.complete(words);
        // What a repair of disks alone writes over must be kept somewhere.
        let of_disks = !self.global.disk.is_empty() && self.global.root.is_none();
        let is_kept = self.settings.state_dir.is_some() || words.contains("--root");
        match of_disks && !is_kept && words.starts_with("repair bootchain") {
            true => format!("veritum {words} --state-dir DIR"),
            false => format!("veritum {words}"),
        }
    }

    /// A suggested command with its own `--store`.
    pub(crate) fn store_command(&self, words: &str, store: &str) -> String {
        self.command(&format!("{words} --store {store}"))
    }

    /// An action for people; a Veritum command gets the options of this one.
    pub(crate) fn action(&self, action: &Action) -> String {
        self.completed(action.clone()).to_string()
    }

    /// The same action, with the options of this command.
    pub(crate) fn completed(&self, action: Action) -> Action {
        match action.own_command().map(|words| self.command(words)) {
            Some(command) => Action { command: Some(command), ..action },
            None => action,
        }
    }

    pub(crate) fn full_rights(&self) -> bool {
        rustix::process::geteuid().is_root() || self.settings.policy.owner_of_root.is_some()
    }
}

/// The folder of verified facts: next to the configuration that was named (a stick), else in the system's cache.
fn cache(config: &Config) -> PathBuf {
    if config.is_own() { config.folder.join("cache") } else { PathBuf::from(DOWNLOADS) }
}

/// The folder of notes on mounted machines: next to the configuration that was named, else in the system's
/// state folder, or in the user's (XDG Base Directory Specification 0.8).
fn notes(config: &Config) -> Option<PathBuf> {
    if config.is_own() {
        return Some(config.folder.join("notes"));
    }
    if rustix::process::geteuid().is_root() {
        return Some(PathBuf::from(NOTES));
    }
    let absolute = |name: &str| std::env::var_os(name).map(PathBuf::from).filter(|path| path.is_absolute());
    let state = absolute("XDG_STATE_HOME").or_else(|| Some(absolute("HOME")?.join(".local/state")))?;
    Some(state.join("veritum"))
}

/// The command that completes or undoes a change if this process dies before its end.
fn recovery(global: &Global) -> Vec<OsString> {
    let Ok(program) = std::env::current_exe() else { return Vec::new() };
    let whole = |path: &PathBuf| std::path::absolute(path).unwrap_or_else(|_| path.clone());
    let Some(begun) = begun_at("self") else { return Vec::new() };
    let (pid, begun) = (std::process::id().to_string(), begun.to_string());
    let mut words: Vec<OsString> = vec![program.into(), "guard".into(), pid.into(), begun.into(), "--quiet".into()];
    for (option, place) in [("--config", &global.config), ("--state-dir", &global.state_dir), ("--root", &global.root)]
    {
        words.extend(place.iter().flat_map(|place| [option.into(), whole(place).into()]));
    }
    words
}

/// Why a question cannot be answered; `None` when it can, or was answered in advance.
pub(crate) fn unanswerable(global: &Global) -> Option<&'static str> {
    match (global.yes, global.json, io::stdin().is_terminal()) {
        (true, ..) => None,
        (_, true, _) => Some("--json never asks"),
        (_, _, false) => Some("standard input is not a terminal"),
        _ => None,
    }
}

/// Refuses a `--from` that does not exist: otherwise its packages would be missing silently.
fn require_sources(typed: &[OsString]) -> Result<(), Failure> {
    let is_url = |text: &OsString| text.to_str().is_some_and(|t| t.starts_with("http://") || t.starts_with("https://"));
    match typed.iter().find(|place| !is_url(place) && !Path::new(place).exists()) {
        Some(place) => Err(Failure::usage(
            format!("--from: no such file or folder: {}", quoted(place.as_encoded_bytes())),
            "is the disk mounted?".into(),
            None,
        )),
        None => Ok(()),
    }
}

/// The sources named with `--from`, then those of the configuration file; paths in the file are relative to its folder.
fn suppliers(typed: &[OsString], configured: &[String], folder: &Path) -> Vec<Supplier> {
    let url = |text: &str| {
        let network = ["http://", "https://"].iter().any(|scheme| text.starts_with(scheme));
        network.then(|| Supplier::Url(text.to_owned()))
    };
    let typed = typed.iter().map(|t| t.to_str().and_then(url).unwrap_or_else(|| Supplier::Place(PathBuf::from(t))));
    let configured = configured.iter().map(|t| url(t).unwrap_or_else(|| Supplier::Place(folder.join(t))));
    typed.chain(configured).collect()
}

/// The proxies in the environment, by their lower-case or upper-case names.
fn proxies() -> Proxies {
    let one = |name: &str| {
        let named = std::env::var(name).or_else(|_| std::env::var(name.to_uppercase())).ok();
        named.filter(|value| !value.is_empty())
    };
    let all = one("all_proxy");
    let none_for = one("no_proxy").unwrap_or_default();
    Proxies {
        // A web server's clients can set this variable in upper case.
        http: std::env::var("http_proxy").ok().filter(|v| !v.is_empty()).or_else(|| all.clone()),
        https: one("https_proxy").or(all),
        none_for: none_for.split(',').map(|host| host.trim().to_owned()).filter(|host| !host.is_empty()).collect(),
    }
}

fn set_color(when: Option<Color>) {
    let choice = match when {
        Some(Color::Always) => anstream::ColorChoice::Always,
        Some(Color::Never) => anstream::ColorChoice::Never,
        Some(Color::Auto) | None => anstream::ColorChoice::Auto,
    };
    choice.write_global();
}
