//! Reads a `.deb` package (deb(5), deb-control(5), tar(5)): foreign bytes, with limits for every size.
//!
//! Nothing is written: entries are passed to a [`DebSink`], contents as a reader that ends with the entry.

mod error;
mod member;
mod scripts;

pub use error::DebError;
pub use member::unpacked;
pub use scripts::Scripts;

use std::cell::Cell;
use std::collections::{BTreeMap, HashMap};
use std::io::{self, Read};
use std::rc::Rc;

use error::shape;
use member::{Metered, Sums, unpack, whole};

use super::deb822::paragraphs;
use crate::model::{Owner, PackageId, SystemPath};

/// Larger control data is refused, in bytes after decompression.
const MAX_CONTROL: u64 = 64 << 20;
/// Larger contents are refused.
const MAX_FILE: u64 = 16 << 30;
/// Packages with more entries are refused; the largest of Debian has a fifth of it.
const MAX_ENTRIES: usize = 1_000_000;
/// The limit of what is between two contents: headers, long names, extended headers.
const MAX_HEADERS: u64 = 1 << 20;

/// The kind of an archive entry.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum RawKind {
    /// A regular file.
    File {
        /// Its size in bytes.
        size: u64,
    },
    /// A hard link to an earlier file.
    HardLink {
        /// That file's path.
        to: SystemPath,
    },
    /// A folder.
    Folder,
    /// A symlink.
    Link {
        /// Its target as written.
        target: Vec<u8>,
    },
    /// A named pipe.
    Fifo,
    /// A device.
    Device {
        /// Whether it is a block device.
        block: bool,
        /// Major number.
        major: u32,
        /// Minor number.
        minor: u32,
    },
}

/// One archive entry.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct RawEntry {
    /// The path.
    pub path: SystemPath,
    /// The kind.
    pub kind: RawKind,
    /// Lower twelve bits of the mode.
    pub mode: u32,
    /// User.
    pub user: Owner,
    /// Group.
    pub group: Owner,
    /// Modification time, seconds.
    pub mtime: i64,
}

/// The control part of a package.
#[derive(Debug, Clone)]
pub struct Deb {
    /// The package.
    pub id: PackageId,
    /// The control file, unchanged.
    pub control: String,
    /// The package's configuration files.
    pub settings: Vec<SystemPath>,
    /// All members of the control part except `control`, by name.
    pub members: BTreeMap<String, Vec<u8>>,
}

impl Deb {
    /// The maintainer scripts.
    #[must_use]
    pub fn scripts(&self) -> Scripts {
        let mut scripts = Scripts::default();
        for name in ["preinst", "postinst", "prerm", "postrm", "config"] {
            if let Some(script) = self.members.get(name) {
                scripts.add(script);
            }
        }
        scripts
    }
}

/// Receives a package's parts while it is read.
pub trait DebSink {
    /// Receives the control part, before any entry; an error ends reading.
    ///
    /// # Errors
    /// The sink's reason to refuse the package.
    fn deb(&mut self, deb: &Deb) -> Result<(), DebError>;
    /// Receives one entry; `content` ends with it and is empty unless it is a file.
    ///
    /// # Errors
    /// The sink's reason to refuse the entry.
    fn entry(&mut self, entry: RawEntry, content: &mut dyn Read) -> Result<(), DebError>;
}

/// Reads a whole package.
///
/// # Errors
/// When it is truncated, malformed, hostile or too large; what the sink has received must not be used then.
pub fn read_deb<R: Read>(from: R, sink: &mut dyn DebSink) -> Result<Deb, DebError> {
    read(from, sink, Sums::Compared)
}

/// Reads a package whose bytes the caller verifies by a stronger digest: the checksums of its compression are skipped.
///
/// # Errors
/// As [`read_deb`].
pub fn read_verified_deb<R: Read>(from: R, sink: &mut dyn DebSink) -> Result<Deb, DebError> {
    read(from, sink, Sums::PassedOver)
}

