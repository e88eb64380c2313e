//! `explain`: one path, finding or change, looked at closely and anew.

use std::io;
use std::os::fd::AsFd;

use super::check::check_all;
use super::{Engine, WorkError};
use crate::areas::files::expected_state;
use crate::areas::{AREAS, Checked, Evidence, FILES, Failed, FileWork, How, RECORDS, STORE, Work, store};
use crate::change::ChangeLog;
use crate::event::{NoObserver, Observer};
use crate::history;
use crate::model::{Authority, Finding, Scope, Subject, SystemPath};
use crate::plan::{Item, ItemKind, Left, Operation};
use crate::reference::ExpectedKind;
use crate::report::{ChainLink, ExplainReport, FirstDifference};
use crate::store::{Contents, Store};
use crate::supply::Made;

/// Contents over this size are not compared byte by byte.
const MAX_COMPARED: u64 = 256 << 20;
/// Text over this size is not shown by lines.
const SMALL_TEXT: u64 = 256 << 10;
/// Bytes shown from the first difference on.
const SHOWN: usize = 16;

impl Engine {
    /// Explains a path: owner, expected and found, where they differ, why the reference is believed.
    ///
    /// # Errors
    /// As [`Engine::check`].
    pub fn explain_path(&mut self, path: &SystemPath, observer: &dyn Observer) -> Result<ExplainReport, WorkError> {
        let listed = self.listed_spelling(path);
        let scope = Scope { areas: vec![FILES], paths: vec![listed.clone()], ..Scope::default() };
        self.require_store_sound(&scope)?;
        let (checked, evidence) = self.looked_at(&scope, observer)?;
        let Some(gathered) = &evidence.gathered else { return Err(WorkError::Stopped) };
        let (reference, report) = (&gathered.reference, self.report(&scope, &checked));
        let about = |f: &&Finding| f.subject.as_path() == Some(&listed);
        let covers = |f: &&Finding| f.subject.as_path().is_some_and(|p| listed.is_within(p));
        let mut finding = report.findings.iter().find(about).or_else(|| report.notes.iter().find(about)).cloned();
        if finding.is_none() {
            finding = report.findings.iter().find(covers).cloned().or_else(|| self.blocked_above(&listed));
        }
        let Some(at) = reference.at(&listed) else {
            if let Some(report) = self.explain_record_at(&listed, observer)? {
                return Ok(report);
            }
            self.require_there(&Scope { paths: vec![path.clone()], ..Scope::default() })?;
            let remark = format!(
                "no component owns {path}: there is nothing to compare it with, and nothing of it will be touched"
            );
            return Ok(ExplainReport {
                path: Some(listed.clone()),
                finding,
                remark: Some(remark),
                ..ExplainReport::bare(Subject::path(&listed))
            });
        };
        let expected = &reference.expected[at];
        if finding.is_none()
            && let Some(group) = expected.group
        {
            // Which of the names of one file was cut off is a matter of counting: each of them is about it.
            let names: Vec<&SystemPath> =
                reference.groups[group].members.iter().map(|at| &reference.expected[*at].listed).collect();
            let of_name = |f: &&Finding| f.subject.as_path().is_some_and(|path| names.contains(&path));
            finding = report.findings.iter().find(of_name).cloned();
        }
        let owners = std::iter::once(expected.component)
            .chain(expected.also.iter().copied())
            .map(|c| reference.components[c].component.id.clone())
            .collect();
        let own = finding.as_ref().filter(|f| f.subject.as_path() == Some(&listed));
        let differs = match (&expected.kind, own) {
            (ExpectedKind::File { size, digest }, Some(f))
                if f.found.as_ref().is_some_and(|s| s.kind == Some(crate::model::FileKind::File)) =>
            {
                self.first_difference(&listed, digest, *size)
            }
            _ => None,
        };
        let left = own.and_then(|f| report.left.iter().find(|l| l.finding == f.id)).cloned();
        let remark = match expected.authority {
            Authority::SelfReported => Some(
                "only the machine's own records describe it: a damage that someone wrote into them too would not show"
                    .into(),
            ),
            Authority::SignedStore | Authority::Archive => None,
        };
        let expected_state = Some(expected_state(reference, expected, &self.system.machine));
        let found_state = own.and_then(|f| f.found.clone());
        let chain = self.chain(reference.component_of(expected), &expected.kind, expected.authority, &listed);
        Ok(ExplainReport {
            format: ExplainReport::FORMAT.into(),
            subject: Subject::path(&listed),
            path: Some(listed),
            owners,
            finding,
            expected: expected_state,
            found: found_state,
            differs,
            chain,
            left,
            remark,
        })
    }

