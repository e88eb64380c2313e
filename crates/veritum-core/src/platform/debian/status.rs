//! dpkg's `status`: which components are installed (dpkg-query(1), "Status").

use super::control::{Paragraph, paragraphs};
use crate::model::{ComponentId, Md5, SystemPath};
use crate::platform::{Component, Progress, RecordProblem, SettingsFile};

/// More problems than this in one file are counted, not listed.
const MAX_PROBLEMS: usize = 50;

/// The components that have files in place, and what could not be read.
pub(super) fn read(bytes: &[u8], path: &SystemPath) -> (Vec<Component>, Vec<RecordProblem>) {
    let text = String::from_utf8_lossy(bytes);
    let mut components = Vec::new();
    let mut problems = Vec::new();
    for paragraph in paragraphs(&text) {
        match component(&paragraph) {
            Ok(Some(component)) => components.push(component),
            Ok(None) => {}
            Err(what) if problems.len() < MAX_PROBLEMS => problems.push(RecordProblem { path: path.clone(), what }),
            Err(_) => {}
        }
    }
    components.sort_by(|a, b| a.id.cmp(&b.id));
    components.dedup_by(|a, b| a.id.name == b.id.name && a.id.arch == b.id.arch);
    (components, problems)
}

fn component(paragraph: &Paragraph<'_>) -> Result<Option<Component>, String> {
    let name = paragraph.get("Package").ok_or("a paragraph without a Package field")?;
    let shown: String = name.chars().filter(|c| !c.is_control()).take(60).collect();
    let status = paragraph.get("Status").ok_or_else(|| format!("{shown} has no Status field"))?;
    let progress = match status.split_ascii_whitespace().nth(2) {
        Some("installed" | "triggers-awaited" | "triggers-pending") => Progress::InPlace,
        Some("unpacked" | "half-configured") => Progress::Unconfigured,
        Some("half-installed") => Progress::HalfWay,
        Some("config-files" | "not-installed") => return Ok(None),
        _ => return Err(format!("{shown} has a Status that means nothing")),
    };
    let version = paragraph.get("Version").unwrap_or_default();
    let arch = paragraph.get("Architecture").unwrap_or_default();
    let id = ComponentId::new(name, version, arch).map_err(|e| e.to_string())?;
    Ok(Some(Component {
        id,
        progress,
        multi_arch_same: paragraph.get("Multi-Arch") == Some("same"),
        installed_bytes: paragraph
            .get("Installed-Size")
            .and_then(|kib| kib.parse::<u64>().ok())
            .and_then(|kib| kib.checked_mul(1024)),
        settings: settings(paragraph.get("Conffiles").unwrap_or_default()),
        summary: paragraph
            .get("Description")
            .and_then(|d| d.lines().next())
            .unwrap_or_default()
            .chars()
            .filter(|c| !c.is_control())
            .take(100)
            .collect(),
    }))
}

/// Lines of `PATH MD5 [obsolete] [remove-on-upgrade]`; the path may hold spaces.
fn settings(lines: &str) -> Vec<SettingsFile> {
    let mut files = Vec::new();
    for line in lines.lines() {
        let mut rest = line.trim();
        let mut obsolete = false;
        while let Some((head, flag)) = rest.rsplit_once(' ') {
            match flag {
                "obsolete" => obsolete = true,
                "remove-on-upgrade" => {}
                _ => break,
            }
            rest = head;
        }
        let Some((path, md5)) = rest.rsplit_once(' ') else { continue };
        if let Ok(path) = SystemPath::parse(path.as_bytes()) {
            files.push(SettingsFile { path, md5: Md5::from_hex(md5.as_bytes()).ok(), obsolete });
        }
    }
    files
}

#[cfg(test)]
mod tests {
    use super::*;

    const SAMPLE: &str = "Package: ferry-base\nStatus: install ok installed\nArchitecture: amd64\nInstalled-Size: 12\nMulti-Arch: same\nVersion: 1:4.2-1\n\
        Conffiles:\n /etc/ferry/a b.conf 900150983cd24fb0d6963f7d28e17f72\n /etc/ferry/old 900150983cd24fb0d6963f7d28e17f72 obsolete\n\
        Description: base files\n longer\n\nPackage: gone\nStatus: deinstall ok config-files\nVersion: 1\nArchitecture: all\n\n\
        Package: torn\nStatus: install reinstreq half-installed\nVersion: 1\nArchitecture: all\n\nPackage: bad\nStatus: zzz\n";

    #[test]
    fn what_has_files_in_place_is_read_and_the_rest_is_told() {
        let (components, problems) = read(SAMPLE.as_bytes(), &SystemPath::literal("/var/lib/dpkg/status"));
        assert_eq!(components.iter().map(|c| c.id.name.as_str()).collect::<Vec<_>>(), ["ferry-base", "torn"]);
        assert_eq!(components[1].progress, Progress::HalfWay);
        assert!(components[0].multi_arch_same);
        assert_eq!((components[0].installed_bytes, components[1].installed_bytes), (Some(12 << 10), None));
        assert_eq!(components[0].settings[0].path.as_bytes(), b"/etc/ferry/a b.conf");
        assert!(components[0].settings[1].obsolete);
        assert_eq!(problems.len(), 1);
    }

    proptest::proptest! {
        #[test]
        fn a_garbled_status_never_ends_the_reading(cut in 0usize..400, byte: u8, at in 0usize..400) {
            let mut bytes = SAMPLE.as_bytes()[..cut.min(SAMPLE.len())].to_vec();
            if let Some(b) = bytes.get_mut(at) { *b = byte; }
            let _ = read(&bytes, &SystemPath::literal("/var/lib/dpkg/status"));
        }
    }
}
