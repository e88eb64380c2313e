//! dpkg's `info/*`: the paths of each package, and MD5 digests of some (deb-md5sums(5)).

use std::collections::HashSet;

use rayon::prelude::*;

use crate::machine::{Dir, Machine};
use crate::model::{Md5, PathMap, PathSet, SystemPath, byte_lines, error_chain};
use crate::platform::{Keep, Package, RecordProblem, Records, SelfRecord};

/// Larger lists or digest files are refused, in bytes.
const MAX_INFO: u64 = 64 << 20;

/// Lists with more paths are refused; the largest package of Debian has a fifth of it.
const MAX_PATHS: usize = 1_000_000;

/// The database's info folder, opened once for all packages.
pub(super) struct InfoFolder<'a> {
    machine: &'a Machine,
    path: SystemPath,
    dir: Option<Dir>,
}

impl<'a> InfoFolder<'a> {
    pub(super) fn open(machine: &'a Machine, path: SystemPath) -> Self {
        let dir = machine.resolve(&path).and_then(|real| machine.dir(&real)).ok();
        Self { machine, path, dir }
    }

    /// The first existing record of a package with that suffix.
    fn read(&self, package: &Package, suffix: &str) -> Result<Option<(SystemPath, Vec<u8>)>, RecordProblem> {
        for stem in info_stems(package) {
            let name = format!("{stem}.{suffix}");
            let Ok(path) = self.path.join(name.as_bytes()) else { continue };
            match self.dir.as_ref().map(|d| d.read(name.as_bytes(), MAX_INFO)) {
                Some(Ok(bytes)) => return Ok(Some((path, bytes))),
                Some(Err(e)) if e.kind() == std::io::ErrorKind::NotFound => continue,
                // A symlink among the records, or another error: the slow way reports it.
                _ => {}
            }
            match self.machine.read_up_to(&path, MAX_INFO) {
                Ok(Some(bytes)) => return Ok(Some((path, bytes))),
                Ok(None) => {}
                Err(e) => return Err(RecordProblem { path, what: error_chain(&e) }),
            }
        }
        Ok(None)
    }
}

impl Records for InfoFolder<'_> {
    fn read_list(&self, package: &Package, keep: Option<&Keep<'_>>) -> Result<SelfRecord, RecordProblem> {
        let Some((path, text)) = self.read(package, "list")? else {
            let stem = info_stems(package).remove(0);
            let path = self.path.join(format!("{stem}.list").as_bytes()).unwrap_or_else(|_| self.path.clone());
            return Err(RecordProblem { path, what: "missing".into() });
        };
        let (paths, folders) = list(&text, keep).map_err(|what| RecordProblem { path, what })?;
        if paths.iter().all(|path| folders.contains(path)) {
            return Ok(SelfRecord { paths, folders, md5s: PathMap::default() });
        }
        let md5s = match self.read(package, "md5sums")? {
            Some((path, text)) => md5sums(&text, keep).map_err(|what| RecordProblem { path, what })?,
            None => PathMap::default(),
        };
        Ok(SelfRecord { paths, folders, md5s })
    }
}

/// The paths in a `.list` file.
///
/// # Errors
/// The error.
pub fn info_list(bytes: &[u8]) -> Result<Vec<SystemPath>, String> {
    Ok(list(bytes, None)?.0)
}

/// The digests in an `.md5sums` file.
///
/// # Errors
/// The error.
pub fn info_md5sums(bytes: &[u8]) -> Result<PathMap<Md5>, String> {
    md5sums(bytes, None)
}

/// What all packages list below a folder, in order. Lists that cannot be read are left out.
#[must_use]
pub fn listed_below(machine: &Machine, folder: &SystemPath) -> Vec<SystemPath> {
    let Ok(info) = machine.resolve(&super::in_database("info")).and_then(|real| machine.dir(&real)) else {
        return Vec::new();
    };
    let names = info.disk().list(info.fd()).unwrap_or_default();
    let begin = if folder.is_root() { b"/".to_vec() } else { [folder.as_bytes(), b"/"].concat() };
    let below = |name: &[u8]| -> Vec<SystemPath> {
        let bytes = info.read(name, MAX_INFO).unwrap_or_default();
        let paths = lines(&bytes).filter(|line| line.starts_with(&begin)).take(MAX_PATHS);
        paths.filter_map(|line| SystemPath::parse(line).ok()).collect()
    };
    let lists: Vec<_> = names.iter().filter(|(name, _)| name.ends_with(b".list")).collect();
    let mut paths: Vec<SystemPath> = lists.par_iter().flat_map_iter(|(name, _)| below(name)).collect();
    paths.sort();
    paths.dedup();
    paths
}

/// The file names, without suffix, of a package's records; the more likely one first.
pub fn info_stems(package: &Package) -> Vec<String> {
    let (plain, with_arch) = (package.id.name.clone(), format!("{}:{}", package.id.name, package.id.arch));
    if package.multi_arch_same { vec![with_arch, plain] } else { vec![plain, with_arch] }
}

