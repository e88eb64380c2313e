//! What the drives below the file systems report of their own health. That they report nothing proves nothing.

use std::collections::BTreeMap;

use super::disks::finding;
use super::surface::copy_first;
use crate::areas::Examined;
use crate::devices::DriveHealth;
use crate::model::{Finding, Verdict};
use crate::platform::drives::health_of;

/// Why a drive's problem is not repaired.
pub(super) const WHY: &str = "the drive reports it itself: no repair on it would last";

/// Examines drives, each with whether the system itself is on it. Returns how many of these are in doubt. `is_named`: also what is known of
/// drives that report nothing is wanted.
pub(super) fn examine(drives: &BTreeMap<String, bool>, is_named: bool, examined: &mut Examined) -> u64 {
    let mut in_doubt = 0;
    for (drive, is_of_system) in drives {
        match health_of(drive) {
            None => {}
            Some(Err(why)) if is_named => {
                examined.note_extent(format!("the health of {drive} is not available: {why}"));
            }
            Some(Err(_)) => {}
            Some(Ok(health)) => {
                in_doubt += u64::from(health.is_in_doubt() && (*is_of_system || is_named));
                examined.findings.extend(described(drive, &health));
                if !health.is_in_doubt() && is_named {
                    examined.note_extent(format!(
                        "{drive} reports no failure; of what it has not read for a while it knows nothing"
                    ));
                }
            }
        }
    }
    in_doubt
}

/// What a drive reports, as findings.
fn described(drive: &str, health: &DriveHealth) -> Vec<Finding> {
    let name = format!("/dev/{}", drive.replace('!', "/"));
    let mut found = Vec::new();
    if !health.failing.is_empty() {
        found.push(finding(&name, None, Verdict::Failing, health.failing.join("; "), Some(replace_it())));
    }
    if health.unreadable_sectors > 0 {
        let sectors = if health.unreadable_sectors == 1 { "sector" } else { "sectors" };
        let cause = format!("{} {sectors} could not be read, by its own count (SMART)", health.unreadable_sectors);
        found.push(finding(&name, None, Verdict::ErrorsRecorded, cause, Some(copy_first())));
    }
    if !health.counted.is_empty() {
        found.push(finding(&name, None, Verdict::Worn, health.counted.join(", "), None));
    }
    found
}

fn replace_it() -> crate::model::Action {
    "users' files first (veritum rescue --to DIR, on another disk), then replace the drive".into()
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_failing_drive_is_a_problem_and_counts_alone_are_a_note() {
        let health = |failing: &[&str], unreadable_sectors, counted: &[&str]| {
            let words = |all: &[&str]| all.iter().map(|text| (*text).to_owned()).collect();
            let health = DriveHealth { failing: words(failing), unreadable_sectors, counted: words(counted) };
            described("sda", &health).iter().map(|finding| finding.verdict).collect::<Vec<_>>()
        };
        assert!(health(&[], 0, &[]).is_empty());
        assert_eq!(
            health(&["it says so"], 8, &["1 sector was replaced"]),
            [Verdict::Failing, Verdict::ErrorsRecorded, Verdict::Worn]
        );
        assert!(!Verdict::Worn.is_problem() && Verdict::Failing.is_problem());
        let mut examined = Examined::new(super::super::VOLUMES);
        assert_eq!(examine(&BTreeMap::from([("none".to_owned(), true)]), true, &mut examined), 0);
        assert!(examined.findings.is_empty());
    }
}
