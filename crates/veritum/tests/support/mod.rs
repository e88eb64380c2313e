//! The built program on a small made-up machine in a temporary folder.
#![allow(dead_code, reason = "each test file uses a part of it")]

use std::path::{Path, PathBuf};
use std::process::{Command, Output};

use veritum_core::testkit::Tree;
use veritum_demo::Content;
use veritum_demo::world::{World, add, add_file, package};

/// A machine with some damage, its store, and the administrator's settings.
pub(crate) struct Bench {
    dir: tempfile::TempDir,
    pub(crate) world: World,
}

/// What the program said.
pub(crate) struct Said {
    pub(crate) status: i32,
    pub(crate) out: String,
    pub(crate) err: String,
}

/// A private folder, in memory where that can be had: there syncing costs nothing.
pub(crate) fn folder() -> tempfile::TempDir {
    tempfile::tempdir_in("/dev/shm").or_else(|_| tempfile::tempdir()).unwrap()
}

/// The program with these words and configuration file, in a world of fixed surroundings.
pub(crate) fn program(words: &[&str], config: &Path, folder: &Path) -> Command {
    let mut command = Command::new(env!("CARGO_BIN_EXE_veritum"));
    command
        .args(words)
        .env_clear()
        .env("VERITUM_CONFIG", config)
        .env("TZ", "UTC")
        .env("PATH", "/usr/bin:/bin")
        .stdin(std::process::Stdio::null())
        .current_dir(folder);
    command
}

impl Bench {
    pub(crate) fn new() -> Self {
        let dir = folder();
        let mut quay = package("quay", "1.0-1");
        for n in 0..8 {
            add_file(&mut quay, &format!("/usr/share/quay/part-{n}"), &format!("part {n}\n").repeat(200));
        }
        add(&mut quay, "/usr/bin/quay", Content::File(vec![9; 4000]), 0o755);
        add_file(&mut quay, "/etc/quay.conf", "a = 1\n");
        quay.items.last_mut().unwrap().settings = true;
        let mut pier = package("pier", "2.0-1");
        add_file(&mut pier, "/usr/share/pier/folder/inside", "inside\n");
        let world = World::new(&dir.path().join("world"), &[quay, pier]);
        std::fs::write(world.at("/etc/os-release"), "PRETTY_NAME=\"Foreshore 4.2\"\nID=foreshore\n").unwrap();
        std::fs::write(world.at("/etc/hostname"), "counter-07\n").unwrap();
        std::fs::create_dir_all(world.at("/etc/apt")).unwrap();
        std::fs::write(world.at("/etc/apt/sources.list"), "deb http://repository.example/ stable main\n").unwrap();
        let bench = Self { dir, world };
        let mut config = String::from("root = \"machine\"\nstore = \"store\"\n");
        if let Some((uid, gid)) = bench.world.settings().policy.owner_of_root {
            config.push_str(&format!("owner-of-root = \"{uid}:{gid}\"\n"));
        }
        std::fs::write(bench.config(), config).unwrap();
        bench
    }

    pub(crate) fn damaged() -> Self {
        let bench = Self::new();
        std::fs::write(bench.world.at("/usr/share/quay/part-1"), "changed\n").unwrap();
        std::fs::remove_file(bench.world.at("/usr/bin/quay")).unwrap();
        std::fs::remove_dir_all(bench.world.at("/usr/share/pier/folder")).unwrap();
        std::fs::write(bench.world.at("/etc/quay.conf"), "a = 2\n").unwrap();
        bench
    }

    pub(crate) fn folder(&self) -> &Path {
        self.dir.path()
    }

    pub(crate) fn config(&self) -> PathBuf {
        self.dir.path().join("world/veritum.toml")
    }

    pub(crate) fn tree(&self) -> Tree {
        Tree::read(&self.world.machine(), &["var/lib/veritum"])
    }

    /// The program with these words, in a world of fixed surroundings.
    pub(crate) fn command(&self, words: &[&str]) -> Command {
        program(words, &self.config(), self.folder())
    }

    pub(crate) fn say(&self, words: &[&str]) -> Said {
        said(self.command(words).output().unwrap())
    }
}

pub(crate) fn said(output: Output) -> Said {
    Said {
        status: output.status.code().unwrap_or(-1),
        out: String::from_utf8(output.stdout).unwrap(),
        err: String::from_utf8(output.stderr).unwrap(),
    }
}

impl Said {
    /// Checks the exit status and that each of these is in the output, in this order.
    #[track_caller]
    pub(crate) fn expect(&self, status: i32, out: &[&str]) -> &Self {
        assert_eq!(self.status, status, "stdout:\n{}\nstderr:\n{}", self.out, self.err);
        let mut rest = self.out.as_str();
        for part in out {
            match rest.find(part) {
                Some(at) => rest = &rest[at + part.len()..],
                None => panic!("{part:?} is missing, or out of order:\n{}\nstderr:\n{}", self.out, self.err),
            }
        }
        self
    }

    #[track_caller]
    pub(crate) fn expect_err(&self, status: i32, err: &[&str]) -> &Self {
        assert_eq!((self.status, self.out.as_str()), (status, ""), "stderr:\n{}", self.err);
        for part in err {
            assert!(self.err.contains(part), "{part:?} is missing:\n{}", self.err);
        }
        assert!(self.err.lines().count() <= 3, "three lines at most:\n{}", self.err);
        self
    }
}