/// Parses a `.list`, one path per line: the wanted paths, and which of them have other paths below them.
pub(super) fn list(bytes: &[u8], keep: Option<&Keep<'_>>) -> Result<(Vec<SystemPath>, PathSet), String> {
    let mut paths = Vec::new();
    let mut count = 0;
    for (at, line) in lines(bytes).enumerate() {
        count += 1;
        if count > MAX_PATHS {
            return Err(format!("more than {MAX_PATHS} lines"));
        }
        if keep.is_none_or(|keep| keep(line)) {
            paths.push(SystemPath::parse(line).map_err(|e| format!("line {}: {e}", at + 1))?);
        }
    }
    // Every package lists at least the root folder: an empty list is damaged.
    if count == 0 {
        return Err("empty file".into());
    }
    let longest = paths.iter().map(|path| path.as_bytes().len()).max().unwrap_or_default();
    let mut parents: HashSet<&[u8], foldhash::fast::RandomState> = HashSet::default();
    let mut last: &[u8] = b"/";
    for line in lines(bytes) {
        // Files of one folder mostly follow each other.
        if let Some(cut) = memchr::memrchr(b'/', line)
            && cut <= longest
            && line[..cut] != *last
        {
            last = &line[..cut];
            parents.insert(last);
        }
    }
    let folders = paths.iter().filter(|p| p.is_root() || parents.contains(p.as_bytes())).cloned().collect();
    Ok((paths, folders))
}

/// Parses an `.md5sums`: 32 digits, two spaces, a name without its leading slash; nothing in it is escaped.
pub(super) fn md5sums(bytes: &[u8], keep: Option<&Keep<'_>>) -> Result<PathMap<Md5>, String> {
    let mut sums = PathMap::default();
    let mut listed = vec![b'/'];
    for (at, line) in lines(bytes).enumerate() {
        let fail = |what: &str| format!("line {}: {what}", at + 1);
        if sums.len() >= MAX_PATHS {
            return Err(fail("too many lines"));
        }
        let (Some(md5), Some(name)) = (line.get(..32), line.get(34..)) else { return Err(fail("too short")) };
        if let Some(keep) = keep {
            listed.truncate(1);
            listed.extend_from_slice(name.strip_prefix(b"./").unwrap_or(name));
            if !keep(&listed) {
                continue;
            }
        }
        let md5 = Md5::from_hex(md5).map_err(|e| fail(&e.to_string()))?;
        sums.insert(SystemPath::below_root(name).map_err(|e| fail(&e.to_string()))?, md5);
    }
    Ok(sums)
}

fn lines(bytes: &[u8]) -> impl Iterator<Item = &[u8]> {
    byte_lines(bytes).filter(|line| !line.is_empty())
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn names_are_taken_as_they_are() {
        let (list, folders) = list(b"/.\n/usr\n/usr/share/a dir\n/usr/share/back\\slash\n", None).unwrap();
        assert!(list[0].is_root() && folders.contains(&list[0]) && !folders.contains(&list[2]));
        assert_eq!(list[3].as_bytes(), b"/usr/share/back\\slash");
        let sums = md5sums(b"900150983cd24fb0d6963f7d28e17f72  usr/share/back\\slash\n", None).unwrap();
        assert_eq!(sums[&list[3]], Md5::hash(b"abc"));
    }

    #[test]
    fn a_climbing_line_or_an_empty_list_is_refused() {
        assert!(list(b"/usr/../etc\n", None).is_err());
        assert!(list(b"", None).is_err());
        assert!(md5sums(b"zz  usr/x\n", None).is_err());
    }

    #[test]
    fn of_what_is_not_of_interest_only_the_folders_are_known() {
        let text = b"/.\n/usr\n/usr/bin\n/usr/bin/a\n/usr/share\n/usr/share/b\n";
        let keep = |path: &[u8]| path.starts_with(b"/usr/share") || path == b"/usr/bin";
        let (paths, folders) = list(text, Some(&keep)).unwrap();
        let names = |paths: &[SystemPath]| paths.iter().map(ToString::to_string).collect::<Vec<_>>();
        assert_eq!(names(&paths), ["/usr/bin", "/usr/share", "/usr/share/b"]);
        assert!(folders.contains(&paths[0]) && !folders.contains(&paths[2]));
        let sums = b"900150983cd24fb0d6963f7d28e17f72  usr/share/b\n900150983cd24fb0d6963f7d28e17f72  usr/bin/a\n";
        assert_eq!(md5sums(sums, Some(&keep)).unwrap().len(), 1);
    }

    proptest::proptest! {
        #[test]
        fn damaged_records_give_only_paths_that_are_in_them(seed: u64) {
            let text = crate::testkit::mutated(b"/.\n/usr\n/usr/bin\n/usr/bin/a\n/usr/share\n/usr/share/b\n", seed);
            if let Ok((paths, folders)) = list(&text, None) {
                let lines: Vec<&[u8]> = lines(&text).collect();
                proptest::prop_assert!(paths.len() == lines.len() && folders.iter().all(|f| paths.contains(f)));
                let stands = |p: &SystemPath| lines.iter().any(|l| l.windows(p.name().len()).any(|w| w == p.name()));
                proptest::prop_assert!(paths.iter().all(|p| p.is_root() || stands(p)));
            }
            let sums = crate::testkit::mutated(b"900150983cd24fb0d6963f7d28e17f72  usr/share/b\n900150983cd24fb0d6963f7d28e17f72  usr/bin/a\n", seed);
            if let Ok(read) = md5sums(&sums, None) {
                for (path, md5) in read {
                    let hex = md5.to_hex();
                    let has = |part: &[u8]| sums.to_ascii_lowercase().windows(part.len().max(1)).any(|w| w == part.to_ascii_lowercase());
                    proptest::prop_assert!(has(hex.as_bytes()) && (path.is_root() || has(path.name())), "{path}");
                }
            }
        }
    }
}
