//! The machine's sources, and the lists downloaded from them.

use super::{ExaminedPart, about, at_path};
use crate::model::{Action, ActionKind, Authority, Finding, Remedy, Subject, SystemPath, Verdict};
use crate::platform::debian::apt::{SourceKind, Sources};
use crate::repository::{IndexState, OpenSource, Standing};
use crate::trust::openpgp::SignatureError;

/// The clocks of correctly set machines differ by less than this, in seconds.
const CLOCK_STEP: i64 = 600;

fn fetch() -> Action {
    Action::command("apt-get update")
}

/// The clock by which expiry is judged.
#[derive(Debug, Clone, Copy)]
pub(crate) struct Clock {
    pub(crate) now: jiff::Timestamp,
    /// Whether it is the machine's own clock.
    pub(crate) own: bool,
}

impl Clock {
    fn describe(&self) -> &'static str {
        if self.own { "this machine's clock" } else { "this computer's clock" }
    }
}

/// Judges the files that list the sources.
pub(crate) fn sources(sources: &Sources) -> ExaminedPart {
    let mut part = ExaminedPart::default();
    part.examined += sources.all.len() as u64;
    if sources.all.is_empty() && sources.problems.is_empty() {
        let path = SystemPath::literal("/etc/apt/sources.list");
        let advice = "add the repositories of this system's release to it";
        part.add(at_path(
            &path,
            Verdict::Missing,
            "no repository is configured, so updates are not possible",
            Some(advice.into()),
        ));
    }
    for problem in &sources.problems {
        let advice = "correct or remove the line: apt reads no sources until then";
        part.add(at_path(&problem.path, Verdict::Corrupt, &problem.what, Some(advice.into())));
    }
    for (file, what) in &sources.doubled {
        part.add(at_path(file, Verdict::Duplicate, &format!("{what} is listed twice"), None));
    }
    part
}

/// Judges the lists of each source: their signature, their content and their age.
/// `indexes` are those of each source, as they are on the machine.
pub(crate) fn lists(sources: &[OpenSource], indexes: &[Vec<(String, IndexState)>], clock: Clock) -> ExaminedPart {
    let mut part = ExaminedPart::default();
    let own = |(s, _): &(&OpenSource, _)| !s.named && s.source.kind() != SourceKind::Other;
    for (open, indexes) in sources.iter().zip(indexes).filter(own) {
        let authority = if open.standing.is_verified() { Authority::Repository } else { Authority::Local };
        part.saw(authority, 1 + indexes.len() as u64);
        judge(open, indexes, clock).into_iter().for_each(|finding| part.add(finding));
    }
    part
}

/// Problems of a source's lists; the most serious, with the others next to it.
fn judge(open: &OpenSource, indexes: &[(String, IndexState)], clock: Clock) -> Option<Finding> {
    let mut all = match &open.standing {
        Standing::Verified { dated, valid_until, .. } => {
            let mut all = Vec::new();
            let wrong = indexes.iter().filter_map(|(name, state)| match state {
                IndexState::Wrong(why) => Some(format!("{name}: {why}")),
                _ => None,
            });
            all.extend(some_of(wrong).map(|cause| (Verdict::Altered, cause, fetch())));
            let missing = indexes.iter().filter(|(_, state)| *state == IndexState::Missing);
            let cause = some_of(missing.map(|(name, _)| format!("{name} is missing")));
            all.extend(cause.map(|cause| (Verdict::Missing, cause, fetch())));
            all.extend(age(*dated, *valid_until, clock));
            all
        }
        Standing::Refused(error) => vec![refused(open, error, clock)],
        Standing::Unusable(why) => vec![(Verdict::Corrupt, why.clone(), fetch())],
        Standing::Absent(why) => vec![(Verdict::Missing, why.clone(), fetch())],
    };
    all.sort_by_key(|(verdict, ..)| *verdict);
    let (verdict, cause, action) = all.first()?;
    let subject = Subject::Source { name: open.source.describe() };
    let also = all[1..].iter().map(|(verdict, ..)| *verdict).collect();
    let finding = Finding { also, ..about(subject, *verdict, cause, Some(action.clone())) };
    // Lists can be downloaded again; a key or a clock cannot be repaired so.
    let fetched = matches!(verdict, Verdict::BadSignature | Verdict::Corrupt | Verdict::Altered | Verdict::Missing);
    if fetched && open.source.kind() == SourceKind::Network {
        let remedy = Some(Remedy { action: ActionKind::Renew, from: Some("repository".into()), download: None });
        let action = finding.action.filter(|_| *verdict == Verdict::BadSignature);
        return Some(Finding { remedy, action, ..finding });
    }
    Some(finding)
}

/// The first of several, and the number of the others.
fn some_of(mut all: impl Iterator<Item = String>) -> Option<String> {
    let first = all.next()?;
    let more = all.count();
    Some(if more > 0 { format!("{first} and {more} more") } else { first })
}

fn age(
    dated: Option<jiff::Timestamp>,
    valid_until: Option<jiff::Timestamp>,
    clock: Clock,
) -> Option<(Verdict, String, Action)> {
    if let Some(dated) = dated.filter(|d| d.as_second() > clock.now.as_second() + CLOCK_STEP) {
        let cause = format!("the release file is dated {dated}; {} shows {}", clock.describe(), clock.now);
        return Some((
            Verdict::FutureDated,
            cause,
            "set the clock: apt rejects release files dated in the future".into(),
        ));
    }
    let until = valid_until.filter(|until| *until < clock.now)?;
    let cause = format!("the package lists expired on {until} and were not updated since");
    Some((Verdict::Outdated, cause, fetch()))
}

fn refused(open: &OpenSource, error: &SignatureError, clock: Clock) -> (Verdict, String, Action) {
    let keyring = open.source.signers.keyrings.first().map_or_else(
        || "install the vendor's keyring package".to_owned(),
        |path| format!("put the vendor's key into {path}, or install the vendor's keyring package"),
    );
    match error {
        SignatureError::Bad { .. } => {
            let cause = format!("{error}: its package lists are damaged or forged");
            (
                Verdict::BadSignature,
                cause,
                "if this persists after a new download, the repository may be tampered with".into(),
            )
        }
        SignatureError::Future { .. } => {
            (Verdict::FutureDated, format!("{error} ({})", clock.describe()), "set the clock".into())
        }
        SignatureError::Shape(_) | SignatureError::TooLarge => (Verdict::Corrupt, error.to_string(), fetch()),
        // apt itself accepts a key that only the machine has.
        SignatureError::OnlyHere { .. } => (
            Verdict::Unverified,
            format!("{error}: its package lists were not checked"),
            Action::explained("trust the key if it is the vendor's", "veritum store trust KEYRING"),
        ),
        _ => (Verdict::KeyMissing, error.to_string(), keyring.into()),
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn the_clock_is_named_when_a_list_comes_from_the_future() {
        let at = |text: &str| text.parse::<jiff::Timestamp>().unwrap();
        let clock = Clock { now: at("2026-03-04T07:30:00Z"), own: true };
        let (verdict, cause, _) = age(Some(at("2026-03-05T00:00:00Z")), None, clock).unwrap();
        assert!(verdict == Verdict::FutureDated && cause.contains("this machine's clock"));
        let (verdict, ..) = age(Some(at("2026-03-01T00:00:00Z")), Some(at("2026-03-03T00:00:00Z")), clock).unwrap();
        assert_eq!(verdict, Verdict::Outdated);
        assert_eq!(age(Some(at("2026-03-04T07:35:00Z")), Some(at("2026-03-09T00:00:00Z")), clock), None);
    }
}
