//! Small machines for tests: a few files, their package, a signed store, the administrator's folder.

use std::fs;
use std::io;
use std::path::{Path, PathBuf};

use veritum_core::event::NoObserver;
use veritum_core::reference::Policy;
use veritum_core::store;
use veritum_core::trust::{KeyPair, Pins, StoreKeys};
use veritum_core::work::Settings;

use crate::machine;
use crate::package::{Content, Item, Package, write_deb};

/// A machine with its store, in a folder of its own.
#[derive(Debug, Clone)]
pub struct World {
    folder: PathBuf,
}

/// Starts a package that adds folders itself.
#[must_use]
pub fn package(name: &str, version: &str) -> Package {
    let mut package = Package {
        name: name.into(),
        version: version.into(),
        arch: "amd64".into(),
        summary: format!("{name}, for a test"),
        md5sums: true,
        compression: ".zst",
        ..Package::default()
    };
    add(&mut package, "/", Content::Folder, 0o755);
    package
}

/// Adds an entry and its parent folders.
pub fn add(package: &mut Package, path: &str, content: Content, mode: u32) {
    if let Some((above, _)) = path.rsplit_once('/').filter(|_| path != "/") {
        let above = if above.is_empty() { "/" } else { above };
        if !package.items.iter().any(|i| i.path == above) {
            add(package, above, Content::Folder, 0o755);
        }
    }
    let owner = [("root", 0), ("root", 0)];
    package.items.push(Item { path: path.into(), content, mode, owner, mtime: crate::NOW - 1000, settings: false });
}

/// Adds a file with a text.
pub fn add_file(package: &mut Package, path: &str, text: &str) {
    add(package, path, Content::File(text.into()), 0o644);
}

impl World {
    /// Installs packages on a new machine, and adds them to a new store.
    ///
    /// # Panics
    /// When the folder cannot be written.
    #[must_use]
    pub fn new(folder: &Path, packages: &[Package]) -> Self {
        let world = Self::at_folder(folder);
        world.install(packages).expect("the test's machine can be made");
        world.fill(packages).expect("the test's store can be made");
        world
    }

    /// The machine that was created in that folder, or copied there.
    #[must_use]
    pub fn at_folder(folder: &Path) -> Self {
        Self { folder: folder.to_owned() }
    }

    /// Installs packages on the machine, without a store.
    ///
    /// # Errors
    /// When the folder cannot be written.
    pub fn install(&self, packages: &[Package]) -> io::Result<()> {
        let root = self.machine();
        machine::install(&root, packages)?;
        for folder in ["etc", "home/mirela", "var/lib"] {
            fs::create_dir_all(root.join(folder))?;
        }
        fs::write(root.join("etc/passwd"), "root:x:0:0::/root:/bin/sh\nmirela:x:1000:1000::/home/mirela:/bin/sh\n")?;
        fs::write(root.join("etc/group"), "root:x:0:\nmirela:x:1000:\n")?;
        fs::write(root.join("home/mirela/letter"), "private\n")
    }

    /// Makes these the only installed packages, as dpkg does: files are replaced by rename.
    ///
    /// # Errors
    /// When the folder cannot be written.
    pub fn upgrade(&self, packages: &[Package]) -> io::Result<()> {
        crate::upgrade::upgrade(&self.machine(), packages, |_| true)
    }

    fn fill(&self, packages: &[Package]) -> Result<(), Box<dyn std::error::Error>> {
        let pool = self.folder.join("pool");
        fs::create_dir_all(&pool)?;
        let mut paths = Vec::new();
        for package in packages {
            let path = pool.join(package.file_name());
            fs::write(&path, write_deb(package)?)?;
            paths.push(path);
        }
        let keys = self.keys();
        let expires = jiff::Timestamp::from_second(crate::EXPIRES)?;
        store::create(&self.store(), &self.folder.join("keys"), &keys, expires)?;
        store::fill(&self.store(), &paths, 2, &NoObserver)?;
        store::publish(&self.store(), &keys.publish, expires, &self.scratch(), Default::default())?;
        store::candidate(&self.store().into(), &self.pins(), &store::Reach::folders_only(self.scratch()))?
            .pin(&self.pins(), jiff::Timestamp::UNIX_EPOCH)?;
        Ok(())
    }

    /// The store's keys, always the same.
    ///
    /// # Panics
    /// Never: the seeds are fixed.
    #[must_use]
    pub fn keys(&self) -> StoreKeys {
        let pair = |n: u8| KeyPair::from_seed(&[n; 32]).expect("a fixed seed is a key");
        StoreKeys { root: pair(1), publish: pair(2) }
    }

    /// The machine's root.
    #[must_use]
    pub fn machine(&self) -> PathBuf {
        self.folder.join("machine")
    }

    /// A path of the machine on the host.
    #[must_use]
    pub fn at(&self, path: &str) -> PathBuf {
        self.machine().join(path.trim_start_matches('/'))
    }

    /// The store.
    #[must_use]
    pub fn store(&self) -> PathBuf {
        self.folder.join("store")
    }

    /// The packages that were added to the store.
    #[must_use]
    pub fn pool(&self) -> PathBuf {
        self.folder.join("pool")
    }

    /// The administrator's trusted keys.
    #[must_use]
    pub fn pins(&self) -> Pins {
        Pins::in_folder(&self.folder.join("trust"))
    }

    /// Folders for temporary work.
    #[must_use]
    pub fn scratch(&self) -> Vec<PathBuf> {
        vec![self.folder.clone()]
    }

    /// Settings for work on this machine.
    #[must_use]
    pub fn settings(&self) -> Settings {
        settings(self.machine(), &self.folder, &self.folder)
    }
}

/// Settings for a machine, with the store and trusted keys in the folder `operator`; everything else is kept
/// in the folder `own`.
#[must_use]
pub fn settings(machine: PathBuf, operator: &Path, own: &Path) -> Settings {
    let user = rustix::process::geteuid();
    let ids = (user.as_raw(), rustix::process::getegid().as_raw());
    Settings {
        root: machine,
        disks: Vec::new(),
        partition: None,
        store: Some(operator.join("store").into()),
        trust: operator.join("trust"),
        notes: Some(own.join("notes")),
        state_dir: None,
        scratch: vec![own.to_owned()],
        from: Vec::new(),
        repositories: veritum_core::repository::RepositorySettings {
            downloads: own.join("downloads"),
            cache: own.join("cache"),
            ..Default::default()
        },
        complete: false,
        min_trust: None,
        quick: false,
        policy: Policy { owner_of_root: (!user.is_root()).then_some(ids) },
        jobs: 2,
        answerable: true,
        ignore_disk_errors: false,
        clear_immutable: false,
        now: jiff::Timestamp::from_second(crate::NOW).unwrap_or(jiff::Timestamp::UNIX_EPOCH),
        run: "test".into(),
        services: Default::default(),
        cards: None,
        helper: Vec::new(),
        firmware: None,
        inside: Vec::new(),
        recovery: Vec::new(),
        stop: Default::default(),
    }
}