    /// A path as components list it: as it was named, or in another spelling of the same place.
    fn listed_spelling(&self, path: &SystemPath) -> SystemPath {
        let spellings = self.system.spellings(path);
        let scope = Scope { paths: spellings.clone(), ..Scope::default() };
        let reference = self.reference(&scope);
        spellings.into_iter().find(|s| reference.at(s).is_some()).unwrap_or_else(|| path.clone())
    }

    /// What blocks a folder above a path, when something does.
    fn blocked_above(&self, path: &SystemPath) -> Option<Finding> {
        let mut above = path.parent();
        while let Some(folder) = above.filter(|f| !f.is_root()) {
            let scope = Scope { areas: vec![FILES], paths: vec![folder.clone()], ..Scope::default() };
            if let Ok((checked, _)) = self.looked_at(&scope, &NoObserver)
                && let Some(finding) = checked.findings().find(|f| {
                    f.subject.as_path() == Some(&folder)
                        && f.verdict.is_problem()
                        && f.verdict < crate::model::Verdict::Unreadable
                })
            {
                return Some(finding.clone());
            }
            above = folder.parent();
        }
        None
    }

    /// Explains a finding of the last check that is about a path, when a look at that path alone comes to the same.
    fn still_as_found(&mut self, typed: &str, observer: &dyn Observer) -> Option<ExplainReport> {
        let last = self.system.notes().as_ref().and_then(history::last_report)?;
        let all = last.findings.iter().chain(&last.notes);
        let mut fitting = all.filter(|f| f.id.as_str().starts_with(typed));
        let (finding, None) = (fitting.next()?, fitting.next()) else { return None };
        let path = finding.subject.as_path().filter(|_| finding.area == FILES)?;
        let report = self.explain_path(path, observer).ok()?;
        report.finding.as_ref().is_some_and(|now| now.id == finding.id).then_some(report)
    }

    /// Explains a finding by its name or the beginning of it.
    ///
    /// # Errors
    /// When none, or more than one, fits.
    pub fn explain_finding(&mut self, typed: &str, observer: &dyn Observer) -> Result<ExplainReport, WorkError> {
        let everything = Scope::default();
        self.require_store_sound(&everything)?;
        if let Some(report) = self.still_as_found(typed, observer) {
            return Ok(report);
        }
        let none = Failed::new();
        let cx = self.cx(&everything, How::plain(&none), observer);
        let mut checked = check_all(&cx)?;
        let fits = |f: &&Finding| f.id.as_str().starts_with(typed);
        if checked.get(&STORE).is_some() && !checked.findings().any(|f| fits(&f)) {
            // It may have come from a look at the whole store.
            checked.replace(store::Store::check_whole(&cx)?);
        }
        // The others are looked at only when they are named.
        for area in AREAS.iter().filter(|area| !area.about().by_default) {
            if !checked.findings().any(|f| fits(&f)) {
                checked.replace(area.check(&cx, &Checked::default())?);
            }
        }
        let all: Vec<Finding> = checked.findings().filter(fits).cloned().collect();
        match <[Finding; 1]>::try_from(all) {
            Ok([one]) if one.area == FILES && one.subject.as_path().is_some() => {
                let path = one.subject.as_path().cloned().unwrap_or_else(SystemPath::root);
                self.explain_path(&path, observer)
            }
            Ok([one]) => Ok(self.explain_in(one, &checked)),
            Err(all) if all.is_empty() => Err(WorkError::unknown("finding", typed)),
            Err(_) => Err(WorkError::Ambiguous { name: typed.to_owned() }),
        }
    }

    /// Looks at what is named, and keeps what that rests on.
    fn looked_at(&self, scope: &Scope, observer: &dyn Observer) -> Result<(Checked, Evidence), WorkError> {
        let none = Failed::new();
        let cx = self.cx(scope, How::plain(&none), observer);
        Ok((check_all(&cx)?, cx.into_evidence()))
    }

    fn explain_in(&self, finding: Finding, checked: &Checked) -> ExplainReport {
        match finding.area == RECORDS {
            true => self.explain_record(finding, checked),
            false => self.explain_part(finding, checked),
        }
    }

    /// A record of the package database, or a link that one stands for, when something is wrong with it or it is one.
    fn explain_record_at(
        &self,
        path: &SystemPath,
        observer: &dyn Observer,
    ) -> Result<Option<ExplainReport>, WorkError> {
        let (checked, _) = self.looked_at(&Scope { areas: vec![RECORDS], ..Scope::default() }, observer)?;
        if let Some(finding) = checked.findings().find(|f| f.subject.as_path() == Some(path)).cloned() {
            return Ok(Some(self.explain_record(finding, &checked)));
        }
        let is_record = path.is_within(&SystemPath::literal("/var/lib/dpkg"));
        let there = is_record && self.system.machine.resolve(path).is_ok();
        let remark = "it is part of the package database, and nothing is wrong with it".to_owned();
        Ok(there.then(|| ExplainReport { remark: Some(remark), ..ExplainReport::bare(Subject::path(path)) }))
    }

