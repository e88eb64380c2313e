//! A machine with its sources, its vendor's repository, and a server on loopback for it.
#![allow(dead_code, reason = "every test file uses a part of it")]

use std::fs;
use std::path::{Path, PathBuf};

use veritum_core::platform::debian::apt::{deb_file_name, file_name_of_uri};
use veritum_core::repository::RepositorySettings;
use veritum_core::trust::VendorKeys;
use veritum_core::trust::openpgp::Keyring;
use veritum_core::work::Settings;
use veritum_demo::mirror::Mirror;
use veritum_demo::repository::{Suite, publish, signing};
use veritum_demo::signing::{KeyShape, VendorKey};
use veritum_demo::world::{World, add, add_file, package};
use veritum_demo::{Content, Package, write_deb};

pub(crate) const SUITE: &str = "saltwort";

pub(crate) struct Stand {
    pub(crate) dir: tempfile::TempDir,
    pub(crate) world: World,
    pub(crate) packages: Vec<Package>,
    pub(crate) key: VendorKey,
    pub(crate) mirror: Mirror,
}

/// Two packages with a file, a program, a link, a hard link and settings.
pub(crate) fn packages() -> Vec<Package> {
    let mut quay = package("quay", "1:1.0-1");
    for n in 0..4 {
        add_file(&mut quay, &format!("/usr/share/quay/part-{n}"), &format!("right {n}\n"));
    }
    add(&mut quay, "/usr/bin/quay", Content::File(vec![3; 30_000]), 0o755);
    add(&mut quay, "/usr/share/quay/link", Content::Link("part-0".into()), 0o777);
    add(&mut quay, "/usr/share/quay/name", Content::Name("/usr/share/quay/part-1".into()), 0o644);
    let mut pier = package("pier", "2.0");
    pier.arch = "all".into();
    add_file(&mut pier, "/usr/share/pier/planks", "planks\n");
    vec![quay, pier]
}

impl Stand {
    /// One whose lists and downloads are available.
    pub(crate) fn available() -> Self {
        let stand = Self::new();
        stand.lists("");
        stand.cache();
        stand
    }

    /// A machine whose sources name the server; neither lists nor packages are available yet. The key is trusted.
    pub(crate) fn new() -> Self {
        let dir = super::support::folder();
        let world = World::at_folder(&dir.path().join("world"));
        let packages = packages();
        world.install(&packages).unwrap();
        let repositories = dir.path().join("repository");
        fs::create_dir_all(&repositories).unwrap();
        let mirror = Mirror::serve(&repositories).unwrap();
        let key = VendorKey::new(7, &KeyShape::default()).unwrap();
        let stand = Self { dir, world, packages, key, mirror };
        stand.write("/usr/share/keyrings/foreshore.gpg", &stand.key.keyring().unwrap());
        let line = format!("deb [signed-by=/usr/share/keyrings/foreshore.gpg] {} {SUITE} main\n", stand.mirror.url());
        stand.write("/etc/apt/sources.list", line.as_bytes());
        for folder in ["var/lib/apt/lists/partial", "var/cache/apt/archives/partial"] {
            fs::create_dir_all(stand.world.machine().join(folder)).unwrap();
        }
        stand.publish(&stand.suite());
        let keyring = Keyring::read(&stand.key.keyring().unwrap()).unwrap();
        VendorKeys::in_folder(&stand.trust()).pin(&keyring.certificates()[0]).unwrap();
        stand
    }

    pub(crate) fn trust(&self) -> PathBuf {
        self.dir.path().join("trust")
    }

    pub(crate) fn repositories(&self) -> PathBuf {
        self.dir.path().join("repository")
    }

    pub(crate) fn downloads(&self) -> PathBuf {
        self.dir.path().join("downloads")
    }

