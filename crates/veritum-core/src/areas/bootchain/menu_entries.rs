//! The entries of the boot menu: what each of them names, and what the kernel is given.

use super::fault::Faults;
use super::layout::{device_name, partition_number};
use super::mend::Mend;
use super::menu::{Judge, MENU, Started};
use crate::areas::Examined;
use crate::devices::{PartitionType, VolumeKind};
use crate::formats::boot::menu::Command;
use crate::model::{StartEffect, SystemPath, Verdict};

/// Commands that start something else than a kernel that is judged here.
const OTHERS: [&str; 4] = ["chainloader", "configfile", "multiboot", "multiboot2"];
/// Arguments by which an initial file system finds the root, or needs none.
const ROOTS: [&str; 5] = ["root=", "boot=", "nfsroot=", "rd.", "systemd.volatile="];

/// What a search finds.
enum Searched {
    Volume(usize),
    Nothing(String),
    Other,
}

impl Judge<'_, '_> {
    /// Judges an entry by its position.
    pub(super) fn entry(&self, at: usize, is_default: bool, faults: &mut Faults, examined: &mut Examined) -> Started {
        let mut started = Started::default();
        // A search that fails leaves the device of the prefix.
        let mut volume = self.boots;
        // Entries of another system are its own matter.
        let mut is_foreign = false;
        let (mut linux, mut initrd) = (None, None);
        for command in self.menu.commands_of(at) {
            let words = &command.words;
            match command.name() {
                "search" | "search.fs_uuid" => match self.searched(command) {
                    Searched::Volume(found) => volume = Some(found),
                    Searched::Nothing(uuid) if self.layout.unread.is_empty() && !self.layout.set.disks.is_empty() => {
                        let cause = format!(
                            "line {}: it searches for the file system {uuid}, which does not exist",
                            command.line
                        );
                        let mend = self.search_mend(command.line, &uuid);
                        faults.push(self.fault(Verdict::Inconsistent, cause).latent().mended(mend));
                    }
                    Searched::Nothing(_) | Searched::Other => {}
                },
                "insmod" => {
                    if let Some(module) = words.get(1) {
                        self.module(module, volume, command.line, faults);
                    }
                }
                name if OTHERS.contains(&name) => is_foreign = true,
                name if name.starts_with("linux") => {
                    let path = words.get(1).map(String::as_str).unwrap_or_default();
                    started.arguments = words.iter().skip(2).cloned().collect();
                    is_foreign |=
                        volume.is_some_and(|volume| Some(volume) != self.boots && !self.layout.is_mounted(volume));
                    if is_foreign {
                        continue;
                    }
                    started.kernel = self.named_file(path, volume, (at, command.line), is_default, faults);
                    self.root_argument(command, is_default, faults, examined);
                    self.resume_argument(command, is_default, faults);
                    linux = Some(command);
                }
                name if name.starts_with("initrd") && !is_foreign => {
                    initrd = Some(command);
                    let paths = words.iter().skip(1);
                    let found =
                        paths.filter_map(|path| self.named_file(path, volume, (at, command.line), is_default, faults));
                    started.initramfs = found.collect();
                }
                _ => {}
            }
        }
        if !is_foreign {
            self.is_complete(at, (linux, initrd), is_default, faults);
        }
        started
    }

    /// Judges whether an entry starts a kernel, and that finds its root.
    fn is_complete(
        &self,
        at: usize,
        (linux, initrd): (Option<&Command>, Option<&Command>),
        is_default: bool,
        faults: &mut Faults,
    ) {
        let line = self.menu.entries[at].line;
        let mut incomplete = |cause: String| {
            let why = "the system's own generator makes such a line, on the mounted system".to_owned();
            faults.push(self.fault(Verdict::Incomplete, cause).breaks_if(is_default).mended(Err(why)));
        };
        let Some(linux) = linux else {
            if initrd.is_some() {
                incomplete(format!("the entry in line {line} starts no kernel"));
            }
            return;
        };
        let kernel = linux.words.get(1).and_then(|path| path.rsplit('/').next()).unwrap_or_default();
        let is_kernel = kernel.starts_with("vmlinu");
        let arguments = linux.words.iter().skip(2);
        let has_root =
            arguments.clone().any(|word| word.contains('$') || ROOTS.iter().any(|own| word.starts_with(own)));
        if is_kernel && !has_root {
            incomplete(format!("line {}: the kernel gets no root (root=)", linux.line));
        }
        // The kernel itself knows the names of devices and the ids of partitions.
        let is_searched =
            |word: &String| ["root=UUID=", "root=LABEL=", "root=/dev/mapper/"].iter().any(|own| word.starts_with(own));
        if is_kernel && initrd.is_none() && arguments.clone().any(is_searched) {
            incomplete(format!("line {}: the kernel gets no initial file system, which finds its root", linux.line));
        }
    }

    /// What a search finds.
    fn searched(&self, command: &Command) -> Searched {
        let words = &command.words;
        if command.name() == "search" && !words.iter().any(|word| word == "--fs-uuid" || word == "-u") {
            return Searched::Other;
        }
        let uuid = words.iter().skip(1).rfind(|word| !word.starts_with('-') && *word != "root");
        match uuid {
            Some(uuid) if !uuid.contains('$') => match self.layout.set.named(&format!("UUID={uuid}")) {
                Some(found) => Searched::Volume(found),
                None => Searched::Nothing(uuid.clone()),
            },
            _ => Searched::Other,
        }
    }

