//! Archives whose signature is bad: what they say is not used, and that is a problem of its own.

use super::FILES;
use crate::archive::{OpenSource, Standing};
use crate::model::{Finding, Subject, Verdict};
use crate::supply::Supply;
use crate::trust::openpgp::SignatureError;

/// Archives whose signature is bad, as findings.
pub(super) fn bad_archives(supply: &Supply<'_>) -> Vec<Finding> {
    let bad = |source: &OpenSource| match &source.standing {
        Standing::Refused(e @ SignatureError::Bad { .. }) => Some((source.source.describe(), e.to_string())),
        _ => None,
    };
    let found: Vec<(String, String)> =
        supply.open_archive(|a| a.sources().iter().filter_map(bad).collect()).unwrap_or_default();
    found.into_iter().map(|(name, why)| bad_signature(name, why)).collect()
}

fn bad_signature(name: String, why: String) -> Finding {
    let advice = "fetch the lists anew (apt-get update); if it stays so, somebody interferes with this archive";
    Finding {
        cause: Some(format!("{why}: its lists were damaged or forged, and nothing they say is used")),
        advice: Some(advice.into()),
        ..Finding::on(FILES, Subject::Source { name }, Verdict::BadSignature)
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_bad_signature_is_a_problem_of_its_archive_and_keeps_its_name() {
        let one = bad_signature("http://a.example/ stable".into(), "it is not what KEY signed".into());
        let again = bad_signature("http://a.example/ stable".into(), "in other words".into());
        assert!(one.verdict.is_problem() && one.remedy.is_none() && one.id == again.id);
        assert!(one.cause.unwrap().starts_with("it is not what KEY signed: "));
        assert!(one.advice.unwrap().contains("apt-get update"));
    }
}
