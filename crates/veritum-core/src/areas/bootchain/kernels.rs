//! The kernels in /boot, and what belongs to each.

use super::fault::{Fault, Faults, Stage};
use super::generated::Generated;
use super::menu::{MENU, MenuStarts};
use super::mount_modules::MountedKinds;
use super::packages::{Content, PackageFiles};
use super::signers::{Signers, not_examined};
use crate::areas::Examined;
use crate::formats::boot::efi_program::{SelfProof, self_proof};
use crate::formats::boot::kernel_image::kernel_version;
use crate::model::{KnownBy, StartEffect, SystemPath, Verdict};
use crate::platform::debian::compare_versions;

const BOOT: &str = "/boot";
/// What kernels are called, before their versions.
const KERNELS: [&str; 2] = ["vmlinuz-", "vmlinux-"];

/// What makes initial file systems.
const MAKERS: [&str; 2] = ["/usr/sbin/update-initramfs", "/usr/bin/dracut"];

/// A kernel.
#[derive(Debug, Clone, PartialEq)]
pub(super) struct Kernel {
    /// Its version, as in `uname -r`.
    pub(super) version: String,
    /// Whether it is the one that starts by itself.
    pub(super) is_default: bool,
    /// Its initial file system.
    pub(super) initramfs: SystemPath,
}

fn in_boot(name: &str) -> SystemPath {
    SystemPath::literal(BOOT).child(name.as_bytes()).unwrap_or_else(|_| SystemPath::literal(BOOT))
}

/// Judges the kernels; those that are there, or belong to an installed package.
pub(super) fn judge(
    (files, signers, mounted): (&PackageFiles<'_>, &Signers, &MountedKinds<'_>),
    starts: &MenuStarts,
    installed: &[String],
    faults: &mut Faults,
    examined: &mut Examined,
) -> Vec<Kernel> {
    let names = match files.names(&SystemPath::literal(BOOT)) {
        Ok(names) => names,
        Err(why) => {
            examined.leave_out(why);
            return Vec::new();
        }
    };
    let names: Vec<String> = names.iter().map(|name| String::from_utf8_lossy(name).into_owned()).collect();
    let version = |name: &String| KERNELS.iter().find_map(|prefix| name.strip_prefix(prefix)).map(str::to_owned);
    let mut versions: Vec<String> =
        names.iter().filter_map(version).filter(|v| !v.ends_with(".old") && !v.contains(".dpkg-")).collect();
    let started = starts.started().and_then(|started| started.kernel.clone());
    for known in installed {
        let path = in_boot(&format!("{}{known}", KERNELS[0]));
        // Packages of debugging symbols are called alike, and ship none.
        if !versions.contains(known) && files.owner(&path).is_some() {
            let is_default = started.as_ref() == Some(&path);
            let fault = Fault::on_path(Stage::Kernel, &path, Verdict::Missing, "its package is installed");
            faults.push(fault.package(files.owner(&path)).known_by(KnownBy::Package).breaks_if(is_default));
        }
    }
    versions.sort_by(|a, b| compare_versions(b, a));
    let mut kernels = Vec::new();
    for version in versions {
        let name = KERNELS.iter().map(|prefix| format!("{prefix}{version}")).find(|name| names.contains(name));
        let path = in_boot(&name.unwrap_or_default());
        let is_default = match &started {
            Some(started) => *started == path,
            // Without a menu the newest one is what the others are for.
            None => kernels.is_empty() && starts.entries.is_empty(),
        };
        let initramfs = starts.entries.iter().find(|entry| entry.kernel.as_ref() == Some(&path));
        let has_entry = initramfs.is_some();
        let named = initramfs.and_then(|entry| entry.initramfs.last().cloned());
        let kernel = Kernel {
            initramfs: named.unwrap_or_else(|| in_boot(&format!("initrd.img-{version}"))),
            version: version.clone(),
            is_default,
        };
        examined.coverage.examined += 1;
        content((files, signers), &path, &kernel, faults, examined);
        // A kernel can start without one, if nothing makes one and no entry names one.
        let is_expected = starts.entries.iter().any(|entry| !entry.initramfs.is_empty())
            || MAKERS.iter().any(|path| files.exists(&SystemPath::literal(path)));
        company((files, mounted), &kernel, is_expected, faults);
        let menu = SystemPath::literal(MENU);
        // An entry that names a kernel that does not exist can be corrected to name this one.
        let has_entry = has_entry || faults.writes_name(&menu, path.name());
        if !has_entry && !starts.entries.is_empty() && kernels.is_empty() && installed.contains(&version) {
            let cause = format!("it has no entry for the newest kernel, {version}");
            let fault = Fault::on_path(Stage::Menu, &menu, Verdict::Incomplete, cause).latent();
            faults.push(fault.generated(Generated::Menu));
        }
        kernels.push(kernel);
    }
    if kernels.is_empty() && installed.is_empty() && !starts.entries.is_empty() {
        let fault =
            Fault::on_path(Stage::Kernel, &SystemPath::literal(BOOT), Verdict::Missing, "it contains no kernel");
        faults.push(fault.breaks());
    }
    kernels
}

