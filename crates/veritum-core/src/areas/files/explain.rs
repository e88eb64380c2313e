//! What `explain` reports about a path: owner, expected and found state, first difference, chain of trust.

use std::io;
use std::os::fd::AsFd;

use super::{FILES, expected_state};
use crate::areas::difference::{Comparison, SHOWN, lines_from};
use crate::areas::{Area, Checked, Cx};
use crate::model::{Authority, Digest, FileKind, Finding, Scope, Subject, SystemPath, Verdict};
use crate::reference::{ExpectedKind, Reference};
use crate::report::{ExplainReport, FirstDifference};
use crate::store::Contents as _;
use crate::system::WorkError;

/// Larger contents are not compared byte by byte.
const MAX_COMPARED: u64 = 256 << 20;
/// Larger texts are not shown by lines.
const SMALL_TEXT: u64 = 256 << 10;

/// Explains a path; `None` if no package owns it and there is no finding about it.
pub(super) fn explain(cx: &Cx<'_>, path: &SystemPath) -> Result<Option<ExplainReport>, WorkError> {
    let listed = listed_spelling(cx, path);
    let scope = Scope { paths: vec![listed.clone()], ..Scope::only(FILES) };
    let cx = &cx.narrowed(&scope);
    let examined = super::Files.check(cx, &Checked::default())?;
    let evidence = cx.evidence();
    let Some(gathered) = &evidence.gathered else { return Err(WorkError::Stopped) };
    let reference = &gathered.reference;
    let about = |f: &&Finding| f.subject.as_path() == Some(&listed);
    let covers = |f: &&Finding| f.subject.as_path().is_some_and(|p| listed.is_within(p));
    let mut finding = examined.problems().find(about).or_else(|| examined.notes().find(about)).cloned();
    if finding.is_none() {
        finding = examined.problems().find(covers).cloned().or_else(|| blocked_above(cx, &listed));
    }
    let Some(at) = reference.at(&listed) else {
        let bare = ExplainReport::bare(Subject::path(&listed));
        let path = Some(listed.clone());
        return Ok(finding.map(|f| ExplainReport { path, finding: Some(f), remark: Some(unowned(&listed)), ..bare }));
    };
    let expected = &reference.expected[at];
    if finding.is_none()
        && let Some(group) = expected.group
    {
        // Which name of a hard-linked file was split off is a matter of counting: each of them is affected.
        let names: Vec<&SystemPath> =
            reference.groups[group as usize].members.iter().map(|at| &reference.expected[*at].listed).collect();
        finding = examined.problems().find(|f| f.subject.as_path().is_some_and(|path| names.contains(&path))).cloned();
    }
    let owners = std::iter::once(expected.package)
        .chain(expected.also().iter().copied())
        .map(|c| reference.packages[c].package.id.clone())
        .collect();
    let own = finding.as_ref().filter(|f| f.subject.as_path() == Some(&listed));
    let is_file = |f: &Finding| f.found.as_ref().is_some_and(|state| state.kind == Some(FileKind::File));
    let differs = match (&expected.kind, own) {
        (ExpectedKind::File { size, digest }, Some(f)) if is_file(f) => first_difference(cx, &listed, digest, *size),
        _ => None,
    };
    let left = own.and_then(|f| examined.left.iter().find(|left| left.finding == f.id)).cloned();
    Ok(Some(ExplainReport {
        owners,
        expected: Some(expected_state(reference, expected, &cx.system.machine)),
        found: own.and_then(|f| f.found.clone()),
        differs,
        chain: cx.supply.chain(reference.package_of(expected), &expected.kind, expected.authority, &listed),
        left,
        remark: remark(expected.authority),
        finding,
        path: Some(listed.clone()),
        ..ExplainReport::bare(Subject::path(&listed))
    }))
}

/// The remark for a path that no package owns.
#[must_use]
pub fn unowned(path: &SystemPath) -> String {
    format!("no installed package owns {path}: there is nothing to compare it with, and it is not touched")
}

fn remark(authority: Authority) -> Option<String> {
    let weak =
        "compared with the local package database only: tampering that also changed the database would go undetected";
    (authority == Authority::Local).then(|| weak.to_owned())
}

fn reference(cx: &Cx<'_>, scope: &Scope) -> Reference {
    cx.gathered_for(scope, false).reference
}

/// A path as packages list it: as named, or in another spelling of the same place.
fn listed_spelling(cx: &Cx<'_>, path: &SystemPath) -> SystemPath {
    let spellings = cx.system.spellings(path);
    let reference = reference(cx, &Scope { paths: spellings.clone(), ..Scope::default() });
    spellings.into_iter().find(|s| reference.at(s).is_some()).unwrap_or_else(|| path.clone())
}

/// What blocks a folder above a path, if anything.
fn blocked_above(cx: &Cx<'_>, path: &SystemPath) -> Option<Finding> {
    let mut above = path.parent();
    while let Some(folder) = above.filter(|folder| !folder.is_root()) {
        let scope = Scope { paths: vec![folder.clone()], ..Scope::only(FILES) };
        let blocks = |f: &&Finding| f.subject.as_path() == Some(&folder) && f.verdict < Verdict::Unreadable;
        if let Ok(examined) = super::Files.check(&cx.narrowed(&scope), &Checked::default())
            && let Some(finding) = examined.problems().find(blocks)
        {
            return Some(finding.clone());
        }
        above = folder.parent();
    }
    None
}

/// The first difference between the machine's file and its reference.
fn first_difference(cx: &Cx<'_>, path: &SystemPath, digest: &Digest, size: u64) -> Option<FirstDifference> {
    if size > MAX_COMPARED {
        return None;
    }
    cx.supply.unpack_contents(&[(*digest, size)].into());
    let real = cx.system.machine.resolve(&path.parent()?).ok()?.child(path.name()).ok()?;
    let dir = cx.system.machine.dir(&real.parent()?).ok()?;
    let file = dir.disk().open_file(dir.fd(), real.name()).ok()?;
    let mut compare = Comparison::new();
    let mut piece = vec![0; 64 * 1024];
    let mut held: Vec<u8> = Vec::new();
    let mut read_more = |wanted: usize, held: &mut Vec<u8>| -> io::Result<()> {
        while held.len() < wanted {
            let n = dir.disk().read(file.as_fd(), &mut piece)?;
            if n == 0 {
                break;
            }
            held.extend_from_slice(&piece[..n]);
        }
        Ok(())
    };
    let mut each = |expected: &[u8]| -> io::Result<()> {
        if compare.found.is_none() {
            read_more(expected.len() + SHOWN, &mut held)?;
            let taken = expected.len().min(held.len());
            compare.piece(expected, &held);
            held.drain(..taken);
        }
        Ok(())
    };
    cx.supply.contents().copy(digest, size, &mut each).ok()?;
    if compare.found.is_none() {
        read_more(SHOWN, &mut held).ok()?;
        compare.piece(&[], &held);
    }
    let mut found = compare.found?;
    if let Some(line) = found.line.filter(|_| size <= SMALL_TEXT) {
        let mut expected = Vec::new();
        let mut take = |piece: &[u8]| -> io::Result<()> {
            expected.extend_from_slice(piece);
            Ok(())
        };
        cx.supply.contents().copy(digest, size, &mut take).ok()?;
        if let Ok(there) = dir.read(real.name(), SMALL_TEXT) {
            (found.expected_lines, found.found_lines) = (lines_from(&expected, line), lines_from(&there, line));
        }
    }
    Some(found)
}
