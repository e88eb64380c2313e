//! Builds everything: packages, machine, store, keys, the administrator's configuration.

use std::fs;
use std::io;
use std::os::unix::fs::MetadataExt as _;
use std::path::{Path, PathBuf};
use std::sync::Arc;

use veritum_core::event::{NoObserver, Observer};
use veritum_core::machine::LiveDisk;
use veritum_core::store;
use veritum_core::trust::{KeyPair, KeysError, Pins, StoreKeys};
use veritum_core::work::{Engine, Settings, WorkError};

use crate::faults::{Fault, apply, apply_to_store};
use crate::sources::Vendors;
use crate::updates::{self, apply_to_updates};
use crate::upgrade::upgrade;
use crate::world::settings;
use crate::{homes, machine, old_disk, spec};

/// Why the demo cannot be built.
#[derive(Debug, thiserror::Error)]
#[non_exhaustive]
pub enum BuildError {
    /// The folder is not empty.
    #[error("{} is not empty", .0.display())]
    Occupied(PathBuf),
    /// A file cannot be created.
    #[error("cannot build the demo machine in {}", folder.display())]
    Io {
        /// The demo's folder.
        folder: PathBuf,
        /// The cause.
        source: io::Error,
    },
    /// The demo's store cannot be made.
    #[error("cannot create the demo's store")]
    Store(#[from] store::StoreError),
    /// The demo's savepoint cannot be made.
    #[error("cannot make the demo's savepoint")]
    Savepoint(#[from] WorkError),
    /// The demo's keys cannot be made.
    #[error("cannot create the demo's keys")]
    Keys(#[from] KeysError),
}

/// What to build.
#[derive(Debug, Clone, Copy)]
pub struct BuildOptions<'a> {
    /// The folder.
    pub folder: &'a Path,
    /// The random seed.
    pub seed: u64,
    /// The damage to apply afterwards.
    pub faults: &'a [&'static Fault],
    /// The number of threads.
    pub jobs: usize,
}

/// What was built.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Built {
    /// The machine's root.
    pub machine: PathBuf,
    /// The store.
    pub store: PathBuf,
    /// The configuration.
    pub config: PathBuf,
    /// The configuration of an administrator who has no store, only the vendor's repository in a folder.
    pub without_store: PathBuf,
    /// The configuration of an administrator for whom the vendors' repositories are served.
    pub with_repositories: PathBuf,
    /// Packages installed.
    pub packages: usize,
    /// Files and symlinks that they own.
    pub files: usize,
}

/// Builds the demo machine, its repository, its store and the administrator's configuration.
///
/// # Errors
/// When the folder is not empty, or cannot be written.
pub fn build(options: BuildOptions<'_>, observer: &dyn Observer) -> Result<Built, BuildError> {
    let folder = options.folder;
    if fs::read_dir(folder).is_ok_and(|mut d| d.next().is_some()) {
        return Err(BuildError::Occupied(folder.to_owned()));
    }
    let at = |source| BuildError::Io { folder: folder.to_owned(), source };
    let installed = spec::installed(options.seed);
    let older = spec::older(options.seed);
    let root = folder.join("machine");
    let before = spec::before_update(options.seed);
    machine::install(&root, &before).map_err(at)?;
    machine::customise(&root).map_err(at)?;
    homes::make(&root, options.seed).map_err(at)?;
    machine::configure(&root, &before).map_err(at)?;
    let vendors = Vendors::new(options.seed).map_err(at)?;
    vendors.publish(folder, &installed, &older).map_err(at)?;
    vendors.tell(folder, &root, &installed).map_err(at)?;
    make_savepoint(&options, &root)?;
    let times = folder_times(&root).map_err(at)?;
    upgrade(&root, &installed, |package| spec::is_updated(&package.name)).map_err(at)?;
    for (path, (seconds, nanos)) in times.into_iter().filter(|(path, _)| path.is_dir()) {
        machine::set_mtime(&path, seconds, nanos).map_err(at)?;
    }
    machine::configure(&root, &installed).map_err(at)?;
    vendors.pin(&folder.join("trust")).map_err(at)?;
    updates::furnish(folder).map_err(at)?;
    let mut packages = Vec::new();
    for repositories in ["repository", "repository-farebridge"] {
        collect(&folder.join(repositories).join("pool"), &mut packages).map_err(at)?;
    }
    packages.sort();
    let store = make_store(options, &packages, observer)?;
    vendors.next_day(folder, &installed).map_err(at)?;
    make_cards(&folder.join("cards")).map_err(at)?;
    old_disk::make(folder).map_err(at)?;
    let config = folder.join("veritum.toml");
    fs::write(&config, configuration("store = \"store\"\nfrom = [\"repository\"]\n", OFFLINE)).map_err(at)?;
    let without_store = folder.join("without-store.toml");
    fs::write(&without_store, configuration("from = [\"repository\"]\n", OFFLINE)).map_err(at)?;
    let with_repositories = folder.join("with-repository.toml");
    fs::write(&with_repositories, configuration("store = \"store\"\n", SERVED)).map_err(at)?;
    // Damage to the store first: the machine, still intact, shows which part belongs to what.
    for fault in options.faults.iter().filter(|f| f.in_store) {
        apply_to_store(&root, &store, fault).map_err(at)?;
    }
    for fault in options.faults.iter().filter(|f| f.in_updates && !f.mounts) {
        apply_to_updates(folder, fault).map_err(at)?;
    }
    for fault in options.faults.iter().filter(|f| !f.in_store && !f.in_updates) {
        apply(&root, fault).map_err(at)?;
    }
    // Last: nothing can be written afterwards.
    for fault in options.faults.iter().filter(|f| f.mounts) {
        apply_to_updates(folder, fault).map_err(at)?;
    }
    let files = installed.iter().flat_map(|p| &p.items).filter(|i| i.content != crate::Content::Folder).count();
    Ok(Built { machine: root, store, config, without_store, with_repositories, packages: installed.len(), files })
}