    /// Where one of its lists is, by its name below the suite.
    pub(crate) fn list(&self, name: &str) -> PathBuf {
        let file = file_name_of_uri(&format!("{}/dists/{SUITE}/{name}", self.mirror.url()));
        self.at("/var/lib/apt/lists").join(file)
    }

    pub(crate) fn at(&self, path: &str) -> PathBuf {
        self.world.at(path)
    }

    pub(crate) fn write(&self, path: &str, bytes: &[u8]) {
        let place = self.at(path);
        fs::create_dir_all(place.parent().unwrap()).unwrap();
        fs::write(place, bytes).unwrap();
    }

    pub(crate) fn suite(&self) -> Suite<'_> {
        Suite::new(SUITE, self.packages.iter().collect())
    }

    pub(crate) fn publish(&self, suite: &Suite<'_>) {
        self.publish_by(suite, &[&self.key], suite.made);
    }

    pub(crate) fn publish_by(&self, suite: &Suite<'_>, keys: &[&VendorKey], at: i64) {
        let _ = fs::remove_dir_all(self.repositories().join("dists"));
        publish(&self.repositories(), suite, signing(keys, at)).unwrap();
    }

    /// Gives the machine apt's own copies of the repository's lists; indexes in this form.
    pub(crate) fn lists(&self, form: &str) {
        let dists = self.repositories().join("dists").join(SUITE);
        let kept = |name: &str| {
            let file = file_name_of_uri(&format!("{}/dists/{SUITE}/{name}", self.mirror.url()));
            self.at("/var/lib/apt/lists").join(file)
        };
        for name in ["InRelease", "Release", "Release.gpg"] {
            if let Ok(bytes) = fs::read(dists.join(name)) {
                fs::write(kept(name), bytes).unwrap();
            }
        }
        let plain = fs::read(dists.join("main/binary-amd64/Packages")).unwrap();
        let packed = veritum_demo::repository::pack(&plain, form).unwrap();
        fs::write(kept(&format!("main/binary-amd64/Packages{form}")), packed).unwrap();
    }

    /// Makes the folder of apt's cache again.
    pub(crate) fn cache_folder(&self) {
        fs::create_dir_all(self.at("/var/cache/apt/archives/partial")).unwrap();
    }

    /// Puts the packages into apt's cache.
    pub(crate) fn cache(&self) {
        for package in &self.packages {
            let name = deb_file_name(&package.name, &package.version, &package.arch);
            fs::write(self.at("/var/cache/apt/archives").join(name), write_deb(package).unwrap()).unwrap();
        }
    }

    /// Settings without a store, with the network.
    pub(crate) fn settings(&self) -> Settings {
        Settings {
            store: None,
            trust: self.trust(),
            notes: Some(self.dir.path().join("notes")),
            repositories: RepositorySettings {
                network: true,
                limits: self.mirror.limits(),
                downloads: self.downloads(),
                cache: self.dir.path().join("cache"),
                ..RepositorySettings::default()
            },
            ..self.world.settings()
        }
    }

    pub(crate) fn offline(&self) -> Settings {
        let settings = self.settings();
        Settings { repositories: RepositorySettings { network: false, ..settings.repositories.clone() }, ..settings }
    }

    /// Paths below the pool that the server was asked for.
    pub(crate) fn fetched(&self) -> Vec<String> {
        let mut all = self.mirror.asked();
        all.retain(|path| path.starts_with("pool/"));
        all
    }
}

/// The files below a folder, by name.
pub(crate) fn names(folder: &Path) -> Vec<String> {
    let entries = fs::read_dir(folder).into_iter().flatten().flatten();
    let mut names: Vec<String> = entries.map(|e| e.file_name().to_string_lossy().into_owned()).collect();
    names.sort();
    names
}

/// One bit of a file's middle changed.
pub(crate) fn flip(path: &Path) {
    let mut bytes = fs::read(path).unwrap();
    let middle = bytes.len() / 2;
    bytes[middle] ^= 1;
    fs::write(path, bytes).unwrap();
}
