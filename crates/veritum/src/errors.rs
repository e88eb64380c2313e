//! Translates errors of the core into messages, exit statuses and next commands.

use std::path::Path;

use veritum_core::change::{ChangeError, JournalError};
use veritum_core::machine::MachineError;
use veritum_core::model::{Action, error_chain, error_words, quoted};
use veritum_core::rescue::manifest::ManifestError;
use veritum_core::rescue::{DestinationError, RescueError};
use veritum_core::savepoints::SavepointError;
use veritum_core::store::StoreError;
use veritum_core::trust::KeysError;
use veritum_core::work::WorkError;

use crate::exit;
use crate::places::shown;
use crate::render::size;

/// Why a command failed (`veritum.error/1`).
#[derive(Debug, serde::Serialize, schemars::JsonSchema)]
pub(crate) struct ErrorReport {
    /// `veritum.error/1`.
    format: String,
    /// What went wrong.
    error: String,
    /// Why, if that is known.
    #[serde(skip_serializing_if = "Option::is_none")]
    reason: Option<String>,
    /// What to do.
    #[serde(skip_serializing_if = "Option::is_none")]
    action: Option<Action>,
}

impl ErrorReport {
    /// The format's name.
    const FORMAT: &'static str = "veritum.error/1";
}

/// An error message: at most three short lines.
#[derive(Debug)]
pub(crate) struct Failure {
    /// What went wrong.
    pub(crate) what: String,
    /// Why, unless the first line says it.
    pub(crate) why: String,
    /// What to do.
    pub(crate) hint: Option<Action>,
    /// The exit status.
    pub(crate) status: u8,
}

impl Failure {
    pub(crate) fn usage(what: String, why: String, hint: Option<Action>) -> Self {
        Self { what, why, hint, status: exit::USAGE }
    }

    pub(crate) fn not_done(what: String, why: String, hint: Option<Action>) -> Self {
        Self { what, why, hint, status: exit::NOT_CARRIED_OUT }
    }

    /// Prints it to stderr.
    pub(crate) fn print(&self) {
        use std::io::Write as _;
        let mut err = anstream::stderr().lock();
        let _ = writeln!(err, "veritum: {}", clean(&self.what));
        if !self.why.is_empty() {
            let _ = writeln!(err, "  {}", clean(&self.why));
        }
        let Some(hint) = &self.hint else { return };
        if let Some(text) = &hint.text {
            let _ = writeln!(err, "  {}", clean(text));
        }
        if let Some(command) = &hint.command {
            let _ = writeln!(err, "  Next: {}", clean(command));
        }
    }

    /// The same as a document, `veritum.error/1`.
    pub(crate) fn report(&self) -> ErrorReport {
        let reason = Some(self.why.clone()).filter(|why| !why.is_empty());
        ErrorReport { format: ErrorReport::FORMAT.into(), error: self.what.clone(), reason, action: self.hint.clone() }
    }
}

/// Control characters in messages with foreign data never reach the terminal.
fn clean(text: &str) -> String {
    text.chars().map(|c| if c.is_control() { ' ' } else { c }).collect()
}

/// The error when a question is needed and cannot be asked.
pub(crate) fn cannot_ask(why: &str) -> Failure {
    Failure::usage(
        "cannot ask for confirmation".into(),
        why.into(),
        Some("add --yes to agree, or --plan to only show what would be done".into()),
    )
}

