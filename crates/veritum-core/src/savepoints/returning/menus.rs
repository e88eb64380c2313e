//! Lines of fstab, crypttab and the boot menu that name a file system that is not there now are not returned. Where it is not known
//! whether it is there, they do not return either if there is something instead: with that the system starts as it does now.

use std::collections::HashMap;

use super::ReturnCase;
use super::accounts::{content, set_content};
use super::compare::Difference;
use super::decide::Fate;
use crate::model::{Digest, SystemPath};
use crate::platform::present_devices::{PresentDevices, is_device};
use crate::report::StayReason;

/// Tables whose lines begin with a device, or have it in the second field.
const TABLES: [(&str, usize); 2] = [("/etc/fstab", 0), ("/etc/crypttab", 1)];
const MENUS: [&str; 2] = ["/boot/grub/grub.cfg", "/boot/grub/custom.cfg"];

/// Whether what a text names is there, as far as that is known; what is no device counts as there.
type IsThere<'a> = dyn Fn(&str) -> Option<bool> + 'a;

/// Returns the tables that do not return completely.
pub(super) fn adapt(
    case: &ReturnCase<'_>,
    differences: &mut [Difference],
    fates: &mut [Fate],
    made: &mut HashMap<Digest, Vec<u8>>,
) -> Vec<SystemPath> {
    let mut without_lines = Vec::new();
    let devices = PresentDevices::default();
    let is_there = |text: &str| if is_device(text) { devices.has(text) } else { Some(true) };
    for (table, field) in TABLES {
        let path = SystemPath::literal(table);
        let Some((then, now)) = both(case, differences, fates, &path) else { continue };
        if let Some(bytes) = merged(&then, &now, field, &is_there) {
            set_content(differences, fates, made, &path, bytes);
            without_lines.push(path);
        }
    }
    for menu in MENUS {
        let path = SystemPath::literal(menu);
        let Some((then, now)) = both(case, differences, fates, &path) else { continue };
        if names_missing(&then, &now, &is_there)
            && let Some(at) = differences.iter().position(|difference| difference.path == path)
        {
            fates[at] = Fate::Stays(StayReason::BootMenu);
        }
    }
    without_lines
}

/// Whether a menu of then names a device that is not there, or may not be while the menu of now names others.
fn names_missing(then: &[u8], now: &[u8], is_there: &IsThere<'_>) -> bool {
    let has_other = !devices_of_menu(now).is_empty();
    devices_of_menu(then).iter().any(|device| !contains(now, device) && !is_there(device).unwrap_or(!has_other))
}

/// The contents of a file that returns: then and now.
fn both(
    case: &ReturnCase<'_>,
    differences: &[Difference],
    fates: &[Fate],
    path: &SystemPath,
) -> Option<(Vec<u8>, Vec<u8>)> {
    let at = differences.iter().position(|difference| difference.path == *path)?;
    let then = content(case, differences[at].then.as_ref().filter(|_| fates[at] == Fate::Returns)?)?;
    Some((then, case.context.machine.read_config(path).ok().flatten().unwrap_or_default()))
}

fn fields(line: &[u8]) -> Vec<&[u8]> {
    line.split(u8::is_ascii_whitespace).filter(|field| !field.is_empty()).collect()
}

/// A table of then without lines for devices that are not there; `None` if all are, or are named now, too. Where that is not known,
/// only the line of the root file system returns, unless the table of now has one.
fn merged(then: &[u8], now: &[u8], field: usize, is_there: &IsThere<'_>) -> Option<Vec<u8>> {
    let lines_now: Vec<&[u8]> = now.split_inclusive(|byte| *byte == b'\n').collect();
    let is_named_now = |device: &[u8]| lines_now.iter().any(|line| fields(line).get(field) == Some(&device));
    // What a line is for: the mount point, or the name of the decrypted device.
    let purpose = |line: &[u8]| fields(line).get(1 - field).map(|field| field.to_vec());
    let mut bytes = Vec::new();
    let mut left_out = false;
    for line in then.split_inclusive(|byte| *byte == b'\n') {
        let device = fields(line).get(field).copied().filter(|_| !line.trim_ascii_start().starts_with(b"#"));
        let text = device.map(|device| String::from_utf8_lossy(device).into_owned());
        let instead = lines_now.iter().find(|now| purpose(now).is_some() && purpose(now) == purpose(line));
        let is_needed = || instead.is_none() && purpose(line).as_deref() == Some(b"/");
        let is_missing = text.is_some_and(|text| !is_there(&text).unwrap_or_else(is_needed));
        let gone = is_missing && !device.is_some_and(is_named_now);
        if !gone {
            bytes.extend_from_slice(line);
            continue;
        }
        left_out = true;
        bytes.extend_from_slice(instead.copied().unwrap_or_default());
    }
    left_out.then_some(bytes)
}

