//! What a command runs with: settings put together, and how to repeat it.

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

/// Where downloads are kept unless something else is said: the place for what can be got again (FHS 3.0, 5.5).
const DOWNLOADS: &str = "/var/cache/veritum";

/// Notes on machines that are mounted from elsewhere.
const NOTES: &str = "/var/lib/veritum/machines";

/// Everything that a command needs from outside.
pub(crate) struct Context {
    pub(crate) global: Global,
    pub(crate) settings: Settings,
    pub(crate) progress: Progress,
    /// How wide lines of standard output may be.
    pub(crate) width: Width,
    machine: OnceCell<MachineReport>,
    /// The options that were given, for suggested commands to mean the same.
    given: Given,
}

impl Context {
    pub(crate) fn new(global: Global, given: Given) -> Result<Self, Failure> {
        let config = Config::load(global.config.as_deref())?;
        set_color(global.color.or(config.color));
        require_sources(&global.from)?;
        let policy = Policy { owner_of_root: config.owner_of_root()? };
        let cores = std::thread::available_parallelism().map_or(2, usize::from);
        let jobs = global.jobs.or(config.jobs).unwrap_or(cores).clamp(1, 256);
        let now = jiff::Timestamp::now();
        let settings = Settings {
            root: global.root.clone().or(config.root.clone()).unwrap_or_else(|| PathBuf::from("/")),
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

    /// The machine that was opened, if one was.
    pub(crate) fn machine(&self) -> Option<MachineReport> {
        self.machine.get().cloned()
    }

    /// A command to type next, with the options that this one was given.
    pub(crate) fn command(&self, words: &str) -> String {
        format!("veritum {}", self.given.complete(words))
    }

    /// A command with its own `--store` to type next.
    pub(crate) fn store_command(&self, words: &str, store: &str) -> String {
        self.command(&format!("{words} --store {store}"))
    }

    /// An action as a person reads it; a command of Veritum's gets the options that this one was given.
    pub(crate) fn action(&self, action: &Action) -> String {
        self.completed(action.clone()).to_string()
    }

    /// The same action, with the options that this command was given.
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

/// Where what was verified before is kept: with the configuration that was named (a stick), else in the system's cache.
fn cache(config: &Config) -> PathBuf {
    if config.is_own() { config.folder.join("cache") } else { PathBuf::from(DOWNLOADS) }
}

/// Where notes on machines lie that are mounted from elsewhere: with the configuration that was named, else in the system's
/// own state folder, or in that of the user (XDG Base Directory Specification 0.8).
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

/// The command that finishes or undoes a change when this process is gone before its end.
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

/// Why no question can be answered; `None` when one can, or was answered beforehand.
pub(crate) fn unanswerable(global: &Global) -> Option<&'static str> {
    match (global.yes, global.json, io::stdin().is_terminal()) {
        (true, ..) => None,
        (_, true, _) => Some("--json never asks"),
        (_, _, false) => Some("standard input is not a terminal"),
        _ => None,
    }
}

/// Refuses what was named with `--from` and is not there: what it was to give would be missed without a word.
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

/// What was named with `--from`, then what the configuration file names: a place of the file's is meant from its folder.
fn suppliers(typed: &[OsString], configured: &[String], folder: &Path) -> Vec<Supplier> {
    let url = |text: &str| {
        let network = ["http://", "https://"].iter().any(|scheme| text.starts_with(scheme));
        network.then(|| Supplier::Url(text.to_owned()))
    };
    let typed = typed.iter().map(|t| t.to_str().and_then(url).unwrap_or_else(|| Supplier::Place(PathBuf::from(t))));
    let configured = configured.iter().map(|t| url(t).unwrap_or_else(|| Supplier::Place(folder.join(t))));
    typed.chain(configured).collect()
}

/// The proxies that the environment names, in small letters or large.
fn proxies() -> Proxies {
    let one = |name: &str| {
        let named = std::env::var(name).or_else(|_| std::env::var(name.to_uppercase())).ok();
        named.filter(|value| !value.is_empty())
    };
    let all = one("all_proxy");
    let none_for = one("no_proxy").unwrap_or_default();
    Proxies {
        // In large letters this one can be set by the one that asks a web server for something.
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
