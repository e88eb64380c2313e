//! The one translator at the top: from the core's errors to words, exit status and the next command.

use std::path::Path;

use veritum_core::change::{ChangeError, JournalError};
use veritum_core::machine::MachineError;
use veritum_core::model::{error_chain, error_words, quoted};
use veritum_core::store::StoreError;
use veritum_core::trust::KeysError;
use veritum_core::work::WorkError;

use crate::exit;
use crate::places::shown;

/// What is said when something could not be done: three short lines at most.
#[derive(Debug)]
pub(crate) struct Failure {
    /// What went wrong.
    pub(crate) what: String,
    /// Why, when that is not said already.
    pub(crate) why: String,
    /// What to do.
    pub(crate) hint: Option<String>,
    /// The exit status.
    pub(crate) status: u8,
}

impl Failure {
    pub(crate) fn usage(what: String, why: String, hint: Option<String>) -> Self {
        Self { what, why, hint, status: exit::USAGE }
    }

    pub(crate) fn not_done(what: String, why: String, hint: Option<String>) -> Self {
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
        if let Some(hint) = &self.hint {
            let _ = writeln!(err, "  Next: {}", clean(hint));
        }
    }
}

/// Control characters in messages that quote foreign data never reach the terminal raw.
fn clean(text: &str) -> String {
    text.chars().map(|c| if c.is_control() { ' ' } else { c }).collect()
}

/// What is said where a question would have to be asked.
pub(crate) fn nobody(why: &str) -> Failure {
    Failure::usage(
        "there is nobody to ask".into(),
        why.into(),
        Some("add --yes to agree beforehand, or --plan to only look".into()),
    )
}

