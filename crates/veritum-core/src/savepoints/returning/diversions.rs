//! dpkg's diversions (dpkg-divert(1)) in a return of some packages: theirs are those of the savepoint, the others those of now.

use std::collections::HashMap;

use super::ReturnCase;
use super::accounts::content;
use super::compare::{Difference, same_content};
use super::decide::Fate;
use super::packages::Packages;
use crate::model::{Digest, PathSet, SystemPath};
use crate::platform::Diversion;
use crate::platform::debian::diversions;
use crate::savepoints::SavepointError;
use crate::savepoints::manifest::{Entry, What};
use crate::savepoints::merged::Merged;

/// Larger records are not read, in bytes.
const MAX_RECORD: u64 = 16 << 20;

pub(super) fn is_diversions(path: &SystemPath) -> bool {
    path.as_bytes().ends_with(b"/lib/dpkg/diversions")
}

/// The diversions of both states; both are empty where the record is the same.
struct Both {
    then: Vec<Diversion>,
    now: Vec<Diversion>,
}

impl Both {
    fn read(case: &ReturnCase<'_>, difference: &Difference) -> Option<Self> {
        let path = &difference.path;
        let then = match &difference.then {
            Some(entry) => content(case, entry)?,
            None => Vec::new(),
        };
        let now = case.context.machine.read_up_to(path, MAX_RECORD).ok()?.unwrap_or_default();
        Some(Self { then: diversions(&then, path).0, now: diversions(&now, path).0 })
    }

    /// Those of then, but for packages that stay those of now.
    fn composed(&self, is_kept: &dyn Fn(Option<&str>) -> bool) -> Vec<u8> {
        let then = self.then.iter().filter(|diversion| !is_kept(diversion.by.as_deref()));
        let now = self.now.iter().filter(|diversion| is_kept(diversion.by.as_deref()));
        let mut bytes = Vec::new();
        for Diversion { from, to, by } in then.chain(now) {
            for line in [from.as_bytes(), to.as_bytes(), by.as_deref().unwrap_or(":").as_bytes()] {
                bytes.extend_from_slice(line);
                bytes.push(b'\n');
            }
        }
        bytes
    }
}

/// The places whose files move as the diversions of the packages that return are others: the diverted names, and where they were
/// diverted to.
///
/// # Errors
/// When a diverted file changed since and its package does not return: neither of its contents would fit.
pub(super) fn moved(
    case: &ReturnCase<'_>,
    packages: &Packages,
    differences: &[Difference],
) -> Result<PathSet, SavepointError> {
    let record = differences.iter().find(|difference| is_diversions(&difference.path));
    let Some(both) = record.and_then(|record| Both::read(case, record)) else { return Ok(PathSet::default()) };
    let merged = Merged::read(case.context.machine);
    let at: HashMap<&SystemPath, &Difference> = differences.iter().map(|d| (&d.path, d)).collect();
    let gone = both.now.iter().filter(|diversion| !both.then.contains(diversion)).map(|gone| (gone, true));
    let back = both.then.iter().filter(|diversion| !both.now.contains(diversion)).map(|back| (back, false));
    let mut places = PathSet::default();
    for (Diversion { from, to, by }, is_gone) in gone.chain(back) {
        if packages.keeps_diversions_of(by.as_deref()) {
            continue;
        }
        let (from, to) = (merged.physical(from.clone()), merged.physical(to.clone()));
        let (earlier, present) = if is_gone { (&from, &to) } else { (&to, &from) };
        let earlier = at.get(earlier).and_then(|difference| difference.then.as_ref());
        let present = at.get(present).and_then(|difference| difference.now.as_ref());
        let same = match (earlier, present) {
            (Some(earlier), Some((present, _))) => same_content(&earlier.what, &present.what),
            (earlier, present) => earlier.is_none() && present.is_none(),
        };
        if !same && !packages.returns_with(&from, by.as_deref()) {
            return Err(SavepointError::Diverted { by: by.clone().unwrap_or_default(), place: from });
        }
        places.extend([from, to]);
    }
    Ok(places)
}

/// Composes the record where packages stay as they are now.
pub(super) fn adapt(
    case: &ReturnCase<'_>,
    packages: &Packages,
    differences: &mut [Difference],
    fates: &mut [Fate],
    made: &mut HashMap<Digest, Vec<u8>>,
) {
    if packages.kept_now().is_empty() {
        return;
    }
    let record = differences.iter_mut().zip(fates).find(|(difference, _)| is_diversions(&difference.path));
    let Some((difference, fate)) = record.filter(|(_, fate)| matches!(fate, Fate::Returns | Fate::SetAside)) else {
        return;
    };
    let Some(both) = Both::read(case, difference) else { return };
    let bytes = both.composed(&|by| packages.keeps_diversions_of(by));
    let digest = Digest::hash(&bytes);
    if difference.now.as_ref().and_then(|(entry, _)| entry.content()).is_some_and(|(now, _)| now == digest) {
        *fate = Fate::Ignored;
        return;
    }
    let earlier = difference.then.as_ref().or(difference.now.as_ref().map(|(now, _)| now)).cloned();
    // Without a diversion then and now, the record goes as it did not exist.
    if let Some(earlier) = earlier.filter(|_| difference.then.is_some() || !bytes.is_empty()) {
        let what = What::File { size: bytes.len() as u64, digest, hard_link_of: None };
        difference.then = Some(Entry { what, ..earlier });
        *fate = Fate::Returns;
        made.insert(digest, bytes);
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn packages_that_stay_keep_their_diversions_of_now() {
        let path = SystemPath::literal("/var/lib/dpkg/diversions");
        let both = Both {
            then: diversions(b"/a\n/a.1\nboat\n/b\n/b.1\nquay\n/c\n/c.1\n:\n", &path).0,
            now: diversions(b"/b\n/b.2\nquay\n/c\n/c.2\n:\n/d\n/d.1\nboat\n", &path).0,
        };
        let text = |kept: &[&str]| {
            let bytes = both.composed(&|by| by.is_none_or(|by| kept.contains(&by)));
            String::from_utf8(bytes).unwrap().replace('\n', " ")
        };
        assert_eq!(text(&["quay"]), "/a /a.1 boat /b /b.2 quay /c /c.2 : ");
        assert_eq!(text(&["boat"]), "/b /b.1 quay /c /c.2 : /d /d.1 boat ");
    }
}
