//! Runs a program inside a mounted system, in a mount namespace of this process alone: with the kernel's devices, and with a folder of the
//! caller for temporary files (mount_namespaces(7), chroot(2)).

use std::ffi::{OsStr, OsString};
use std::io;
use std::os::fd::{AsFd as _, OwnedFd};
use std::os::unix::process::CommandExt as _;
use std::path::Path;
use std::process::Command;

use rustix::fs::CWD;
use rustix::mount::{MountFlags, MoveMountFlags, OpenTreeFlags, mount, move_mount, open_tree};

/// Where the folder for temporary files is inside.
pub const TEMPORARY: &str = "/var/tmp";

/// Enters a system and becomes a program there; returns only what went wrong before. The caller has a mount namespace of its own, and a
/// process namespace.
#[must_use]
pub fn become_inside(root: &Path, temporary: &Path, program: &OsStr, words: &[OsString]) -> io::Error {
    match enter(root, temporary) {
        Ok(()) => Command::new(program).args(words).exec(),
        Err(e) => e,
    }
}

fn enter(root: &Path, temporary: &Path) -> io::Result<()> {
    // What is mounted is opened before the root changes; inside, symlinks cannot lead out of it.
    let whole = OpenTreeFlags::OPEN_TREE_CLONE | OpenTreeFlags::OPEN_TREE_CLOEXEC | OpenTreeFlags::AT_RECURSIVE;
    let own = |path: &Path| open_tree(CWD, path, whole).map_err(io::Error::from);
    let (devices, kernel, scratch) = (own(Path::new("/dev"))?, own(Path::new("/sys"))?, own(temporary)?);
    rustix::process::chroot(root)?;
    rustix::process::chdir("/")?;
    let put = |tree: &OwnedFd, at: &str| -> io::Result<()> {
        Ok(move_mount(tree.as_fd(), "", CWD, at, MoveMountFlags::MOVE_MOUNT_F_EMPTY_PATH)?)
    };
    put(&devices, "/dev")?;
    put(&kernel, "/sys")?;
    mount("proc", "/proc", "proc", MountFlags::NOSUID | MountFlags::NODEV | MountFlags::NOEXEC, None)?;
    put(&scratch, TEMPORARY)
}