/// The savepoint before the update after which the trouble began.
fn make_savepoint(options: &BuildOptions<'_>, root: &Path) -> Result<(), BuildError> {
    let made = jiff::Timestamp::from_second(BEFORE_UPDATE).unwrap_or_default();
    let settings = Settings {
        now: made,
        jobs: options.jobs,
        notes: None,
        ..settings(root.to_owned(), options.folder, options.folder)
    };
    Engine::open(settings, Arc::new(LiveDisk))?.savepoint("before the update", &NoObserver)?;
    settle(&root.join("var/lib/veritum")).map_err(|source| BuildError::Io { folder: options.folder.to_owned(), source })
}

/// The folders below a folder, with their times in seconds and nanoseconds: an update must not show when the demo was built.
fn folder_times(top: &Path) -> io::Result<Vec<(PathBuf, (i64, i64))>> {
    let (mut todo, mut times) = (vec![top.to_owned()], Vec::new());
    while let Some(folder) = todo.pop() {
        for entry in fs::read_dir(&folder)? {
            let path = entry?.path();
            let found = fs::symlink_metadata(&path)?;
            if found.is_dir() {
                times.push((path.clone(), (found.mtime(), found.mtime_nsec())));
                todo.push(path);
            }
        }
    }
    Ok(times)
}

/// Gives the savepoint's own files and folders its time; the others are names of the machine's files.
fn settle(path: &Path) -> io::Result<()> {
    let found = fs::symlink_metadata(path)?;
    if found.is_dir() {
        for entry in fs::read_dir(path)? {
            settle(&entry?.path())?;
        }
    }
    if found.is_dir() || found.nlink() == 1 { machine::set_mtime(path, BEFORE_UPDATE, 0) } else { Ok(()) }
}

/// The administrator's cards for the machine's applications.
fn make_cards(folder: &Path) -> io::Result<()> {
    fs::create_dir_all(folder)?;
    for (name, text) in CARDS {
        fs::write(folder.join(name), text)?;
    }
    Ok(())
}

/// The data of three applications in a home.
pub const CARDS: [(&str, &str); 3] = [
    ("berthbook.toml", include_str!("cards/berthbook.toml")),
    ("gullmail.toml", include_str!("cards/gullmail.toml")),
    ("tidewriter.toml", include_str!("cards/tidewriter.toml")),
];

fn make_store(options: BuildOptions<'_>, packages: &[PathBuf], observer: &dyn Observer) -> Result<PathBuf, BuildError> {
    let (folder, store) = (options.folder, options.folder.join("store"));
    let keys = StoreKeys {
        root: KeyPair::from_seed(&key_seed(options.seed, b'r'))?,
        publish: KeyPair::from_seed(&key_seed(options.seed, b'p'))?,
    };
    let expires = jiff::Timestamp::from_second(crate::EXPIRES).unwrap_or(jiff::Timestamp::MAX);
    store::create(&store, &folder.join("keys"), &keys, expires)?;
    store::fill(&store, packages, options.jobs, observer)?;
    let scratch = vec![folder.to_owned()];
    store::publish(&store, &keys.publish, expires, &scratch, Default::default())?;
    let pins = Pins::in_folder(&folder.join("trust"));
    let now = jiff::Timestamp::from_second(crate::NOW).unwrap_or(jiff::Timestamp::UNIX_EPOCH);
    store::candidate(&store.clone().into(), &pins, &store::Reach::folders_only(scratch))?.pin(&pins, now)?;
    Ok(store)
}

/// The packages below a folder.
fn collect(folder: &Path, into: &mut Vec<PathBuf>) -> io::Result<()> {
    for entry in fs::read_dir(folder)? {
        let path = entry?.path();
        if path.is_dir() {
            collect(&path, into)?;
        } else {
            into.push(path);
        }
    }
    Ok(())
}

/// A demo's keys are not secret: the seed reveals them.
fn key_seed(seed: u64, role: u8) -> [u8; 32] {
    let mut bytes = [role; 32];
    bytes[..8].copy_from_slice(&seed.to_le_bytes());
    bytes
}

/// 2026-03-02 17:41, a minute before the update.
const BEFORE_UPDATE: i64 = 1_772_473_260;
/// Not served.
const OFFLINE: &str = "# The repositories of this machine do not exist.\nno-network = true\n";
/// Served by a running demo.
const SERVED: &str = "# The repositories of this machine are served by `veritum demo --serve`, through http_proxy.\n";

fn configuration(supply: &str, network: &str) -> String {
    let mut text = String::from(
        "# The administrator's configuration for the demo machine. Relative paths start at this file's folder.\n\nroot = \"machine\"\n",
    );
    text.push_str(supply);
    text.push_str(network);
    text.push_str("cache-dir = \"downloads\"\nservices = \"services\"\ncards = \"cards\"\n");
    if !rustix::process::geteuid().is_root() {
        let (uid, gid) = (rustix::process::geteuid().as_raw(), rustix::process::getegid().as_raw());
        text.push_str(&format!("# Built by an ordinary user, who owns everything.\nowner-of-root = \"{uid}:{gid}\"\n"));
    }
    text
}
