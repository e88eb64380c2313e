//! Verifies that updates work: current lists, and one package, downloaded and verified.

use super::{advice, fetch_advice};
use crate::areas::Cx;
use crate::event::{Event, Phase};
use crate::model::PackageId;
use crate::platform::InstallState;
use crate::report::{ProofOutcome, ProofReport, ProvedPackage, ProvedSource};
use crate::repository::{FetchError, Lacking, Renewal, RenewalError, try_download};
use crate::supply::Waiting;
use crate::system::WorkError;
use crate::trust::openpgp::SignatureError;

/// Reports the repositories' lists, and downloads the smallest package that is waiting, or, if none is, the smallest
/// installed one.
///
/// # Errors
/// If the run was stopped.
pub(super) fn proof(cx: &Cx<'_>) -> Result<ProofReport, WorkError> {
    if !cx.system.settings.repositories.network {
        return Ok(not_tried(cx, "network use is disabled"));
    }
    let offered = cx.supply.offered(cx.scope.everything, cx.observer)?;
    if offered.renewals.is_empty() {
        return Ok(not_tried(cx, "no repository of this machine is on the network"));
    }
    let waiting = cx.supply.with_repositories(|repositories| cx.supply.waiting(repositories));
    let sources: Vec<ProvedSource> = offered.renewals.iter().map(proved).collect();
    let package = match sources.iter().any(|source| source.why.is_none()) {
        true => deb_to_download(cx, &waiting.ids)?,
        false => None,
    };
    let failed = sources.iter().any(|s| s.why.is_some() && !s.unknown_key)
        || package.as_ref().is_some_and(|p| p.why.is_some())
        || sources.iter().all(|s| s.why.is_some());
    let outcome = if failed { ProofOutcome::Failed } else { ProofOutcome::Proved };
    Ok(ProofReport { outcome, why: None, sources, package, ..untried(&waiting, String::new()) })
}

fn deb_to_download(cx: &Cx<'_>, waiting: &[PackageId]) -> Result<Option<ProvedPackage>, WorkError> {
    let installed =
        cx.system.installed.packages.iter().filter(|c| c.install_state == InstallState::Installed).map(|c| &c.id);
    let installed: Vec<PackageId> = installed.cloned().collect();
    cx.supply.with_repositories(|repositories| {
        repositories.listed(&cx.system.machine, installed.iter());
        let smallest = |ids: &[PackageId]| -> Option<Lacking> {
            ids.iter().filter_map(|id| repositories.on_network(id)).min_by_key(|l| l.candidate.sum.get().size)
        };
        let Some(lacking) = smallest(waiting).or_else(|| smallest(&installed)) else { return Ok(None) };
        let bytes = lacking.candidate.sum.get().size;
        cx.observer.on_event(Event::Begin { phase: Phase::Downloading, items: 1, bytes });
        let came = try_download(repositories, &lacking, cx.observer);
        cx.observer.on_event(Event::End);
        let (why, action) = match came {
            Ok(()) => (None, None),
            Err(FetchError::Stopped) => return Err(WorkError::Stopped),
            Err(e) => (Some(e.to_string()), Some(fetch_advice(&e).into())),
        };
        Ok(Some(ProvedPackage { package: lacking.id, bytes, why, action }))
    })
}

/// Reports that nothing was tested, and why.
pub(super) fn not_tried(cx: &Cx<'_>, why: &str) -> ProofReport {
    untried(&cx.supply.with_repositories(|repositories| cx.supply.waiting(repositories)), why.to_owned())
}

fn untried(waiting: &Waiting, why: String) -> ProofReport {
    ProofReport {
        outcome: ProofOutcome::NotTried,
        why: Some(why),
        sources: Vec::new(),
        package: None,
        updates: waiting.updates,
        security: waiting.security,
        bytes: waiting.bytes,
    }
}

fn proved(renewal: &Renewal) -> ProvedSource {
    let (made, valid_until) = renewal.dates();
    let error = renewal.error();
    ProvedSource {
        source: renewal.source.describe(),
        made: made.map(|at| at.to_string()),
        valid_until: valid_until.map(|at| at.to_string()),
        unknown_key: matches!(error, Some(RenewalError::Refused(SignatureError::OnlyHere { .. }))),
        why: error.map(ToString::to_string),
        action: error.map(|e| advice(e, &renewal.source.file.to_string())),
    }
}
