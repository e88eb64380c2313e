//! Savepoints made without being asked for, before apt changes packages: a hook in apt's configuration (apt.conf(5),
//! `DPkg::Pre-Install-Pkgs`).

use std::path::{Path, PathBuf};

use super::session::Session;
use super::{Engine, WorkError};
use crate::areas::FILES;
use crate::change::{ChangeError, StateFolder, Verb, unfinished};
use crate::event::Observer;
use crate::machine::{LockHolder, lock_holder, worker};
use crate::model::{Digest, Stat, SystemPath, error_chain};
use crate::plan::{Item, ItemKind, Operation, PlannedAction};
use crate::platform::debian::{Debian, in_database};
use crate::platform::{InstallState, Platform as _};
use crate::report::SavepointReport;
use crate::savepoints::{HOOK, Reason, Savepoints};
use crate::store::{Contents, StoreError};

/// Where a program of the system may be that apt runs; it is copied into the state folder from anywhere else.
const PROGRAMS: [&str; 4] = ["/usr/bin", "/usr/sbin", "/usr/local/bin", "/usr/local/sbin"];
/// The name of that copy.
const COPY: &str = "bin/veritum";
/// apt ends the hook after so many seconds; it ends itself before that.
const HOOK_SECONDS: u32 = 25;
/// An update is taken to need this many times the size of the packages that it replaces: the new files, and what is kept.
const TIMES: u64 = 2;
/// An update must leave so many bytes free, or this part of the file system, as a divisor, if that is less.
const RESERVE: u64 = 512 << 20;
const FREE: u64 = 20;

/// The result of switching automatic savepoints.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Switched {
    /// It was so already.
    Already,
    /// It was switched, by the change of that number.
    Now(u64),
}

impl Switched {
    /// The number of the change.
    #[must_use]
    pub fn change(self) -> Option<u64> {
        if let Self::Now(change) = self { Some(change) } else { None }
    }
}

impl Engine {
    /// Whether savepoints are made before apt changes packages.
    #[must_use]
    pub fn is_automatic(&self) -> bool {
        self.system.machine.look(&SystemPath::literal(HOOK)).ok().flatten().is_some()
    }

    /// Lets apt make savepoints, or no longer: one undoable change. `program` is this program's file on the host.
    ///
    /// # Errors
    /// When the hook cannot be written, or another program is changing the machine.
    pub fn switch_automatic(&self, on: bool, program: &Path, observer: &dyn Observer) -> Result<Switched, WorkError> {
        self.system.require_writable()?;
        let state = self.system.make_state()?;
        let context = self.context(&state, observer);
        let _locks = context.lock(&Debian.locks())?;
        if let Some(number) = unfinished(&state)?.first() {
            return Err(ChangeError::Earlier(*number).into());
        }
        let place = SystemPath::literal(HOOK);
        let before = self.system.machine.look(&place).ok().flatten();
        let text = if on { hook_text(&self.hook_program(&state, program)?) } else { String::new() };
        let current = self.system.machine.read_config(&place).ok().flatten();
        if before.is_some() == on && (!on || current.as_deref() == Some(text.as_bytes())) {
            return Ok(Switched::Already);
        }
        let contents = OneText { digest: Digest::hash(text.as_bytes()), text };
        let action = match on {
            true => self.hook_action(place, before, &contents),
            false => PlannedAction::new(place, before, Operation::SetAside),
        };
        let mut session = Session::new(context, &self.system.settings, Verb::Automatic, FILES);
        session.whole_round(vec![action], &contents, Default::default())?;
        session.end(0)?;
        Ok(session.number.map_or(Switched::Already, Switched::Now))
    }

    /// Writes the hook, with its folder where that does not exist.
    fn hook_action(&self, place: SystemPath, before: Option<Stat>, text: &OneText) -> PlannedAction {
        let root = self.system.machine.look(&SystemPath::root()).ok().flatten();
        let owner = root.map_or((0, 0), |root| (root.uid, root.gid));
        let item = |below, kind, mode| Item::new(below, kind, mode, owner, self.system.settings.now.as_second());
        let file = ItemKind::File { size: text.text.len() as u64, digest: text.digest };
        let folder = place.parent().filter(|folder| matches!(self.system.machine.look(folder), Ok(None)));
        let named = SystemPath::below_root(place.name());
        match (folder, named) {
            (Some(folder), Ok(name)) => {
                let items = vec![item(SystemPath::root(), ItemKind::Folder, 0o755), item(name, file, 0o644)];
                PlannedAction::new(folder, None, Operation::Put(items))
            }
            _ => PlannedAction::new(place, before, Operation::Put(vec![item(SystemPath::root(), file, 0o644)])),
        }
    }

    /// The path, as the machine knows it, of the program that apt runs.
    fn hook_program(&self, state: &StateFolder, program: &Path) -> Result<String, WorkError> {
        let below = program.strip_prefix(self.system.machine.path()).ok().map(|below| Path::new("/").join(below));
        let is_installed = |path: &PathBuf| PROGRAMS.iter().any(|folder| path.parent() == Some(Path::new(folder)));
        if let Some(path) = below.filter(is_installed).and_then(|path| path.to_str().map(str::to_owned)) {
            return Ok(path);
        }
        let Some(inside) = state.inside() else {
            return Err(ChangeError::State(state.not_inside()).into());
        };
        let bytes = std::fs::read(program).map_err(|source| state.failed(source))?;
        state.put_program(COPY, &bytes).map_err(|source| state.failed(source))?;
        Ok(format!("{inside}/{COPY}"))
    }

