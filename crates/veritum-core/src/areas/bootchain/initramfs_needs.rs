//! What a start needs of an initial file system: the module that reads the root, the programs that mount it, and what these need.

use std::collections::{BTreeMap, BTreeSet};

use super::fault::{Fault, Faults, Stage};
use super::generated::Generated;
use super::initramfs_members::Compared;
use super::kernels::Kernel;
use super::layout::{Layout, device_name};
use super::packages::PackageFiles;
use crate::areas::Examined;
use crate::devices::VolumeKind;
use crate::formats::kernel_module::named;
use crate::model::{StartEffect, SystemPath, Verdict, quoted};

/// The names of programs by which it finds and mounts the root.
const PROGRAMS: [&str; 12] = [
    "init",
    "sh",
    "busybox",
    "run-init",
    "switch_root",
    "mount",
    "modprobe",
    "kmod",
    "systemd-udevd",
    "udevadm",
    "blkid",
    "fstype",
];
/// What the scripts of initramfs-tools(7) cannot do without: names of which one has to be there, and for what.
const REQUIRED: [(&[&str], &str); 3] = [
    (&["sh", "busybox", "dash"], "a shell for its scripts"),
    (&["run-init", "switch_root"], "what hands over to the installed system"),
    (&["modprobe", "kmod", "busybox"], "what loads modules"),
];

/// What the root needs.
pub(super) struct Wanted<'a> {
    pub(super) layout: &'a Layout,
    /// The kind of the root's file system.
    pub(super) root: Option<VolumeKind>,
    /// Programs without which it cannot be opened, each with the reason.
    pub(super) openers: &'a [(&'static str, &'static str)],
    /// Whether the root is to be checked before it is mounted, by fstab(5).
    pub(super) is_checked: bool,
}

/// Judges whether what a start needs is there. Returns the paths of members of which the content decides whether it starts.
pub(super) fn judge(
    files: &PackageFiles<'_>,
    kernel: &Kernel,
    wanted: &Wanted<'_>,
    compared: &Compared,
    faults: &mut Faults,
    examined: &mut Examined,
) -> BTreeSet<String> {
    let contents = Contents::new(compared);
    let mut needs = Needs { files, kernel, compared, contents: &contents, faults };
    needs.scripts();
    needs.libraries();
    needs.executable();
    let modules = needs.root_module(wanted, examined);
    needs.openers(wanted, examined);
    needs.resume(wanted);
    contents.needed(compared, &modules)
}

/// The members by the names of their files.
struct Contents<'a> {
    by_name: BTreeMap<&'a str, Vec<&'a String>>,
    /// The paths of programs that mount the root, and of the libraries that they need.
    core: BTreeSet<&'a str>,
}

fn file_name(path: &str) -> &str {
    path.rsplit('/').next().unwrap_or(path)
}

impl<'a> Contents<'a> {
    fn new(compared: &'a Compared) -> Self {
        let mut by_name: BTreeMap<&str, Vec<&String>> = BTreeMap::new();
        for path in &compared.paths {
            by_name.entry(file_name(path)).or_default().push(path);
        }
        let mut found = Self { by_name, core: BTreeSet::new() };
        let mut open: Vec<&str> = PROGRAMS.to_vec();
        while let Some(name) = open.pop() {
            for path in found.by_name.get(name).into_iter().flatten() {
                if found.core.insert(path)
                    && let Some(needs) = compared.programs.get(*path)
                {
                    open.extend(needs.libraries.iter().chain(&needs.interpreter).map(|name| file_name(name)));
                }
            }
        }
        found
    }

    fn has(&self, name: &str) -> bool {
        self.by_name.contains_key(name)
    }

    /// The paths of which the content decides whether it starts; `modules` are the names of modules.
    fn needed(&self, compared: &Compared, modules: &BTreeSet<String>) -> BTreeSet<String> {
        let is_module =
            |path: &str| crate::formats::kernel_module::module_of(path).is_some_and(|name| modules.contains(&name));
        let is = |path: &&String| {
            self.core.contains(&***path) || path.starts_with("scripts/") || **path == "init" || is_module(path)
        };
        compared.paths.iter().filter(is).cloned().collect()
    }
}

