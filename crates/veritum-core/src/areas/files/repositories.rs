//! Repositories with a bad signature: they are not used, and each is a problem of its own.

use super::FILES;
use crate::model::{Action, Finding, Subject, Verdict};
use crate::repository::{OpenSource, Standing};
use crate::supply::Supply;
use crate::trust::openpgp::SignatureError;

/// Repositories with a bad signature, as findings.
pub(super) fn bad_repositories(supply: &Supply<'_>) -> Vec<Finding> {
    let bad = |source: &OpenSource| match &source.standing {
        Standing::Refused(e @ SignatureError::Bad { .. }) => Some((source.source.describe(), e.to_string())),
        _ => None,
    };
    let found: Vec<(String, String)> =
        supply.open_repositories(|a| a.sources().iter().filter_map(bad).collect()).unwrap_or_default();
    found.into_iter().map(|(name, why)| bad_signature(name, why)).collect()
}

fn bad_signature(name: String, why: String) -> Finding {
    let action = Action::explained(
        "download the package lists again (if this persists, the repository may be tampered with)",
        "apt-get update",
    );
    Finding {
        cause: Some(format!("{why}: its package lists are damaged or forged and are not used")),
        action: Some(action),
        ..Finding::on(FILES, Subject::Source { name }, Verdict::BadSignature)
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_bad_signature_is_a_problem_of_its_repository_and_keeps_its_name() {
        let one = bad_signature("http://a.example/ stable".into(), "it is not what KEY signed".into());
        let again = bad_signature("http://a.example/ stable".into(), "in other words".into());
        assert!(one.verdict.is_problem() && one.remedy.is_none() && one.id == again.id);
        assert!(one.cause.unwrap().starts_with("it is not what KEY signed: "));
        assert!(one.action.unwrap().contains("apt-get update"));
    }
}
