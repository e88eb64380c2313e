//! Why a restart of the running machine is due.

use super::System;
use crate::model::SystemPath;

impl System {
    /// Why a restart of the running machine is due: it was requested, or the running kernel is no longer installed.
    pub fn restart_due(&self) -> Vec<String> {
        if !self.machine.is_live() {
            return Vec::new();
        }
        let mut why = Vec::new();
        let asked = SystemPath::literal("/run/reboot-required");
        if matches!(self.machine.read_config(&asked), Ok(Some(_))) {
            let by = self.machine.read_config(&SystemPath::literal("/run/reboot-required.pkgs")).ok().flatten();
            why.push(asked_by(&by.unwrap_or_default()));
        }
        let running = rustix::system::uname();
        let running = running.release().to_string_lossy();
        let names: Vec<&str> = self.installed.packages.iter().map(|c| c.id.name.as_str()).collect();
        why.extend(kernel_gone(&running, &names));
        why
    }
}

/// The packages that requested a restart, one per line.
fn asked_by(names: &[u8]) -> String {
    let text: String = String::from_utf8_lossy(names).chars().filter(|c| *c == '\n' || !c.is_control()).collect();
    let mut names: Vec<&str> = text.lines().map(str::trim).filter(|l| !l.is_empty()).collect();
    names.sort_unstable();
    names.dedup();
    match names[..] {
        [] => "requested by an update".into(),
        [.., _] if names.len() > 5 => format!("requested by {} and {} more", names[..4].join(", "), names.len() - 4),
        _ => format!("requested by {}", names.join(", ")),
    }
}

/// Whether the running kernel is not among the installed ones. Without any (a container) this is unknown.
fn kernel_gone(running: &str, packages: &[&str]) -> Option<String> {
    let mut installed = packages
        .iter()
        .filter_map(|name| name.strip_prefix("linux-image-"))
        .map(|release| release.strip_prefix("unsigned-").unwrap_or(release))
        .filter(|release| release.starts_with(|c: char| c.is_ascii_digit()))
        .peekable();
    installed.peek()?;
    (!installed.any(|release| release == running))
        .then(|| format!("the running kernel {running} is no longer installed"))
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_kernel_that_is_gone_is_a_reason_to_restart_and_a_container_is_none() {
        let names = ["linux-image-6.1.0-41-amd64", "linux-image-amd64", "quay"];
        assert_eq!(kernel_gone("6.1.0-41-amd64", &names), None);
        assert!(kernel_gone("6.1.0-40-amd64", &names).is_some_and(|w| w.contains("6.1.0-40-amd64 is no longer")));
        assert_eq!(kernel_gone("6.8.0-50-generic", &["linux-image-unsigned-6.8.0-50-generic"]), None);
        assert_eq!(kernel_gone("6.18.0", &["quay", "linux-image-amd64"]), None);
    }

    #[test]
    fn who_asked_for_a_restart_is_named_once_and_not_at_length() {
        assert_eq!(asked_by(b""), "requested by an update");
        assert_eq!(asked_by(b"quay\npi\x1ber\nquay\n"), "requested by pier, quay");
        assert_eq!(asked_by(b"a\nb\nc\nd\ne\nf\n"), "requested by a, b, c, d and 2 more");
    }
}
