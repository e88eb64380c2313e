//! The proof that updates come: lists that count as new, and one package, downloaded and verified.

use super::updates::Waiting;
use super::{WorkError, Workshop};
use crate::archive::{FetchError, Lacking, Renewal, RenewalError};
use crate::event::{Event, Observer, Phase};
use crate::model::ComponentId;
use crate::platform::Progress;
use crate::report::{ProofReport, ProofWord, ProvedPackage, ProvedSource};
use crate::trust::openpgp::SignatureError;

impl Workshop {
    /// Tells what the archives gave, and downloads the smallest package that waits, or where nothing waits the smallest of
    /// those that are installed.
    pub(super) fn proof(
        &self,
        renewals: &[Renewal],
        waiting: &Waiting,
        observer: &dyn Observer,
    ) -> Result<ProofReport, WorkError> {
        let (updates, security, bytes) = (waiting.updates, waiting.security, waiting.bytes);
        let blank = ProofReport {
            outcome: ProofWord::NotTried,
            why: None,
            sources: Vec::new(),
            package: None,
            updates,
            security,
            bytes,
        };
        if !self.settings.archive.network {
            return Ok(ProofReport { why: Some("the network is not to be used".into()), ..blank });
        }
        if renewals.is_empty() {
            return Ok(ProofReport { why: Some("no archive of this machine is on the network".into()), ..blank });
        }
        let sources: Vec<ProvedSource> = renewals.iter().map(proved).collect();
        let package = match sources.iter().any(|source| source.why.is_none()) {
            true => self.package_that_comes(&waiting.ids, observer)?,
            false => None,
        };
        let failed = sources.iter().any(|s| s.why.is_some() && !s.unknown_key)
            || package.as_ref().is_some_and(|p| p.why.is_some())
            || sources.iter().all(|s| s.why.is_some());
        let outcome = if failed { ProofWord::Failed } else { ProofWord::Proved };
        Ok(ProofReport { outcome, sources, package, ..blank })
    }

    fn package_that_comes(
        &self,
        waiting: &[ComponentId],
        observer: &dyn Observer,
    ) -> Result<Option<ProvedPackage>, WorkError> {
        let installed = self.installed.components.iter().filter(|c| c.progress == Progress::InPlace).map(|c| &c.id);
        let installed: Vec<ComponentId> = installed.cloned().collect();
        self.with_archive(|archive| {
            archive.listed(&self.machine, installed.iter());
            let smallest = |ids: &[ComponentId]| -> Option<Lacking> {
                ids.iter().filter_map(|id| archive.on_network(id)).min_by_key(|l| l.candidate.sum.get().size)
            };
            let Some(lacking) = smallest(waiting).or_else(|| smallest(&installed)) else { return Ok(None) };
            let bytes = lacking.candidate.sum.get().size;
            observer.hear(Event::Begin { phase: Phase::Downloading, items: 1, bytes });
            let came = archive.try_download(&lacking, observer);
            observer.hear(Event::End);
            let (why, advice) = match came {
                Ok(()) => (None, None),
                Err(FetchError::Stopped) => return Err(WorkError::Stopped),
                Err(e) => (Some(e.to_string()), Some(fetch_advice(&e).to_owned())),
            };
            Ok(Some(ProvedPackage { component: lacking.id, bytes, why, advice }))
        })
    }
}

fn proved(renewal: &Renewal) -> ProvedSource {
    let (made, valid_until) = renewal.dates();
    let error = renewal.error();
    ProvedSource {
        source: renewal.source.words(),
        made: made.map(|at| at.to_string()),
        valid_until: valid_until.map(|at| at.to_string()),
        unknown_key: matches!(error, Some(RenewalError::Refused(SignatureError::OnlyHere { .. }))),
        why: error.map(ToString::to_string),
        advice: error.map(|e| advice(e, &renewal.source.file.to_string())),
    }
}

/// What to do about an archive that gives nothing new.
fn advice(error: &RenewalError, file: &str) -> String {
    match error {
        RenewalError::Fetch(e) => fetch_advice(e).to_owned(),
        RenewalError::Gone { .. } => {
            format!("look whether its release is still kept there, or has moved to an archive of old releases; it is named in {file}")
        }
        RenewalError::Unsigned | RenewalError::Unusable(_) => {
            "use another mirror of that archive, or ask who keeps it".into()
        }
        RenewalError::Refused(SignatureError::Bad { .. } | SignatureError::Shape(_) | SignatureError::TooLarge) => {
            "something between here and there alters what is sent: try another network or mirror; if it is so everywhere, \
             tell who keeps the archive"
                .into()
        }
        RenewalError::Refused(SignatureError::Future { .. }) | RenewalError::Ahead { .. } => {
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

fn fetch_advice(error: &FetchError) -> &'static str {
    match error {
        FetchError::Unreachable { .. } => {
            "look at cable, wireless network, name lookup and proxy, then type the same again"
        }
        FetchError::Silent { .. } | FetchError::Broken { .. } => {
            "the line or the server is overloaded: try again later, or use another mirror"
        }
        FetchError::Status { .. } => "the server refuses or is out of order: try again later, or use another mirror",
        FetchError::Circle { .. } => "the server, or a proxy on the way, is set up wrongly: use another mirror",
        FetchError::OtherContent { what, .. } if what.contains("login") => {
            "open a web page in a browser, log in to this network, then type the same again"
        }
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
            RenewalError::Fetch(FetchError::Silent { host: host() }),
            RenewalError::Fetch(FetchError::Circle { host: host() }),
            RenewalError::Fetch(FetchError::OtherContent {
                host: host(),
                what: "a web page; is there a login to the network?",
            }),
            RenewalError::Gone { host: host() },
            RenewalError::Refused(SignatureError::Bad { key: "AB".into() }),
            RenewalError::Refused(SignatureError::UnknownKeys { keys: vec!["AB".into()] }),
            RenewalError::Older { made: at, seen: at },
            RenewalError::Expired { until: at },
            RenewalError::Ahead { made: at },
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
