//! Administrator settings that block updates, and free space.

use super::{ExaminedPart, about, at_path};
use crate::machine::{FreeSpace, Machine};
use crate::model::{ActionKind, FileKind, Remedy, Subject, SystemPath, Verdict};
use crate::platform::debian::apt::{AptConf, Pin, says_no, says_yes};

/// Timers that download and install updates.
const TIMERS: [&str; 2] = ["apt-daily.timer", "apt-daily-upgrade.timer"];
/// The folder of packages' units (systemd.unit(5)).
const UNITS: [&str; 2] = ["/usr/lib/systemd/system", "/lib/systemd/system"];
/// The folder of the administrator's units.
const OWN_UNITS: &str = "/etc/systemd/system";
/// Further connections are not examined.
const MAX_CONNECTIONS: usize = 200;
/// With less free space, in bytes, no update can be unpacked.
const LEAST: u64 = 64 << 20;
/// With fewer free inodes no update can be unpacked.
const FEWEST: u64 = 1000;

/// Judges apt's settings, its pins and, where no service manager reports them, its timers.
pub(crate) fn settings(machine: &Machine, conf: &AptConf, pins: &[Pin], managed: bool) -> ExaminedPart {
    let mut part = ExaminedPart::default();
    part.examined += pins.len() as u64 + TIMERS.len() as u64;
    let is = |name: &str, says: fn(&str) -> bool| conf.get(name).is_some_and(says);
    for (name, why) in [
        ("APT::Periodic::Enable", "automatic updates are off"),
        ("APT::Periodic::Update-Package-Lists", "package lists are not updated automatically"),
    ] {
        if is(name, says_no) {
            part.add(setting(name, Verdict::Disabled, why));
        }
    }
    for (name, values, why) in [
        ("Acquire::Check-Valid-Until", says_no as fn(&str) -> bool, "expired package lists are accepted"),
        ("Acquire::AllowInsecureRepositories", says_yes, "unsigned repositories are accepted"),
        ("APT::Get::AllowUnauthenticated", says_yes, "unsigned packages are installed"),
    ] {
        if is(name, values) {
            part.add(setting(name, Verdict::InsecureSetting, why));
        }
    }
    let skips = "Unattended-Upgrade::Skip-Updates-On-Metered-Connections";
    if !conf.is_off(skips)
        && let Some(connection) = metered(machine)
    {
        let why = format!("the connection {connection} is metered: automatic updates wait while it is in use");
        part.add(setting(skips, Verdict::Disabled, &why));
    }
    for pin in pins.iter().filter(|pin| pin.priority < 0) {
        let cause = format!("pinning excludes {} from {}", pin.debs, pin.of);
        part.add(at_path(&pin.file, Verdict::HeldBack, &cause, None));
    }
    for timer in TIMERS.iter().filter(|_| !managed) {
        if let Some(why) = switched_off(machine, timer) {
            part.add(about(Subject::Service { name: (*timer).into() }, Verdict::Disabled, why, None));
        }
    }
    part
}

fn setting(name: &str, verdict: Verdict, why: &str) -> crate::model::Finding {
    about(Subject::Setting { name: name.into() }, verdict, why, None)
}

/// A network connection marked as metered (nm-settings-keyfile(5)).
fn metered(machine: &Machine) -> Option<String> {
    let folder = SystemPath::literal("/etc/NetworkManager/system-connections");
    let dir = machine.resolve(&folder).and_then(|real| machine.dir(&real)).ok()?;
    let mut names: Vec<Vec<u8>> = dir.disk().list(dir.fd()).ok()?.into_iter().map(|(name, _)| name).collect();
    names.sort();
    names.iter().take(MAX_CONNECTIONS).find_map(|name| {
        let text = machine.read_config(&folder.child(name).ok()?).ok()??;
        let is = String::from_utf8_lossy(&text).lines().any(|line| line.replace(' ', "") == "metered=1");
        is.then(|| crate::model::quoted(name.strip_suffix(b".nmconnection").unwrap_or(name)))
    })
}

