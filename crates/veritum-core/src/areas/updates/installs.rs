//! Unfinished installations, and packages that are kept from being updated.

use super::{ExaminedPart, about};
use crate::model::{Action, ActionKind, Finding, Remedy, Subject, SystemPath, Verdict};
use crate::platform::debian::database::Stanza;

/// Judges the state of each package in `status` (dpkg(1), "INFORMATION ABOUT PACKAGES").
pub(crate) fn installs<'a>(entries: impl Iterator<Item = &'a Stanza>) -> ExaminedPart {
    let mut part = ExaminedPart::default();
    for entry in entries {
        part.examined += 1;
        if let Some(finding) = judge(entry) {
            part.add(finding);
        }
    }
    part
}

fn judge(entry: &Stanza) -> Option<Finding> {
    const CONFIGURE: &str = "dpkg --configure -a";
    let words: Vec<&str> = entry.get("Status")?.split_ascii_whitespace().collect();
    let [wish, flag, state] = words[..] else { return None };
    let subject = Subject::Package { name: entry.name().to_owned() };
    let again = format!("apt-get install --reinstall {}", entry.name());
    let (verdict, cause, command) = match (state, flag) {
        (_, "reinstreq") => (Verdict::Incomplete, "dpkg stopped half-way", again.as_str()),
        ("half-installed", _) => (Verdict::Incomplete, "unpacking was interrupted", again.as_str()),
        ("unpacked", _) => (Verdict::Incomplete, "unpacked but not configured", CONFIGURE),
        ("half-configured", _) => (Verdict::Incomplete, "configuration failed", CONFIGURE),
        ("triggers-awaited", _) => (Verdict::Incomplete, "waiting for triggers of other packages", CONFIGURE),
        ("triggers-pending", _) => (Verdict::Incomplete, "triggers are pending", CONFIGURE),
        ("installed", _) if wish == "hold" => {
            return Some(about(subject, Verdict::HeldBack, "held by an administrator", None));
        }
        _ => return None,
    };
    let finding = about(subject, verdict, cause, Some(Action::command(command)));
    if command == CONFIGURE {
        let remedy = Some(Remedy { action: ActionKind::Configure, from: None, download: None });
        return Some(Finding { remedy, action: None, ..finding });
    }
    Some(finding)
}

/// A note that a reboot is required.
pub(crate) fn restart_note(why: &str) -> Finding {
    let path = SystemPath::literal("/run/reboot-required");
    super::at_path(&path, Verdict::RebootRequired, why, Some(Action::command("systemctl reboot")))
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn each_stage_that_is_not_the_last_is_told_with_what_finishes_it() {
        let entry = |status: &str| {
            let text = format!("Package: quay\nStatus: {status}\nVersion: 1\nArchitecture: amd64\n");
            Stanza::of_status(text.as_bytes()).unwrap()
        };
        let told = |status: &str| installs([entry(status)].iter()).findings.pop();
        assert!(told("install ok installed").is_none() && told("deinstall ok config-files").is_none());
        for (status, advice) in [
            ("install ok unpacked", "--configure"),
            ("install ok half-configured", "--configure"),
            ("install ok triggers-pending", "--configure"),
            ("install ok half-installed", "--reinstall quay"),
            ("install reinstreq installed", "--reinstall quay"),
        ] {
            let finding = told(status).unwrap();
            assert_eq!(finding.verdict, Verdict::Incomplete);
            let can_be_finished = finding.remedy.is_some_and(|remedy| remedy.action == ActionKind::Configure);
            assert_eq!(can_be_finished, advice == "--configure", "{status}");
            assert!(finding.action.is_none_or(|told| told.contains(advice)), "{status}");
        }
        assert_eq!(told("hold ok installed").unwrap().verdict, Verdict::HeldBack);
    }
}
