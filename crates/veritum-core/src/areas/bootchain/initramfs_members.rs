//! The members of an initial file system, compared with the installed system.

use std::collections::{BTreeMap, BTreeSet, HashMap};
use std::io::{self, Read};
use std::os::fd::{AsFd as _, OwnedFd};

use super::module_lists::ModuleLists;
use super::packages::{EXECUTABLE, PackageFiles, Sums};
use crate::formats::boot::initramfs::Member;
use crate::formats::program::{ProgramNeeds, program_needs};
use crate::machine::{Dir, Disk, Machine};
use crate::model::{Stat, SystemPath};

/// Where members come from that have another path in the installed system: the beginning of their path there, and here.
const ORIGINS: [(&str, &[&str]); 6] = [
    ("scripts/", &["/etc/initramfs-tools/scripts", "/usr/share/initramfs-tools/scripts"]),
    ("init", &["/usr/share/initramfs-tools/init"]),
    ("conf/", &["/etc/initramfs-tools", "/etc/initramfs-tools/conf.d"]),
    ("usr/bin/", &["/usr/lib/klibc/bin", "/usr/lib/initramfs-tools/bin"]),
    ("usr/sbin/", &["/usr/sbin", "/usr/lib/klibc/bin"]),
    ("etc/", &["/usr/share/initramfs-tools"]),
];
/// Members that are made when it is made.
const GENERATED: [&str; 8] =
    ["conf/", "ORDER", "etc/ld.so.cache", "etc/fstab", "etc/mtab", "cryptroot/", "etc/mdadm", "usr/lib/modprobe.d"];

/// A member with another content than the installed file.
#[derive(Debug)]
pub(super) struct Different {
    /// Its path.
    pub(super) name: String,
    /// The installed file from which it was made, symlinks followed.
    pub(super) from: SystemPath,
    /// Its own checksums.
    pub(super) sums: Sums,
}

/// What of an initial file system was compared.
#[derive(Debug, Default)]
pub(super) struct Compared {
    /// Bytes that are the same in the installed system.
    pub(super) same: u64,
    /// Members that are in no installed file, with their sizes.
    pub(super) generated: Vec<(String, u64)>,
    /// Members with another content than the installed file, which is older: they are not what they were made from.
    pub(super) different: Vec<Different>,
    /// The same, but the installed file is newer.
    pub(super) outdated: Vec<String>,
    /// The modules, and the lists of them.
    pub(super) modules: ModuleLists,
    /// Programs and scripts that cannot be executed, while the installed files can.
    pub(super) not_executable: Vec<String>,
    /// The paths of all members.
    pub(super) paths: BTreeSet<String>,
    /// What its programs and libraries need, by their paths.
    pub(super) programs: BTreeMap<String, ProgramNeeds>,
    /// The texts of its settings: what is below `conf/`.
    pub(super) settings: Vec<(String, String)>,
}

/// Compares members with installed files.
pub(super) struct Comparison<'a> {
    machine: &'a Machine,
    files: &'a PackageFiles<'a>,
    made: Stat,
    folders: HashMap<Vec<u8>, Option<Dir>>,
    /// The names of files that have several, by inode.
    same: HashMap<u32, Vec<Vec<u8>>>,
    /// The number of members until now.
    pub(super) members: u64,
    own: Vec<u8>,
    theirs: Vec<u8>,
}

const PIECE: usize = 128 * 1024;
/// So many names of one file are remembered: a program for many commands has a few hundred.
const MAX_NAMES: usize = 1000;
/// Larger members are not read as a whole.
const MAX_KEPT: u64 = 64 << 20;

impl<'a> Comparison<'a> {
    pub(super) fn new(machine: &'a Machine, files: &'a PackageFiles<'a>, made: Stat) -> Self {
        Self {
            machine,
            files,
            made,
            folders: HashMap::new(),
            same: HashMap::new(),
            members: 0,
            own: vec![0; PIECE],
            theirs: vec![0; PIECE],
        }
    }