impl From<WorkError> for Failure {
    fn from(error: WorkError) -> Self {
        match error {
            WorkError::Disk(ref e) => {
                let why = std::error::Error::source(e).map_or_else(String::new, error_words);
                Self::usage(
                    error.to_string(),
                    why,
                    Some("name a disk such as /dev/sda, or the file of an image".into()),
                )
            }
            WorkError::Store(e) => e.into(),
            WorkError::Change(e) => e.into(),
            WorkError::Savepoint(SavepointError::Change(e)) => e.into(),
            WorkError::Savepoint(SavepointError::Io { place, source }) => {
                let denied = source.kind() == std::io::ErrorKind::PermissionDenied;
                let hint = denied.then(|| Action::from("run as root".to_owned()));
                Self::not_done(format!("{place} cannot be used"), error_words(&source), hint)
            }
            WorkError::Savepoint(SavepointError::NotMounted(place)) => WorkError::NotMounted { place }.into(),
            WorkError::Savepoint(SavepointError::Stopped) => WorkError::Stopped.into(),
            WorkError::Target(e) => e.into(),
            WorkError::ChangeUnderWay => Self::not_done(
                error.to_string(),
                "another veritum is running; results would be incomplete".into(),
                Some("wait until it ends, then run the command again".into()),
            ),
            WorkError::NotMounted { ref place } => Self::not_done(
                "this machine cannot be changed now".into(),
                error.to_string(),
                Some(format!("mount it at {place} below the root folder, then run the command again").into()),
            ),
            WorkError::LockHeld { ref path, ref who, stuck } => Self::not_done(
                format!("a package manager is running on this machine ({path})"),
                who.clone(),
                Some(match stuck {
                    true => "check that program: it may be waiting for an answer or for the network".into(),
                    false => "wait until it ends, then run the command again".into(),
                }),
            ),
            WorkError::NoSystem { .. } => Self::usage(
                error.to_string(),
                "the system can be on another disk, or in a file system that is read only when it is mounted".into(),
                Some("see what is on it: veritum list disks --disk DISK".into()),
            ),
            WorkError::NoStateFolder => Self::usage(
                error.to_string(),
                "the change log and what is there now are kept there, so that this can be undone".into(),
                Some("name a folder on another disk: --state-dir DIR".into()),
            ),
            WorkError::StateOnDisk { .. } => Self::usage(
                error.to_string(),
                "what is written over would not be safe there".into(),
                Some("name a folder on another disk: --state-dir DIR".into()),
            ),
            WorkError::NotRescued { ref why, .. } => {
                Self::not_done(error.to_string(), why.clone(), Some("copy them first: veritum rescue --to DIR".into()))
            }
            WorkError::InUse => Self::not_done(
                "this machine cannot be changed now".into(),
                error.to_string(),
                Some("run veritum inside it, or stop the processes there; `check` is possible now".into()),
            ),
            WorkError::Unknown { ref name, ref known, listed_by, .. } => {
                let near = nearest(name, known.iter().map(String::as_str)).map(|k| format!("did you mean {k}?"));
                let hint = match listed_by {
                    Some(command) => Some(Action::command(format!("veritum {command}"))),
                    None => known.first().map(|_| format!("known: {}", known.join(", ")).into()),
                };
                Self::usage(error.to_string(), near.unwrap_or_default(), hint)
            }
            WorkError::Card { ref why, .. } => Self::usage(
                error.to_string(),
                why.clone(),
                Some("correct it, or remove it from the folder of cards".into()),
            ),
            WorkError::AppRuns { ref user, ref pids, .. } => Self {
                what: format!("{error} for {user}"),
                why: format!(
                    "process {}; nothing was changed",
                    pids.iter().map(u32::to_string).collect::<Vec<_>>().join(", ")
                ),
                hint: Some("ask the user to save and close it, then run the command again".into()),
                status: exit::PROBLEMS,
            },
            WorkError::SeveralApps { ref ids, .. } => Self::usage(
                error.to_string(),
                format!("its IDs: {}", ids.join(", ")),
                Some("choose one: app:ID".into()),
            ),
            WorkError::NoSuchFile { .. } => Self::usage(error.to_string(), "no installed package owns it".into(), None),
            WorkError::Ambiguous { .. } => Self::usage(
                error.to_string(),
                "type more characters of the ID".into(),
                Some(Action::command("veritum check --all")),
            ),
            WorkError::NoStore => Self::usage(
                error.to_string(),
                "the area `store` needs a store".into(),
                Some("add --store LOCATION".into()),
            ),
            WorkError::CannotAsk => cannot_ask("packages would be downloaded first, then a question asked"),
            WorkError::Stopped => Self {
                what: "interrupted".into(),
                why: "nothing was changed".into(),
                hint: None,
                status: exit::INTERRUPTED,
            },
            other => Self::not_done(error_chain(&other), String::new(), None),
        }
    }
}

impl From<RescueError> for Failure {
    fn from(error: RescueError) -> Self {
        let why = std::error::Error::source(&error).map(error_chain).unwrap_or_default();
        let what = error.to_string();
        match error {
            RescueError::Source(error) => error.into(),
            RescueError::Stopped => WorkError::Stopped.into(),
            RescueError::Full { needed, free, fitting, .. } => {
                let kinds = fitting.iter().map(|kind| kind.word()).collect::<Vec<_>>().join(",");
                let hint = match kinds.is_empty() {
                    true => "use a larger disk".into(),
                    false => format!("use a larger disk, or copy only what fits: --only {kinds}"),
                };
                Self::not_done(what, format!("{} needed, {} free", size(needed), size(free)), Some(hint.into()))
            }
            RescueError::SameDisk { .. } => Self::usage(
                what,
                "a failing disk would take the copies with it, and writing to it harms".into(),
                Some("mount another disk, and name a folder on it".into()),
            ),
            RescueError::NoHomes { absent, .. } => Self::not_done(
                what,
                absent.into_iter().take(3).collect::<Vec<_>>().join("; "),
                Some(
                    "mount the file system with the homes below the root folder, or name its disk: --disk DEVICE"
                        .into(),
                ),
            ),
            RescueError::Manifest { source: ManifestError::Foreign | ManifestError::Read(_), .. } => {
                Self::usage(what, why, Some("name the folder that `veritum rescue --to` wrote to".into()))
            }
            RescueError::Destination(ref e) if is_missing(e) => {
                Self::usage(what, why, Some("name a folder that exists; is the disk mounted?".into()))
            }
            _ => Self::not_done(what, why, None),
        }
    }
}