    /// Makes a savepoint before apt changes packages, or says why none is made. `packages` are the names of the packages that it
    /// is about to install. Nothing that goes wrong here stops apt.
    pub fn savepoint_before_packages(&self, packages: &[String], observer: &dyn Observer) -> SavepointReport {
        let made = self.try_before_packages(packages, observer);
        made.unwrap_or_else(|e| self.no_savepoint(error_chain(&e)))
    }

    fn try_before_packages(&self, packages: &[String], observer: &dyn Observer) -> Result<SavepointReport, WorkError> {
        let state = self.system.make_state()?;
        let context = self.context(&state, observer);
        // apt holds dpkg's front-end lock, so only our own is taken. Within a change of Veritum it is held.
        let _lock = match context.lock_own() {
            Err(ChangeError::Busy) => return Ok(self.no_savepoint("a change of Veritum is in progress".into())),
            other => other?,
        };
        if !unfinished(&state)?.is_empty() {
            return Ok(self.no_savepoint("a change of Veritum was interrupted".into()));
        }
        let before = self.package_tool();
        if let Some(number) = before.as_deref().and_then(|before| made_before(&state, before)) {
            let report = self.no_savepoint("this update has one".into());
            return Ok(SavepointReport { savepoint: Some(number), ..report });
        }
        if let Some(name) = self.half_installed().first() {
            return Ok(self.no_savepoint(format!("an installation is half-way ({name})")));
        }
        if self.missing_space(packages)?.is_some() {
            self.make_room(&context)?;
        }
        if let Some(missing) = self.missing_space(packages)? {
            let missing = missing.div_ceil(1 << 20);
            return Ok(self.no_savepoint(format!(
                "{missing} MiB more free space would be needed to keep what the update replaces"
            )));
        }
        let command = before.as_deref().and_then(|before| before.split(' ').nth(2)).map(str::to_owned);
        let text = command.map_or_else(|| "before packages are changed".into(), |name| format!("before {name}"));
        self.make_savepoint(&context, Reason { text, automatic: true, before })
    }

    /// The process that holds dpkg's front-end lock: id, start time and name.
    fn package_tool(&self) -> Option<String> {
        let lock = Debian.locks().into_iter().next()?;
        let dir = self.system.machine.dir(&self.system.machine.resolve(&lock.parent()?).ok()?).ok()?;
        let Ok(Some(LockHolder::Process(pid))) = lock_holder(&dir, lock.name()) else { return None };
        let process = worker(pid)?;
        let name = process.name.split_whitespace().next().unwrap_or("apt").to_owned();
        Some(format!("{pid} {} {name}", process.since.as_second()))
    }

    /// Packages whose installation is not complete, or dpkg's own notes of an interrupted run.
    pub(super) fn half_installed(&self) -> Vec<String> {
        let packages = self.system.installed.packages.iter();
        let half = packages.filter(|p| p.install_state != InstallState::Installed).map(|p| p.id.name.clone());
        let updates =
            self.system.machine.resolve(&in_database("updates")).and_then(|place| self.system.machine.dir(&place));
        let pending = updates.and_then(|dir| dir.disk().list(dir.fd())).unwrap_or_default();
        half.chain(pending.iter().map(|(name, _)| format!("updates/{}", crate::model::readable(name)))).collect()
    }

    /// The bytes that an update of these packages would lack if the files that it replaces were kept.
    fn missing_space(&self, packages: &[String]) -> Result<Option<u64>, WorkError> {
        let named = |package: &&crate::platform::Package| packages.contains(&package.id.name);
        let sizes = self.system.installed.packages.iter().filter(named).filter_map(|package| package.installed_bytes);
        let needed = sizes.sum::<u64>().saturating_mul(TIMES);
        let usr = self.system.machine.dir(&SystemPath::literal("/usr"));
        let Ok(room) = usr.and_then(|dir| dir.disk().room(dir.fd())) else { return Ok(None) };
        let missing = (needed + RESERVE.min(room.total / FREE)).saturating_sub(room.bytes);
        Ok((missing > 0).then_some(missing))
    }
}

/// The savepoint that was made before the changes of that process.
fn made_before(state: &StateFolder, process: &str) -> Option<u64> {
    let savepoints = Savepoints::find(state).ok()??;
    let last = *savepoints.numbers().ok()?.last()?;
    let head = savepoints.head(last).ok()?;
    (head.before.as_deref() == Some(process)).then_some(last)
}

/// The hook: the program may be gone, and whatever it does, apt goes on.
fn hook_text(program: &str) -> String {
    format!(
        "// Written by `veritum savepoint --automatic on`; `veritum savepoint --automatic off` removes it.\n\
         DPkg::Pre-Install-Pkgs {{ \"if [ -x {program} ]; then timeout -k 5 {HOOK_SECONDS} {program} savepoint \
         --before-packages --quiet || true; else cat > /dev/null; fi\"; }};\n"
    )
}

/// One text as a source of contents.
struct OneText {
    digest: Digest,
    text: String,
}

impl Contents for OneText {
    fn copy(
        &self,
        digest: &Digest,
        _: u64,
        to: &mut dyn FnMut(&[u8]) -> std::io::Result<()>,
    ) -> Result<(), StoreError> {
        let absent = || StoreError::Absent { digest: *digest };
        if *digest == self.digest { to(self.text.as_bytes()).map_err(|_| absent()) } else { Err(absent()) }
    }

    fn has_content(&self, digest: &Digest) -> bool {
        *digest == self.digest
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn the_hook_lets_apt_go_on_whatever_happens() {
        let text = hook_text("/usr/bin/veritum");
        assert!(text.contains("if [ -x /usr/bin/veritum ]") && text.contains("|| true"), "{text}");
        assert!(text.contains("timeout -k 5 25 /usr/bin/veritum savepoint --before-packages --quiet"), "{text}");
        assert_eq!(text.lines().count(), 2);
    }
}
