//! Recognises a common cause of many findings of one package: reported once, and not a sign of a failing disk.

use std::collections::HashMap;

use crate::model::{Finding, PackageId, SystemPath, Verdict};

/// Fewer findings in one package need no common cause.
const MANY: usize = 20;
/// The percentage of them that must be below the replaced folder.
const SHARE: usize = 90;
/// Folders with fewer names in their path are shared by many packages (`/usr/share/doc`): nothing replaces those.
const DEPTH: usize = 3;

/// Names the cause of findings from another installer: a program that updates itself over its package's files.
///
/// It leaves a pattern that a failing disk does not: below one folder much of the package
/// differs, and there are files that no package owns.
pub(super) fn name(findings: &mut [Finding], notes: &[Finding]) {
    let mut of: HashMap<PackageId, Vec<usize>> = HashMap::new();
    for (at, finding) in findings.iter().enumerate() {
        // A missing folder is not a cause, but a consequence.
        let replaced =
            finding.verdict == Verdict::Missing || finding.verdict == Verdict::Altered && finding.cause.is_none();
        if let (true, Some(package)) = (replaced, &finding.package) {
            of.entry(package.clone()).or_default().push(at);
        }
    }
    for group in of.values().filter(|group| group.len() >= MANY) {
        let Some(folder) = common_folder(findings, group) else { continue };
        let below: Vec<usize> = group.iter().copied().filter(|at| is_below(&findings[*at], &folder)).collect();
        let altered = below.iter().any(|at| findings[*at].verdict == Verdict::Altered);
        let foreign = notes.iter().any(|note| note.verdict == Verdict::Unowned && is_below(note, &folder));
        if !(altered && foreign) {
            continue;
        }
        for at in below {
            findings[at].cause =
                Some(format!("everything below {folder} appears to have been replaced by another installer"));
        }
    }
}

fn is_below(finding: &Finding, folder: &SystemPath) -> bool {
    finding.subject.as_path().is_some_and(|path| path.is_within(folder))
}

/// The deepest folder that contains nearly all of these.
fn common_folder(findings: &[Finding], group: &[usize]) -> Option<SystemPath> {
    let mut counts: HashMap<SystemPath, usize> = HashMap::new();
    for path in group.iter().filter_map(|at| findings[*at].subject.as_path()) {
        let mut above = path.parent();
        while let Some(folder) = above.filter(|f| f.names().count() >= DEPTH) {
            above = folder.parent();
            *counts.entry(folder).or_default() += 1;
        }
    }
    let enough = counts.into_iter().filter(|(_, n)| n * 100 >= group.len() * SHARE);
    // Of equally deep folders only one can contain nearly all.
    enough.map(|(folder, _)| folder).max_by_key(|folder| folder.names().count())
}

#[cfg(test)]
mod tests {
    use super::super::FILES;
    use super::*;

    fn on(path: &str, verdict: Verdict) -> Finding {
        let package = Some(PackageId::new("dockhand", "1.0", "all").unwrap());
        let path = SystemPath::parse(path.as_bytes()).unwrap();
        Finding { package, ..Finding::on_path(FILES, &path, verdict) }
    }

    fn replaced() -> Vec<Finding> {
        let mut all: Vec<_> = (0..30).map(|n| on(&format!("/usr/lib/dockhand/deep/{n}"), Verdict::Altered)).collect();
        all.push(on("/usr/lib/dockhand/old/gone", Verdict::Missing));
        all.push(on("/usr/bin/dockhand", Verdict::Altered));
        all
    }

    fn causes(mut findings: Vec<Finding>, notes: &[&str]) -> (usize, Option<String>) {
        let notes: Vec<_> = notes.iter().map(|p| on(p, Verdict::Unowned)).collect();
        name(&mut findings, &notes);
        let named: Vec<_> = findings.iter().filter_map(|f| f.cause.clone()).collect();
        (named.len(), named.first().cloned())
    }

    #[test]
    fn what_another_installer_replaced_is_one_cause() {
        let (n, cause) = causes(replaced(), &["/usr/lib/dockhand/deep/new"]);
        // Nearly all lie below the deep folder; what is next to it keeps its own story.
        assert_eq!(
            (n, cause.as_deref()),
            (30, Some("everything below /usr/lib/dockhand/deep appears to have been replaced by another installer"))
        );
    }

    #[test]
    fn damage_without_foreign_files_or_spread_over_the_system_has_no_such_cause() {
        assert_eq!(causes(replaced(), &[]).0, 0);
        assert_eq!(causes(replaced(), &["/usr/share/elsewhere/new"]).0, 0);
        let few = replaced().split_off(20);
        assert_eq!(causes(few, &["/usr/lib/dockhand/deep/new"]).0, 0);
        let spread = (0..40).map(|n| on(&format!("/usr/share/{n}/a/b"), Verdict::Altered)).collect();
        assert_eq!(causes(spread, &["/usr/share/1/a/new"]).0, 0);
        let shared = (0..40).map(|n| on(&format!("/usr/lib/{n}"), Verdict::Altered)).collect();
        assert_eq!(causes(shared, &["/usr/lib/new"]).0, 0);
        let gone = (0..40).map(|n| on(&format!("/usr/lib/dockhand/deep/{n}"), Verdict::Missing)).collect();
        assert_eq!(causes(gone, &["/usr/lib/dockhand/deep/new"]).0, 0);
    }
}