/// Compares a kernel with its package, or with the checksum in its own signature.
fn content(
    (files, signers): (&PackageFiles<'_>, &Signers),
    path: &SystemPath,
    kernel: &Kernel,
    faults: &mut Faults,
    examined: &mut Examined,
) {
    let bytes = match files.read(path) {
        Ok(bytes) => bytes.unwrap_or_default(),
        Err(why) => {
            let fault = Fault::on_path(Stage::Kernel, path, Verdict::Unreadable, why).package(files.owner(path));
            faults.push(fault.breaks_if(kernel.is_default).known_by(KnownBy::Medium));
            return;
        }
    };
    examined.coverage.bytes += bytes.len() as u64;
    let content = files.compare(path, &bytes);
    if !matches!(content, Content::Right(_))
        && let Some(issuer) = signers.stranger(&bytes)
    {
        return examined.leave_out(not_examined(&path.to_string(), &issuer));
    }
    let altered = |cause: String| {
        let fault = Fault::on_path(Stage::Kernel, path, Verdict::Altered, cause).action(files.repair(path));
        // Another build of the same version, whole, finds its modules.
        let is_whole =
            self_proof(&bytes) == SelfProof::Matches && kernel_version(&bytes).as_ref() == Some(&kernel.version);
        fault.breaks_if(kernel.is_default && !is_whole)
    };
    match content {
        Content::Right((_, authority)) => *examined.coverage.verified_by.entry(authority).or_default() += 1,
        Content::Different(owner) => {
            let cause = match self_proof(&bytes) {
                _ if bytes.is_empty() => "it is empty",
                SelfProof::Invalid => "it is cut off, or no kernel",
                SelfProof::Differs => "it is not what its package ships, nor what its own signature says",
                SelfProof::Matches => "it is not what its package ships; by its own signature it is whole",
                SelfProof::Unsigned => "it is not what its package ships",
            };
            faults.push(altered(cause.to_owned()).package(Some(owner)).known_by(KnownBy::Package));
        }
        Content::Unowned => match self_proof(&bytes) {
            SelfProof::Matches => {}
            SelfProof::Differs => {
                let cause = "its content does not have the checksum in its own signature".to_owned();
                faults.push(altered(cause).known_by(KnownBy::SelfProof));
            }
            _ if bytes.is_empty() => faults.push(altered("it is empty".to_owned()).known_by(KnownBy::SelfProof)),
            SelfProof::Invalid | SelfProof::Unsigned => {
                examined.leave_out(format!("{path}: no known package ships it, and it has no signature"));
            }
        },
    }
}

/// Judges what belongs to a kernel: its modules, its initial file system.
fn company(
    (files, mounted): (&PackageFiles<'_>, &MountedKinds<'_>),
    kernel: &Kernel,
    is_expected: bool,
    faults: &mut Faults,
) {
    let version = &kernel.version;
    if is_expected && !files.exists(&kernel.initramfs) {
        let cause = format!("the kernel {version} has no initial file system: it does not find its root");
        let fault = Fault::on_path(Stage::Initramfs, &kernel.initramfs, Verdict::Missing, cause);
        faults.push(fault.breaks_if(kernel.is_default).generated(Generated::initramfs(kernel)));
    }
    let Ok(modules) = SystemPath::literal("/lib/modules").child(version.as_bytes()) else { return };
    if !files.exists(&modules) {
        let needed = mounted.modules(files, version);
        let (effect, cause) = match needed.values().next() {
            _ if !kernel.is_default => (StartEffect::Latent, String::new()),
            Some(why) => (StartEffect::BreaksStart, format!(", and ends in emergency mode: {why}")),
            None => (StartEffect::SlowsStart, String::new()),
        };
        let cause = format!("the kernel {version} has no modules: it starts without most drivers{cause}");
        faults.push(Fault::on_path(Stage::Mounts, &modules, Verdict::Missing, cause).effect(effect));
    }
}
