//! Initial file systems: read to their end, member by member against the installed system, and what the root needs of them.

use std::collections::BTreeSet;
use std::io::{self, BufRead, BufReader, Read};
use std::os::fd::{AsFd as _, OwnedFd};
use std::sync::Arc;

use super::counted;
use super::fault::{Fault, Faults, Stage};
use super::generated::Generated;
use super::initramfs_members::{Compared, Comparison, Different};
use super::initramfs_needs::{self, Wanted};
use super::kernels::Kernel;
use super::packages::{Content, PackageFiles};
use crate::areas::{Cx, Examined};
use crate::formats::boot::initramfs::{self, Summary};
use crate::machine::{Disk, Machine};
use crate::model::{FileKind, KnownBy, Stat, SystemPath, Verdict, error_chain, quoted};

/// Judges the initial file system of a kernel.
pub(super) fn judge(
    cx: &Cx<'_>,
    files: &PackageFiles<'_>,
    kernel: &Kernel,
    wanted: &Wanted<'_>,
    faults: &mut Faults,
    examined: &mut Examined,
) -> Option<Differences> {
    let path = &kernel.initramfs;
    let machine = &cx.system.machine;
    let (file, stat) = match open(machine, path) {
        Ok(Some(opened)) => opened,
        // That it is missing is reported with its kernel.
        Ok(None) => return None,
        Err(e) => {
            examined.leave_out(format!("{path}: {}", error_chain(&e)));
            return None;
        }
    };
    examined.coverage.examined += 1;
    judge_content(cx, files, kernel, wanted, (&mut BufReader::with_capacity(1 << 18, file), stat), faults, examined)
}

/// Judges a content as that of the initial file system of a kernel.
pub(super) fn judge_content(
    cx: &Cx<'_>,
    files: &PackageFiles<'_>,
    kernel: &Kernel,
    wanted: &Wanted<'_>,
    (content, stat): (&mut (dyn BufRead + Send), Stat),
    faults: &mut Faults,
    examined: &mut Examined,
) -> Option<Differences> {
    let (path, machine) = (&kernel.initramfs, &cx.system.machine);
    let mut comparison = Comparison::new(machine, files, stat);
    let mut compared = Compared::default();
    let mut stopped = false;
    let result = initramfs::read(content, &mut |member, content| {
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
        return None;
    }
    let fault = |verdict, cause: String| {
        Fault::on_path(Stage::Initramfs, path, verdict, cause)
            .known_by(KnownBy::SelfProof)
            .generated(Generated::initramfs(kernel))
    };
    let mut differences = None;
    match result {
        Ok(summary) => {
            examined.coverage.bytes += summary.bytes;
            let needed = initramfs_needs::judge(files, kernel, wanted, &compared, faults, examined);
            contents(kernel, path, &summary, &compared, faults, examined);
            differences = Some(Differences { kernel: kernel.clone(), different: compared.different, needed });
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
    differences
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

/// The first ones of names, and how many there are more.
fn named(names: &[String]) -> String {
    let shown: Vec<String> = names.iter().take(3).map(|name| quoted(name.as_bytes())).collect();
    let more = names.len().saturating_sub(shown.len());
    if more == 0 { shown.join(", ") } else { format!("{} and {more} more", shown.join(", ")) }
}

/// Members that are not the installed files from which they were made; which of the two is wrong, their packages show.
pub(super) struct Differences {
    kernel: Kernel,
    different: Vec<Different>,
    /// The paths of members of which the content decides whether the kernel starts.
    needed: BTreeSet<String>,
}

impl Differences {
    /// The paths of the installed files.
    pub(super) fn paths(&self) -> impl Iterator<Item = SystemPath> + '_ {
        self.different.iter().map(|one| one.from.clone())
    }

    /// Judges them.
    pub(super) fn judge(&self, files: &PackageFiles<'_>, faults: &mut Faults) {
        let is_right = |one: &&Different| matches!(files.compare_sums(&one.from, &one.sums), Content::Right(_));
        let (right, wrong): (Vec<&Different>, Vec<&Different>) = self.different.iter().partition(is_right);
        for one in right {
            let cause =
                format!("it is not what its package ships; {} still contains the right one", self.kernel.initramfs);
            // The modules of the kernel are compared by themselves, too.
            let path = files.listed(&one.from);
            let fault = Fault::on_path(Stage::Mounts, &path, Verdict::Altered, cause).latent();
            faults.push(fault.package(files.owner(&path)).known_by(KnownBy::Package).action(files.repair(&path)));
        }
        let is_proved = |one: &&Different| files.get(&one.from).is_ok();
        let (proved, unknown): (Vec<_>, Vec<_>) = wrong.into_iter().partition(is_proved);
        let (needed, other): (Vec<_>, Vec<_>) = proved.into_iter().partition(|one| self.needed.contains(&one.name));
        let path = &self.kernel.initramfs;
        let on = |part: &str, all: Vec<&Different>| {
            let fault = Fault::on_entry(Stage::Initramfs, path, part, Verdict::Altered, cause(&all, true));
            fault.known_by(KnownBy::Package)
        };
        let mut found = Vec::new();
        if !needed.is_empty() {
            found.push(on("needed files", needed).breaks_if(self.kernel.is_default));
        }
        if !other.is_empty() {
            found.push(on("other files", other).latent());
        }
        if !unknown.is_empty() {
            found.push(Fault::on_path(Stage::Initramfs, path, Verdict::Inconsistent, cause(&unknown, false)).latent());
        }
        for fault in found {
            faults.push(fault.generated(Generated::initramfs(&self.kernel)));
        }
    }
}

/// How members differ, in words.
fn cause(all: &[&Different], is_proved: bool) -> String {
    let names: Vec<String> = all.iter().map(|one| one.name.clone()).collect();
    let what = match (is_proved, names.len()) {
        (true, 1) => "1 file in it is not that of its package".to_owned(),
        (true, count) => format!("{count} files in it are not those of their packages"),
        (false, 1) => "1 file in it differs from the installed file, which is older".to_owned(),
        (false, count) => format!("{count} files in it differ from the installed files, which are older"),
    };
    format!("{what}: {}", named(&names))
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
    if !compared.outdated.is_empty() {
        let what = counted(compared.outdated.len() as u64, "installed file is", "installed files are");
        let cause = format!("{what} newer than it: {}", named(&compared.outdated));
        let fault = Fault::on_path(Stage::Initramfs, path, Verdict::Superseded, cause);
        faults.push(fault.latent().generated(Generated::initramfs(kernel)));
    }
    let (wrong, computed) = compared.modules.compare();
    if !wrong.is_empty() {
        let cause = format!("lists of modules in it are not what the modules in it say: {}", wrong.join(", "));
        let fault = Fault::on_entry(Stage::Initramfs, path, "lists of modules", Verdict::Inconsistent, cause);
        faults.push(fault.latent().generated(Generated::initramfs(kernel)));
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

/// Whether a path is a folder of the machine.
pub(super) fn is_folder(machine: &Machine, path: &SystemPath) -> bool {
    machine
        .resolve(path)
        .ok()
        .and_then(|path| machine.look(&path).ok()?)
        .is_some_and(|stat| stat.kind == FileKind::Folder)
}
