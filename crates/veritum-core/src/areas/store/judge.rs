//! The area `store`: converts an audit's faults into findings. Pure.

use std::path::Path;

use super::STORE;
use crate::model::{Authority, Finding, Harm, State, Subject, Verdict, readable};
use crate::store::{Part, StoreFault, Trouble};

/// Returns one finding for each fault, in the same order.
#[must_use]
pub fn judge_store(faults: &[StoreFault]) -> Vec<Finding> {
    faults.iter().map(finding).collect()
}

/// One note for each unused file.
#[must_use]
pub fn superfluous_notes(names: &[std::path::PathBuf]) -> Vec<Finding> {
    names.iter().map(|name| Finding::on(STORE, object(name), Verdict::Unowned)).collect()
}

fn object(name: &Path) -> Subject {
    use std::os::unix::ffi::OsStrExt as _;
    Subject::Object { name: readable(name.as_os_str().as_bytes()) }
}

fn finding(fault: &StoreFault) -> Finding {
    let (verdict, cause) = match &fault.trouble {
        Trouble::Missing => (Verdict::Missing, None),
        Trouble::Altered => (Verdict::Altered, None),
        Trouble::Unreadable(why) => (Verdict::Unreadable, Some(why.clone())),
    };
    let name = fault.part.name();
    let subject = match &fault.part {
        Part::Signed { .. } | Part::Pointer(_) => Subject::Index { name },
        Part::Manifest(_) | Part::Content { .. } => Subject::Object { name },
    };
    let expected = match &fault.part {
        Part::Content { digest, size } => Some(State { size: Some(*size), blake3: Some(*digest), ..State::default() }),
        Part::Manifest(entry) => {
            Some(State { size: Some(entry.manifest_size), blake3: Some(entry.manifest), ..State::default() })
        }
        Part::Signed { .. } | Part::Pointer(_) => None,
    };
    Finding {
        package: fault.harm.packages.first().cloned(),
        verified_by: Some(Authority::Store),
        expected,
        cause,
        harms: (fault.harm != Harm::default()).then(|| fault.harm.clone()),
        ..Finding::on(STORE, subject, verdict)
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::model::{Digest, PackageId, SystemPath};

    #[test]
    fn a_damaged_content_is_named_by_what_it_would_have_harmed() {
        let digest = Digest::hash(b"timetable");
        let package = PackageId::new("quay", "1.0", "all").unwrap();
        let path = SystemPath::literal("/usr/share/quay/timetable");
        let harm = Harm { packages: vec![package.clone()], paths: vec![path], more_paths: 0 };
        let fault =
            StoreFault { part: Part::Content { digest, size: 9 }, trouble: Trouble::Altered, harm: harm.clone() };
        let [found] = judge_store(&[fault]).try_into().unwrap();
        assert_eq!((found.verdict, found.package, found.harms), (Verdict::Altered, Some(package), Some(harm)));
        assert!(found.subject.name().unwrap().starts_with("objects/"));
        assert_eq!(found.expected.unwrap().blake3, Some(digest));
    }

    #[test]
    fn what_is_superfluous_is_a_note_and_what_the_medium_refuses_has_its_cause() {
        assert!(!superfluous_notes(&["objects/xx".into()])[0].verdict.is_problem());
        let part = Part::Signed { name: "metadata/timestamp.json".into() };
        let fault =
            StoreFault { part, trouble: Trouble::Unreadable("the medium is bad".into()), harm: Harm::default() };
        let found = judge_store(&[fault]);
        assert_eq!((found[0].verdict, found[0].cause.as_deref()), (Verdict::Unreadable, Some("the medium is bad")));
        assert!(matches!(found[0].subject, Subject::Index { .. }));
    }
}
