//! What the archives themselves answer, when the network may be asked: whether anything new can come from them.

use super::{ExaminedPart, about};
use crate::archive::{FetchError, Renewal, RenewalError};
use crate::model::{Authority, Finding, Subject, Verdict};
use crate::trust::openpgp::SignatureError;

/// Judges what each source answered.
pub(crate) fn archives(renewals: &[Renewal]) -> ExaminedPart {
    let mut part = ExaminedPart::default();
    for renewal in renewals {
        // That is a matter of this computer's, and says nothing about the archive.
        if let Some(RenewalError::Unremembered(why)) = renewal.error() {
            part.unexamined.push((format!("whether archives went back in time: {why}"), 1, None));
            continue;
        }
        part.saw(Authority::Archive, 1);
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
        RenewalError::Gone { .. } => Verdict::Gone,
        RenewalError::Refused(SignatureError::Bad { .. }) => Verdict::BadSignature,
        RenewalError::Refused(SignatureError::Shape(_) | SignatureError::TooLarge)
        | RenewalError::Unsigned
        | RenewalError::Unusable(_)
        | RenewalError::Index { .. } => Verdict::Garbled,
        RenewalError::Refused(SignatureError::Future { .. }) | RenewalError::FutureDated { .. } => {
            Verdict::AheadOfClock
        }
        RenewalError::Unremembered(_) => return None,
        // Said of its lists already: apt is content with it.
        RenewalError::Refused(SignatureError::OnlyHere { .. }) => return None,
        RenewalError::Refused(_) => Verdict::NoKey,
        RenewalError::Older { .. } => Verdict::WentBack,
        RenewalError::Expired { .. } => Verdict::Expired,
    };
    let subject = Subject::Source { name: source.to_owned() };
    Some(about(subject, verdict, &format!("asked now: {error}"), Some(&advice(error, file))))
}

/// What to do about an archive that gives nothing new; `file` names it.
pub(crate) fn advice(error: &RenewalError, file: &str) -> String {
    match error {
        RenewalError::Fetch(e) => fetch_advice(e).to_owned(),
        RenewalError::Gone { .. } => {
            format!("look whether its release is still kept there, or has moved to an archive of old releases; it is named in {file}")
        }
        RenewalError::Unremembered(_) => "type the same as root, or put that file right".into(),
        RenewalError::Unsigned | RenewalError::Unusable(_) => {
            "use another mirror of that archive, or ask who keeps it".into()
        }
        RenewalError::Refused(SignatureError::Bad { .. } | SignatureError::Shape(_) | SignatureError::TooLarge) => {
            "something between here and there alters what is sent: try another network or mirror; if it is so everywhere, \
             tell who keeps the archive"
                .into()
        }
        RenewalError::Refused(SignatureError::Future { .. }) | RenewalError::FutureDated { .. } => {
            "set the clock, then type the same again".into()
        }
        RenewalError::Refused(SignatureError::OnlyHere { .. }) => {
            "when you know the key to be the vendor's: veritum store trust KEYRING".into()
        }
        RenewalError::Refused(_) => "the archive has another key now, or somebody else answers: get the vendor's current \
             package of keys over another way"
            .into(),
        RenewalError::Older { .. } => {
            "use another mirror: this one is behind, or somebody gives out an old copy to hide what was put right since"
                .into()
        }
        RenewalError::Expired { .. } => {
            "use another mirror, and look whether the clock is right: this archive was not kept up to date".into()
        }
        RenewalError::Index { .. } => {
            "the archive is in the midst of a change: type the same again in a quarter of an hour, or use another mirror"
                .into()
        }
    }
}

/// What to do when a file cannot be got.
pub(crate) fn fetch_advice(error: &FetchError) -> &'static str {
    match error {
        FetchError::Unreachable { .. } => {
            "look at cable, wireless network, name lookup and proxy, then type the same again"
        }
        FetchError::NoAnswer { .. } | FetchError::Broken { .. } => {
            "the line or the server is overloaded: try again later, or use another mirror"
        }
        FetchError::Status { .. } => "the server refuses or is out of order: try again later, or use another mirror",
        FetchError::Circle { .. } | FetchError::LeadsAway { .. } => {
            "the server, or a proxy on the way, is set up wrongly: use another mirror"
        }
        FetchError::WebPage { .. } => "open a web page in a browser, log in to this network, then type the same again",
        FetchError::TooLong { .. } | FetchError::OtherContent { .. } => {
            "a proxy or mirror gives out something else: use another mirror, or go around the proxy"
        }
        FetchError::Tls { .. } => "look whether the clock is right, and whether a proxy breaks secure connections open",
        FetchError::Disk(_) => "make room, then type the same again",
        FetchError::Stopped => "type the same again",
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
        let mut told: Vec<String> = troubles.iter().map(|e| advice(e, "/etc/apt/sources.list")).collect();
        told.sort();
        told.dedup();
        assert_eq!(told.len(), troubles.len());
        assert!(advice(&troubles[3], "").contains("log in"));
        assert!(advice(&troubles[4], "/etc/apt/sources.list").contains("/etc/apt/sources.list"));
    }
}
