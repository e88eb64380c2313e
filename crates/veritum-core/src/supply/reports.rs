//! Where the archives stand, as it is told.

use std::os::unix::ffi::OsStrExt as _;
use std::path::Path;

use super::Supply;
use crate::archive::{Archive, OpenSource, Standing};
use crate::model::ComponentId;
use crate::report::{SourceReport, SourceState};
use crate::trust::openpgp::SignatureError;

impl<'a> Supply<'a> {
    /// From a component's package to the vendor's key, in words and names.
    pub fn archive_chain(&self, id: &ComponentId) -> Vec<(&'static str, String)> {
        let chain = |archive: &Archive| {
            let Some(package) = archive.package_of(id) else { return Vec::new() };
            let open = &archive.sources()[package.source];
            let mut chain = vec![
                ("package with SHA-256", package.sum.get().hex()),
                ("index of the archive", open.source.describe()),
            ];
            if let Standing::Vouched { key, dated, .. } = &open.standing {
                let dated = dated.map_or_else(|| "without a date".into(), |d| format!("made {d}"));
                chain.push(("release file, signed", dated));
                chain.push(("vendor's key", key.clone()));
            }
            chain
        };
        self.open_archive(chain).unwrap_or_default()
    }

    /// Where the archives stand, when they were asked.
    pub fn source_reports(&self) -> Vec<SourceReport> {
        self.open_archive(|a| {
            a.sources().iter().map(|s| source_report(s, self.system.machine.path(), self.system.settings.now)).collect()
        })
        .unwrap_or_default()
    }
}

/// The keyring that a source names, as the operator reaches it.
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
        key: None,
        dated: None,
        expired: false,
    };
    let (standing, why) = match &open.standing {
        Standing::Vouched { key, dated, valid_until, bad_indexes, .. } => {
            report.key = Some(key.clone());
            report.dated = dated.map(|d| d.to_string());
            report.expired = valid_until.is_some_and(|until| until < now);
            let why = bad_indexes.iter().map(|(name, why)| format!("{name}: {why}")).collect::<Vec<_>>().join("; ");
            (SourceState::Vouched, why)
        }
        Standing::Refused(e @ SignatureError::OnlyHere { .. }) => (
            SourceState::Refused,
            format!("{e}; when you know it to be the vendor's: veritum store trust {}", keyring_place(open, root)),
        ),
        Standing::Refused(e) => (SourceState::Refused, e.to_string()),
        Standing::Unusable(why) => (SourceState::Unusable, why.clone()),
        Standing::Absent(why) => (SourceState::Absent, why.clone()),
    };
    report.standing = standing;
    report.why = Some(why).filter(|w| !w.is_empty());
    report
}
