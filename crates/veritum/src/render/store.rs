//! What `store` prints.

use std::collections::BTreeMap;
use std::path::Path;

use veritum_core::model::{EntryKind, quoted};
use veritum_core::report::{RefusedPackage, StoreAddReport, StoreReport};
use veritum_core::store::{IndexEntry, Location, Manifest, PublishSummary, Store, TrustCandidate};
use veritum_core::trust::Verified;
use veritum_core::trust::openpgp::Certificate;

use super::layout::{cell, labelled, lines};
use super::style::{Label, paint};
use super::{count, grouped, local, next, plain, size};
use crate::context::Context;
use crate::places::{place, shown as path_shown};

/// A fingerprint in groups that can be read over the telephone.
fn spaced(fingerprint: &str) -> String {
    fingerprint.as_bytes().chunks(8).filter_map(|c| std::str::from_utf8(c).ok()).collect::<Vec<_>>().join(" ")
}

fn keys(fingerprints: &[String]) -> String {
    fingerprints.iter().map(|k| format!("  {}\n", paint(Label::Name, &spaced(k)))).collect()
}

pub(crate) fn created(context: &Context, dir: &Path, key_folder: &Path, report: &StoreReport) -> String {
    let (store, keys_at) = (path_shown(dir), path_shown(key_folder));
    format!(
        "Created an empty store in {store}; private keys in {keys_at} (readable only by you).\nFingerprint of its key:\n{}\n{}",
        keys(&report.keys),
        next(
            context,
            &[
                (context.store_command("store add --installed", &store), "shows what it would add, then asks"),
                ("veritum help store add".to_owned(), "other sources of packages")
            ]
        )
    )
}

/// Further packages refused for the same reason are counted.
const SHOWN: usize = 8;

/// What `store add --installed` would add.
pub(crate) fn add_plan(report: &StoreAddReport) -> String {
    let downloads: u64 = report.downloads.iter().map(|d| d.bytes).sum();
    let waits = report.from_stores + report.available + report.downloads.len() as u64;
    let mut text = format!(
        "{} of the installed packages to add, {} already in the store\n",
        paint(Label::Good, &count(waits, "package", "packages")),
        count(report.known, "is", "are")
    );
    let mut rows = Vec::new();
    let mut row = |n: u64, what: &str, bytes: Option<u64>| {
        if n > 0 {
            rows.push(vec![cell(grouped(n)), cell(what), labelled(Label::Remark, bytes.map(size).unwrap_or_default())]);
        }
    };
    row(report.from_stores, "from another store", None);
    row(report.available, "from available .deb files", Some(report.available_bytes));
    row(report.downloads.len() as u64, "to download first", Some(downloads));
    text.push_str(&lines("  ", &rows));
    let free = report.room_free.map_or_else(|| "free space unknown".into(), |free| format!("{} free", size(free)));
    text.push_str(&format!("The store needs about {}; {free}.\n", size(report.room_needed)));
    text.push_str(&refused(report));
    text
}

fn refused(report: &StoreAddReport) -> String {
    let mut reasons: BTreeMap<&str, Vec<&RefusedPackage>> = BTreeMap::new();
    for one in &report.refused {
        reasons.entry(&one.why).or_default().push(one);
    }
    let mut text = String::new();
    for (why, group) in reasons {
        let names: Vec<String> =
            group.iter().take(SHOWN).map(|r| format!("{} {}", r.package.name, r.package.version)).collect();
        let more = group.len().saturating_sub(SHOWN);
        let more = if more > 0 { format!(" and {} more", grouped(more as u64)) } else { String::new() };
        let n = count(group.len() as u64, "package", "packages");
        text.push_str(&format!(
            "{}  {n}: {}{more}\n      {}\n",
            paint(Label::Problem, "not added"),
            names.join(", "),
            plain(why)
        ));
    }
    text
}

/// What `store add` added.
pub(crate) fn added(context: &Context, location: &Path, report: &StoreAddReport) -> String {
    if report.plan_only {
        let go = context.command("store add --installed");
        return format!("{}Nothing was changed.\n\n{}", add_plan(report), next(context, &[(go, "asks first")]));
    }
    let mut text = format!(
        "{} added, {} already in the store\n{}",
        paint(Label::Good, &count(report.added.len() as u64, "package", "packages")),
        count(report.known, "was", "were"),
        refused(report)
    );
    for (what, why) in &report.failed {
        text.push_str(&format!("{}  {}\n      {}\n", paint(Label::Problem, "not added"), plain(what), plain(why)));
    }
    if context.global.verbose {
        text.extend(report.added.iter().map(|package| format!("  {package}\n")));
    }
    if report.added.is_empty() {
        return text;
    }
    let sign = context.store_command("store sign", &path_shown(location));
    text + "\n" + &next(context, &[(sign, "signs it; new packages are not used before")])
}

