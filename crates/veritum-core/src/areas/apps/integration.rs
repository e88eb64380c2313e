//! An application's integration into the desktop: entry, program, message bus, types of files.

use super::APPS;
use crate::formats::desktop_entry::DesktopEntry;
use crate::formats::keyfile::KeyFile;
use crate::machine::Machine;
use crate::model::{Action, FileKind, Finding, Subject, SystemPath, Verdict};
use crate::platform::freedesktop::{AppEntry, FOLDERS};

/// Folders of programs, as in the `PATH` of a desktop session.
const PROGRAMS: [&str; 8] =
    ["/usr/local/bin", "/usr/bin", "/bin", "/usr/local/games", "/usr/games", "/usr/local/sbin", "/usr/sbin", "/sbin"];
/// Services that the message bus starts (D-Bus Specification, "Message Bus Starting Services").
const SERVICES: [&str; 2] = ["/usr/local/share/dbus-1/services", "/usr/share/dbus-1/services"];
/// Which entries open which types of files; `update-desktop-database` derives it from all entries in the folder.
const OPENERS: &str = "/usr/share/applications/mimeinfo.cache";

/// A list that the desktop uses, and the tool that makes it.
pub(crate) struct Registry {
    /// The tool, as the machine has it.
    pub(crate) program: &'static str,
    /// The folder that it lists.
    pub(crate) folder: &'static str,
}

/// Which entries open which types of files.
pub(crate) const REGISTRY: Registry =
    Registry { program: "/usr/bin/update-desktop-database", folder: "/usr/share/applications" };

/// Whether rebuilding the list of file handlers answers a finding.
pub(super) fn needs_registering(finding: &Finding) -> bool {
    let list = finding.subject.as_path().is_some_and(|path| path.as_bytes() == OPENERS.as_bytes());
    finding.area == APPS && (list || finding.verdict == Verdict::NotRegistered)
}

/// Larger ones are not read.
const MAX_OPENERS: u64 = 16 << 20;

/// What all entries have in common.
pub struct Integration<'a> {
    machine: &'a Machine,
    openers: Openers,
}

enum Openers {
    Read(KeyFile),
    Missing,
    Corrupt(String),
    /// It cannot be read with these rights or from this disk, or was never created here: no statement is made.
    Unknown,
}

impl<'a> Integration<'a> {
    /// Reads what all entries have in common.
    pub(crate) fn read(machine: &'a Machine) -> Self {
        let openers = match machine.read_up_to(&SystemPath::literal(OPENERS), MAX_OPENERS) {
            // Where the tool is not installed, the list never existed.
            Ok(None) if machine.resolve(&SystemPath::literal(REGISTRY.program)).is_err() => Openers::Unknown,
            Ok(None) => Openers::Missing,
            Ok(Some(bytes)) => match KeyFile::parse(&bytes) {
                Ok(file) if file.has("MIME Cache") => Openers::Read(file),
                Ok(_) => Openers::Corrupt("no group [MIME Cache]".into()),
                Err(e) => Openers::Corrupt(e.to_string()),
            },
            Err(_) => Openers::Unknown,
        };
        Self { machine, openers }
    }

    /// Problems of the shared files, if one of the applications needs them.
    pub(crate) fn shared(&self, entries: &[&AppEntry]) -> Option<Finding> {
        if !entries.iter().any(|app| is_listed(app) && app.entry.as_ref().is_ok_and(|entry| !entry.opens.is_empty())) {
            return None;
        }
        let (verdict, cause) = match &self.openers {
            Openers::Missing => (Verdict::Missing, "no application is registered for any file type".to_owned()),
            Openers::Corrupt(why) => (Verdict::Corrupt, why.clone()),
            Openers::Read(_) | Openers::Unknown => return None,
        };
        let finding = Finding::on_path(APPS, &SystemPath::literal(OPENERS), verdict);
        Some(Finding { cause: Some(cause), action: Some(Action::command(REGISTER)), ..finding })
    }

    /// Problems of one application: the most serious, with the others next to it.
    pub(crate) fn judge(&self, app: &AppEntry) -> Option<Finding> {
        let mut all = match &app.entry {
            Ok(entry) => self.of_entry(app, entry),
            Err(e) => vec![(Verdict::Corrupt, format!("invalid desktop entry: {e}"), None)],
        };
        all.sort_by_key(|(verdict, ..)| *verdict);
        let (verdict, cause, command) = all.first().cloned()?;
        let finding = Finding::on(APPS, Subject::App { name: app.id.clone() }, verdict);
        let also = all[1..].iter().map(|(verdict, ..)| *verdict).collect();
        Some(Finding { cause: Some(cause), action: command.map(Action::command), also, ..finding })
    }

