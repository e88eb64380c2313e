//! dpkg's `info/*`: which paths a component has, and MD5 digests of some (deb-md5sums(5)).

use std::collections::HashMap;

use crate::model::{Md5, SystemPath};
use crate::platform::Component;

/// Lists over this many paths are refused; the largest package of Debian has a fifth of it.
const MAX_PATHS: usize = 1_000_000;

/// The file names, without suffix, under which a component's records may stand; the likelier first.
pub(super) fn stems(component: &Component) -> Vec<String> {
    let (plain, with_arch) = (component.id.name.clone(), format!("{}:{}", component.id.name, component.id.arch));
    if component.multi_arch_same { vec![with_arch, plain] } else { vec![plain, with_arch] }
}

/// Reads a `.list`: a path a line.
pub(super) fn list(bytes: &[u8]) -> Result<Vec<SystemPath>, String> {
    let mut paths = Vec::new();
    for (at, line) in lines(bytes).enumerate() {
        if paths.len() >= MAX_PATHS {
            return Err(format!("it has more than {MAX_PATHS} lines"));
        }
        paths.push(SystemPath::parse(line).map_err(|e| format!("line {}: {e}", at + 1))?);
    }
    // Every package lists at least the root folder: an empty list is a damaged one.
    if paths.is_empty() { Err("it is empty".into()) } else { Ok(paths) }
}

/// Reads an `.md5sums`: 32 digits, two spaces, a name without its leading slash; nothing in it is escaped.
pub(super) fn md5sums(bytes: &[u8]) -> Result<HashMap<SystemPath, Md5>, String> {
    let mut sums = HashMap::new();
    for (at, line) in lines(bytes).enumerate() {
        let fail = |what: &str| format!("line {}: {what}", at + 1);
        if sums.len() >= MAX_PATHS {
            return Err(fail("too many lines"));
        }
        let (Some(md5), Some(name)) = (line.get(..32), line.get(34..)) else { return Err(fail("too short")) };
        let md5 = Md5::from_hex(md5).map_err(|e| fail(&e.to_string()))?;
        sums.insert(SystemPath::below_root(name).map_err(|e| fail(&e.to_string()))?, md5);
    }
    Ok(sums)
}

fn lines(bytes: &[u8]) -> impl Iterator<Item = &[u8]> {
    bytes.split(|b| *b == b'\n').filter(|line| !line.is_empty())
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn names_are_taken_as_they_are() {
        let list = list(b"/.\n/usr\n/usr/share/a dir\n/usr/share/back\\slash\n").unwrap();
        assert!(list[0].is_root());
        assert_eq!(list[3].as_bytes(), b"/usr/share/back\\slash");
        let sums = md5sums(b"900150983cd24fb0d6963f7d28e17f72  usr/share/back\\slash\n").unwrap();
        assert_eq!(sums[&list[3]], Md5::of(b"abc"));
    }

    #[test]
    fn a_climbing_line_or_an_empty_list_is_refused() {
        assert!(list(b"/usr/../etc\n").is_err());
        assert!(list(b"").is_err());
        assert!(md5sums(b"zz  usr/x\n").is_err());
    }

    proptest::proptest! {
        #[test]
        fn any_bytes_can_be_read_as_records(bytes: Vec<u8>) {
            let _ = list(&bytes);
            let _ = md5sums(&bytes);
        }
    }
}
