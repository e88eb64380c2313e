//! Initial file systems: read to their end, member by member against the installed system, and what the root needs of them.

use std::collections::{BTreeSet, HashMap};
use std::io::{self, BufReader, Read};
use std::os::fd::{AsFd as _, OwnedFd};
use std::sync::Arc;

use super::counted;
use super::fault::{Fault, Faults, Stage};
use super::kernels::{Kernel, make};
use super::module_lists::ModuleLists;
use super::packages::PackageFiles;
use crate::areas::{Cx, Examined};
use crate::devices::VolumeKind;
use crate::formats::boot::initramfs::{self, Member, Summary};
use crate::machine::{Dir, Disk, Machine};
use crate::model::{FileKind, KnownBy, Stat, SystemPath, Verdict, error_chain, quoted};

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

/// What of an initial file system was compared.
#[derive(Debug, Default)]
struct Compared {
    /// Bytes that are the same in the installed system.
    same: u64,
    /// Members that are in no installed file, with their sizes.
    generated: Vec<(String, u64)>,
    /// Members with another content than the installed file, which is older: they are not what they were made from.
    different: Vec<String>,
    /// The same, but the installed file is newer.
    outdated: Vec<String>,
    /// The modules, and the lists of them.
    modules: ModuleLists,
    /// The paths of all members.
    paths: BTreeSet<Vec<u8>>,
}

/// Judges the initial file system of a kernel. `root` is the kind of the root's file system, `openers` are the programs without which it
/// cannot be opened.
pub(super) fn judge(
    cx: &Cx<'_>,
    files: &PackageFiles<'_>,
    kernel: &Kernel,
    (root, openers): (Option<VolumeKind>, &[(&str, &str)]),
    faults: &mut Faults,
    examined: &mut Examined,
) {
    let path = &kernel.initramfs;
    let machine = &cx.system.machine;
    let (file, stat) = match open(machine, path) {
        Ok(Some(opened)) => opened,
        // That it is missing is reported with its kernel.
        Ok(None) => return,
        Err(e) => return examined.leave_out(format!("{path}: {}", error_chain(&e))),
    };
    examined.coverage.examined += 1;
    let mut comparison = Comparison::new(machine, stat);
    let mut compared = Compared::default();
    let mut stopped = false;
    let result = initramfs::read(BufReader::with_capacity(1 << 18, file), &mut |member, content| {
        if comparison.members.is_multiple_of(64)
            && cx.observer.on_event(crate::event::Event::Advance { items: 0, bytes: 0 }) == crate::event::Flow::Stop
        {
            stopped = true;
            return Err(io::Error::other("stopped"));
        }
        comparison.member(member, content, &mut compared)
    });
    if stopped {
        examined.stopped = true;
        return;
    }
    let fault = |verdict, cause: String| {
        Fault::on_path(Stage::Initramfs, path, verdict, cause)
            .known_by(KnownBy::SelfProof)
            .action(make(&kernel.version))
    };
    match result {
        Ok(summary) => {
            examined.coverage.bytes += summary.bytes;
            contents(kernel, path, &summary, &compared, faults, examined);
            needs(files, kernel, root, &compared, faults);
            for (program, why) in openers {
                let ends = format!("/{program}");
                if !compared.paths.iter().any(|path| path.ends_with(ends.as_bytes())) {
                    let cause = format!("it does not contain {program}, although {why}");
                    let fault = Fault::on_entry(Stage::Initramfs, path, program, Verdict::Incomplete, cause);
                    faults.push(fault.breaks_if(kernel.is_default).action(make(&kernel.version)));
                }
            }
        }
        Err(initramfs::Fault::Unreadable) => {
            let cause = "the medium cannot be read".to_owned();
            faults.push(fault(Verdict::Unreadable, cause).breaks_if(kernel.is_default).known_by(KnownBy::Medium));
        }
        Err(initramfs::Fault::Unknown) => {
            let cause = if stat.size == 0 { "it is empty" } else { "it is no initial file system" };
            faults.push(fault(Verdict::Corrupt, cause.to_owned()).breaks_if(kernel.is_default));
        }
        Err(initramfs::Fault::Damaged(why)) => {
            let verdict = if why.contains("cut off") { Verdict::Truncated } else { Verdict::Corrupt };
            faults.push(fault(verdict, why.to_owned()).breaks_if(kernel.is_default));
        }
        Err(initramfs::Fault::Stopped) => {}
    }
}