pub(crate) fn published(context: &Context, location: &Path, summary: &PublishSummary) -> String {
    let store = path_shown(location);
    if !summary.signed {
        return format!(
            "Nothing new in {store}: its {} are already signed.\n",
            count(summary.packages as u64, "package", "packages")
        );
    }
    format!(
        "Signed {} new of {} (index version {})\n\n{}",
        paint(Label::Good, &summary.new.to_string()),
        count(summary.packages as u64, "package", "packages"),
        summary.versions.timestamp,
        next(context, &[(context.command(&format!("store trust {store}")), "once on each machine that uses it")])
    )
}

pub(crate) fn candidate(candidate: &TrustCandidate) -> String {
    format!(
        "The store {} is signed with this key:\n{}Verify this fingerprint with the store's maintainer over a separate channel.\n\n",
        place(&candidate.location),
        keys(&candidate.fingerprints)
    )
}

/// A vendor's keys, before they are trusted.
pub(crate) fn vendor_keys(file: &Path, new: &[&Certificate], known: usize) -> String {
    let rows: Vec<_> =
        new.iter().map(|c| vec![labelled(Label::Name, c.fingerprint()), cell(quoted(c.user().as_bytes()))]).collect();
    let known = if known == 0 { String::new() } else { format!("(already trusted: {known})\n") };
    format!(
        "The keyring {} contains {}:\n{}{known}Verify the fingerprints with the vendor over a separate channel.\n\n",
        path_shown(file),
        count(new.len() as u64, "key", "keys"),
        lines("  ", &rows)
    )
}

pub(crate) fn keys_trusted(context: &Context, keys: usize) -> String {
    format!(
        "{} {}; trusted keys are stored in {}\n\n{}",
        paint(Label::Good, "trusted:"),
        count(keys as u64, "key", "keys"),
        path_shown(&context.settings.trust),
        next(context, &[(context.command("check"), "checks every file (read-only)")])
    )
}

pub(crate) fn trusted(context: &Context, location: &Location) -> String {
    let store = place(location);
    format!(
        "{} {store}; trusted keys are stored in {}\n\n{}",
        paint(Label::Good, "trusted:"),
        path_shown(&context.settings.trust),
        next(context, &[(context.store_command("check", &store), "checks every file (read-only)")])
    )
}

pub(crate) fn shown(store: &Store, entries: &[IndexEntry], manifests: &[Verified<Manifest>]) -> String {
    let mut text = format!(
        "{} in {}, index version {}, valid until {}\nKey:\n{}\n",
        count(entries.len() as u64, "package", "packages"),
        place(&store.location()),
        store.versions().timestamp,
        local(&store.expires().to_string()),
        keys(&store.fingerprints())
    );
    let rows: Vec<_> = entries
        .iter()
        .map(|e| {
            vec![
                cell(e.package.name.clone()),
                cell(e.package.version.clone()),
                cell(e.package.arch.clone()),
                cell(count(e.entries, "entry", "entries")),
                labelled(Label::Remark, size(e.bytes)),
            ]
        })
        .collect();
    text.push_str(&lines("  ", &rows));
    for manifest in manifests {
        let manifest = manifest.get();
        text.push_str(&format!("\n{}\n", paint(Label::Heading, &manifest.package.to_string())));
        let rows: Vec<_> = manifest
            .entries
            .iter()
            .map(|e| {
                let tail = match &e.kind {
                    EntryKind::File { size: bytes, same_as: None, .. } => size(*bytes),
                    EntryKind::File { same_as: Some(first), .. } => {
                        format!("hard links: {}", quoted(first.as_bytes()))
                    }
                    EntryKind::Link { target } => format!("-> {}", quoted(target)),
                    _ => String::new(),
                };
                vec![
                    cell(e.kind.word()),
                    cell(format!("{:04o}", e.mode)),
                    cell(format!("{}:{}", e.user.name, e.group.name)),
                    cell(quoted(e.path.as_bytes())),
                    labelled(Label::Remark, tail),
                ]
            })
            .collect();
        text.push_str(&lines("  ", &rows));
    }
    text
}
