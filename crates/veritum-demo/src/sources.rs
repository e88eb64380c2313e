//! The demo machine's sources: two vendors' repositories, keyrings, apt's lists and apt's cache.

use std::fs;
use std::io;
use std::path::{Path, PathBuf};

use veritum_core::platform::debian::apt::{deb_file_name, file_name_of_uri};
use veritum_core::trust::VendorKeys;
use veritum_core::trust::openpgp::Keyring;

use crate::machine::{set_mtime, set_owner};
use crate::package::{Package, write_deb};
use crate::repository::{Suite, pack, publish, signing};
use crate::signing::{KeyShape, VendorKey};

/// The URL of the vendor's repository in the machine's sources; there is no such server.
const FORESHORE: &str = "http://archive.foreshore.example/foreshore";
/// The vendor of the card payments.
const FAREBRIDGE: &str = "http://packages.farebridge.example/desktop";
/// A package fixed by the latest security update.
const SAFETY: &str = "libgunwale5";
/// The date of all packages.
const LATELY: i64 = crate::NOW - 86_400;

/// The vendors' keys.
pub(crate) struct Vendors {
    foreshore: VendorKey,
    farebridge: VendorKey,
}

fn failed(error: impl std::fmt::Display) -> io::Error {
    io::Error::other(error.to_string())
}

impl Vendors {
    pub(crate) fn new(seed: u64) -> io::Result<Self> {
        let foreshore = VendorKey::new(seed, &KeyShape::default()).map_err(failed)?;
        let shape = KeyShape { user: "Farebridge Packages <packages@farebridge.example>", ..KeyShape::default() };
        Ok(Self { foreshore, farebridge: VendorKey::new(seed ^ 0xfa2e, &shape).map_err(failed)? })
    }

    /// Writes both repositories: three releases of the system, one of the payments.
    pub(crate) fn publish(&self, folder: &Path, installed: &[Package], older: &[Package]) -> io::Result<()> {
        let ours = |p: &&Package| !p.name.starts_with("farebridge");
        let theirs = |p: &&Package| p.name.starts_with("farebridge");
        let of = |release: &str| older.iter().filter(ours).filter(|p| p.version.starts_with(release)).collect();
        let safety = installed.iter().filter(|p| p.name == SAFETY && p.version.ends_with("-2")).collect();
        let suites = [
            (Suite::new("saltwort", installed.iter().filter(ours).collect()), LATELY),
            (Suite::new("saltwort-security", safety), LATELY),
            (Suite::new("samphire", of("4.1")), LATELY - 200 * 86_400),
            (Suite::new("seablite", of("4.0")), LATELY - 380 * 86_400),
        ];
        for (suite, made) in suites {
            publish(&folder.join("repository"), &Suite { made, ..suite }, signing(&[&self.foreshore], made))?;
        }
        // As of a week ago: everything has expired.
        let safety = installed.iter().filter(|p| p.name == SAFETY && p.version.ends_with("-2")).collect();
        let (made, valid_until) = (LATELY - 10 * 86_400, LATELY - 3 * 86_400);
        let old = Suite { made, valid_until, ..Suite::new("saltwort-security", safety) };
        publish(&folder.join("old-lists"), &old, signing(&[&self.foreshore], made))?;
        let payments = Suite::new("stable", installed.iter().chain(older).filter(theirs).collect());
        publish(&folder.join("repository-farebridge"), &payments, signing(&[&self.farebridge], LATELY))
    }

