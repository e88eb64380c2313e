//! The binary caches that apt builds from all lists.

use super::{ExaminedPart, at_path, to_set_aside};
use crate::machine::Machine;
use crate::model::{FileKind, SystemPath, Verdict};
use crate::platform::debian::apt::BINARY_CACHES;

/// The header of a cache, by apt's own layout (`pkgCache::Header`), little-endian.
const SIGNATURE: [u8; 4] = [0xdc, 0x76, 0xfe, 0x98];

/// Judges them by their header: apt compares the rest with the lists itself.
pub(crate) fn binary_caches(machine: &Machine) -> ExaminedPart {
    let mut part = ExaminedPart::default();
    for path in BINARY_CACHES.map(SystemPath::literal) {
        let parent = path.parent().unwrap_or_else(SystemPath::root);
        let Ok(dir) = machine.resolve(&parent).and_then(|real| machine.dir(&real)) else { continue };
        let Ok(Some(stat)) = dir.look(path.name()) else { continue };
        part.examined += 1;
        if stat.kind != FileKind::File {
            let cause = format!("a {} is in place of apt's cache of the package lists", stat.kind.word());
            part.add(to_set_aside(at_path(&path, Verdict::WrongType, &cause, None)));
            continue;
        }
        let mut begins = [0; 4];
        let read = dir.disk().open_file(dir.fd(), path.name()).and_then(|file| {
            use std::os::fd::AsFd as _;
            dir.disk().read(file.as_fd(), &mut begins)
        });
        let verdict = match read {
            // apt replaces an empty one by itself.
            Ok(0) => continue,
            Ok(4) if begins == SIGNATURE => continue,
            Ok(_) => Verdict::Corrupt,
            Err(e) if e.kind() == std::io::ErrorKind::PermissionDenied => continue,
            Err(_) => Verdict::Unreadable,
        };
        let cause = "not a valid apt cache; apt rebuilds it when it is missing";
        let finding = at_path(&path, verdict, cause, None);
        part.add(if verdict == Verdict::Corrupt { to_set_aside(finding) } else { finding });
    }
    part
}

#[cfg(test)]
mod tests {
    use std::sync::Arc;

    use super::*;
    use crate::machine::LiveDisk;

    #[test]
    fn a_cache_is_known_by_how_it_begins() {
        let dir = tempfile::tempdir().unwrap();
        let cache = dir.path().join("var/cache/apt");
        std::fs::create_dir_all(&cache).unwrap();
        let machine = Machine::open(dir.path(), Arc::new(LiveDisk)).unwrap();
        let told = || binary_caches(&machine).findings.into_iter().map(|f| f.verdict).collect::<Vec<_>>();
        assert!(told().is_empty(), "there need not be any");
        std::fs::write(cache.join("pkgcache.bin"), [&SIGNATURE[..], b"and the rest"].concat()).unwrap();
        std::fs::write(cache.join("srcpkgcache.bin"), "").unwrap();
        assert!(told().is_empty());
        std::fs::write(cache.join("pkgcache.bin"), [0; 4096]).unwrap();
        std::fs::remove_file(cache.join("srcpkgcache.bin")).unwrap();
        std::fs::create_dir(cache.join("srcpkgcache.bin")).unwrap();
        assert_eq!(told(), [Verdict::Corrupt, Verdict::WrongType]);
    }
}