fn is_missing(error: &DestinationError) -> bool {
    matches!(error.source.kind(), std::io::ErrorKind::NotFound | std::io::ErrorKind::NotADirectory)
}

impl From<MachineError> for Failure {
    fn from(error: MachineError) -> Self {
        let why = std::error::Error::source(&error).map(error_words).unwrap_or_default();
        let hint = match &error {
            MachineError::NoSystem { .. } => Some("give the folder of a mounted system: --root DIR".into()),
            MachineError::Open { .. } => Some("check that the folder exists and is mounted".into()),
            _ => None,
        };
        Self::not_done(error.to_string(), why, hint)
    }
}

impl From<ChangeError> for Failure {
    fn from(error: ChangeError) -> Self {
        let why = std::error::Error::source(&error).map(error_chain).unwrap_or_default();
        match &error {
            ChangeError::Earlier(_) => Self {
                what: error.to_string(),
                why: "it must be finished or rolled back first".into(),
                hint: Some(Action::command("veritum recover")),
                status: exit::PROBLEMS,
            },
            ChangeError::Unfinished { .. } => Self {
                what: error.to_string(),
                why,
                hint: Some(Action::command("veritum recover")),
                status: exit::PROBLEMS,
            },
            ChangeError::NoRoom { .. } => Self::not_done(
                error.to_string(),
                "nothing was changed".into(),
                Some("free some space, then run the command again".into()),
            ),
            ChangeError::NotWhole { place, why, next } => {
                Self::not_done(format!("{place}: {why}"), "nothing was changed".into(), next.clone())
            }
            ChangeError::Busy => Self::not_done(
                error.to_string(),
                String::new(),
                Some("wait until it ends, then run the command again".into()),
            ),
            ChangeError::Overtaken => {
                Self::not_done(error.to_string(), String::new(), Some(Action::command("veritum list changes")))
            }
            ChangeError::NoRights { .. } => {
                Self::not_done(error.to_string(), String::new(), Some("run as root".into()))
            }
            ChangeError::PackageTool { .. } => Self::not_done(
                error.to_string(),
                String::new(),
                Some("wait until it ends, then run the command again".into()),
            ),
            ChangeError::Service { .. } => {
                Self::not_done(error.to_string(), why, Some("stop it yourself, then run the command again".into()))
            }
            ChangeError::ServiceHeld { unit, .. } => Self {
                what: error.to_string(),
                why: format!("{why}; it stays masked until reboot"),
                hint: Some(Action::explained(
                    format!("first run: systemctl unmask --runtime {unit}"),
                    "veritum recover",
                )),
                status: exit::PROBLEMS,
            },
            ChangeError::Stopped => Self {
                what: "interrupted".into(),
                why: "everything was rolled back".into(),
                hint: None,
                status: exit::INTERRUPTED,
            },
            ChangeError::State(_) => Self::not_done(
                "cannot use the machine's state folder".into(),
                why,
                Some("run as root, or choose another folder: --state-dir DIR".into()),
            ),
            ChangeError::Journal { source: JournalError::Newer(_), .. } => Self::not_done(
                error.to_string(),
                why,
                Some("use the version of Veritum that wrote it, or a newer one".into()),
            ),
            ChangeError::Journal { change, source: JournalError::Damaged(_) } => Self::not_done(
                error.to_string(),
                format!("{why}; nothing was changed, and its backups are still there"),
                Some(Action::command(format!("veritum explain {change}"))),
            ),
            ChangeError::Journal { .. } => Self::not_done(error.to_string(), why, None),
            _ => Self::not_done(error.to_string(), why, None),
        }
    }
}