    /// Sets up the machine: sources, keyrings, lists, and the packages of the latest update in apt's cache.
    pub(crate) fn tell(&self, folder: &Path, root: &Path, installed: &[Package]) -> io::Result<()> {
        let write = |path: &str, bytes: &[u8]| -> io::Result<()> {
            let place = root.join(path);
            if let Some(parent) = place.parent() {
                fs::create_dir_all(parent)?;
            }
            fs::write(&place, bytes)
        };
        write("etc/apt/keyrings/foreshore.gpg", &self.foreshore.keyring().map_err(failed)?)?;
        write("etc/apt/keyrings/farebridge.asc", self.farebridge.armoured().map_err(failed)?.as_bytes())?;
        let source = format!(
            "Types: deb\nURIs: {FORESHORE}\nSuites: saltwort saltwort-security\nComponents: main\nSigned-By: /etc/apt/keyrings/foreshore.gpg\n"
        );
        write("etc/apt/sources.list.d/foreshore.sources", source.as_bytes())?;
        let line = format!("deb [signed-by=/etc/apt/keyrings/farebridge.asc] {FAREBRIDGE} stable main\n");
        write("etc/apt/sources.list.d/farebridge.list", line.as_bytes())?;
        let suites = [
            ("repository", FORESHORE, "saltwort"),
            ("repository", FORESHORE, "saltwort-security"),
            ("repository-farebridge", FAREBRIDGE, "stable"),
        ];
        for (repositories, uri, suite) in suites {
            let dists = folder.join(repositories).join("dists").join(suite);
            let kept =
                |name: &str| format!("var/lib/apt/lists/{}", file_name_of_uri(&format!("{uri}/dists/{suite}/{name}")));
            write(&kept("InRelease"), &fs::read(dists.join("InRelease"))?)?;
            for arch in ["amd64", "i386"] {
                let name = format!("main/binary-{arch}/Packages");
                if let Ok(index) = fs::read(dists.join(&name)) {
                    write(&kept(&format!("{name}.lz4")), &pack(&index, ".lz4")?)?;
                }
            }
        }
        for package in installed.iter().filter(|p| p.version.ends_with("-2")) {
            let name = deb_file_name(&package.name, &package.version, &package.arch);
            write(&format!("var/cache/apt/archives/{name}"), &write_deb(package)?)?;
        }
        settle(&["etc/apt", "var/lib/apt", "var/cache/apt"].map(|name| root.join(name)))
    }

    /// A day later: the repository has a security update that is not in any machine's lists.
    pub(crate) fn next_day(&self, folder: &Path, installed: &[Package]) -> io::Result<()> {
        let mut newer: Vec<Package> =
            installed.iter().filter(|p| p.name == SAFETY && p.version.ends_with("-2")).cloned().collect();
        for package in &mut newer {
            package.version = package.version.replace("-2", "-3");
        }
        let made = crate::NOW - 3600;
        let before = installed.iter().filter(|p| p.name == SAFETY && p.version.ends_with("-2"));
        let suite = Suite { made, ..Suite::new("saltwort-security", before.chain(&newer).collect()) };
        publish(&folder.join("repository"), &suite, signing(&[&self.foreshore], made))
    }

    /// Trusts the system's vendor for the administrator; only the machine knows the payment vendor's key.
    pub(crate) fn pin(&self, trust: &Path) -> io::Result<()> {
        let keyring = Keyring::read(&self.foreshore.keyring().map_err(failed)?).map_err(failed)?;
        let keys = VendorKeys::in_folder(trust);
        keyring.certificates().iter().try_for_each(|c| keys.pin(c)).map_err(failed)
    }
}

/// Independent of the builder's clock and user.
fn settle(tops: &[PathBuf]) -> io::Result<()> {
    let mut todo = tops.to_vec();
    let mut all = Vec::new();
    while let Some(path) = todo.pop() {
        if path.is_dir() {
            todo.extend(fs::read_dir(&path)?.flatten().map(|e| e.path()));
        }
        all.push(path);
    }
    for path in all.iter().rev() {
        set_owner(path, 0, 0)?;
        set_mtime(path, LATELY, 0)?;
    }
    for top in tops.iter().filter_map(|t| t.parent()) {
        set_mtime(top, LATELY, 0)?;
    }
    Ok(())
}
