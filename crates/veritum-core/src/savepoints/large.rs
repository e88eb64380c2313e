//! [`leave_out`]: large files that no package owns are not covered. They are data rather than the system, such as disk images in `/opt`;
//! where a program writes to one, each savepoint would copy all of it.

use super::merged::Merged;
use super::walk::Walked;
use crate::machine::Machine;
use crate::model::{FileKind, PathSet, Stat, SystemPath};
use crate::platform::debian::listed_below;

/// Larger files are left out, in bytes.
const LARGE: u64 = 1 << 30;
/// Why.
const WHY: &str = "larger than 1 GiB, and no package's";

/// Moves such files to the places that are not part of it.
pub(super) fn leave_out(machine: &Machine, walked: &mut Walked, pool: &rayon::ThreadPool) {
    let is_large = |stat: &Stat| stat.kind == FileKind::File && stat.size > LARGE;
    if !walked.seen.iter().any(|place| is_large(&place.stat)) {
        return;
    }
    let merged = Merged::read(machine);
    let listed = pool.install(|| listed_below(machine, &SystemPath::root()));
    let owned: PathSet = listed.into_iter().map(|path| merged.physical(path)).collect();
    let Walked { seen, missing, .. } = walked;
    seen.retain(|place| {
        let stays = !is_large(&place.stat) || owned.contains(&place.path);
        if !stays {
            missing.push((place.path.clone(), WHY.into()));
        }
        stays
    });
    missing.sort();
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::model::{Identity, Instant};
    use crate::savepoints::walk::Seen;

    #[test]
    fn large_files_are_left_out_unless_a_package_owns_them() {
        let root = tempfile::tempdir().unwrap();
        let info = root.path().join("var/lib/dpkg/info");
        std::fs::create_dir_all(&info).unwrap();
        std::fs::create_dir_all(root.path().join("usr/lib")).unwrap();
        std::os::unix::fs::symlink("usr/lib", root.path().join("lib")).unwrap();
        std::fs::write(info.join("game.list"), "/.\n/lib/game.data\n").unwrap();
        let machine = Machine::open(root.path(), std::sync::Arc::new(crate::machine::LiveDisk)).unwrap();
        let seen = |path: &'static str, kind, size| {
            let (time, id) = (Instant { s: 1, n: 2 }, Identity { dev: 1, ino: 1 });
            let (mtime, ctime) = (time, time);
            let stat = Stat { kind, mode: 0o644, uid: 0, gid: 0, size, mtime, ctime, id, names: 1, rdev: 0 };
            Seen { path: SystemPath::literal(path), stat, target: None, attributes: Vec::new(), locked: 0 }
        };
        let mut walked = Walked {
            seen: vec![
                seen("/opt/disk", FileKind::File, LARGE + 1),
                seen("/opt/folder", FileKind::Folder, LARGE + 1),
                seen("/opt/small", FileKind::File, LARGE),
                seen("/usr/lib/game.data", FileKind::File, LARGE + 1),
            ],
            ..Walked::default()
        };
        let pool = rayon::ThreadPoolBuilder::new().num_threads(1).build().unwrap();
        leave_out(&machine, &mut walked, &pool);
        assert_eq!(walked.missing, [(SystemPath::literal("/opt/disk"), WHY.to_owned())]);
        assert_eq!(walked.seen.len(), 3);
    }
}