    /// Explains what is wrong with a record: how it lies there, how it should be, and who says so.
    fn explain_record(&self, finding: Finding, checked: &Checked) -> ExplainReport {
        let differs = self.record_difference(&finding, checked);
        let owners: Vec<_> = finding.component.iter().cloned().collect();
        let chain = match (finding.vouched_by, &finding.component) {
            (Some(authority @ (Authority::SignedStore | Authority::Archive)), Some(id)) => {
                let mut chain = self.chain(id, &ExpectedKind::Something, authority, &SystemPath::root());
                chain.remove(0);
                chain
            }
            _ => Vec::new(),
        };
        let remark = chain.is_empty().then(|| {
            "no package says what belongs there: it is judged by the other records of this machine, and by earlier copies"
                .to_owned()
        });
        ExplainReport {
            path: finding.subject.as_path().cloned(),
            owners,
            differs,
            chain,
            left: left_of(checked, &finding),
            remark,
            finding: Some(finding.clone()),
            ..ExplainReport::bare(finding.subject)
        }
    }

    /// Where a record first differs from what a repair would write there.
    fn record_difference(&self, finding: &Finding, checked: &Checked) -> Option<FirstDifference> {
        let steps = &checked.get(&RECORDS)?.steps;
        let mut steps = steps.iter().map(|step| &step.work);
        let Some(Work::Files(FileWork { plan, made })) = steps.find(|work| work.is_on_machine()) else { return None };
        let action = plan.actions.iter().find(|a| a.findings.contains(&finding.id))?;
        let Operation::Put(items) = &action.operation else { return None };
        let [Item { kind: ItemKind::File { digest, size }, .. }] = items.as_slice() else { return None };
        let mut expected = Vec::new();
        let mut take = |piece: &[u8]| -> io::Result<()> {
            expected.extend_from_slice(piece);
            Ok(())
        };
        Made { made, then: self.supply().contents() }.copy(digest, *size, &mut take).ok()?;
        let dir = self.system.machine.dir(&action.place.parent()?).ok()?;
        let found = dir.read(action.place.name(), MAX_COMPARED).ok()?;
        let mut compare = Comparison { offset: 0, line: 1, text: true, found: None };
        compare.piece(&expected, &found);
        if compare.found.is_none() {
            compare.piece(&[], &found[expected.len().min(found.len())..]);
        }
        let mut difference = compare.found?;
        if let Some(line) = difference.line {
            difference.expected_lines = lines_from(&expected, line);
            difference.found_lines = lines_from(&found, line);
        }
        Some(difference)
    }

    /// A finding that is not about a path of the machine.
    fn explain_part(&self, finding: Finding, checked: &Checked) -> ExplainReport {
        let owners = finding.harms.as_ref().map(|h| h.components.clone()).unwrap_or_default();
        let supply = self.supply();
        let store = supply.own_store().filter(|_| finding.area == STORE);
        ExplainReport {
            owners,
            expected: finding.expected.clone(),
            found: finding.found.clone(),
            chain: store.map(signed_by).unwrap_or_default(),
            left: left_of(checked, &finding),
            finding: Some(finding.clone()),
            ..ExplainReport::bare(finding.subject)
        }
    }

    /// The journal of a change.
    ///
    /// # Errors
    /// When there is no such change, or its journal cannot be read.
    pub fn explain_change(&self, number: u64) -> Result<ChangeLog, WorkError> {
        let none = || WorkError::unknown("change", &number.to_string());
        let state = self.system.state()?.ok_or_else(none)?;
        let log =
            state.change(number).map_err(|source| crate::change::ChangeError::Journal { change: number, source })?;
        log.ok_or_else(none)
    }

    fn chain(
        &self,
        component: &crate::model::ComponentId,
        want: &ExpectedKind,
        authority: Authority,
        path: &SystemPath,
    ) -> Vec<ChainLink> {
        let link = |what: &str, name: String| ChainLink { what: what.into(), name };
        if authority == Authority::SelfReported {
            return vec![link("the machine's own record of", component.name.clone())];
        }
        let mut chain = Vec::new();
        if let ExpectedKind::File { digest, .. } = want {
            chain.push(link("content", digest.to_hex()));
        } else {
            chain.push(link("entry", path.to_string()));
        }
        if authority == Authority::Archive {
            chain.extend(self.supply().archive_chain(component).into_iter().map(|(what, name)| link(what, name)));
            return chain;
        }
        let Some(store) = self.open.stores.iter().find(|s| s.has(component)) else { return chain };
        if let Some(entry) = store.components().find(|e| e.component == *component) {
            chain.push(link("manifest of the component", entry.manifest.to_hex()));
            chain.push(link("taken from the package with SHA-256", entry.package.sha256.clone()));
        }
        chain.extend(signed_by(store));
        chain
    }