impl From<WorkError> for Failure {
    fn from(error: WorkError) -> Self {
        match error {
            WorkError::Store(e) => e.into(),
            WorkError::Change(e) => e.into(),
            WorkError::Target(e) => e.into(),
            WorkError::ChangeUnderWay => Self::not_done(
                error.to_string(),
                "what would be seen now is half of it".into(),
                Some("wait for the other veritum to end, then type the same again".into()),
            ),
            WorkError::NotMounted { ref place } => Self::not_done(
                "nothing can be changed on this machine now".into(),
                error.to_string(),
                Some(format!("mount it below the target at {place}, then type the same again")),
            ),
            WorkError::LockHeld { ref path, ref who, stuck } => Self::not_done(
                format!("a package tool works on this machine ({path})"),
                who.clone(),
                Some(match stuck {
                    true => "look at that program: it may wait for an answer or for the network".into(),
                    false => "let it end, then type the same again".into(),
                }),
            ),
            WorkError::InUse => Self::not_done(
                "nothing can be changed on this machine now".into(),
                error.to_string(),
                Some("run veritum inside it, or end what runs there; `check` works as it is".into()),
            ),
            WorkError::Unknown { ref name, ref known, listed_by, .. } => {
                let near = nearest(name, known.iter().map(String::as_str)).map(|k| format!("did you mean {k}?"));
                let hint = match listed_by {
                    Some(command) => Some(format!("veritum {command}")),
                    None => known.first().map(|_| format!("one of {}", known.join(", "))),
                };
                Self::usage(error.to_string(), near.unwrap_or_default(), hint)
            }
            WorkError::Card { ref why, .. } => Self::usage(
                error.to_string(),
                why.clone(),
                Some("put it right, or take it out of the folder of cards".into()),
            ),
            WorkError::AppRuns { ref user, ref pids, .. } => Self {
                what: format!("{error} for {user}"),
                why: format!(
                    "process {}; nothing was changed",
                    pids.iter().map(u32::to_string).collect::<Vec<_>>().join(", ")
                ),
                hint: Some("let its user save and close it, then type the same again".into()),
                status: exit::PROBLEMS,
            },
            WorkError::SeveralApps { ref ids, .. } => Self::usage(
                error.to_string(),
                format!("its ids are {}", ids.join(", ")),
                Some("type one of them: app:ID".into()),
            ),
            WorkError::NoSuchFile { .. } => {
                Self::usage(error.to_string(), "it is not there, and no installed component owns it".into(), None)
            }
            WorkError::Ambiguous { .. } => Self::usage(
                error.to_string(),
                "type more of its signs".into(),
                Some("veritum check --ungrouped".into()),
            ),
            WorkError::NoStore => Self::usage(
                error.to_string(),
                "only a store that is named can be looked at".into(),
                Some("add --store LOCATION".into()),
            ),
            WorkError::NobodyToAsk => nobody("packages would be downloaded first, and then you would be asked"),
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

impl From<MachineError> for Failure {
    fn from(error: MachineError) -> Self {
        let why = std::error::Error::source(&error).map(error_words).unwrap_or_default();
        let hint = match &error {
            MachineError::NoSystem { .. } => Some("name the folder in which a system is mounted: --target DIR".into()),
            MachineError::Open { .. } => Some("look whether the folder is there and mounted".into()),
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
                why: "nothing is changed before it is finished or taken back".into(),
                hint: Some("veritum recover".into()),
                status: exit::PROBLEMS,
            },
            ChangeError::Unfinished { .. } => {
                Self { what: error.to_string(), why, hint: Some("veritum recover".into()), status: exit::PROBLEMS }
            }
            ChangeError::NoRoom { .. } => Self::not_done(
                error.to_string(),
                "nothing was changed".into(),
                Some("make room there, then type the same again".into()),
            ),
            ChangeError::Busy => Self::not_done(
                error.to_string(),
                String::new(),
                Some("wait for it to end, then type the same again".into()),
            ),
            ChangeError::Overtaken => {
                Self::not_done(error.to_string(), String::new(), Some("veritum list changes".into()))
            }
            ChangeError::NoRights { .. } => {
                Self::not_done(error.to_string(), String::new(), Some("run as root".into()))
            }
            ChangeError::PackageTool { .. } => {
                Self::not_done(error.to_string(), String::new(), Some("let it end, then type the same again".into()))
            }
            ChangeError::Service { .. } => {
                Self::not_done(error.to_string(), why, Some("stop it in your own way, then type the same again".into()))
            }
            ChangeError::ServiceHeld { unit, .. } => Self {
                what: error.to_string(),
                why: format!("{why}; it is so until the machine starts anew"),
                hint: Some(format!("systemctl unmask --runtime {unit}, then: veritum recover")),
                status: exit::PROBLEMS,
            },
            ChangeError::Stopped => Self {
                what: "interrupted".into(),
                why: "everything was taken back".into(),
                hint: None,
                status: exit::INTERRUPTED,
            },
            ChangeError::State(_) => Self::not_done(
                "the state folder of the machine cannot be used".into(),
                why,
                Some("run as root, or name another folder: --state DIR".into()),
            ),
            ChangeError::Journal { source: JournalError::Newer(_), .. } => {
                Self::not_done(error.to_string(), why, Some("use the Veritum that wrote it, or a newer one".into()))
            }
            ChangeError::Journal { change, source: JournalError::Damaged(_) } => Self::not_done(
                error.to_string(),
                format!("{why}; nothing was changed, and what it keeps is still there"),
                Some(format!("veritum explain {change}")),
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
                "WARNING: a store at this place was trusted before, with other keys".to_owned(),
                Some(format!("ask whoever keeps the store, then: veritum store trust {}", shown(path))),
            ),
            StoreError::NotTrusted { path, .. } => (
                "nobody has said yet that its keys are the right ones".to_owned(),
                Some(format!("veritum store trust {}", shown(path))),
            ),
            StoreError::Unpublished { path } => {
                (why, Some(format!("veritum store publish --keys KEYDIR --store {}", shown(path))))
            }
            StoreError::RolledBack { .. } => (
                "an older copy may hide what was put right since".to_owned(),
                Some("get the current copy of the store".into()),
            ),
            StoreError::Chain { path, .. } => (why, Some(format!("veritum check store --store {}", shown(path)))),
            StoreError::Pointer { path } => {
                let store = path.parent().and_then(Path::parent).unwrap_or(path);
                (why, Some(format!("veritum repair store --store {}", shown(store))))
            }
            StoreError::Remote { .. } => (why, Some("without --store the vendor's archive vouches".into())),
            StoreError::Expired { .. } => (
                "over a network an old copy of it could be handed out for ever".to_owned(),
                Some("its keeper signs it anew: veritum store publish --keys KEYDIR --store FOLDER".into()),
            ),
            StoreError::NotAFolder { .. } => {
                let next = "work on its folder, then put the files on the server again";
                return Self::usage(error.to_string(), why, Some(next.into()));
            }
            StoreError::NotAStore { path } if path.to_string_lossy().starts_with("http") => {
                ("there is no store.json below that address".to_owned(), None)
            }
            StoreError::NotAStore { path } if is_empty(path) => {
                ("nothing is there: is its medium mounted?".to_owned(), None)
            }
            StoreError::NotAStore { .. } => (why, Some("veritum store create DIR --keys KEYDIR".into())),
            StoreError::Busy { .. } => (why, Some("wait for it to end, then type the same again".into())),
            StoreError::Absent { .. } => (why, Some("veritum store fill PATH".into())),
            StoreError::Keys(KeysError::Exposed { path }) => (why, Some(format!("chmod 600 {}", shown(path)))),
            _ => (why, None),
        };
        Self::not_done(error.to_string(), why, hint)
    }
}

/// Whether there is nothing at a place, or nothing in it: as with a mount point whose medium is not mounted.
fn is_empty(place: &Path) -> bool {
    match std::fs::read_dir(place) {
        Ok(mut names) => names.next().is_none(),
        Err(e) => e.kind() == std::io::ErrorKind::NotFound,
    }
}

/// A word that was typed and means nothing, with what was probably meant.
pub(crate) fn unknown_word(kind: &str, typed: &str, known: &[&str]) -> Failure {
    let hint = nearest(typed, known.iter().copied()).map(|k| format!("did you mean '{k}'?"));
    let all = known.join(", ");
    Failure::usage(format!("{} is no {kind}", quoted(typed.as_bytes())), format!("known: {all}"), hint)
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
        assert_eq!(unknown_word("area", "flies", &["files"]).hint.as_deref(), Some("did you mean 'files'?"));
        assert_eq!(unknown_word("area", "zzzzzzzz", &["files"]).hint, None);
    }

    #[test]
    fn a_name_that_is_not_known_leads_to_those_that_are() {
        let hint = |known: &[&str], listed_by| {
            let known = known.iter().map(|name| (*name).to_owned()).collect();
            let error = WorkError::Unknown { what: "pier", name: "zzzzzzzz".into(), known, listed_by };
            let failure = Failure::from(error);
            assert_eq!(failure.what, "there is no pier zzzzzzzz");
            failure.hint
        };
        assert_eq!(hint(&["north", "south"], Some("list piers")).as_deref(), Some("veritum list piers"));
        assert_eq!(hint(&["north", "south"], None).as_deref(), Some("one of north, south"));
        assert_eq!(hint(&[], None), None);
    }

    #[test]
    fn control_characters_are_not_printed() {
        assert_eq!(clean("a\x1b[31mb\n"), "a [31mb ");
    }
}