/// The file systems that a boot menu names: `root=UUID=…`, and GRUB's `search --fs-uuid … UUID`.
fn devices_of_menu(menu: &[u8]) -> Vec<String> {
    let mut found = Vec::new();
    for line in menu.split(|byte| *byte == b'\n').map(fields) {
        let search = line.first() == Some(&&b"search"[..]) && line.iter().any(|word| *word == b"--fs-uuid");
        let of_search = line.last().filter(|_| search).map(|word| format!("UUID={}", String::from_utf8_lossy(word)));
        let of_root =
            line.iter().filter_map(|word| word.strip_prefix(b"root=")).map(|v| String::from_utf8_lossy(v).into_owned());
        found.extend(of_search.into_iter().chain(of_root));
    }
    found.sort();
    found.dedup();
    found
}

fn contains(text: &[u8], device: &str) -> bool {
    let value = device.rsplit_once('=').map_or(device, |(_, value)| value);
    memchr::memmem::find(text, value.as_bytes()).is_some()
}

#[cfg(test)]
mod tests {
    use super::*;

    fn there(device: &str) -> Option<bool> {
        let known = device.strip_prefix("UUID=").map(|uuid| uuid == "new");
        if device.starts_with("PARTUUID=") { None } else { Some(known.unwrap_or(true)) }
    }

    #[test]
    fn a_line_for_a_disk_that_is_gone_gives_way_to_the_line_of_now() {
        let then = b"# disks\nUUID=old / ext4 rw 0 1\nUUID=lost /data ext4 rw 0 2\ntmpfs /tmp tmpfs rw 0 0\n";
        let now = b"UUID=new / ext4 rw 0 1\n";
        let told = merged(then, now, 0, &there).unwrap();
        assert_eq!(String::from_utf8(told).unwrap(), "# disks\nUUID=new / ext4 rw 0 1\ntmpfs /tmp tmpfs rw 0 0\n");
        assert_eq!(merged(b"UUID=new / ext4 rw 0 1\n", now, 0, &there), None);
        assert_eq!(merged(b"UUID=old / ext4 rw 0 1\n", b"UUID=old / ext4 ro 0 1\n", 0, &there), None, "named now, too");
        let crypt = merged(b"home UUID=old none luks\n", b"home UUID=new none luks\n", 1, &there).unwrap();
        assert_eq!(crypt, b"home UUID=new none luks\n");
    }

    #[test]
    fn where_it_is_not_known_what_is_there_now_stays_and_a_lost_root_returns() {
        let then = b"PARTUUID=1 / ext4 rw 0 1\nPARTUUID=2 /data ext4 rw 0 2\n";
        assert_eq!(merged(then, b"", 0, &there).unwrap(), b"PARTUUID=1 / ext4 rw 0 1\n");
        let now = b"UUID=new / ext4 rw 0 1\n";
        assert_eq!(merged(then, now, 0, &there).unwrap(), now);
        let menu = b"linux /vmlinuz root=PARTUUID=1 ro\n";
        assert!(names_missing(menu, b"linux /vmlinuz root=UUID=new ro\n", &there));
        assert!(!names_missing(menu, b"", &there), "there is nothing else to start from");
        assert!(names_missing(b"linux /vmlinuz root=UUID=old ro\n", b"", &there));
    }

    #[test]
    fn a_boot_menus_disks_are_found() {
        let menu = b"search --no-floppy --fs-uuid --set=root 12-34\n linux /vmlinuz root=UUID=56 ro quiet\n";
        assert_eq!(devices_of_menu(menu), ["UUID=12-34", "UUID=56"]);
        assert!(contains(b"x 12-34 y", "UUID=12-34") && !contains(b"x", "UUID=12-34"));
    }
}