/// Why an existing unit does not start automatically.
fn switched_off(machine: &Machine, unit: &str) -> Option<&'static str> {
    let at = |folder: &'static str, name: &str| {
        let folder = machine.resolve(&SystemPath::literal(folder)).ok()?;
        let dir = machine.dir(&folder).ok()?;
        let stat = dir.look(name.as_bytes()).ok()??;
        let target =
            (stat.kind == FileKind::Link).then(|| dir.disk().read_link(dir.fd(), name.as_bytes()).ok()).flatten();
        Some(target.unwrap_or_default())
    };
    if at(OWN_UNITS, unit).is_some_and(|target| target == b"/dev/null") {
        return Some("masked");
    }
    UNITS.iter().find_map(|folder| at(folder, unit))?;
    let wanted = at("/etc/systemd/system/timers.target.wants", unit).is_some();
    (!wanted).then_some("disabled")
}

/// Bytes in whole KiB or MiB, rounded down.
pub(crate) fn in_words(bytes: u64) -> String {
    if bytes < 1 << 20 { format!("{} KiB", bytes >> 10) } else { format!("{} MiB", bytes >> 20) }
}

/// The bytes that must be free for updates of this size.
pub(crate) fn needed_room(waiting: u64) -> u64 {
    LEAST.saturating_add(waiting)
}

/// Judges whether there is free space for downloads of this size, and whether there would be without the given bytes of
/// downloads that can be downloaded again.
pub(crate) fn room(place: &SystemPath, room: FreeSpace, waiting: u64, spare: u64) -> ExaminedPart {
    let mut part = ExaminedPart::default();
    part.examined += 1;
    let needed = needed_room(waiting);
    const ADVICE: &str = "free some space first; what to delete is your decision";
    if room.bytes < needed {
        let mut cause = format!("{} free, {} needed", in_words(room.bytes), in_words(needed));
        let enough = room.bytes.saturating_add(spare) >= needed;
        if spare > 0 && !enough {
            cause.push_str(&format!("; deleting {} of downloads is not enough", in_words(spare)));
        }
        let mut finding = at_path(place, Verdict::DiskFull, &cause, Some(ADVICE.into()).filter(|_| !enough));
        finding.remedy = enough.then_some(Remedy { action: ActionKind::Free, from: None, download: None });
        part.add(finding);
    } else if room.inodes < FEWEST {
        let cause = format!("only {} more files can be created", room.inodes);
        part.add(at_path(place, Verdict::DiskFull, &cause, Some(ADVICE.into())));
    }
    part
}

#[cfg(test)]
mod tests {
    use std::sync::Arc;

    use super::*;
    use crate::machine::LiveDisk;

    #[test]
    fn what_keeps_updates_from_coming_is_told_and_what_lets_them_come_is_not() {
        let dir = tempfile::tempdir().unwrap();
        for folder in ["usr/lib/systemd/system", "etc/systemd/system/timers.target.wants"] {
            std::fs::create_dir_all(dir.path().join(folder)).unwrap();
        }
        for timer in TIMERS {
            std::fs::write(dir.path().join("usr/lib/systemd/system").join(timer), "").unwrap();
        }
        let machine = Machine::open(dir.path(), Arc::new(LiveDisk)).unwrap();
        let own = dir.path().join("etc/systemd/system");
        std::os::unix::fs::symlink("/dev/null", own.join(TIMERS[0])).unwrap();
        std::os::unix::fs::symlink("/usr/lib/systemd/system/x", own.join("timers.target.wants").join(TIMERS[1]))
            .unwrap();
        let mut conf = AptConf::default();
        conf.add(
            "APT::Periodic::Enable \"0\"; Acquire::Check-Valid-Until \"False\"; APT::Get::AllowUnauthenticated \"no\";",
        );
        let connections = dir.path().join("etc/NetworkManager/system-connections");
        std::fs::create_dir_all(&connections).unwrap();
        std::fs::write(connections.join("harbour.nmconnection"), "[connection]\nmetered = 2\n").unwrap();
        std::fs::write(connections.join("phone.nmconnection"), "[connection]\nmetered = 1\n").unwrap();
        let pin = |priority| Pin {
            file: SystemPath::literal("/etc/apt/preferences"),
            debs: "*".into(),
            of: "release a=saltwort".into(),
            priority,
        };
        let told: Vec<String> = settings(&machine, &conf, &[pin(-1), pin(990)], false)
            .findings
            .iter()
            .map(|f| format!("{} {}", f.subject, f.verdict.word()))
            .collect();
        assert_eq!(
            told,
            [
                "APT::Periodic::Enable disabled",
                "Acquire::Check-Valid-Until insecure-setting",
                "Unattended-Upgrade::Skip-Updates-On-Metered-Connections disabled",
                "/etc/apt/preferences held-back",
                "apt-daily.timer disabled",
            ]
        );
    }
}