fn read<R: Read>(from: R, sink: &mut dyn DebSink, sums: Sums) -> Result<Deb, DebError> {
    let mut archive = ar::Archive::new(from);
    let mut deb = None;
    let mut step = 0;
    while let Some(member) = archive.next_entry() {
        let mut member = member.map_err(|e| DebError::Shape(format!("the outer ar archive is damaged ({e})")))?;
        let size = member.header().size();
        let name = String::from_utf8_lossy(member.header().identifier()).trim_end_matches('/').to_owned();
        match (step, name.as_str()) {
            (0, "debian-binary") => {
                let mut version = Vec::new();
                member.by_ref().take(64).read_to_end(&mut version)?;
                if !version.starts_with(b"2.") {
                    return shape("format version is not 2.x");
                }
                step = 1;
            }
            (0, _) => return shape("the first member is not debian-binary"),
            (1, n) if n.starts_with("control.tar") => {
                let read = read_control(unpack(whole(&mut member, size), &n["control.tar".len()..], sums)?)?;
                sink.deb(&read)?;
                deb = Some(read);
                step = 2;
            }
            (2, n) if n.starts_with("data.tar") => {
                read_data(unpack(whole(&mut member, size), &n["data.tar".len()..], sums)?, sink)?;
                step = 3;
            }
            // Members that begin with `_` are reserved and ignored (deb(5)).
            (_, n) if n.starts_with('_') => {
                io::copy(&mut whole(&mut member, size), &mut io::sink())?;
            }
            (3, _) => break,
            (_, n) => {
                return shape(format!("unexpected member {n:?}", n = crate::model::readable(n.as_bytes())));
            }
        }
    }
    match (step, deb) {
        (3, Some(deb)) => Ok(deb),
        _ => shape("the data member is missing"),
    }
}

/// Reads a package's control part without its data.
///
/// # Errors
/// When it is truncated, malformed or not a package.
pub fn read_control_part<R: Read>(from: R) -> Result<Deb, DebError> {
    struct Stop(Option<Deb>);
    impl DebSink for Stop {
        fn deb(&mut self, deb: &Deb) -> Result<(), DebError> {
            self.0 = Some(deb.clone());
            Err(DebError::Stopped)
        }
        fn entry(&mut self, _: RawEntry, _: &mut dyn Read) -> Result<(), DebError> {
            Err(DebError::Stopped)
        }
    }
    let mut stop = Stop(None);
    match (read_deb(from, &mut stop), stop.0) {
        (Ok(deb), _) | (Err(DebError::Stopped), Some(deb)) => Ok(deb),
        (Err(e), _) => Err(e),
    }
}

fn read_control(from: Box<dyn Read + '_>) -> Result<Deb, DebError> {
    let mut archive = tar::Archive::new(from.take(MAX_CONTROL));
    let mut members = BTreeMap::new();
    for entry in archive.entries()? {
        let mut entry = entry?;
        if !entry.header().entry_type().is_file() {
            continue;
        }
        let name = String::from_utf8_lossy(&entry.path_bytes()).trim_start_matches("./").to_owned();
        let mut content = Vec::new();
        entry.read_to_end(&mut content)?;
        if members.len() > 1000 || content.len() as u64 >= MAX_CONTROL {
            return Err(DebError::TooLarge("the control member"));
        }
        if name.contains('/') || name.is_empty() || members.insert(name, content).is_some() {
            return shape("the control member has a duplicate or nested file");
        }
    }
    let control = members.remove("control").ok_or_else(|| DebError::Shape("the control file is missing".into()))?;
    let control = String::from_utf8(control).map_err(|_| DebError::Shape("the control file is not UTF-8".into()))?;
    let fields = paragraphs(&control).next().unwrap_or_default();
    let field = |name: &str| fields.get(name).unwrap_or_default();
    let id = PackageId::new(field("Package"), field("Version"), field("Architecture"))
        .map_err(|e| DebError::Shape(e.to_string()))?;
    let mut settings = Vec::new();
    for line in members.get("conffiles").map(Vec::as_slice).unwrap_or_default().split(|b| *b == b'\n') {
        let line = line.trim_ascii();
        // A flag may precede the path (deb-conffiles(5)); a file marked for removal is not shipped.
        if line.is_empty() || line.starts_with(b"remove-on-upgrade ") {
            continue;
        }
        settings.push(path_of(line)?);
    }
    Ok(Deb { id, control, settings, members })
}

fn path_of(name: &[u8]) -> Result<SystemPath, DebError> {
    SystemPath::below_root(name).map_err(|source| DebError::Name { name: crate::model::readable(name), source })
}

/// The paths read so far, and whether entries may be below them.
#[derive(Default)]
struct Seen {
    kinds: HashMap<SystemPath, bool>,
}

