//! The states of the repositories, for reports.

use std::os::unix::ffi::OsStrExt as _;
use std::path::Path;

use super::Supply;
use crate::model::{Action, PackageId};
use crate::report::{SourceReport, SourceState};
use crate::repository::{OpenSource, Repositories, Standing};
use crate::trust::openpgp::SignatureError;

impl<'a> Supply<'a> {
    /// The chain from a package's .deb file to the vendor's key, for people.
    pub fn repository_chain(&self, id: &PackageId) -> Vec<(&'static str, String)> {
        let chain = |repositories: &Repositories| {
            let Some(deb) = repositories.deb_of(id) else { return Vec::new() };
            let open = &repositories.sources()[deb.source];
            let mut chain = vec![
                (".deb file with SHA-256", deb.sum.get().hex()),
                ("index of the repository", open.source.describe()),
            ];
            if let Standing::Verified { key, dated, .. } = &open.standing {
                let dated = dated.map_or_else(|| "undated".into(), |d| format!("dated {d}"));
                chain.push(("release file, signed", dated));
                chain.push(("vendor's key", key.clone()));
            }
            chain
        };
        self.open_repositories(chain).unwrap_or_default()
    }

    /// The states of the repositories, if they were used.
    pub fn source_reports(&self) -> Vec<SourceReport> {
        self.open_repositories(|a| {
            a.sources().iter().map(|s| source_report(s, self.system.machine.path(), self.system.settings.now)).collect()
        })
        .unwrap_or_default()
    }
}

/// The keyring of a source, by its path on the host.
fn keyring_place(open: &OpenSource, root: &Path) -> String {
    match open.source.signers.keyrings.first() {
        Some(path) => crate::model::quoted(&[root.as_os_str().as_bytes(), path.as_bytes()].concat()),
        None => "KEYRING".into(),
    }
}

fn source_report(open: &OpenSource, root: &Path, now: jiff::Timestamp) -> SourceReport {
    let mut report = SourceReport {
        source: open.source.describe(),
        standing: SourceState::Absent,
        why: None,
        action: None,
        key: None,
        dated: None,
        expired: false,
    };
    let (standing, why) = match &open.standing {
        Standing::Verified { key, dated, valid_until, bad_indexes, .. } => {
            report.key = Some(key.clone());
            report.dated = dated.map(|d| d.to_string());
            report.expired = valid_until.is_some_and(|until| until < now);
            let why = bad_indexes.iter().map(|(name, why)| format!("{name}: {why}")).collect::<Vec<_>>().join("; ");
            (SourceState::Verified, why)
        }
        Standing::Refused(e @ SignatureError::OnlyHere { .. }) => {
            let trust = format!("veritum store trust {}", keyring_place(open, root));
            report.action = Some(Action::explained("trust the key if it is the vendor's", trust));
            (SourceState::Refused, e.to_string())
        }
        Standing::Refused(e) => (SourceState::Refused, e.to_string()),
        Standing::Unusable(why) => (SourceState::Unusable, why.clone()),
        Standing::Absent(why) => (SourceState::Absent, why.clone()),
    };
    report.standing = standing;
    report.why = Some(why).filter(|w| !w.is_empty());
    report
}
