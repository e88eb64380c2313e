//! Programs that still use replaced files (proc(5)): until they are restarted they run the old content.
//!
//! They are found by device and inode: a replaced file that is kept is not deleted, so the kernel does not mark it
//! `(deleted)`.

use std::collections::HashSet;
use std::fs;
use std::os::unix::fs::MetadataExt as _;
use std::path::Path;

use super::holder::{service_of, worker};
use crate::model::Identity;

/// The number of bytes of a program's name that the kernel keeps (`TASK_COMM_LEN`, without the terminator).
const MAX_COMM: usize = 15;
/// Further open files of one process are not examined.
const MAX_OPEN: usize = 5000;

/// A running program.
#[derive(Debug, Clone, PartialEq, Eq, PartialOrd, Ord)]
pub struct Program {
    /// The service manager's name of its service.
    pub service: Option<String>,
    /// Its name (`comm`), without control characters.
    pub name: String,
    /// Its process id.
    pub pid: u32,
}

/// The result of a search for running programs.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub struct Holders {
    /// Programs that use one of the files, by service and name.
    pub programs: Vec<Program>,
    /// The number of programs that could not be examined: other users', or in a container.
    pub unseen: u64,
}

/// The running programs that have one of these files mapped or open.
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
            // A kernel thread, or a process that has ended.
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

/// A process of an application.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Running {
    /// Its process id.
    pub pid: u32,
    /// Its name (`comm`), without control characters.
    pub name: String,
    /// When it started.
    pub since: Option<jiff::Timestamp>,
    /// Paths of the files that it has open, as the kernel reports them.
    pub open: Vec<Vec<u8>>,
}

/// The processes of a user that have one of these names or run in that application's sandbox; the kernel keeps the first
/// fifteen bytes of a name.
#[must_use]
pub fn running(names: &[String], sandbox: Option<&str>, user: u32) -> Vec<Running> {
    let cut = |name: &str| name.as_bytes()[..name.len().min(MAX_COMM)].to_vec();
    let names: HashSet<Vec<u8>> = names.iter().map(|name| cut(name)).collect();
    let mut found = Vec::new();
    for entry in fs::read_dir("/proc").into_iter().flatten().flatten() {
        let Some(pid) = entry.file_name().to_str().and_then(|n| n.parse::<u32>().ok()) else { continue };
        let process = entry.path();
        let comm = fs::read(process.join("comm")).unwrap_or_default();
        let named = names.contains(comm.strip_suffix(b"\n").unwrap_or(&comm));
        let inside = || sandbox.is_some_and(|id| runs_in(&process, id));
        if !(named || inside()) || owner_of(&process) != Some(user) {
            continue;
        }
        let Some(worker) = worker(pid) else { continue };
        // A process that has ended but was not waited for has no program.
        if fs::read_link(process.join("exe")).is_err_and(|e| e.kind() == std::io::ErrorKind::NotFound) {
            continue;
        }
        found.push(Running { pid, name: worker.name, since: Some(worker.since), open: open_files(&process) });
    }
    found.sort_by_key(|process| process.pid);
    found
}

/// Whether a process runs in a sandboxed application's scope (`app-flatpak-ID-NUMBER.scope`).
fn runs_in(process: &Path, id: &str) -> bool {
    let groups = fs::read_to_string(process.join("cgroup")).unwrap_or_default();
    groups.lines().any(|line| is_scope_of(line, id))
}

fn is_scope_of(group: &str, id: &str) -> bool {
    let scope = group.rsplit('/').next().unwrap_or_default();
    let number = scope.strip_prefix("app-flatpak-").and_then(|rest| rest.strip_prefix(id)?.strip_prefix('-'));
    number.is_some_and(|number| number.starts_with(|c: char| c.is_ascii_digit()))
}

/// The real user of a process: its folder in /proc belongs to root when its own user must not examine it.
fn owner_of(process: &Path) -> Option<u32> {
    let status = fs::read_to_string(process.join("status")).ok()?;
    status.lines().find_map(|line| line.strip_prefix("Uid:")?.split_whitespace().next()?.parse().ok())
}

fn open_files(process: &Path) -> Vec<Vec<u8>> {
    use std::os::unix::ffi::OsStringExt as _;
    let links = fs::read_dir(process.join("fd")).into_iter().flatten().flatten().take(MAX_OPEN);
    links.filter_map(|link| Some(fs::read_link(link.path()).ok()?.into_os_string().into_vec())).collect()
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
    fn an_applications_processes_are_found_by_name_and_user() {
        let dir = tempfile::tempdir().unwrap();
        let letter = dir.path().join("letter.odt");
        fs::write(&letter, "x").unwrap();
        let program = dir.path().join("a-program-with-a-long-name");
        fs::copy("/bin/sleep", &program).unwrap();
        let mut child =
            Command::new(&program).arg("30").stdin(Stdio::from(fs::File::open(&letter).unwrap())).spawn().unwrap();
        let user = rustix::process::getuid().as_raw();
        let names = ["a-program-with-a-long-name".to_owned()];
        // Starting it returns as soon as it has its own memory, which is before the kernel gives it its name.
        let mut found = running(&names, None, user);
        for _ in 0..200 {
            if !found.is_empty() {
                break;
            }
            std::thread::sleep(std::time::Duration::from_millis(10));
            found = running(&names, None, user);
        }
        let others = running(&names, None, user + 1);
        child.kill().unwrap();
        // Ended, and not waited for.
        let mut ended = running(&names, None, user);
        for _ in 0..200 {
            if ended.is_empty() {
                break;
            }
            std::thread::sleep(std::time::Duration::from_millis(10));
            ended = running(&names, None, user);
        }
        child.wait().unwrap();
        assert_eq!(found.iter().map(|process| process.pid).collect::<Vec<_>>(), [child.id()]);
        assert!(found[0].open.iter().any(|path| path.ends_with(b"letter.odt")), "{found:?}");
        assert!(others.is_empty() && ended.is_empty(), "{ended:?}");
    }

    #[test]
    fn a_sandboxed_application_is_known_by_its_scope() {
        let group = "0::/user.slice/user-1000.slice/user@1000.service/app.slice/app-flatpak-org.quay.Notes-417.scope";
        assert!(is_scope_of(group, "org.quay.Notes"));
        for other in ["org.quay.Note", "org.quay.Notes-4", "", "quay.Notes"] {
            assert!(!is_scope_of(group, other), "{other}");
        }
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
