//! For tests: a machine with one application without a package, its card, and a user with data of it.

use std::collections::BTreeSet;
use std::fs;
use std::io;
use std::os::unix::fs::{lchown, symlink};
use std::path::{Path, PathBuf};
use std::time::{Duration, UNIX_EPOCH};

use veritum_core::work::Settings;

use crate::world::{World, add_file, package};

const CARD: &str = r#"
format = "veritum.card/1"
name = "Quay"
entries = ["quay"]
programs = ["quay"]

[[part]]
is = "settings"
places = ["{config}/quay", "~/.quay/*/prefs", "~/.quay/*/look"]

[[part]]
is = "settings"
what = "toolbar"
places = ["{config}/quay/toolbar"]

[[part]]
is = "cache"
places = ["{cache}/quay", "~/.quay/*/mail/index"]

[[part]]
is = "state"
places = ["{state}/quay"]

[[part]]
is = "locks"
places = ["~/.quay/*/lock"]

[[part]]
is = "own"
what = "mail"
places = ["~/.quay/*/mail", "{config}/quay/letters"]
"#;

/// The user's files: paths relative to the home. Each text file contains its path.
pub const THINGS: [&str; 14] = [
    "Documents/one.odt",
    "Documents/two",
    ".config/quay/rc",
    ".config/quay/deep/er/rc",
    ".config/quay/toolbar/buttons",
    ".config/other/rc",
    ".quay/a/prefs",
    ".quay/a/look/one",
    ".quay/a/look/deep/two",
    ".quay/a/mail/inbox",
    ".quay/a/mail/index/1",
    ".quay/profiles",
    ".cache/quay/thumbs/1",
    ".local/state/quay/window",
];

/// The machine, its user and its card.
pub struct TestHome {
    /// The machine, and the store of its one package.
    pub world: World,
}

impl TestHome {
    /// Creates it in that folder, with an empty home.
    ///
    /// # Panics
    /// When it cannot be created.
    #[must_use]
    pub fn empty(folder: &Path) -> Self {
        let mut quay = package("quay", "1.0-1");
        add_file(&mut quay, "/usr/share/quay/one", "one");
        let here = Self { world: World::new(folder, &[quay]) };
        here.hang_in().expect("the test's application can be made");
        here
    }

    /// With all of [`THINGS`].
    ///
    /// # Panics
    /// When it cannot be created.
    #[must_use]
    pub fn new(folder: &Path) -> Self {
        let here = Self::empty(folder);
        here.furnish().expect("the test's home can be furnished");
        here
    }

    fn hang_in(&self) -> io::Result<()> {
        let entries = self.world.at("/usr/local/share/applications");
        fs::create_dir(self.world.at("/var/lib/veritum"))?;
        fs::create_dir_all(&entries)?;
        fs::write(entries.join("quay.desktop"), "[Desktop Entry]\nType=Application\nName=Quay\nExec=quay\n")?;
        fs::create_dir(self.cards())?;
        fs::write(self.cards().join("quay.toml"), CARD)?;
        own(&self.home())
    }

    fn furnish(&self) -> io::Result<()> {
        for thing in THINGS {
            self.put(thing, thing)?;
        }
        symlink("127.0.1.1:+1", self.home().join(".quay/a/lock"))?;
        own(&self.home())?;
        // A time that no file created now has.
        for thing in THINGS {
            let file = fs::File::options().append(true).open(self.home().join(thing))?;
            file.set_modified(UNIX_EPOCH + Duration::new(1_700_000_000, 7))?;
        }
        Ok(())
    }

    /// The home, on the host.
    #[must_use]
    pub fn home(&self) -> PathBuf {
        self.world.at("/home/mirela")
    }

    /// Writes a file of the user's, creating missing folders.
    ///
    /// # Errors
    /// When it cannot be written.
    pub fn put(&self, path: &str, text: &str) -> io::Result<()> {
        let at = self.home().join(path);
        let new: Vec<&Path> = at.ancestors().take_while(|above| !above.exists()).collect();
        let above = at.parent().unwrap_or(&at);
        fs::create_dir_all(above)?;
        fs::write(&at, text)?;
        new.into_iter().chain([at.as_path()]).try_for_each(own_one)
    }

    /// The folder with the card.
    #[must_use]
    pub fn cards(&self) -> PathBuf {
        self.world.machine().with_file_name("cards")
    }

    /// Settings for work on this machine.
    #[must_use]
    pub fn settings(&self) -> Settings {
        Settings { cards: Some(self.cards()), ..self.world.settings() }
    }
}

fn own_one(path: &Path) -> io::Result<()> {
    if rustix::process::geteuid().is_root() { lchown(path, Some(1000), Some(1000)) } else { Ok(()) }
}

/// The contents of all text files below a folder.
///
/// # Panics
/// If a folder cannot be listed.
#[must_use]
pub fn texts(folder: &Path) -> BTreeSet<String> {
    let mut all = BTreeSet::new();
    for entry in fs::read_dir(folder).expect("a folder of the test's home can be listed").flatten() {
        match entry.file_type().expect("its content has a kind") {
            kind if kind.is_dir() => all.extend(texts(&entry.path())),
            kind if kind.is_file() => all.extend(fs::read_to_string(entry.path())),
            _ => {}
        }
    }
    all
}

/// Gives a folder and everything in it to the user.
///
/// # Errors
/// When the owner cannot be set.
pub fn own(path: &Path) -> io::Result<()> {
    own_one(path)?;
    if !fs::symlink_metadata(path)?.is_dir() {
        return Ok(());
    }
    fs::read_dir(path)?.try_for_each(|entry| own(&entry?.path()))
}