fn open(machine: &Machine, path: &SystemPath) -> io::Result<Option<(Handle, Stat)>> {
    let read = || -> io::Result<(Handle, Stat)> {
        let physical = machine.resolve(path)?;
        let dir = machine.dir(&physical.parent().ok_or(io::ErrorKind::IsADirectory)?)?;
        let (file, stat) = dir.disk().open_seen(dir.fd(), physical.name())?;
        Ok((Handle { disk: machine.disk().clone(), file }, stat))
    };
    match read() {
        Ok(opened) => Ok(Some(opened)),
        Err(e) if e.kind() == io::ErrorKind::NotFound => Ok(None),
        Err(e) => Err(e),
    }
}

/// An open file of the machine.
struct Handle {
    disk: Arc<dyn Disk>,
    file: OwnedFd,
}

impl Read for Handle {
    fn read(&mut self, into: &mut [u8]) -> io::Result<usize> {
        self.disk.read(self.file.as_fd(), into)
    }
}

/// Compares members with installed files.
struct Comparison<'a> {
    machine: &'a Machine,
    made: Stat,
    folders: HashMap<Vec<u8>, Option<Dir>>,
    /// The names of files that have several, by inode.
    same: HashMap<u32, Vec<Vec<u8>>>,
    members: u64,
    own: Vec<u8>,
    theirs: Vec<u8>,
}

const PIECE: usize = 128 * 1024;
/// So many names of one file are remembered: a program for many commands has a few hundred.
const MAX_NAMES: usize = 1000;
/// Larger modules are not read as a whole.
const MAX_MODULE: u64 = 64 << 20;

impl<'a> Comparison<'a> {
    fn new(machine: &'a Machine, made: Stat) -> Self {
        Self {
            machine,
            made,
            folders: HashMap::new(),
            same: HashMap::new(),
            members: 0,
            own: vec![0; PIECE],
            theirs: vec![0; PIECE],
        }
    }