impl Seen {
    /// Adds a path, or returns why a valid package would not contain it there.
    fn add(&mut self, entry: &RawEntry) -> Result<(), DebError> {
        let folder = entry.kind == RawKind::Folder;
        if entry.path.is_root() && !folder {
            return shape("the root entry is not a folder");
        }
        let mut above = entry.path.parent();
        while let Some(path) = above {
            match self.kinds.get(&path) {
                Some(true) => break,
                Some(false) => return shape(format!("{} is inside something that is not a folder", entry.path)),
                None => above = path.parent(),
            }
        }
        match self.kinds.insert(entry.path.clone(), folder) {
            Some(before) if !(before && folder) => shape(format!("{} is listed twice", entry.path)),
            _ => Ok(()),
        }
    }
}

fn read_data(from: Box<dyn Read + '_>, sink: &mut dyn DebSink) -> Result<(), DebError> {
    let left = Rc::new(Cell::new(MAX_HEADERS));
    let mut archive = tar::Archive::new(Metered { from, left: left.clone() });
    let mut seen = Seen::default();
    let mut files: HashMap<SystemPath, ()> = HashMap::new();
    for (count, entry) in archive.entries()?.enumerate() {
        let mut entry = entry?;
        if count > MAX_ENTRIES {
            return Err(DebError::TooLarge("the number of entries"));
        }
        let Some(raw) = raw_entry(&mut entry)? else { continue };
        seen.add(&raw)?;
        match &raw.kind {
            RawKind::File { size } => {
                left.set(size.saturating_add(MAX_HEADERS));
                files.insert(raw.path.clone(), ());
            }
            RawKind::HardLink { to } if !files.contains_key(to) => {
                return shape(format!("the hard link {} has no target", raw.path));
            }
            _ => {}
        }
        let size = if let RawKind::File { size } = raw.kind { size } else { 0 };
        let mut content = whole(entry, size);
        sink.entry(raw, &mut content)?;
        io::copy(&mut content, &mut io::sink())?;
        left.set(MAX_HEADERS);
    }
    // Read to the end: the compression's own checksum is compared only there.
    let mut rest = archive.into_inner();
    left.set(MAX_HEADERS * 64);
    io::copy(&mut rest, &mut io::sink())?;
    Ok(())
}

fn raw_entry<R: Read>(entry: &mut tar::Entry<'_, R>) -> Result<Option<RawEntry>, DebError> {
    use tar::EntryType;
    let path = path_of(&entry.path_bytes())?;
    let target = entry.link_name_bytes().map(|t| t.into_owned());
    let header = entry.header();
    let size = entry.size();
    let device =
        || -> io::Result<(u32, u32)> { Ok((header.device_major()?.unwrap_or(0), header.device_minor()?.unwrap_or(0))) };
    let kind = match header.entry_type() {
        EntryType::Regular | EntryType::Continuous if size > MAX_FILE => {
            return Err(DebError::TooLarge("a file"));
        }
        EntryType::Regular | EntryType::Continuous => RawKind::File { size },
        EntryType::Directory => RawKind::Folder,
        EntryType::Symlink => match target {
            Some(target) if !target.is_empty() && target.len() <= 4096 && !target.contains(&0) => {
                RawKind::Link { target }
            }
            _ => return shape(format!("the symlink {path} has no target")),
        },
        EntryType::Link => RawKind::HardLink { to: path_of(target.as_deref().unwrap_or_default())? },
        EntryType::Fifo => RawKind::Fifo,
        EntryType::Char | EntryType::Block => {
            let (major, minor) = device()?;
            RawKind::Device { block: header.entry_type() == EntryType::Block, major, minor }
        }
        EntryType::XGlobalHeader => return Ok(None),
        other => {
            return shape(format!("{path} has an unsupported type ({:?})", char::from(other.as_byte())));
        }
    };
    let owner = |name: Option<&[u8]>, id: u64| -> Result<Owner, DebError> {
        let id = u32::try_from(id).map_err(|_| DebError::Shape(format!("the owner of {path} is out of range")))?;
        let name = String::from_utf8_lossy(name.unwrap_or_default()).trim_matches('\0').to_owned();
        let fine = name.len() <= 32 && name.chars().all(|c| c.is_ascii_graphic() && c != ':' && c != '/');
        if fine { Ok(Owner { name: name.into(), id }) } else { shape(format!("the owner name of {path} is invalid")) }
    };
    let mtime = i64::try_from(header.mtime()?)
        .map_err(|_| DebError::Shape(format!("the timestamp of {path} is out of range")))?;
    Ok(Some(RawEntry {
        kind,
        mode: header.mode()? & 0o7777,
        user: owner(header.username_bytes(), header.uid()?)?,
        group: owner(header.groupname_bytes(), header.gid()?)?,
        mtime,
        path,
    }))
}