    /// Whether menus show an entry: an entry that names its program is hidden if that is not installed.
    pub(crate) fn shows(&self, entry: &DesktopEntry) -> bool {
        entry.shown && entry.needs.as_deref().is_none_or(|needed| self.program(needed, "").is_none())
    }

    fn of_entry(&self, app: &AppEntry, entry: &DesktopEntry) -> Vec<Diagnosis> {
        let mut all = Vec::new();
        if !self.shows(entry) && entry.shown {
            return all;
        }
        if let Some(program) = entry.program() {
            all.extend(self.program(program, "its program"));
        }
        if entry.on_bus && entry.shown {
            all.extend(self.service(&app.id));
        }
        if let Some(icon) = entry.icon.as_deref().filter(|icon| icon.starts_with('/')) {
            let there = SystemPath::parse(icon.as_bytes()).ok().and_then(|path| self.machine.resolve(&path).ok());
            if there.is_none() {
                all.push((Verdict::Missing, format!("its icon {icon} is missing"), None));
            }
        }
        all.extend(self.opens(app, entry));
        all
    }

    /// Whether a program exists and is executable.
    fn program(&self, program: &str, what: &str) -> Option<Diagnosis> {
        let found = match program.starts_with('/') {
            true => SystemPath::parse(program.as_bytes()).ok().and_then(|path| self.startable(&path)),
            false => {
                let places = PROGRAMS.map(|folder| SystemPath::literal(folder).join(program.as_bytes()));
                places.into_iter().flatten().find_map(|path| self.startable(&path))
            }
        };
        match found {
            Some(true) => None,
            Some(false) => Some((Verdict::WrongPermissions, format!("{what} is not executable: {program}"), None)),
            None => Some((Verdict::Missing, format!("{what} is missing: {program}"), None)),
        }
    }

    /// Whether a file is executable; `None` when it does not exist or cannot be examined.
    fn startable(&self, path: &SystemPath) -> Option<bool> {
        let real = self.machine.resolve(path).ok()?;
        let stat = self.machine.look(&real).ok()??;
        Some(stat.kind == FileKind::File && stat.mode & 0o111 != 0)
    }

    /// The service that the message bus starts for it.
    fn service(&self, id: &str) -> Option<Diagnosis> {
        let paths = SERVICES.map(|folder| SystemPath::literal(folder).join(format!("{id}.service").as_bytes()));
        for path in paths.into_iter().flatten() {
            let Ok(Some(bytes)) = self.machine.read_up_to(&path, 1 << 20) else { continue };
            return match KeyFile::parse(&bytes) {
                Err(e) => Some((Verdict::Corrupt, format!("invalid D-Bus service {path}: {e}"), None)),
                Ok(file) => {
                    let command = file.string("D-BUS Service", "Exec")?;
                    self.program(command.split_whitespace().next()?, "the program of its D-Bus service")
                }
            };
        }
        let cause = format!("it is started over D-Bus, but no service {id} is installed");
        Some((Verdict::Missing, cause, None))
    }

    /// Whether the desktop knows which types of files it opens.
    fn opens(&self, app: &AppEntry, entry: &DesktopEntry) -> Option<Diagnosis> {
        let Openers::Read(openers) = &self.openers else { return None };
        if !is_listed(app) {
            return None;
        }
        let file = format!("{}.desktop", app.id);
        let lacks = |kind: &&String| !openers.strings("MIME Cache", kind).contains(&file);
        let mut lacking = entry.opens.iter().filter(|kind| is_kind(kind)).filter(lacks);
        let first = lacking.next()?;
        let cause = match lacking.count() {
            0 => format!("not registered for the file type {first}"),
            more => format!("not registered for {} file types, {first} first", more + 1),
        };
        Some((Verdict::NotRegistered, cause, Some(REGISTER)))
    }
}