    /// A file that an entry names; on the machine, if its file system is mounted there.
    fn named_file(
        &self,
        path: &str,
        volume: Option<usize>,
        (at, line): (usize, usize),
        is_default: bool,
        faults: &mut Faults,
    ) -> Option<SystemPath> {
        // `(hd0,gpt2)/boot/…` names its own device.
        let path = path.split_once(')').map_or(path, |(_, path)| path);
        if path.contains('$') {
            return None;
        }
        let place = match volume {
            Some(volume) => self.layout.path_on(volume, path),
            None => SystemPath::parse(path.as_bytes()).ok(),
        }?;
        if !self.files.exists(&place) {
            let cause = format!("line {line}: {path} does not exist");
            let mend = self.file_mend(at, line, path, &place);
            faults.push(self.fault(Verdict::Inconsistent, cause).breaks_if(is_default).mended(mend));
            return Some(place);
        }
        Some(place)
    }

    /// Whether the root that the kernel is given exists.
    fn root_argument(&self, command: &Command, is_default: bool, faults: &mut Faults, examined: &mut Examined) {
        let Some(root) = command.words.iter().find_map(|word| word.strip_prefix("root=")) else { return };
        let line = command.line;
        if self.layout.set.disks.is_empty() {
            return;
        }
        let root = device_name(root);
        if !["UUID=", "LABEL=", "PARTUUID="].iter().any(|kind| root.starts_with(kind)) {
            return self.numbered_root(&root, command, is_default, faults, examined);
        }
        let cause = match self.layout.set.named(&root) {
            Some(found) if self.root.is_some_and(|own| own != found) => "which is another file system",
            Some(_) => return,
            None if self.root.is_none() => {
                return examined.leave_out(format!("{MENU} line {line}: whether {root} exists"));
            }
            None => "which does not exist",
        };
        let cause = format!("line {line}: the kernel gets {root} as its root, {cause}");
        let mend = self.root_mend(command);
        faults.push(self.fault(Verdict::Inconsistent, cause).breaks_if(is_default).mended(mend));
    }

    /// A root by the name that the kernel gives to a partition: which disk that is depends on the start, but not which partition of it.
    fn numbered_root(
        &self,
        root: &str,
        command: &Command,
        is_default: bool,
        faults: &mut Faults,
        examined: &mut Examined,
    ) {
        let own = self.root.and_then(|at| self.layout.volume(at).partition.as_ref()).map(|own| own.number);
        match (partition_number(root), own) {
            (Some(number), Some(own)) if number != own => {
                let cause =
                    format!("line {}: the kernel gets {root} as its root, which is partition {own} here", command.line);
                let mend = self.root_mend(command);
                faults.push(self.fault(Verdict::Inconsistent, cause).breaks_if(is_default).mended(mend));
            }
            _ if root.starts_with("/dev/") && !root.starts_with("/dev/mapper/") => examined.note_extent(format!(
                "{MENU} line {}: which disk {root} is depends on the order in which the kernel finds them",
                command.line
            )),
            _ => {}
        }
    }

    /// Whether what the kernel is to resume from exists: the start waits for it.
    fn resume_argument(&self, command: &Command, is_default: bool, faults: &mut Faults) {
        let Some(from) = command.words.iter().find_map(|word| word.strip_prefix("resume=")) else { return };
        if self.layout.is_nowhere(&device_name(from)) {
            let cause = format!("line {}: the kernel is to resume from {from}, which does not exist", command.line);
            let effect = if is_default { StartEffect::SlowsStart } else { StartEffect::Latent };
            let verdict = Verdict::Inconsistent;
            let why = "what it is to resume from is not known here".to_owned();
            let word = format!("resume={from}");
            let mend = self.only_swap().ok_or(why).map(|swap| {
                let source = "the only swap space on the disks";
                Mend::line(&SystemPath::literal(MENU), command.line, &word, &format!("resume=UUID={swap}"), source)
            });
            faults.push(self.fault(verdict, cause).effect(effect).mended(mend));
        }
    }

    /// Whether a module that reads a table or a file system fits to what is there.
    fn module(&self, module: &str, volume: Option<usize>, line: usize, faults: &mut Faults) {
        let Some(found) = volume.map(|at| self.layout.volume(at)) else { return };
        let table = found.partition.as_ref().map(|partition| match partition.kind {
            PartitionType::Gpt(_) => "part_gpt",
            PartitionType::Mbr(_) => "part_msdos",
        });
        let kind = found.contains.as_ref().map(|found| found.kind);
        let own = match kind {
            Some(VolumeKind::Ext4) => "ext2",
            Some(VolumeKind::Btrfs) => "btrfs",
            Some(VolumeKind::Xfs) => "xfs",
            Some(VolumeKind::Vfat) => "fat",
            _ => return,
        };
        let is_wrong = match module {
            "part_gpt" | "part_msdos" => table.is_some_and(|table| table != module),
            "ext2" | "btrfs" | "xfs" | "fat" => module != own,
            _ => false,
        };
        if is_wrong {
            let right = if module.starts_with("part_") { table.unwrap_or(own) } else { own };
            let cause = format!("line {line}: the module {module} does not fit the disk, which needs {right}");
            let mend = Mend::line(&SystemPath::literal(MENU), line, module, right, "the disk itself");
            faults.push(self.fault(Verdict::Inconsistent, cause).latent().mended(Ok(mend)));
        }
    }
}
