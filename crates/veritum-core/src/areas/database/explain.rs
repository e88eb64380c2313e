//! What `explain` reports about a record of the package database: found and expected content, and its source.

use std::io;

use crate::areas::difference::{Comparison, lines_from};
use crate::areas::{Area, Checked, Cx, DATABASE, FileWork, Work};
use crate::model::{Authority, Finding, Scope, Subject, SystemPath};
use crate::plan::{Item, ItemKind, Operation};
use crate::platform::debian::is_record;
use crate::reference::ExpectedKind;
use crate::report::{ExplainReport, FirstDifference};
use crate::store::Contents as _;
use crate::supply::Made;
use crate::system::WorkError;

/// Larger records are not compared byte by byte, bytes.
const MAX_COMPARED: u64 = 256 << 20;

/// Explains a path of the package database, or of an alternative; `None` if it is neither.
pub(super) fn explain_place(cx: &Cx<'_>, path: &SystemPath) -> Result<Option<ExplainReport>, WorkError> {
    let scope = Scope::only(DATABASE);
    let cx = &cx.narrowed(&scope);
    let mut checked = Checked::default();
    checked.replace(super::Database.check(cx, &Checked::default())?);
    if let Some(finding) = checked.findings().find(|f| f.subject.as_path() == Some(path)) {
        return Ok(Some(explain(cx, finding, &checked)));
    }
    let there = is_record(path) && cx.system.machine.resolve(path).is_ok();
    let remark = "part of the package database; no problems found".to_owned();
    Ok(there.then(|| ExplainReport { remark: Some(remark), ..ExplainReport::bare(Subject::path(path)) }))
}

/// Explains a finding on a record: found and expected content, and its source.
pub(super) fn explain(cx: &Cx<'_>, finding: &Finding, checked: &Checked) -> ExplainReport {
    let differs = difference(cx, finding, checked);
    let owners: Vec<_> = finding.package.iter().cloned().collect();
    let chain = match (finding.verified_by, &finding.package) {
        (Some(authority @ (Authority::Store | Authority::Repository)), Some(id)) => {
            let mut chain = cx.supply.chain(id, &ExpectedKind::Something, authority, &SystemPath::root());
            chain.remove(0);
            chain
        }
        _ => Vec::new(),
    };
    let remark = chain.is_empty().then(|| {
        "no package contains it: compared with the rest of the package database and with older copies".to_owned()
    });
    ExplainReport {
        path: finding.subject.as_path().cloned(),
        owners,
        differs,
        chain,
        remark,
        ..ExplainReport::new(finding, checked.left_of(finding).cloned())
    }
}

/// The first difference between a record and what a repair would write.
fn difference(cx: &Cx<'_>, finding: &Finding, checked: &Checked) -> Option<FirstDifference> {
    let steps = &checked.get(&DATABASE)?.steps;
    let mut steps = steps.iter().map(|step| &step.work);
    let Some(Work::Files(FileWork { plan, made, .. })) = steps.find(|work| work.is_on_machine()) else { return None };
    let action = plan.actions.iter().find(|a| a.findings.contains(&finding.id))?;
    let Operation::Put(items) = &action.operation else { return None };
    let [Item { kind: ItemKind::File { digest, size }, .. }] = items.as_slice() else { return None };
    let mut expected = Vec::new();
    let mut take = |piece: &[u8]| -> io::Result<()> {
        expected.extend_from_slice(piece);
        Ok(())
    };
    Made { made, then: cx.supply.contents() }.copy(digest, *size, &mut take).ok()?;
    let dir = cx.system.machine.dir(&action.place.parent()?).ok()?;
    let found = dir.read(action.place.name(), MAX_COMPARED).ok()?;
    let mut compare = Comparison::new();
    compare.piece(&expected, &found);
    if compare.found.is_none() {
        compare.piece(&[], &found[expected.len().min(found.len())..]);
    }
    let mut difference = compare.found?;
    if let Some(line) = difference.line {
        difference.expected_lines = lines_from(&expected, line);
        difference.found_lines = lines_from(&found, line);
    }
    Some(difference)
}
