//! The administrator's links instead of systemd's first targets: to nothing, or to one in which a start ends (systemd.special(7)).

use super::fault::{Fault, Faults, Stage};
use super::first_program::{TARGETS, UNITS, default_target};
use super::menu::{MENU, Started};
use super::packages::PackageFiles;
use crate::model::{Action, KnownBy, SystemPath, Verdict};

/// Targets in which a start ends before the system can be used.
const ENDS: [&[u8]; 9] = [
    b"rescue.target",
    b"emergency.target",
    b"poweroff.target",
    b"reboot.target",
    b"soft-reboot.target",
    b"halt.target",
    b"exit.target",
    b"kexec.target",
    b"sleep.target",
];
/// What is started if no argument says otherwise.
const DEFAULT: &str = "default.target";
/// A unit that is a link to this is never started.
const MASK: &str = "/dev/null";

/// Why nothing is written about what a person can have wanted.
const MEANT: &str = "whether that was meant is not known here";

/// Judges the targets that a start with the arguments of the menu's default entry reaches.
pub(super) fn judge(files: &PackageFiles<'_>, started: Option<&Started>, faults: &mut Faults) {
    let first = default_target(started);
    if first != DEFAULT && ENDS.contains(&first.as_bytes()) {
        let cause = format!("its default entry starts only {first}");
        let fault = Fault::on_path(Stage::Menu, &SystemPath::literal(MENU), Verdict::Inconsistent, cause);
        let action = Action::explained(
            "take the argument out of /etc/default/grub, then have the menu generated again, in the mounted system",
            "update-grub",
        );
        faults.push(fault.breaks().known_by(KnownBy::Derived).action(action).mended(Err(MEANT.to_owned())));
    }
    for name in std::iter::once(first).chain(TARGETS) {
        let places = UNITS.iter().filter_map(|folder| SystemPath::literal(folder).child(name.as_bytes()).ok());
        let mut places = places.filter(|place| files.is_entry(place));
        let Some(entry) = places.next() else { continue };
        let leads = files.leads_to(&entry);
        let last = leads.as_ref().unwrap_or(&entry);
        let unmask =
            || Action::explained("let it be started again, in the mounted system", format!("systemctl unmask {name}"));
        let choose = || {
            Action::explained(
                "name the target to start, in the mounted system",
                "systemctl set-default graphical.target",
            )
        };
        let (cause, action) = match &leads {
            Some(target) if *target == SystemPath::literal(MASK) => {
                ("it is masked: systemd does not start it".to_owned(), unmask())
            }
            // Where no other place has it, it is missing.
            Some(target) if places.next().is_some() && !files.exists(target) => (
                format!("it leads to {target}, which does not exist"),
                if name == DEFAULT { choose() } else { unmask() },
            ),
            _ if name == DEFAULT && ENDS.contains(&last.name()) => {
                let end = String::from_utf8_lossy(last.name()).into_owned();
                (format!("it leads to {end}: only that is started"), choose())
            }
            _ => continue,
        };
        let fault = Fault::on_path(Stage::FirstProgram, &entry, Verdict::Inconsistent, cause);
        faults.push(fault.breaks().known_by(KnownBy::Derived).action(action).mended(Err(MEANT.to_owned())));
    }
}
