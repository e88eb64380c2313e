//! Writes `.deb` packages (deb(5)): the same bytes for the same content.

use std::io::{self, Write as _};

use md5::Digest as _;

/// The maintainer of the packages.
pub(crate) const MAINTAINER: &str = "Foreshore Packagers <packages@foreshore.example>";

/// The content of an entry.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Content {
    /// A folder.
    Folder,
    /// A file.
    File(Vec<u8>),
    /// A symlink with that target.
    Link(String),
    /// A hard link to the file at that path.
    Name(String),
    /// A character device; not created on machines.
    Device(u32, u32),
}

/// One entry of a package.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Item {
    /// Absolute path.
    pub path: String,
    /// The content.
    pub content: Content,
    /// Mode bits.
    pub mode: u32,
    /// User and group: name and id.
    pub owner: [(&'static str, u32); 2],
    /// Modification time.
    pub mtime: i64,
    /// Whether it is a configuration file.
    pub settings: bool,
}

/// A package before it is written.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub struct Package {
    /// Name.
    pub name: String,
    /// Version.
    pub version: String,
    /// Architecture.
    pub arch: String,
    /// One line.
    pub summary: String,
    /// Further control fields, one per line.
    pub fields: Vec<String>,
    /// Entries, folders before their contents.
    pub items: Vec<Item>,
    /// Maintainer scripts: name and text.
    pub scripts: Vec<(&'static str, String)>,
    /// The compression of its parts: `""`, `.gz`, `.xz` or `.zst`.
    pub compression: &'static str,
    /// Whether it contains digests of its files.
    pub md5sums: bool,
}

impl Package {
    /// The control file.
    #[must_use]
    pub fn control(&self) -> String {
        let mut text = format!("Package: {}\nVersion: {}\nArchitecture: {}\n", self.name, self.version, self.arch);
        text.push_str(&format!("Maintainer: {MAINTAINER}\n"));
        for field in &self.fields {
            text.push_str(field);
            text.push('\n');
        }
        text.push_str(&format!("Description: {}\n", self.summary));
        text
    }

    /// The digests of its files except configuration files, as in `md5sums`.
    #[must_use]
    pub fn md5sums_text(&self) -> String {
        let mut text = String::new();
        for item in self.items.iter().filter(|i| !i.settings) {
            let content = match &item.content {
                Content::File(bytes) => Some(bytes),
                Content::Name(of) => self.items.iter().find_map(|i| {
                    if let (true, Content::File(b)) = (i.path == *of, &i.content) { Some(b) } else { None }
                }),
                _ => None,
            };
            if let Some(bytes) = content {
                text.push_str(&format!(
                    "{}  {}\n",
                    hex::encode(md5::Md5::digest(bytes)),
                    item.path.trim_start_matches('/')
                ));
            }
        }
        text
    }

    /// The file name in a repository.
    #[must_use]
    pub fn file_name(&self) -> String {
        format!("{}_{}_{}.deb", self.name, self.version.replace(':', "%3a"), self.arch)
    }
}

pub(crate) fn compress(bytes: Vec<u8>, suffix: &str) -> io::Result<Vec<u8>> {
    Ok(match suffix {
        ".gz" => {
            let mut gz = flate2::GzBuilder::new().mtime(0).write(Vec::new(), flate2::Compression::fast());
            gz.write_all(&bytes)?;
            gz.finish()?
        }
        ".xz" => {
            let mut xz = liblzma::write::XzEncoder::new(Vec::new(), 0);
            xz.write_all(&bytes)?;
            xz.finish()?
        }
        ".zst" => zstd::bulk::compress(&bytes, 1)?,
        _ => bytes,
    })
}

fn tar_header(
    size: usize,
    mode: u32,
    mtime: i64,
    kind: tar::EntryType,
    owner: [(&str, u32); 2],
) -> io::Result<tar::Header> {
    let mut header = tar::Header::new_gnu();
    header.set_size(size as u64);
    header.set_mode(mode);
    header.set_mtime(u64::try_from(mtime).unwrap_or(0));
    header.set_entry_type(kind);
    header.set_uid(owner[0].1.into());
    header.set_gid(owner[1].1.into());
    header.set_username(owner[0].0)?;
    header.set_groupname(owner[1].0)?;
    Ok(header)
}

const ROOT: [(&str, u32); 2] = [("root", 0), ("root", 0)];

fn control_tar(package: &Package) -> io::Result<Vec<u8>> {
    let mut tar = tar::Builder::new(Vec::new());
    let conffiles: String = package.items.iter().filter(|i| i.settings).map(|i| format!("{}\n", i.path)).collect();
    let mut members = vec![("control", package.control(), 0o644)];
    if !conffiles.is_empty() {
        members.push(("conffiles", conffiles, 0o644));
    }
    if package.md5sums {
        members.push(("md5sums", package.md5sums_text(), 0o644));
    }
    members.extend(package.scripts.iter().map(|(name, text)| (*name, text.clone(), 0o755)));
    for (name, text, mode) in members {
        let mut header = tar_header(text.len(), mode, 0, tar::EntryType::Regular, ROOT)?;
        tar.append_data(&mut header, format!("./{name}"), text.as_bytes())?;
    }
    tar.into_inner()
}

fn data_tar(package: &Package) -> io::Result<Vec<u8>> {
    let mut tar = tar::Builder::new(Vec::new());
    for item in &package.items {
        let name = format!(".{}", item.path);
        let (kind, bytes, target): (_, &[u8], _) = match &item.content {
            Content::Folder => (tar::EntryType::Directory, &[], None),
            Content::File(bytes) => (tar::EntryType::Regular, bytes, None),
            Content::Link(target) => (tar::EntryType::Symlink, &[], Some(target.clone())),
            Content::Name(of) => (tar::EntryType::Link, &[], Some(format!(".{of}"))),
            Content::Device(..) => (tar::EntryType::Char, &[], None),
        };
        let mut header = tar_header(bytes.len(), item.mode, item.mtime, kind, item.owner)?;
        if let Content::Device(major, minor) = item.content {
            header.set_device_major(major)?;
            header.set_device_minor(minor)?;
        }
        match target {
            Some(target) => tar.append_link(&mut header, name, target)?,
            None if kind == tar::EntryType::Directory => tar.append_data(&mut header, format!("{name}/"), bytes)?,
            None => tar.append_data(&mut header, name, bytes)?,
        }
    }
    tar.into_inner()
}

/// The package's bytes.
///
/// # Errors
/// When an entry cannot be written to a package.
pub fn write_deb(package: &Package) -> io::Result<Vec<u8>> {
    let suffix = package.compression;
    let members = [
        ("debian-binary".to_owned(), b"2.0\n".to_vec()),
        (format!("control.tar{suffix}"), compress(control_tar(package)?, suffix)?),
        (format!("data.tar{suffix}"), compress(data_tar(package)?, suffix)?),
    ];
    let mut deb = ar::Builder::new(Vec::new());
    for (name, bytes) in members {
        let mut header = ar::Header::new(name.into_bytes(), bytes.len() as u64);
        header.set_mode(0o100_644);
        deb.append(&header, bytes.as_slice())?;
    }
    deb.into_inner()
}
