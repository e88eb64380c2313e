//! The repositories' own answers, if the network may be used: whether they offer anything new.

use super::{ExaminedPart, about};
use crate::model::{Action, Authority, Finding, Subject, Verdict};
use crate::repository::{FetchError, Renewal, RenewalError};
use crate::trust::openpgp::SignatureError;

/// Judges the answer of each source.
pub(crate) fn repositories(renewals: &[Renewal]) -> ExaminedPart {
    let mut part = ExaminedPart::default();
    for renewal in renewals {
        // That is a matter of this computer, not of the repository.
        if let Some(RenewalError::Unremembered(why)) = renewal.error() {
            part.unexamined.push((format!("whether repositories were rolled back: {why}"), 1, None));
            continue;
        }
        part.saw(Authority::Repository, 1);
        if let Some(finding) =
            renewal.error().and_then(|e| judge(&renewal.source.describe(), &renewal.source.file.to_string(), e))
        {
            part.add(finding);
        }
    }
    part
}

fn judge(source: &str, file: &str, error: &RenewalError) -> Option<Finding> {
    let verdict = match error {
        RenewalError::Fetch(_) => Verdict::Unreachable,
        RenewalError::Gone { .. } => Verdict::NoSuchRelease,
        RenewalError::Refused(SignatureError::Bad { .. }) => Verdict::BadSignature,
        RenewalError::Refused(SignatureError::Shape(_) | SignatureError::TooLarge)
        | RenewalError::Unsigned
        | RenewalError::Unusable(_)
        | RenewalError::Index { .. } => Verdict::Corrupt,
        RenewalError::Refused(SignatureError::Future { .. }) | RenewalError::FutureDated { .. } => Verdict::FutureDated,
        RenewalError::Unremembered(_) => return None,
        // Reported with its lists already: apt accepts it.
        RenewalError::Refused(SignatureError::OnlyHere { .. }) => return None,
        RenewalError::Refused(_) => Verdict::KeyMissing,
        RenewalError::Older { .. } => Verdict::RolledBack,
        RenewalError::Expired { .. } => Verdict::Outdated,
    };
    let subject = Subject::Source { name: source.to_owned() };
    Some(about(subject, verdict, &format!("asked now: {error}"), Some(advice(error, file))))
}

/// The advice for a repository that offers nothing new; `file` lists it.
pub(crate) fn advice(error: &RenewalError, file: &str) -> Action {
    match error {
        RenewalError::Fetch(e) => fetch_advice(e).into(),
        RenewalError::Gone { .. } => {
            format!("check whether the release is still served there or was archived; it is configured in {file}")
                .into()
        }
        RenewalError::Unremembered(_) => "run the command again as root, or correct that file".into(),
        RenewalError::Unsigned | RenewalError::Unusable(_) => {
            "use another mirror, or ask the repository's maintainer".into()
        }
        RenewalError::Refused(SignatureError::Bad { .. } | SignatureError::Shape(_) | SignatureError::TooLarge) => {
            "the data is altered in transit: try another network or mirror; if it is the same everywhere, \
             tell the repository's maintainer"
                .into()
        }
        RenewalError::Refused(SignatureError::Future { .. }) | RenewalError::FutureDated { .. } => {
            "set the clock, then run the command again".into()
        }
        RenewalError::Refused(SignatureError::OnlyHere { .. }) => {
            Action::explained("trust the key if it is the vendor's", "veritum store trust KEYRING")
        }
        RenewalError::Refused(_) => {
            "the repository has a new key, or is not the vendor's: get the vendor's current keyring package over a \
             separate channel"
                .into()
        }
        RenewalError::Older { .. } => {
            "use another mirror: this one is outdated, or serves an old copy to hide later fixes".into()
        }
        RenewalError::Expired { .. } => {
            "use another mirror, and check the clock: this repository is not kept up to date".into()
        }
        RenewalError::Index { .. } => {
            "the repository is being updated: run the command again in 15 minutes, or use another mirror".into()
        }
    }
}

/// The advice when a file cannot be downloaded.
pub(crate) fn fetch_advice(error: &FetchError) -> &'static str {
    match error {
        FetchError::Unreachable { .. } => {
            "check cable, wireless network, name lookup and proxy, then run the command again"
        }
        FetchError::NoAnswer { .. } | FetchError::Broken { .. } => {
            "the network or the server is overloaded: try again later, or use another mirror"
        }
        FetchError::Status { .. } => "the server refuses or is out of order: try again later, or use another mirror",
        FetchError::Circle { .. } | FetchError::LeadsAway { .. } => {
            "the server or a proxy is misconfigured: use another mirror"
        }
        FetchError::WebPage { .. } => "log in to this network in a browser, then run the command again",
        FetchError::TooLong { .. } | FetchError::OtherContent { .. } => {
            "a proxy or mirror serves different content: use another mirror, or bypass the proxy"
        }
        FetchError::Tls { .. } => "check the clock, and whether a proxy intercepts TLS",
        FetchError::Disk(_) => "free some space, then run the command again",
        FetchError::Stopped => "run the command again",
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn each_trouble_has_its_own_advice() {
        let host = || "quay.example".to_owned();
        let at = jiff::Timestamp::UNIX_EPOCH;
        let troubles = [
            RenewalError::Fetch(FetchError::Unreachable { host: host(), why: "no".into() }),
            RenewalError::Fetch(FetchError::NoAnswer { host: host() }),
            RenewalError::Fetch(FetchError::Circle { host: host() }),
            RenewalError::Fetch(FetchError::WebPage { host: host() }),
            RenewalError::Gone { host: host() },
            RenewalError::Refused(SignatureError::Bad { key: "AB".into() }),
            RenewalError::Refused(SignatureError::UnknownKeys { keys: vec!["AB".into()] }),
            RenewalError::Older { made: at, seen: at },
            RenewalError::Expired { until: at },
            RenewalError::FutureDated { made: at },
            RenewalError::Index { name: "x".into(), why: "y".into() },
        ];
        let mut told: Vec<Action> = troubles.iter().map(|e| advice(e, "/etc/apt/sources.list")).collect();
        told.sort();
        told.dedup();
        assert_eq!(told.len(), troubles.len());
        assert!(advice(&troubles[3], "").contains("log in"));
        assert!(advice(&troubles[4], "/etc/apt/sources.list").contains("/etc/apt/sources.list"));
    }
}