    /// Compares a member with what it was made from, and keeps what is needed of it.
    pub(super) fn member(
        &mut self,
        member: &Member,
        content: &mut dyn Read,
        compared: &mut Compared,
    ) -> io::Result<()> {
        self.members += 1;
        let name = String::from_utf8_lossy(&member.name).into_owned();
        compared.paths.insert(name.clone());
        if member.is_file() && member.names > 1 {
            let names = self.same.entry(member.inode).or_default();
            names.truncate(MAX_NAMES);
            names.push(member.name.clone());
        }
        if !member.is_file() || member.size == 0 || is_early(member) {
            return Ok(());
        }
        if member.mode & EXECUTABLE == 0 && is_executed(&name) && self.is_executable(&name) {
            compared.not_executable.push(name.clone());
        }
        let (is_list, is_setting) = (ModuleLists::wants(&name), name.starts_with("conf/"));
        if !(is_list || is_setting || is_program(&name)) || member.size > MAX_KEPT {
            return self.compare(member, &name, content, compared);
        }
        let mut all = Vec::with_capacity(usize::try_from(member.size).unwrap_or_default());
        content.read_to_end(&mut all)?;
        if is_list {
            compared.modules.add(&name, &all);
        } else if is_setting {
            compared.settings.push((name.clone(), String::from_utf8_lossy(&all).into_owned()));
        } else if let Some(needs) = program_needs(&all) {
            compared.programs.insert(name.clone(), needs);
        }
        self.compare(member, &name, &mut &all[..], compared)
    }

    fn compare(
        &mut self,
        member: &Member,
        name: &str,
        content: &mut dyn Read,
        compared: &mut Compared,
    ) -> io::Result<()> {
        let mut found: Option<Stat> = None;
        // Only small members can be at another path: they are kept to be compared more than once.
        let mut kept = Vec::new();
        if let Some((file, stat)) = self.installed(&member.name) {
            if stat.size == member.size && self.is_same(&*self.machine.disk().clone(), &file, content, &mut kept)? {
                compared.same += member.size;
                return Ok(());
            }
            found = Some(stat);
        }
        if member.size > MAX_KEPT {
            io::copy(content, &mut io::sink())?;
            compared.generate(name, member.size);
            return Ok(());
        }
        content.read_to_end(&mut kept)?;
        let origins = self.origins(name);
        if origins.iter().any(|origin| self.has_content(origin, member.size, &kept)) {
            compared.same += member.size;
            return Ok(());
        }
        // Of several names, another one can be that of the installed file.
        let others = self.same.get(&member.inode).filter(|_| member.names > 1).cloned().unwrap_or_default();
        let is_other = |name: &Vec<u8>| {
            SystemPath::parse(&[b"/", &name[..]].concat()).is_ok_and(|path| self.has_content(&path, member.size, &kept))
        };
        if others.iter().any(is_other) {
            compared.same += member.size;
            return Ok(());
        }
        let own = SystemPath::parse(&[b"/", &member.name[..]].concat()).ok();
        let from =
            own.filter(|_| found.is_some()).into_iter().chain(origins).find_map(|path| self.files.physical(&path));
        let found = found.or_else(|| self.machine.look(from.as_ref()?).ok().flatten());
        match (found, from) {
            _ if is_generated(name) => compared.generate(name, member.size),
            (Some(stat), _) if stat.ctime > self.made.mtime => compared.outdated.push(name.to_owned()),
            (Some(_), Some(from)) => {
                compared.different.push(Different { name: name.to_owned(), from, sums: Sums::of(&kept) });
            }
            _ => compared.generate(name, member.size),
        }
        Ok(())
    }

    /// The installed file at a member's path.
    fn installed(&mut self, name: &[u8]) -> Option<(OwnedFd, Stat)> {
        let at = name.iter().rposition(|byte| *byte == b'/');
        let (folder, name) = at.map_or((&b""[..], name), |at| (&name[..at], &name[at + 1..]));
        if !self.folders.contains_key(folder) {
            let open = || {
                let path = SystemPath::parse(&[b"/", folder].concat()).ok()?;
                self.machine.dir(&self.machine.resolve(&path).ok()?).ok()
            };
            let opened = open();
            self.folders.insert(folder.to_vec(), opened);
        }
        let dir = self.folders.get(folder)?.as_ref()?;
        match dir.disk().open_seen(dir.fd(), name) {
            Ok(opened) => Some(opened),
            // A copy of what a symlink points to has the symlink's name.
            Err(_) => {
                let path = SystemPath::parse(&[b"/", folder, b"/", name].concat()).ok()?;
                let physical = self.machine.resolve(&path).ok()?;
                let dir = self.machine.dir(&physical.parent()?).ok()?;
                dir.disk().open_seen(dir.fd(), physical.name()).ok()
            }
        }
    }

