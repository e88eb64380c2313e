//! dpkg's `status`: which packages are installed (dpkg-query(1), "Status").

use super::database::stanza::Stanza;
use crate::model::PackageId;
use crate::platform::{InstallState, Package};

/// Whether an entry's package, if it has files in place, has a valid name and version.
pub(super) fn check(stanza: &Stanza) -> Result<(), String> {
    if install_state(stanza).is_some() { id(stanza).map(drop) } else { Ok(()) }
}

fn install_state(stanza: &Stanza) -> Option<InstallState> {
    match stanza.state() {
        "installed" | "triggers-awaited" | "triggers-pending" => Some(InstallState::Installed),
        "unpacked" | "half-configured" => Some(InstallState::Unconfigured),
        "half-installed" => Some(InstallState::HalfInstalled),
        _ => None,
    }
}

fn id(stanza: &Stanza) -> Result<PackageId, String> {
    let version = stanza.get("Version").unwrap_or_default();
    let arch = stanza.get("Architecture").unwrap_or_default();
    PackageId::new(stanza.name(), version, arch).map_err(|e| e.to_string())
}

/// The package of an entry, if it has files in place.
pub(super) fn package(stanza: &Stanza) -> Result<Option<Package>, String> {
    let Some(install_state) = install_state(stanza) else { return Ok(None) };
    Ok(Some(Package {
        id: id(stanza)?,
        install_state,
        multi_arch_same: stanza.get("Multi-Arch") == Some("same"),
        installed_bytes: stanza
            .get("Installed-Size")
            .and_then(|kib| kib.parse::<u64>().ok())
            .and_then(|kib| kib.checked_mul(1024)),
        settings: stanza.settings(),
        summary: stanza
            .get("Description")
            .and_then(|d| d.lines().next())
            .unwrap_or_default()
            .chars()
            .filter(|c| !c.is_control())
            .take(100)
            .collect(),
    }))
}

#[cfg(test)]
mod tests {
    use super::*;

    fn read(status: &str, more: &str) -> Result<Option<Package>, String> {
        package(&Stanza::of_status(
            format!("Package: ferry-base\nStatus: {status}\nVersion: 1:4.2-1\n{more}").as_bytes(),
        )?)
    }

    #[test]
    fn what_has_files_in_place_is_a_package_and_the_rest_is_none() {
        let more = "Architecture: amd64\nInstalled-Size: 12\nMulti-Arch: same\nConffiles:\n \
            /etc/ferry/a b.conf 900150983cd24fb0d6963f7d28e17f72\n /etc/ferry/old 900150983cd24fb0d6963f7d28e17f72 obsolete\n\
            Description: base files\n longer\n";
        let ferry = read("install ok installed", more).unwrap().unwrap();
        assert_eq!(
            (ferry.install_state, ferry.multi_arch_same, ferry.installed_bytes),
            (InstallState::Installed, true, Some(12 << 10))
        );
        assert_eq!(
            (ferry.settings[0].path.as_bytes(), ferry.settings[1].obsolete),
            (&b"/etc/ferry/a b.conf"[..], true)
        );
        assert_eq!(ferry.summary, "base files");
        let torn = read("install reinstreq half-installed", "Architecture: all\n").unwrap().unwrap();
        assert_eq!((torn.install_state, torn.installed_bytes), (InstallState::HalfInstalled, None));
        assert_eq!(read("deinstall ok config-files", "Architecture: all\n").unwrap(), None);
    }
}