    /// Where the machine's file first differs from what it should be.
    fn first_difference(&self, path: &SystemPath, digest: &crate::model::Digest, size: u64) -> Option<FirstDifference> {
        if size > MAX_COMPARED {
            return None;
        }
        self.supply().unpack_contents(&[(*digest, size)].into());
        let real = self.system.machine.resolve(&path.parent()?).ok()?.child(path.name()).ok()?;
        let dir = self.system.machine.dir(&real.parent()?).ok()?;
        let file = dir.disk().open_file(dir.fd(), real.name()).ok()?;
        let mut compare = Comparison { offset: 0, line: 1, text: true, found: None };
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
        self.supply().contents().copy(digest, size, &mut each).ok()?;
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
            self.supply().contents().copy(digest, size, &mut take).ok()?;
            if let Ok(there) = dir.read(real.name(), SMALL_TEXT) {
                (found.expected_lines, found.found_lines) = (lines_from(&expected, line), lines_from(&there, line));
            }
        }
        Some(found)
    }
}

/// So many lines are shown of each side.
const SHOWN_LINES: usize = 3;
/// And so many signs of a line.
const SHOWN_SIGNS: usize = 160;

/// The lines of a text from one on, counted from 1.
fn lines_from(text: &[u8], line: u64) -> Vec<String> {
    let skip = usize::try_from(line).unwrap_or(usize::MAX).saturating_sub(1);
    let lines = text.split(|b| *b == b'\n').skip(skip).take(SHOWN_LINES);
    let cut = |line: &[u8]| String::from_utf8_lossy(line).chars().take(SHOWN_SIGNS).collect::<String>();
    let mut all: Vec<String> = lines.map(cut).collect();
    // What follows the last line break is no line.
    if all.last().is_some_and(String::is_empty) && text.ends_with(b"\n") && all.len() < SHOWN_LINES {
        all.pop();
    }
    all
}

/// Why a repair would leave a finding.
fn left_of(checked: &Checked, finding: &Finding) -> Option<Left> {
    checked.areas().flat_map(|examined| &examined.left).find(|left| left.finding == finding.id).cloned()
}

/// From a store's index to the pinned key.
fn signed_by(store: &Store) -> Vec<ChainLink> {
    let index = format!("{}, signing {}", store.location(), store.versions().timestamp);
    let index = ChainLink { what: "signed index of the store".into(), name: index };
    let keys = store.fingerprints().into_iter().map(|name| ChainLink { what: "key pinned by you".into(), name });
    std::iter::once(index).chain(keys).collect()
}

/// Finds the first place in which two contents differ.
struct Comparison {
    offset: u64,
    line: u64,
    text: bool,
    found: Option<FirstDifference>,
}

impl Comparison {
    fn piece(&mut self, expected: &[u8], found: &[u8]) {
        let common = expected.iter().zip(found).take_while(|(a, b)| a == b).count();
        self.text &= !expected[..common].contains(&0);
        self.line += expected[..common].iter().filter(|b| **b == b'\n').count() as u64;
        let whole = common == expected.len() && (!expected.is_empty() || found.is_empty());
        if whole {
            self.offset += common as u64;
            return;
        }
        let shown = |bytes: &[u8]| {
            bytes.iter().skip(common).take(SHOWN).map(|b| format!("{b:02x}")).collect::<Vec<_>>().join(" ")
        };
        let text = self.text && !expected.iter().chain(found).any(|b| *b == 0);
        self.found = Some(FirstDifference {
            offset: self.offset + common as u64,
            line: text.then_some(self.line),
            expected: shown(expected),
            found: shown(found),
            expected_lines: Vec::new(),
            found_lines: Vec::new(),
        });
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn lines_are_shown_from_the_one_that_differs_on() {
        let text = b"one\ntwo\nthree\nfour\nfive\n";
        assert_eq!(lines_from(text, 2), ["two", "three", "four"]);
        assert_eq!(lines_from(text, 5), ["five"]);
        assert_eq!(lines_from(text, 6), [""; 0]);
        assert_eq!(lines_from(b"", 1), [""], "an empty text has one empty line");
        assert_eq!(lines_from(&[b'x'; 900], 1)[0].len(), SHOWN_SIGNS);
    }
}
