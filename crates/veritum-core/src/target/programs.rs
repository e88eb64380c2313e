//! Programs that still run on files that were replaced (proc(5)): until they start again they use the old content.
//!
//! Looked for by device and inode: a replaced file that is kept is not "deleted", so the kernel's mark for that says
//! nothing.

use std::collections::HashSet;
use std::fs;
use std::os::unix::fs::MetadataExt as _;
use std::path::Path;

use crate::model::Identity;

/// A running program.
#[derive(Debug, Clone, PartialEq, Eq, PartialOrd, Ord)]
pub struct Program {
    /// The system service that it belongs to, as the service manager calls it.
    pub service: Option<String>,
    /// Its name (`comm`), without control characters.
    pub name: String,
    /// Its number.
    pub pid: u32,
}

/// What was found among the running programs.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub struct Holders {
    /// Those that use one of the files, by service and name.
    pub programs: Vec<Program>,
    /// Programs that could not be looked into: of others, or in a container.
    pub unseen: u64,
}

/// The running programs that map or have open one of these files.
#[must_use]
pub fn holders(files: &HashSet<Identity>) -> Holders {
    let mut found = Holders::default();
    if files.is_empty() {
        return found;
    }
    let own = std::process::id();
    let mounts = |process: &Path| fs::read_link(process.join("ns/mnt")).ok();
    let here = mounts(Path::new("/proc/self"));
    for entry in fs::read_dir("/proc").into_iter().flatten().flatten() {
        let Some(pid) = entry.file_name().to_str().and_then(|n| n.parse::<u32>().ok()).filter(|p| *p != own) else {
            continue;
        };
        let process = entry.path();
        match fs::read_link(process.join("exe")) {
            // A thread of the kernel, or it has ended by now.
            Err(e) if e.kind() == std::io::ErrorKind::NotFound => continue,
            Err(_) => found.unseen += 1,
            Ok(_) if mounts(&process) != here => found.unseen += 1,
            Ok(_) if uses(&process, files) => found.programs.push(program(&process, pid)),
            Ok(_) => {}
        }
    }
    found.programs.sort();
    found
}

fn uses(process: &Path, files: &HashSet<Identity>) -> bool {
    ["map_files", "fd"].iter().any(|folder| {
        let links = fs::read_dir(process.join(folder)).into_iter().flatten().flatten();
        links.filter_map(|link| fs::metadata(link.path()).ok()).any(|stat| {
            let id = Identity { dev: stat.dev(), ino: stat.ino() };
            stat.is_file() && files.contains(&id)
        })
    })
}

fn program(process: &Path, pid: u32) -> Program {
    let clean = |text: &str| text.chars().filter(|c| !c.is_control()).take(64).collect::<String>();
    let name = fs::read(process.join("comm")).unwrap_or_default();
    let groups = fs::read_to_string(process.join("cgroup")).unwrap_or_default();
    Program { service: service_of(&groups).map(|s| clean(&s)), name: clean(&String::from_utf8_lossy(&name)), pid }
}

/// The system service of a control group (`0::/system.slice/NAME.service`); none for what a user started.
pub(super) fn service_of(groups: &str) -> Option<String> {
    groups.lines().find_map(|line| {
        let path = line.splitn(3, ':').nth(2)?;
        let below = path.strip_prefix("/system.slice/")?;
        below.split('/').rfind(|part| part.ends_with(".service")).map(ToOwned::to_owned)
    })
}

#[cfg(test)]
mod tests {
    use std::process::{Command, Stdio};

    use super::*;

    fn identity(path: &Path) -> Identity {
        let stat = fs::metadata(path).unwrap();
        Identity { dev: stat.dev(), ino: stat.ino() }
    }

    #[test]
    fn a_program_with_a_replaced_file_is_found_by_its_inode() {
        let dir = tempfile::tempdir().unwrap();
        let (old, kept) = (dir.path().join("library"), dir.path().join("kept"));
        fs::write(&old, "old").unwrap();
        let file = fs::File::open(&old).unwrap();
        let mut child = Command::new("sleep").arg("30").stdin(Stdio::from(file)).spawn().unwrap();
        // Replaced the way a repair does it: the old inode lives on under another name.
        let displaced = identity(&old);
        fs::rename(&old, &kept).unwrap();
        fs::write(&old, "new").unwrap();
        let found = holders(&[displaced].into());
        let new = holders(&[identity(&old)].into());
        child.kill().unwrap();
        child.wait().unwrap();
        assert!(found.programs.iter().any(|p| p.pid == child.id() && p.name == "sleep"), "{found:?}");
        assert!(new.programs.is_empty(), "{new:?}");
        assert_eq!(holders(&HashSet::new()), Holders::default());
    }

    #[test]
    fn only_services_of_the_system_are_services() {
        let of = |text| service_of(text);
        assert_eq!(of("0::/system.slice/printing.service\n").as_deref(), Some("printing.service"));
        assert_eq!(of("0::/system.slice/printing.service/worker\n").as_deref(), Some("printing.service"));
        assert_eq!(of("0::/user.slice/user-1000.slice/user@1000.service/app.slice/mail.scope\n"), None);
        assert_eq!((of("0::/init.scope\n"), of(""), of("0::")), (None, None, None));
    }
}