    fn member(&mut self, member: &Member, content: &mut dyn Read, compared: &mut Compared) -> io::Result<()> {
        self.members += 1;
        compared.paths.insert(member.name.clone());
        if member.is_file() && member.names > 1 {
            let names = self.same.entry(member.inode).or_default();
            names.truncate(MAX_NAMES);
            names.push(member.name.clone());
        }
        if !member.is_file() || member.size == 0 || !member.is_main {
            return Ok(());
        }
        let name = String::from_utf8_lossy(&member.name).into_owned();
        if ModuleLists::wants(&name) && member.size <= MAX_MODULE {
            let mut all = Vec::with_capacity(usize::try_from(member.size).unwrap_or_default());
            content.read_to_end(&mut all)?;
            compared.modules.add(&name, &all);
            return self.compare(member, &name, &mut &all[..], compared);
        }
        self.compare(member, &name, content, compared)
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
        content.read_to_end(&mut kept)?;
        if self.origins(name).into_iter().any(|origin| self.has_content(&origin, member.size, &kept)) {
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
        match found {
            _ if is_generated(name) => compared.generate(name, member.size),
            Some(stat) if stat.ctime > self.made.mtime => compared.outdated.push(name.to_owned()),
            Some(_) => compared.different.push(name.to_owned()),
            None => compared.generate(name, member.size),
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

/// Reports what differs, and what was proved.
fn contents(
    kernel: &Kernel,
    path: &SystemPath,
    summary: &Summary,
    compared: &Compared,
    faults: &mut Faults,
    examined: &mut Examined,
) {
    let packing = summary.packings.last().map_or("", |packing| packing.name());
    let named = |names: &[String]| {
        let shown: Vec<String> = names.iter().take(3).map(|name| quoted(name.as_bytes())).collect();
        let more = names.len().saturating_sub(shown.len());
        if more == 0 { shown.join(", ") } else { format!("{} and {more} more", shown.join(", ")) }
    };
    if !compared.different.is_empty() {
        let what = counted(compared.different.len() as u64, "file", "files");
        let cause = format!("{what} in it differ from older installed files: {}", named(&compared.different));
        let fault = Fault::on_path(Stage::Initramfs, path, Verdict::Inconsistent, cause);
        faults.push(fault.latent().action(make(&kernel.version)));
    }
    if !compared.outdated.is_empty() {
        let what = counted(compared.outdated.len() as u64, "installed file is", "installed files are");
        let cause = format!("{what} newer than it: {}", named(&compared.outdated));
        let fault = Fault::on_path(Stage::Initramfs, path, Verdict::Superseded, cause);
        faults.push(fault.latent().action(make(&kernel.version)));
    }
    let (wrong, computed) = compared.modules.compare();
    if !wrong.is_empty() {
        let cause = format!("lists of modules in it are not what the modules in it say: {}", wrong.join(", "));
        let fault = Fault::on_entry(Stage::Initramfs, path, "lists of modules", Verdict::Inconsistent, cause);
        faults.push(fault.latent().action(make(&kernel.version)));
    }
    let mut rest: Vec<&(String, u64)> =
        compared.generated.iter().filter(|(name, _)| !computed.iter().any(|list| name.ends_with(list))).collect();
    rest.sort_by_key(|(_, size)| std::cmp::Reverse(*size));
    let bytes: u64 = rest.iter().map(|(_, size)| size).sum();
    let names: Vec<String> = rest.iter().map(|(name, _)| name.clone()).collect();
    let lists = if computed.is_empty() { "" } else { "; the lists of its modules computed again" };
    let rest = if names.is_empty() {
        String::new()
    } else {
        format!("; compared with nothing: {} bytes in {}", bytes, named(&names))
    };
    let same = compared.same >> 20;
    examined.note_extent(format!(
        "{path} ({packing}) read to its end, {same} MiB compared with installed files{lists}{rest}"
    ));
}

/// Whether it contains what the root needs.
fn needs(
    files: &PackageFiles<'_>,
    kernel: &Kernel,
    root: Option<VolumeKind>,
    compared: &Compared,
    faults: &mut Faults,
) {
    let module = match root {
        Some(VolumeKind::Ext4) => "ext4",
        Some(VolumeKind::Btrfs) => "btrfs",
        Some(VolumeKind::Xfs) => "xfs",
        _ => return,
    };
    let names = || compared.paths.iter().map(|path| String::from_utf8_lossy(path));
    let has = |file: &str| {
        names().any(|path| {
            path.rsplit('/').next().is_some_and(|name| name == file || name.starts_with(&format!("{file}.ko")))
        })
    };
    let built_in = SystemPath::literal("/lib/modules").join(format!("{}/modules.builtin", kernel.version).as_bytes());
    let built_in = built_in.ok().and_then(|path| files.read(&path).ok().flatten()).unwrap_or_default();
    let is_built_in = String::from_utf8_lossy(&built_in).lines().any(|line| line.ends_with(&format!("/{module}.ko")));
    // Without any module nothing is known: all may be built in.
    let has_modules = names().any(|path| path.contains(".ko"));
    if has_modules && !is_built_in && !has(module) {
        let cause = format!("it does not contain the module {module}, which the root's file system needs");
        let fault = Fault::on_path(Stage::Initramfs, &kernel.initramfs, Verdict::Incomplete, cause);
        faults.push(fault.breaks_if(kernel.is_default).action(make(&kernel.version)));
    }
}

/// Whether a path is a folder of the machine.
pub(super) fn is_folder(machine: &Machine, path: &SystemPath) -> bool {
    machine
        .resolve(path)
        .ok()
        .and_then(|path| machine.look(&path).ok()?)
        .is_some_and(|stat| stat.kind == FileKind::Folder)
}
