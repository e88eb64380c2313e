//! Where updates come from: the machine's sources, and the lists that were fetched from them.

use super::{ExaminedPart, about, at_path};
use crate::archive::{IndexState, OpenSource, Standing};
use crate::model::{ActionKind, Authority, Finding, Remedy, Subject, SystemPath, Verdict};
use crate::platform::debian::apt::{SourceKind, Sources};
use crate::trust::openpgp::SignatureError;

/// Clocks of good machines differ by less than this, seconds.
const CLOCK_STEP: i64 = 600;
const FETCH: &str = "fetch the lists anew: apt-get update, as root on that system";

/// By whose clock expiry is judged.
#[derive(Debug, Clone, Copy)]
pub(crate) struct Clock {
    pub(crate) now: jiff::Timestamp,
    /// Whether it is the machine's own.
    pub(crate) own: bool,
}

impl Clock {
    fn describe(&self) -> &'static str {
        if self.own { "this machine's clock" } else { "the clock of the computer that looks at it" }
    }
}

/// Judges the files that name the sources.
pub(crate) fn sources(sources: &Sources) -> ExaminedPart {
    let mut part = ExaminedPart::default();
    part.examined += sources.all.len() as u64;
    if sources.all.is_empty() && sources.problems.is_empty() {
        let path = SystemPath::literal("/etc/apt/sources.list");
        let advice = "enter the archives of this system's release there";
        part.add(at_path(&path, Verdict::Missing, "no archive is set up, so no update can come", Some(advice)));
    }
    for problem in &sources.problems {
        let advice = "put the line right, or take it out: apt reads nothing while it stands";
        part.add(at_path(&problem.path, Verdict::Garbled, &problem.what, Some(advice)));
    }
    for (file, what) in &sources.doubled {
        part.add(at_path(file, Verdict::Doubled, &format!("{what} is named a second time"), None));
    }
    part
}

/// Judges the lists of each source: their signature, whether they are what was signed, and their age.
/// `indexes` are those of each source, as they lie there.
pub(crate) fn lists(sources: &[OpenSource], indexes: &[Vec<(String, IndexState)>], clock: Clock) -> ExaminedPart {
    let mut part = ExaminedPart::default();
    let own = |(s, _): &(&OpenSource, _)| !s.named && s.source.kind() != SourceKind::Other;
    for (open, indexes) in sources.iter().zip(indexes).filter(own) {
        let authority = if open.standing.is_vouched() { Authority::Archive } else { Authority::SelfReported };
        part.saw(authority, 1 + indexes.len() as u64);
        judge(open, indexes, clock).into_iter().for_each(|finding| part.add(finding));
    }
    part
}

/// What is wrong with a source's lists; the gravest, with the others beside it.
fn judge(open: &OpenSource, indexes: &[(String, IndexState)], clock: Clock) -> Option<Finding> {
    let mut all = match &open.standing {
        Standing::Vouched { dated, valid_until, .. } => {
            let mut all = Vec::new();
            let wrong = indexes.iter().filter_map(|(name, state)| match state {
                IndexState::Wrong(why) => Some(format!("{name}: {why}")),
                _ => None,
            });
            all.extend(some_of(wrong).map(|cause| (Verdict::Altered, cause, FETCH.to_owned())));
            let missing = indexes.iter().filter(|(_, state)| *state == IndexState::Missing);
            let cause = some_of(missing.map(|(name, _)| format!("{name} is not here")));
            all.extend(cause.map(|cause| (Verdict::Missing, cause, FETCH.to_owned())));
            all.extend(age(*dated, *valid_until, clock));
            all
        }
        Standing::Refused(error) => vec![refused(open, error, clock)],
        Standing::Unusable(why) => vec![(Verdict::Garbled, why.clone(), FETCH.to_owned())],
        Standing::Absent(why) => vec![(Verdict::Missing, why.clone(), FETCH.to_owned())],
    };
    all.sort_by_key(|(verdict, ..)| *verdict);
    let (verdict, cause, advice) = all.first()?;
    let subject = Subject::Source { name: open.source.describe() };
    let also = all[1..].iter().map(|(verdict, ..)| *verdict).collect();
    let finding = Finding { also, ..about(subject, *verdict, cause, Some(advice)) };
    // What was fetched once can be fetched again; a key or a clock cannot.
    let fetched = matches!(verdict, Verdict::BadSignature | Verdict::Garbled | Verdict::Altered | Verdict::Missing);
    if fetched && open.source.kind() == SourceKind::Network {
        let remedy = Some(Remedy { action: ActionKind::Renew, from: Some("archive".into()), download: None });
        let advice = finding.advice.filter(|_| *verdict == Verdict::BadSignature);
        return Some(Finding { remedy, advice, ..finding });
    }
    Some(finding)
}

/// The first of several, and how many more there are.
fn some_of(mut all: impl Iterator<Item = String>) -> Option<String> {
    let first = all.next()?;
    let more = all.count();
    Some(if more > 0 { format!("{first}, and {more} more") } else { first })
}

fn age(
    dated: Option<jiff::Timestamp>,
    valid_until: Option<jiff::Timestamp>,
    clock: Clock,
) -> Option<(Verdict, String, String)> {
    if let Some(dated) = dated.filter(|d| d.as_second() > clock.now.as_second() + CLOCK_STEP) {
        let cause = format!("its release file was made {dated}, and by {} it is {}", clock.describe(), clock.now);
        return Some((Verdict::AheadOfClock, cause, "set the clock; apt refuses what comes from the future".into()));
    }
    let until = valid_until.filter(|until| *until < clock.now)?;
    let cause = format!("its lists counted as new until {until}; nothing was fetched since");
    Some((Verdict::Expired, cause, FETCH.to_owned()))
}

fn refused(open: &OpenSource, error: &SignatureError, clock: Clock) -> (Verdict, String, String) {
    let keyring = open.source.signers.keyrings.first().map_or_else(
        || "install the vendor's package of keys".to_owned(),
        |path| format!("put the vendor's key into {path}, or install the package that brings it"),
    );
    match error {
        SignatureError::Bad { .. } => {
            let cause = format!("{error}: its lists were damaged or forged");
            (
                Verdict::BadSignature,
                cause,
                "if it is so again after it was fetched afresh, somebody interferes with this archive".into(),
            )
        }
        SignatureError::Future { .. } => {
            (Verdict::AheadOfClock, format!("{error} ({})", clock.describe()), "set the clock".into())
        }
        SignatureError::Shape(_) | SignatureError::TooLarge => (Verdict::Garbled, error.to_string(), FETCH.to_owned()),
        // apt itself is content with a key that only the machine has.
        SignatureError::OnlyHere { .. } => (
            Verdict::Unvouched,
            format!("{error}: its lists were not looked into"),
            "when you know it to be the vendor's: veritum store trust KEYRING".into(),
        ),
        _ => (Verdict::NoKey, error.to_string(), keyring),
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
        assert!(verdict == Verdict::AheadOfClock && cause.contains("this machine's clock"));
        let (verdict, ..) = age(Some(at("2026-03-01T00:00:00Z")), Some(at("2026-03-03T00:00:00Z")), clock).unwrap();
        assert_eq!(verdict, Verdict::Expired);
        assert_eq!(age(Some(at("2026-03-04T07:35:00Z")), Some(at("2026-03-09T00:00:00Z")), clock), None);
    }
}
