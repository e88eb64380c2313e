//! The package database in a return: the entries of packages that stay are those of now.

use std::collections::HashMap;

use super::ReturnCase;
use super::accounts::content;
use super::compare::Difference;
use super::decide::{Fate, is_status};
use super::packages::Packages;
use crate::model::Digest;
use crate::platform::debian::database::{Stanza, pieces};
use crate::savepoints::manifest::{Entry, What};

/// Larger files are not read, in bytes.
const MAX_STATUS: u64 = 256 << 20;

/// Composes `status` where packages stay as they are now.
pub(super) fn adapt(
    case: &ReturnCase<'_>,
    packages: &Packages,
    differences: &mut [Difference],
    fates: &mut [Fate],
    made: &mut HashMap<Digest, Vec<u8>>,
) {
    let kept = packages.kept_now();
    if kept.is_empty() {
        return;
    }
    for (difference, fate) in differences.iter_mut().zip(fates.iter_mut()) {
        if !is_status(&difference.path) || *fate != Fate::Returns {
            continue;
        }
        let Some(then) = difference.then.clone() else { continue };
        let Some(earlier) = content(case, &then) else { continue };
        let now = case.context.machine.read_up_to(&difference.path, MAX_STATUS).ok().flatten().unwrap_or_default();
        let bytes = composed(&earlier, &now, &|name, arch| kept.contains_key(&(name, arch)));
        let digest = Digest::hash(&bytes);
        if difference.now.as_ref().and_then(|(entry, _)| entry.content()).is_some_and(|(now, _)| now == digest) {
            *fate = Fate::Ignored;
            continue;
        }
        let what = What::File { size: bytes.len() as u64, digest, hard_link_of: None };
        difference.then = Some(Entry { what, ..then });
        made.insert(digest, bytes);
    }
}

/// The entries of then, but for those packages the entries of now.
fn composed(then: &[u8], now: &[u8], is_kept: &dyn Fn(&str, &str) -> bool) -> Vec<u8> {
    let key = |piece: &[u8]| Stanza::parse(piece).ok().map(|stanza| stanza.key());
    let kept = |piece: &[u8]| key(piece).filter(|(name, arch)| is_kept(name, arch));
    let mut of_now: HashMap<(String, String), &[u8]> =
        pieces(now).into_iter().filter_map(|piece| Some((kept(piece)?, piece))).collect();
    let mut all: Vec<&[u8]> = Vec::new();
    for piece in pieces(then) {
        match kept(piece) {
            Some(key) => all.extend(of_now.remove(&key)),
            None => all.push(piece),
        }
    }
    // dpkg writes entries by name: in that order it finds the file as it would write it.
    let name = |piece: &[u8]| key(piece).map(|(name, _)| name).unwrap_or_default();
    for piece in pieces(now).into_iter().filter(|piece| kept(piece).is_some_and(|key| of_now.contains_key(&key))) {
        let own = name(piece);
        let at = all.iter().position(|other| name(other) > own).unwrap_or(all.len());
        all.insert(at, piece);
    }
    let mut bytes = Vec::with_capacity(then.len() + 1024);
    for piece in all {
        bytes.extend_from_slice(piece);
        bytes.push(b'\n');
    }
    bytes
}

#[cfg(test)]
mod tests {
    use super::*;

    fn entry(name: &str, version: &str) -> String {
        format!("Package: {name}\nStatus: install ok installed\nArchitecture: amd64\nVersion: {version}\n\n")
    }

    #[test]
    fn packages_that_stay_have_their_entries_of_now_and_the_others_those_of_then() {
        let then = [entry("boat", "1"), entry("grub-pc", "1"), entry("rope", "1"), entry("shim-old", "1")].concat();
        let now = [entry("boat", "2"), entry("grub-new", "2"), entry("grub-pc", "2"), entry("tar", "2")].concat();
        let is_kept =
            |name: &str, arch: &str| arch == "amd64" && (name.starts_with("grub") || name.starts_with("shim"));
        let bytes = composed(then.as_bytes(), now.as_bytes(), &is_kept);
        let expected = [entry("boat", "1"), entry("grub-new", "2"), entry("grub-pc", "2"), entry("rope", "1")].concat();
        assert_eq!(String::from_utf8(bytes).unwrap(), expected);
        assert_eq!(composed(then.as_bytes(), now.as_bytes(), &|_, _| false), then.as_bytes());
    }
}
