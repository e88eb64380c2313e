//! Symlinks of a Debian system in place of folders that packages ship.

/// Top-level names that are symlinks into `/usr` on a merged system (Debian's usr-merge).
pub const ALIASES: [&str; 7] = ["bin", "sbin", "lib", "lib32", "lib64", "libx32", "libo32"];

/// The target of a top-level folder on a merged system (`/lib64` to `usr/lib64`); `None` for any other path.
#[must_use]
pub fn alias_target(path: &[u8]) -> Option<Vec<u8>> {
    let name = std::str::from_utf8(path.strip_prefix(b"/")?).ok().filter(|name| ALIASES.contains(name))?;
    Some(format!("usr/{name}").into_bytes())
}

/// Folders of packages that may be symlinks on disk, with the allowed targets.
///
/// `/var/run` and `/var/lock` follow the Filesystem Hierarchy Standard 3.0 (5.13, 5.9).
#[must_use]
pub fn explained_links(path: &[u8], target: &[u8]) -> bool {
    if let Some(alias) = alias_target(path) {
        return target.strip_prefix(b"/").unwrap_or(target) == alias;
    }
    match path {
        b"/var/run" => matches!(target, b"/run" | b"../run"),
        b"/var/lock" => matches!(target, b"/run/lock" | b"../run/lock"),
        _ => false,
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn only_the_known_links_explain_a_folder() {
        assert!(explained_links(b"/lib64", b"usr/lib64") && explained_links(b"/bin", b"/usr/bin"));
        assert!(explained_links(b"/var/run", b"/run"));
        assert!(!explained_links(b"/bin", b"/home/mirela") && !explained_links(b"/usr/bin", b"usr/bin"));
        assert!(!explained_links(b"/lib", b"usr/bin"));
        assert_eq!(alias_target(b"/lib64").as_deref(), Some(&b"usr/lib64"[..]));
        assert_eq!(alias_target(b"/usr/lib"), None);
    }
}