impl From<StoreError> for Failure {
    fn from(error: StoreError) -> Self {
        let why = std::error::Error::source(&error).map(error_chain).unwrap_or_default();
        let (why, hint) = match &error {
            StoreError::NotTrusted { path, other_keys: true } => (
                "WARNING: a store at this location was trusted before with different keys".to_owned(),
                Some(Action::explained(
                    "ask the store's maintainer before you trust them",
                    format!("veritum store trust {}", shown(path)),
                )),
            ),
            StoreError::NotTrusted { path, .. } => (
                "its keys are not trusted yet".to_owned(),
                Some(Action::command(format!("veritum store trust {}", shown(path)))),
            ),
            StoreError::Unpublished { path } => {
                (why, Some(Action::command(format!("veritum store sign --store {}", shown(path)))))
            }
            StoreError::RolledBack { .. } => {
                ("an older copy may hide later fixes".to_owned(), Some("use the current copy of the store".into()))
            }
            StoreError::Chain { path, .. } => {
                (why, Some(Action::command(format!("veritum check store --store {}", shown(path)))))
            }
            StoreError::Pointer { path } => {
                let store = path.parent().and_then(Path::parent).unwrap_or(path);
                (why, Some(Action::command(format!("veritum repair store --store {}", shown(store)))))
            }
            StoreError::Remote { .. } => {
                (why, Some("leave out --store to verify against the vendor's repository".into()))
            }
            StoreError::Expired { .. } => (
                "over a network an old copy could be served forever".to_owned(),
                Some("ask the store's maintainer to sign it again (veritum store sign)".into()),
            ),
            StoreError::NotAFolder { .. } => {
                let next = "work on its folder, then upload the files again";
                return Self::usage(error.to_string(), why, Some(next.into()));
            }
            StoreError::NotAStore { path } if path.to_string_lossy().starts_with("http") => {
                ("no store.json at that address".to_owned(), None)
            }
            StoreError::NotAStore { path } if is_empty(path) => {
                ("the folder is empty or missing: is the disk mounted?".to_owned(), None)
            }
            StoreError::NotAStore { .. } => (why, Some(Action::command("veritum help store create"))),
            StoreError::Busy { .. } => (why, Some("wait until it ends, then run the command again".into())),
            StoreError::Absent { .. } => (why, Some(Action::command("veritum store add --installed"))),
            StoreError::Keys(KeysError::Exposed { path }) => {
                (why, Some(Action::command(format!("chmod 600 {}", shown(path)))))
            }
            StoreError::Keys(KeysError::File { source, .. }) if source.kind() == std::io::ErrorKind::NotFound => {
                (why, Some("name the folder of the private keys: --keys KEYDIR".into()))
            }
            _ => (why, None),
        };
        Self::not_done(error.to_string(), why, hint)
    }
}

/// Whether a folder does not exist or is empty, such as a mount point without its medium.
fn is_empty(place: &Path) -> bool {
    match std::fs::read_dir(place) {
        Ok(mut names) => names.next().is_none(),
        Err(e) => e.kind() == std::io::ErrorKind::NotFound,
    }
}

/// The error for an unknown word, with the word that was probably meant.
pub(crate) fn unknown_word(kind: &str, typed: &str, known: &[&str]) -> Failure {
    let hint = nearest(typed, known.iter().copied()).map(|k| format!("did you mean '{k}'?").into());
    let all = known.join(", ");
    Failure::usage(format!("unknown {kind}: {}", quoted(typed.as_bytes())), format!("known: {all}"), hint)
}

/// The known word that was probably meant.
fn nearest<'a>(typed: &str, known: impl Iterator<Item = &'a str>) -> Option<&'a str> {
    let near = known.map(|k| (strsim::levenshtein(typed, k), k)).min();
    near.filter(|(d, k)| !typed.is_empty() && *d <= k.len().max(3) / 3 + 1).map(|(_, k)| k)
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_typing_error_gets_a_suggestion_and_a_strange_word_does_not() {
        assert_eq!(unknown_word("area", "flies", &["files"]).hint, Some("did you mean 'files'?".into()));
        assert_eq!(unknown_word("area", "zzzzzzzz", &["files"]).hint, None);
    }

    #[test]
    fn a_name_that_is_not_known_leads_to_those_that_are() {
        let hint = |known: &[&str], listed_by| {
            let known = known.iter().map(|name| (*name).to_owned()).collect();
            let error = WorkError::Unknown { what: "pier", name: "zzzzzzzz".into(), known, listed_by };
            let failure = Failure::from(error);
            assert_eq!(failure.what, "no such pier: zzzzzzzz");
            failure.hint
        };
        assert_eq!(hint(&["north", "south"], Some("list piers")), Some(Action::command("veritum list piers")));
        assert_eq!(hint(&["north", "south"], None), Some("known: north, south".into()));
        assert_eq!(hint(&[], None), None);
    }

    #[test]
    fn control_characters_are_not_printed() {
        assert_eq!(clean("a\x1b[31mb\n"), "a [31mb ");
    }
}
