//! Writes the JSON Schemas of all formats (hidden: for the project itself).

use std::path::Path;

use schemars::schema_for;
use veritum_core::report;
use veritum_core::store::{Index, RawManifest, Records};

use crate::document::schema;
use crate::errors::Failure;
use crate::exit;

/// Every format with its schema.
pub(crate) fn all() -> Vec<(&'static str, schemars::Schema)> {
    vec![
        ("veritum.check", schema::<report::CheckReport>()),
        ("veritum.repair", schema::<report::RepairReport>()),
        ("veritum.undo", schema::<report::UndoReport>()),
        ("veritum.rescue", schema::<report::RescueReport>()),
        ("veritum.rescue-back", schema::<report::RescueBackReport>()),
        ("veritum.rescue-verify", schema::<report::RescueVerifyReport>()),
        ("veritum.rescue-deleted", schema::<report::RescueDeletedReport>()),
        ("veritum.rescue-image", schema::<report::RescueImageReport>()),
        ("veritum.image-gaps", schema_for!(veritum_core::devices::GapMap)),
        ("veritum.rescue-manifest", schema_for!(veritum_core::rescue::manifest::Line)),
        ("veritum.reset", schema::<report::ResetReport>()),
        ("veritum.savepoint-made", schema::<report::SavepointReport>()),
        ("veritum.return", schema::<report::ReturnReport>()),
        ("veritum.disks", schema::<report::DisksReport>()),
        ("veritum.savepoints", schema::<report::SavepointsReport>()),
        ("veritum.recover", schema::<report::RecoverReport>()),
        ("veritum.changes", schema::<report::ChangesReport>()),
        ("veritum.packages", schema::<report::PackagesReport>()),
        ("veritum.apps", schema::<report::AppsReport>()),
        ("veritum.app", schema::<report::AppReport>()),
        ("veritum.updates", schema::<report::UpdatesReport>()),
        ("veritum.starts", schema::<report::StartsReport>()),
        ("veritum.status", schema::<report::StatusReport>()),
        ("veritum.explain", schema::<report::ExplainReport>()),
        ("veritum.store-report", schema::<report::StoreReport>()),
        ("veritum.store-add", schema::<report::StoreAddReport>()),
        ("veritum.error", schema::<crate::errors::ErrorReport>()),
        ("veritum.change", schema::<crate::render::explain::ChangeReport>()),
        ("veritum.damaged-change", schema::<report::DamagedChange>()),
        ("veritum.manifest", schema_for!(RawManifest<'static>)),
        ("veritum.records", schema_for!(Records)),
        ("veritum.card", schema_for!(veritum_core::apps::RawCard)),
        ("veritum.index", schema_for!(Index)),
    ]
}

pub(crate) fn run(dir: &Path) -> Result<u8, Failure> {
    for (name, schema) in all() {
        let path = dir.join(format!("{name}.json"));
        let fail = |e: String| Failure::not_done(format!("cannot write {}", path.display()), e, None);
        let text = serde_json::to_string_pretty(&schema).map_err(|e| fail(e.to_string()))?;
        std::fs::write(&path, text + "\n").map_err(|e| fail(e.to_string()))?;
    }
    Ok(exit::FINE)
}