/// A verdict, its cause, and what to do.
type Diagnosis = (Verdict, String, Option<&'static str>);

/// The command that rebuilds the list of file handlers.
const REGISTER: &str = "update-desktop-database";

/// Whether an entry is directly in the folder of the list.
fn is_listed(app: &AppEntry) -> bool {
    app.path.parent().is_some_and(|folder| folder.as_bytes() == FOLDERS[1].as_bytes())
}

/// Whether a media type is well-formed (RFC 6838, 4.2): others are left out of the list.
fn is_kind(kind: &str) -> bool {
    let plain =
        |part: &str| !part.is_empty() && part.chars().all(|c| c.is_ascii_alphanumeric() || "!#$&-^_.+".contains(c));
    kind.split_once('/').is_some_and(|(top, sub)| plain(top) && plain(sub))
}

#[cfg(test)]
mod tests {
    use std::fs;
    use std::os::unix::fs::PermissionsExt as _;
    use std::sync::Arc;

    use super::*;
    use crate::machine::LiveDisk;
    use crate::platform::freedesktop::applications;

    #[test]
    fn what_keeps_an_application_from_being_started_is_told() {
        let dir = tempfile::tempdir().unwrap();
        let put = |path: &str, text: &str, mode: u32| {
            let path = dir.path().join(path);
            fs::create_dir_all(path.parent().unwrap()).unwrap();
            fs::write(&path, text).unwrap();
            fs::set_permissions(&path, fs::Permissions::from_mode(mode)).unwrap();
        };
        let entry = |name: &str, lines: &str| {
            let text = format!("[Desktop Entry]\nType=Application\nName={name}\n{lines}");
            put(&format!("usr/share/applications/{name}.desktop"), &text, 0o644);
        };
        put("usr/bin/right", "x", 0o755);
        put("usr/bin/closed", "x", 0o644);
        entry("a-right", "Exec=right %U\nTryExec=right\nMimeType=text/csv;not a kind;\n");
        entry("b-gone", "Exec=/usr/bin/gone\nMimeType=text/csv;text/x;\n");
        entry("c-closed", "Exec=env A=1 closed\n");
        entry("d-icon", "Exec=right\nIcon=/usr/share/none.svg\n");
        entry("d-not-installed", "Exec=other\nTryExec=other\n");
        entry("e-bus", "DBusActivatable=true\n");
        entry("f-bus", "DBusActivatable=true\n");
        put("usr/share/dbus-1/services/f-bus.service", "[D-BUS Service]\nName=f-bus\nExec=/usr/bin/gone --x\n", 0o644);
        put("usr/share/applications/g-cut.desktop", "[Desktop En", 0o644);
        put("usr/share/applications/mimeinfo.cache", "[MIME Cache]\ntext/csv=a-right.desktop;\n", 0o644);
        let machine = Machine::open(dir.path(), Arc::new(LiveDisk)).unwrap();
        let apps = applications(&machine);
        let integration = Integration::read(&machine);
        let told: Vec<String> = apps
            .iter()
            .filter_map(|app| integration.judge(app))
            .map(|f| format!("{} {} {:?}: {}", f.subject, f.verdict.word(), f.also, f.cause.unwrap()))
            .collect();
        assert_eq!(
            told,
            [
                "b-gone missing [NotRegistered]: its program is missing: /usr/bin/gone",
                "c-closed wrong-permissions []: its program is not executable: closed",
                "d-icon missing []: its icon /usr/share/none.svg is missing",
                "e-bus missing []: it is started over D-Bus, but no service e-bus is installed",
                "f-bus missing []: the program of its D-Bus service is missing: /usr/bin/gone",
                "g-cut corrupt []: invalid desktop entry: line 1: unterminated group name",
            ]
        );
        let all: Vec<&AppEntry> = apps.iter().collect();
        assert!(integration.shared(&all).is_none());
        let cache = dir.path().join("usr/share/applications/mimeinfo.cache");
        fs::remove_file(&cache).unwrap();
        assert!(Integration::read(&machine).shared(&all).is_none(), "nothing here could make one");
        fs::write(&cache, "").unwrap();
        put("usr/bin/update-desktop-database", "x", 0o755);
        for (text, verdict) in [(None, Verdict::Missing), (Some("\0\0"), Verdict::Corrupt)] {
            fs::remove_file(&cache).unwrap();
            text.iter().for_each(|text| fs::write(&cache, text).unwrap());
            assert_eq!(Integration::read(&machine).shared(&all).unwrap().verdict, verdict);
            fs::write(&cache, "").unwrap();
        }
    }
}