struct Needs<'a, 'b> {
    files: &'a PackageFiles<'b>,
    kernel: &'a Kernel,
    compared: &'a Compared,
    contents: &'a Contents<'a>,
    faults: &'a mut Faults,
}

impl Needs<'_, '_> {
    fn fault(&self, part: &str, verdict: Verdict, cause: String) -> Fault {
        let fault = Fault::on_entry(Stage::Initramfs, &self.kernel.initramfs, part, verdict, cause);
        fault.breaks_if(self.kernel.is_default).generated(Generated::initramfs(self.kernel))
    }

    fn missing(&mut self, part: &str, cause: String) {
        let fault = self.fault(part, Verdict::Incomplete, cause);
        self.faults.push(fault);
    }

    /// The program that the kernel starts in it, and what this one runs.
    fn scripts(&mut self) {
        let has = |path: &str| self.compared.paths.contains(path);
        if !has("init") {
            return self.missing("init", "it does not contain init, which the kernel starts".to_owned());
        }
        if !has("scripts/functions") && !has("scripts/local") && !has("conf/initramfs.conf") {
            return;
        }
        let absent: Vec<&str> = ["scripts/functions", "scripts/local"].into_iter().filter(|path| !has(path)).collect();
        let uses_udev = has("scripts/init-top/udev");
        for path in absent {
            self.missing(path, format!("it does not contain {path}, which init runs"));
        }
        for (names, what) in REQUIRED {
            if !names.iter().any(|name| self.contents.has(name)) {
                self.missing(names[0], format!("it does not contain {}: {what}", names[0]));
            }
        }
        for name in ["systemd-udevd", "udevadm"] {
            if uses_udev && !self.contents.has(name) {
                self.missing(name, format!("it does not contain {name}, by which the drivers of disks are loaded"));
            }
        }
    }

    /// What is executed.
    fn executable(&mut self) {
        for path in &self.compared.not_executable {
            let cause = format!("{} in it cannot be executed, and the installed file can", quoted(path.as_bytes()));
            let fault = self.fault(path, Verdict::WrongPermissions, cause);
            let is_needed = path == "init" || path == "scripts/init-top/udev" || self.contents.core.contains(&**path);
            self.faults.push(if is_needed { fault } else { fault.latent() });
        }
    }

    /// The libraries of its programs.
    fn libraries(&mut self) {
        let mut lost: BTreeMap<&str, (&str, bool)> = BTreeMap::new();
        for (path, needs) in &self.compared.programs {
            let is_core = self.contents.core.contains(&**path);
            for name in needs.libraries.iter().chain(&needs.interpreter).map(|name| file_name(name)) {
                if !self.contents.has(name) {
                    let known = lost.entry(name).or_insert((path, is_core));
                    if is_core && !known.1 {
                        *known = (path, true);
                    }
                }
            }
        }
        for (name, (path, is_core)) in lost {
            let cause = format!(
                "it does not contain {}, which {} in it needs",
                quoted(name.as_bytes()),
                quoted(path.as_bytes())
            );
            let fault = self.fault(name, Verdict::Incomplete, cause);
            self.faults.push(if is_core { fault } else { fault.latent() });
        }
    }

