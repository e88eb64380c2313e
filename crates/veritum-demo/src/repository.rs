//! Writes a repository of packages, signed, as vendors publish them.

use std::collections::BTreeMap;
use std::fs;
use std::io;
use std::path::Path;

use aws_lc_rs::digest::{SHA256, digest};

use crate::package::{Package, write_deb};
use crate::signing::{Signing, VendorKey, sign_clear, sign_detached};

/// One suite of a repository.
#[derive(Debug, Clone)]
pub struct Suite<'a> {
    /// Its name below `dists/`.
    pub name: &'a str,
    /// Its origin; empty for none.
    pub origin: &'a str,
    /// Its packages.
    pub packages: Vec<&'a Package>,
    /// The extensions of its indexes' forms: `""`, `.gz`, `.xz`, `.lz4`, `.zst`.
    pub forms: &'a [&'a str],
    /// Its date, in seconds since the epoch.
    pub made: i64,
    /// Its expiry, in seconds since the epoch.
    pub valid_until: i64,
    /// Whether its files can be downloaded by their digest.
    pub by_hash: bool,
    /// Whether the signature is a separate file instead of inline.
    pub detached: bool,
}

impl<'a> Suite<'a> {
    /// A suite as vendors publish them today.
    #[must_use]
    pub fn new(name: &'a str, packages: Vec<&'a Package>) -> Self {
        Self {
            name,
            origin: "Foreshore",
            packages,
            forms: &["", ".xz"],
            made: crate::NOW - 86_400,
            valid_until: crate::EXPIRES,
            by_hash: true,
            detached: false,
        }
    }
}

fn failed(error: impl std::fmt::Display) -> io::Error {
    io::Error::other(error.to_string())
}

fn sha256(bytes: &[u8]) -> String {
    hex::encode(digest(&SHA256, bytes).as_ref())
}

fn pool_path(package: &Package) -> String {
    let letter = package.name.chars().next().unwrap_or('x');
    // The pool's file names omit the epoch.
    let version = package.version.split_once(':').map_or(package.version.as_str(), |(_, rest)| rest);
    format!("pool/main/{letter}/{}/{}_{version}_{}.deb", package.name, package.name, package.arch)
}

/// Compresses a text in one of the forms that repositories offer.
///
/// # Errors
/// When the form is unknown.
pub fn pack(text: &[u8], form: &str) -> io::Result<Vec<u8>> {
    use std::io::Write as _;
    if form == ".lz4" {
        let mut encoder = lz4_flex::frame::FrameEncoder::new(Vec::new());
        encoder.write_all(text)?;
        return encoder.finish().map_err(failed);
    }
    crate::package::compress(text.to_vec(), form)
}

/// Writes a suite and its packages into a repository's folder, signed by these keys.
///
/// # Errors
/// When the folder cannot be written.
pub fn publish(folder: &Path, suite: &Suite<'_>, how: Signing<'_>) -> io::Result<()> {
    let dists = folder.join("dists").join(suite.name);
    let mut files: BTreeMap<String, Vec<u8>> = BTreeMap::new();
    for (arch, index) in indexes(folder, suite)? {
        for form in suite.forms {
            files.insert(format!("main/binary-{arch}/Packages{form}"), pack(index.as_bytes(), form)?);
        }
        // The plain form is listed even if it is not offered.
        files.entry(format!("main/binary-{arch}/Packages")).or_insert_with(|| index.into_bytes());
    }
    let release = release_text(suite, &files);
    for (name, bytes) in &files {
        let offered = suite.forms.iter().any(|form| name.ends_with(&format!("Packages{form}")));
        if !offered {
            continue;
        }
        let path = dists.join(name);
        let parent = path.parent().unwrap_or(&dists);
        fs::create_dir_all(parent.join("by-hash/SHA256"))?;
        fs::write(&path, bytes)?;
        fs::write(parent.join("by-hash/SHA256").join(sha256(bytes)), bytes)?;
    }
    if suite.detached {
        fs::write(dists.join("Release.gpg"), sign_detached(release.as_bytes(), how).map_err(failed)?)?;
        return fs::write(dists.join("Release"), release);
    }
    fs::write(dists.join("InRelease"), sign_clear(&release, how).map_err(failed)?)
}

/// A suite's indexes by architecture; its packages are written to the pool.
fn indexes(folder: &Path, suite: &Suite<'_>) -> io::Result<BTreeMap<String, String>> {
    let mut indexes: BTreeMap<String, String> = BTreeMap::new();
    let mut archs: Vec<&str> = suite.packages.iter().map(|p| p.arch.as_str()).filter(|a| *a != "all").collect();
    archs.push("amd64");
    archs.sort_unstable();
    archs.dedup();
    for package in &suite.packages {
        let bytes = write_deb(package)?;
        let path = pool_path(package);
        let place = folder.join(&path);
        if let Some(parent) = place.parent() {
            fs::create_dir_all(parent)?;
        }
        fs::write(&place, &bytes)?;
        let control = package.control();
        let entry = format!("{}Filename: {path}\nSize: {}\nSHA256: {}\n\n", control, bytes.len(), sha256(&bytes));
        for arch in archs.iter().filter(|a| package.arch == "all" || package.arch == **a) {
            indexes.entry((*arch).to_owned()).or_default().push_str(&entry);
        }
    }
    for arch in archs {
        indexes.entry(arch.to_owned()).or_default();
    }
    Ok(indexes)
}

fn date(seconds: i64) -> String {
    let time = jiff::Timestamp::from_second(seconds).unwrap_or(jiff::Timestamp::UNIX_EPOCH);
    time.strftime("%a, %d %b %Y %H:%M:%S UTC").to_string()
}

/// A suite's release file.
#[must_use]
pub fn release_text(suite: &Suite<'_>, files: &BTreeMap<String, Vec<u8>>) -> String {
    let mut text = format!(
        "{}Label: Foreshore\nSuite: stable\nCodename: {}\nDate: {}\nValid-Until: {}\nAcquire-By-Hash: {}\n\
         Architectures: amd64 i386\nComponents: main\nSHA256:\n",
        if suite.origin.is_empty() { String::new() } else { format!("Origin: {}\n", suite.origin) },
        suite.name,
        date(suite.made),
        date(suite.valid_until),
        if suite.by_hash { "yes" } else { "no" }
    );
    for (name, bytes) in files {
        text.push_str(&format!(" {} {} {name}\n", sha256(bytes), bytes.len()));
    }
    text
}

/// How the demo's own repository is signed.
#[must_use]
pub fn signing<'a>(keys: &'a [&'a VendorKey], at: i64) -> Signing<'a> {
    Signing { keys, hash: pgp::crypto::hash::HashAlgorithm::Sha512, at }
}