    /// Whether a member has the content of an open file of the same size; what was read of the member is kept if not.
    fn is_same(
        &mut self,
        disk: &dyn Disk,
        file: &OwnedFd,
        content: &mut dyn Read,
        kept: &mut Vec<u8>,
    ) -> io::Result<bool> {
        let mut at = 0;
        loop {
            let count = fill(content, &mut self.own)?;
            if count == 0 {
                return Ok(true);
            }
            let read = disk.read_at(file.as_fd(), at, &mut self.theirs[..count]);
            if read.is_err() || self.own[..count] != self.theirs[..count] {
                if at > MAX_KEPT {
                    return Ok(false);
                }
                // What came before is the same in the file.
                let mut before = vec![0; usize::try_from(at).unwrap_or_default()];
                if disk.read_at(file.as_fd(), 0, &mut before).is_ok() {
                    kept.extend(before);
                }
                kept.extend(&self.own[..count]);
                return Ok(false);
            }
            at += count as u64;
        }
    }

    /// Where a member can come from, if not from its own path.
    fn origins(&self, name: &str) -> Vec<SystemPath> {
        let mut all = Vec::new();
        for (prefix, folders) in ORIGINS {
            let Some(rest) = name.strip_prefix(prefix) else { continue };
            let paths = folders.iter().filter_map(|folder| match rest {
                "" => SystemPath::parse(folder.as_bytes()).ok(),
                rest => SystemPath::parse(format!("{folder}/{rest}").as_bytes()).ok(),
            });
            all.extend(paths);
        }
        all
    }

    /// Whether the installed file can be executed.
    fn is_executable(&self, name: &str) -> bool {
        let own = SystemPath::parse(format!("/{name}").as_bytes()).ok();
        let installed = own.into_iter().chain(self.origins(name)).find_map(|path| self.files.physical(&path));
        installed.is_some_and(|path| self.files.is_executable(&path))
    }

    fn has_content(&self, path: &SystemPath, size: u64, content: &[u8]) -> bool {
        let read = self.machine.read_up_to(path, size.max(1));
        read.is_ok_and(|read| read.is_some_and(|read| read == content))
    }
}

fn fill(content: &mut dyn Read, buffer: &mut [u8]) -> io::Result<usize> {
    let mut filled = 0;
    while filled < buffer.len() {
        match content.read(&mut buffer[filled..]) {
            Ok(0) => break,
            Ok(count) => filled += count,
            Err(e) if e.kind() == io::ErrorKind::Interrupted => {}
            Err(e) => return Err(e),
        }
    }
    Ok(filled)
}

/// Whether a member is for the processor, before the kernel unpacks the others: microcode, which comes first and is never compressed.
fn is_early(member: &Member) -> bool {
    !member.is_main && (member.name.starts_with(b"kernel/") || member.name == b"early_cpio")
}

/// Whether a member is executed, and not only read.
fn is_executed(name: &str) -> bool {
    let below = name.strip_prefix("usr/").unwrap_or(name);
    let file = name.rsplit('/').next().unwrap_or(name);
    let is_in = |folder: &str| below.starts_with(folder);
    name == "init"
        || is_in("bin/")
        || is_in("sbin/")
        || is_in("scripts/")
        || file.starts_with("ld-")
        || file == "systemd-udevd"
}

/// Whether a member can be a program or a library: what is below the folders for them, but no module and no firmware.
fn is_program(name: &str) -> bool {
    let below = name.strip_prefix("usr/").unwrap_or(name);
    let is_library = |rest: &str| !rest.starts_with("modules/") && !rest.starts_with("firmware/");
    below.starts_with("bin/")
        || below.starts_with("sbin/")
        || below == "init"
        || below.strip_prefix("lib").and_then(|rest| Some(rest.split_once('/')?.1)).is_some_and(is_library)
}

fn is_generated(name: &str) -> bool {
    let is_index =
        name.contains("/modules/") && name.rsplit('/').next().is_some_and(|name| name.starts_with("modules."));
    is_index || GENERATED.iter().any(|part| name.starts_with(part) || name.ends_with(part))
}

impl Compared {
    fn generate(&mut self, name: &str, size: u64) {
        self.generated.push((name.to_owned(), size));
    }
}