    /// The module that reads the root's file system, with those that it needs; their names.
    fn root_module(&mut self, wanted: &Wanted<'_>, examined: &mut Examined) -> BTreeSet<String> {
        let mut needed = BTreeSet::new();
        let version = &self.kernel.version;
        let module = match wanted.root {
            Some(VolumeKind::Ext4) => "ext4",
            Some(VolumeKind::Btrfs) => "btrfs",
            Some(VolumeKind::Xfs) => "xfs",
            _ => return needed,
        };
        let built_in = SystemPath::literal("/lib/modules").join(format!("{version}/modules.builtin").as_bytes());
        let built_in = built_in.ok().and_then(|path| self.files.read(&path).ok().flatten());
        // Without the list nothing is known: all may be built in.
        let Some(built_in) = built_in else {
            let path = &self.kernel.initramfs;
            examined.leave_out(format!("{path}: whether it needs the module {module}: modules.builtin cannot be read"));
            return needed;
        };
        let built_in = String::from_utf8_lossy(&built_in).into_owned();
        let is_built_in =
            |name: &str| built_in.lines().any(|line| named(file_name(line).trim_end_matches(".ko")) == name);
        if is_built_in(module) {
            return needed;
        }
        let modules = &self.compared.modules;
        let others: BTreeSet<&str> = modules.versions().filter(|own| own != version).collect();
        if !modules.versions().any(|own| own == version) {
            let cause = match others.first() {
                Some(other) => format!("its modules are those of the kernel {other}, not of {version}"),
                None => format!("it contains no modules, although the root's file system needs {module}"),
            };
            self.missing("modules", cause);
            return needed;
        }
        let mut open = vec![module.to_owned()];
        while let Some(name) = open.pop() {
            if is_built_in(&name) || !needed.insert(name.clone()) {
                continue;
            }
            match modules.depends(&name) {
                Some(depends) => open.extend(depends),
                None if modules.has_unread() => {}
                None => self.missing(
                    &name,
                    format!("it does not contain the module {name}, which the root's file system needs"),
                ),
            }
        }
        // By this list modprobe finds them.
        if !modules.lists(module) {
            let cause = format!(
                "its list of modules (modules.dep.bin) does not contain {module}, which the root's file system needs"
            );
            self.missing("modules.dep.bin", cause);
        }
        needed
    }

    /// The programs that open the root, or check it.
    fn openers(&mut self, wanted: &Wanted<'_>, examined: &mut Examined) {
        for (program, why) in wanted.openers {
            if !self.contents.has(program) {
                self.missing(program, format!("it does not contain {program}, although {why}"));
            }
        }
        let has = |names: [&str; 2]| names.iter().any(|name| self.contents.has(name));
        let is_installed = self.files.exists(&SystemPath::literal("/sbin/fsck.ext4"));
        let is_wanted = wanted.root == Some(VolumeKind::Ext4) && wanted.is_checked && is_installed;
        if !is_wanted || has(["fsck.ext4", "e2fsck"]) {
            return;
        }
        // What was made where the root's type was not known contains nothing of it, and the system checks the root itself.
        if !has(["fsck", "logsave"]) {
            let path = &self.kernel.initramfs;
            return examined
                .note_extent(format!("{path} contains no fsck: the root is checked only after it is mounted"));
        }
        let cause = "it contains fsck, but not fsck.ext4: the root is not checked before it is mounted".to_owned();
        let fault = self.fault("fsck.ext4", Verdict::Incomplete, cause).latent();
        self.faults.push(fault);
    }

    /// Whether what it is to resume from exists: the start waits for it.
    fn resume(&mut self, wanted: &Wanted<'_>) {
        let line = |text: &str| {
            let value = text.lines().rev().find_map(|line| line.trim().strip_prefix("RESUME="))?;
            Some(value.trim_matches(['"', '\'']).to_owned())
        };
        let told = self.compared.settings.iter().filter(|(name, _)| !name.ends_with("initramfs.conf"));
        let told: Vec<String> = told.filter_map(|(_, text)| line(text)).collect();
        for from in told.iter().filter(|from| wanted.layout.is_nowhere(&device_name(from))) {
            let cause = format!("it waits for {from} to resume from, which does not exist");
            let effect = if self.kernel.is_default { StartEffect::SlowsStart } else { StartEffect::Latent };
            let fault = self.fault("resume", Verdict::Inconsistent, cause).effect(effect);
            self.faults.push(fault);
        }
    }
}
