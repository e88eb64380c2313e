//! Two users' homes, which must never be changed.

use std::ffi::OsStr;
use std::fs;
use std::io;
use std::os::unix::ffi::OsStrExt as _;
use std::os::unix::fs::{PermissionsExt as _, symlink};
use std::path::Path;

use crate::machine::{set_mtime, set_owner};
use crate::seed::Seed;

/// A user's settings of a mail program.
const SETTINGS: &str =
    "{\n  \"font\": \"Breakwater 11\",\n  \"margins\": { \"left\": 25, \"right\": 20 },\n  \"recent\": []\n}\n";

/// Creates both homes.
pub(crate) fn make(root: &Path, seed: u64) -> io::Result<()> {
    home(root, "mirela", 1000, seed, &["counter", "season"])?;
    home(root, "oskar", 1001, seed, &["nights", "repairs"])?;
    set_mtime(&root.join("home"), crate::NOW - 86_400, 0)
}

fn home(root: &Path, user: &str, uid: u32, seed: u64, subjects: &[&str]) -> io::Result<()> {
    let home = root.join("home").join(user);
    let mut stream = Seed::new(seed, user);
    let folders = [
        "Letters",
        "Bookings",
        "Pictures",
        "Templates",
        ".config/berthbook",
        ".cache/driftlook",
        ".cache/tidewriter",
        ".config/tidewriter/templates",
        ".gullmail/harbour.box/mail/index",
        ".local/share/gullmail",
        ".local/share/Trash/files",
    ];
    for folder in folders {
        fs::create_dir_all(home.join(folder))?;
    }
    for subject in subjects {
        for number in 0..4 {
            fs::write(home.join(format!("Letters/{subject}-{number}.txt")), stream.prose(900))?;
            fs::write(home.join(format!("Pictures/{subject}-{number}.img")), stream.bytes(5_000))?;
        }
        fs::write(home.join(format!("Bookings/{subject}.csv")), stream.prose(2_000))?;
    }
    // Named like the system's own templates: a repair that followed a symlink would overwrite them.
    for number in [0, 4, 8] {
        fs::write(home.join(format!("Templates/templates-{number:03}")), stream.prose(500))?;
    }
    fs::write(home.join(".local/share/gullmail/mailbox"), stream.prose(6_000))?;
    fs::write(home.join(".gullmail/harbour.box/mail/inbox"), stream.prose(9_000))?;
    fs::write(home.join(".gullmail/harbour.box/mail/sent"), stream.prose(4_000))?;
    fs::write(home.join(".gullmail/harbour.box/mail/index/words"), stream.bytes(3_000))?;
    fs::write(home.join(".gullmail/harbour.box/prefs.json"), "{\n  \"server\": \"mail.foreshore.example\"\n}\n")?;
    fs::write(home.join(".gullmail/harbour.box/window.json"), "{ \"width\": 1100, \"height\": 700 }\n")?;
    fs::write(home.join(".config/tidewriter/settings.json"), SETTINGS)?;
    fs::write(home.join(".config/tidewriter/templates/invitation"), stream.prose(700))?;
    fs::write(home.join(".cache/tidewriter/preview-1"), stream.bytes(1_200))?;
    fs::write(home.join(".config/berthbook/settings.conf"), "window = large\ncurrency = crowns\n")?;
    fs::write(home.join(".cache/driftlook/thumb-1"), stream.bytes(800))?;
    fs::write(home.join(".local/share/Trash/files/old draft.txt"), stream.prose(200))?;
    fs::write(home.join("Letters").join(OsStr::from_bytes(b"two\nlines \xff.txt")), stream.prose(100))?;
    fs::write(home.join("Letters/\u{202e}odd.txt"), stream.prose(100))?;
    symlink("/usr/share/berthbook/samples", home.join("samples"))?;
    fs::write(home.join("Letters/private.txt"), stream.prose(300))?;
    fs::set_permissions(home.join("Letters/private.txt"), fs::Permissions::from_mode(0o600))?;
    settle(&home, uid, crate::NOW - 7_200)
}

fn settle(path: &Path, uid: u32, time: i64) -> io::Result<()> {
    if path.is_dir() && !path.is_symlink() {
        let mut inside: Vec<_> = fs::read_dir(path)?.flatten().map(|e| e.path()).collect();
        inside.sort();
        for (number, child) in inside.iter().enumerate() {
            settle(child, uid, time - 60 * i64::try_from(number).unwrap_or(0))?;
        }
    }
    set_owner(path, uid, uid)?;
    set_mtime(path, time, 0)
}
