//! The machine's own time zone (localtime(5)): package logs are written in local time, without a zone.

use jiff::civil::DateTime;
use jiff::tz::TimeZone;
use jiff::{Timestamp, Zoned};
use schemars::JsonSchema;
use serde::{Deserialize, Serialize};

use super::Machine;
use crate::model::SystemPath;

/// The system's zone: a TZif file (RFC 9636), usually a symlink below /usr/share/zoneinfo.
const LOCAL_TIME: &str = "/etc/localtime";
/// Larger files are not TZif files.
const MAX_ZONE: u64 = 256 << 10;

/// The name of a zone whose file cannot be used.
const UNKNOWN: &str = "unknown";

/// The time zone in which a machine writes its logs.
/// In JSON it is its name: `local` if the machine does not record one, `unknown` if its zone file cannot be used; local times
/// are taken as UTC then.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
#[serde(into = "String", from = "String")]
#[schemars(with = "String")]
pub struct MachineTimeZone {
    name: String,
    zone: TimeZone,
}

impl MachineTimeZone {
    /// Reads a machine's zone. Without /etc/localtime it is UTC, as it is for the C library; if it is damaged or leads to a
    /// missing file, the zone is unknown: the logs may have been written before.
    #[must_use]
    pub fn read(machine: &Machine) -> Self {
        let path = SystemPath::literal(LOCAL_TIME);
        if machine.look(&path).is_ok_and(|stat| stat.is_none()) {
            return Self::default();
        }
        let read = || {
            let bytes = machine.read_up_to(&path, MAX_ZONE).ok()??;
            let target = machine.resolve(&path).ok()?;
            let target = String::from_utf8_lossy(target.as_bytes());
            let name = target.split_once("/zoneinfo/").map_or("local", |(_, name)| name);
            Some(Self { name: name.to_owned(), zone: TimeZone::tzif(name, &bytes).ok()? })
        };
        read().unwrap_or_else(|| Self { name: UNKNOWN.into(), zone: TimeZone::UTC })
    }

    /// The zone's IANA name, or `local` or `unknown`.
    #[must_use]
    pub fn name(&self) -> &str {
        &self.name
    }

    /// Whether the rules of the zone are known.
    #[must_use]
    pub fn is_known(&self) -> bool {
        self.name != UNKNOWN
    }

    /// The moment of a local time such as `2026-03-02 14:10:03`; `None` for text that is not a time. A time that occurs
    /// twice, when clocks go back, is the first of the two.
    #[must_use]
    pub fn timestamp(&self, local: &str) -> Option<Timestamp> {
        self.timestamp_at(local.parse().ok()?)
    }

    /// The moment of a local time.
    #[must_use]
    pub fn timestamp_at(&self, local: DateTime) -> Option<Timestamp> {
        self.zone.to_timestamp(local).ok()
    }

    /// A moment (RFC 3339 in UTC) in the machine's local time; `None` for text that is not a moment.
    #[must_use]
    pub fn local(&self, utc: &str) -> Option<Zoned> {
        Some(utc.parse::<Timestamp>().ok()?.to_zoned(self.zone.clone()))
    }
}

impl From<MachineTimeZone> for String {
    fn from(zone: MachineTimeZone) -> Self {
        zone.name
    }
}

impl From<String> for MachineTimeZone {
    /// Only the name is known then: times stay in UTC.
    fn from(name: String) -> Self {
        Self { name, zone: TimeZone::UTC }
    }
}

impl Default for MachineTimeZone {
    fn default() -> Self {
        Self { name: "UTC".into(), zone: TimeZone::UTC }
    }
}

#[cfg(test)]
mod tests {
    use std::os::unix::fs::symlink;
    use std::sync::Arc;

    use super::*;
    use crate::machine::LiveDisk;
    use crate::testkit::mutated;

    /// A TZif file of version 2 whose footer says that summer time is kept; its tables are empty.
    fn summer_time() -> Vec<u8> {
        // One type: UTC+1, no summer time, abbreviation "CET".
        let block = |version: u8| {
            let mut bytes = b"TZif".to_vec();
            bytes.push(version);
            bytes.extend([0; 15]);
            for count in [0u32, 0, 0, 0, 1, 4] {
                bytes.extend(count.to_be_bytes());
            }
            bytes.extend(3600i32.to_be_bytes());
            bytes.extend([0, 0]);
            bytes.extend(b"CET\0");
            bytes
        };
        [block(b'2'), block(b'2'), b"\nCET-1CEST,M3.5.0,M10.5.0/3\n".to_vec()].concat()
    }

    fn machine(zone: &[u8]) -> (tempfile::TempDir, Machine) {
        let dir = tempfile::tempdir().unwrap();
        std::fs::create_dir_all(dir.path().join("usr/share/zoneinfo/Foreshore")).unwrap();
        std::fs::create_dir_all(dir.path().join("etc")).unwrap();
        std::fs::write(dir.path().join("usr/share/zoneinfo/Foreshore/Harbour"), zone).unwrap();
        symlink("/usr/share/zoneinfo/Foreshore/Harbour", dir.path().join("etc/localtime")).unwrap();
        let machine = Machine::open(dir.path(), Arc::new(LiveDisk)).unwrap();
        (dir, machine)
    }

    #[test]
    fn local_times_become_utc_by_the_machines_own_rules() {
        let (_dir, machine) = machine(&summer_time());
        let zone = MachineTimeZone::read(&machine);
        assert_eq!(zone.name(), "Foreshore/Harbour");
        let utc = |local: &str| zone.timestamp(local).map(|t| t.to_string());
        assert_eq!(utc("2026-03-02 14:10:03").as_deref(), Some("2026-03-02T13:10:03Z"));
        assert_eq!(utc("2026-07-02 14:10:03").as_deref(), Some("2026-07-02T12:10:03Z"));
        assert_eq!(utc("2026-10-25 02:30:00").as_deref(), Some("2026-10-25T00:30:00Z"), "the first of the two");
        assert_eq!(utc("yesterday"), None);
        let local = zone.local("2026-07-02T12:10:03Z").unwrap();
        assert_eq!(local.strftime("%Y-%m-%d %H:%M %Z").to_string(), "2026-07-02 14:10 CEST");
    }

    #[test]
    fn without_a_zone_it_is_utc_and_a_damaged_one_is_unknown() {
        let (dir, machine) = machine(b"not a zone");
        assert!(!MachineTimeZone::read(&machine).is_known());
        std::fs::remove_file(dir.path().join("usr/share/zoneinfo/Foreshore/Harbour")).unwrap();
        assert_eq!(MachineTimeZone::read(&machine).name(), "unknown", "the link leads nowhere");
        std::fs::remove_file(dir.path().join("etc/localtime")).unwrap();
        assert_eq!(MachineTimeZone::read(&machine), MachineTimeZone::default());
    }

    proptest::proptest! {
        #[test]
        fn a_damaged_zone_file_never_panics(seed: u64) {
            let (_dir, machine) = machine(&mutated(&summer_time(), seed));
            let zone = MachineTimeZone::read(&machine);
            let _ = zone.timestamp("2026-03-02 14:10:03").map(|at| zone.local(&at.to_string()));
        }
    }
}
