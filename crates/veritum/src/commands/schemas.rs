//! Writes the JSON Schemas of all formats (hidden: for the project itself).

use std::path::Path;

use schemars::schema_for;
use veritum_core::report;
use veritum_core::store::{Index, RawManifest, Records};

use crate::errors::Failure;
use crate::exit;

/// Every format with its schema.
pub(crate) fn all() -> Vec<(&'static str, schemars::Schema)> {
    vec![
        ("veritum.check", schema_for!(report::CheckReport)),
        ("veritum.repair", schema_for!(report::RepairReport)),
        ("veritum.undo", schema_for!(report::UndoReport)),
        ("veritum.reset", schema_for!(report::ResetReport)),
        ("veritum.recover", schema_for!(report::RecoverReport)),
        ("veritum.changes", schema_for!(report::ChangesReport)),
        ("veritum.components", schema_for!(report::ComponentsReport)),
        ("veritum.apps", schema_for!(report::AppsReport)),
        ("veritum.app", schema_for!(report::AppReport)),
        ("veritum.updates", schema_for!(report::UpdatesReport)),
        ("veritum.status", schema_for!(report::StatusReport)),
        ("veritum.explain", schema_for!(report::ExplainReport)),
        ("veritum.store-report", schema_for!(report::StoreReport)),
        ("veritum.fill", schema_for!(report::FillReport)),
        ("veritum.change", schema_for!(crate::render::explain::ChangeReport)),
        ("veritum.damaged-change", schema_for!(report::DamagedChange)),
        ("veritum.manifest", schema_for!(RawManifest<'static>)),
        ("veritum.records", schema_for!(Records)),
        ("veritum.card", schema_for!(veritum_core::apps::RawCard)),
        ("veritum.index", schema_for!(Index)),
    ]
}

pub(crate) fn run(dir: &Path) -> Result<u8, Failure> {
    for (name, schema) in all() {
        let path = dir.join(format!("{name}.json"));
        let fail = |e: String| Failure::not_done(format!("{} cannot be written", path.display()), e, None);
        let text = serde_json::to_string_pretty(&schema).map_err(|e| fail(e.to_string()))?;
        std::fs::write(&path, text + "\n").map_err(|e| fail(e.to_string()))?;
    }
    Ok(exit::FINE)
}
