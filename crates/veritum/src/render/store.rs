//! What `store` prints.

use std::collections::BTreeMap;
use std::path::Path;

use veritum_core::model::{EntryKind, quoted};
use veritum_core::report::{FillReport, RefusedComponent, StoreReport};
use veritum_core::store::{IndexEntry, Location, Manifest, PublishSummary, Store, TrustCandidate};
use veritum_core::trust::Verified;
use veritum_core::trust::openpgp::Certificate;

use super::style::{Label, paint};
use super::table::{cell, labelled, lines};
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
        "An empty store is in {store}, its private keys are in {keys_at} (readable only by you).\nIts key, which others will compare:\n{}\n{}",
        keys(&report.keys),
        next(&[
            (context.store_command("store fill PATH", &store), "takes .deb packages in"),
            (context.store_command(&format!("store publish --keys {keys_at}"), &store), "signs what was taken in")
        ])
    )
}

pub(crate) fn filled(context: &Context, location: &Path, report: &StoreReport) -> String {
    let mut text = format!(
        "{} taken in, {} known already\n",
        paint(Label::Good, &count(report.components.len() as u64, "component", "components")),
        report.known
    );
    for (path, why) in &report.refused {
        text.push_str(&format!("{}  {}\n      {why}\n", paint(Label::Problem, "refused"), quoted(path.as_bytes())));
    }
    if context.global.verbose {
        text.extend(report.components.iter().map(|c| format!("  {c}\n")));
    }
    text.push('\n');
    text + &next(&[(
        context.store_command("store publish --keys KEYDIR", &path_shown(location)),
        "signs it: until then nobody uses what is new",
    )])
}

/// Components refused for one reason beyond these are counted.
const SHOWN: usize = 8;

/// What a filling from what is installed would take in.
pub(crate) fn fill_plan(report: &FillReport) -> String {
    let downloads: u64 = report.downloads.iter().map(|d| d.bytes).sum();
    let waits = report.from_stores + report.at_hand + report.downloads.len() as u64;
    let mut text = format!(
        "{} of what is installed would be taken in, {} already\n",
        paint(Label::Good, &count(waits, "component", "components")),
        count(report.known, "is there", "are there")
    );
    let mut rows = Vec::new();
    let mut row = |n: u64, what: &str, bytes: Option<u64>| {
        if n > 0 {
            rows.push(vec![cell(grouped(n)), cell(what), labelled(Label::Remark, bytes.map(size).unwrap_or_default())]);
        }
    };
    row(report.from_stores, "from another store", None);
    row(report.at_hand, "from packages at hand", Some(report.at_hand_bytes));
    row(report.downloads.len() as u64, "to be downloaded first", Some(downloads));
    text.push_str(&lines("  ", &rows));
    let free =
        report.room_free.map_or_else(|| "it does not tell its room".into(), |free| format!("{} are free", size(free)));
    text.push_str(&format!("The store would need about {}; {free}.\n", size(report.room_needed)));
    text.push_str(&refused(report));
    text
}

fn refused(report: &FillReport) -> String {
    let mut reasons: BTreeMap<&str, Vec<&RefusedComponent>> = BTreeMap::new();
    for one in &report.refused {
        reasons.entry(&one.why).or_default().push(one);
    }
    let mut text = String::new();
    for (why, group) in reasons {
        let names: Vec<String> =
            group.iter().take(SHOWN).map(|r| format!("{} {}", r.component.name, r.component.version)).collect();
        let more = group.len().saturating_sub(SHOWN);
        let more = if more > 0 { format!(" and {} more", grouped(more as u64)) } else { String::new() };
        let n = count(group.len() as u64, "component", "components");
        text.push_str(&format!(
            "{}  {n}: {}{more}\n      {}\n",
            paint(Label::Problem, "not taken"),
            names.join(", "),
            plain(why)
        ));
    }
    text
}

/// What came of a filling from what is installed.
pub(crate) fn fill_done(context: &Context, location: &Path, report: &FillReport) -> String {
    if report.plan_only {
        let go = context.command("store fill --installed");
        return format!("{}Nothing was changed.\n\n{}", fill_plan(report), next(&[(go, "does it, after a question")]));
    }
    let mut text = format!(
        "{} taken in, {} already\n{}",
        paint(Label::Good, &count(report.added.len() as u64, "component", "components")),
        count(report.known, "was there", "were there"),
        refused(report)
    );
    for (what, why) in &report.failed {
        text.push_str(&format!("{}  {}\n      {}\n", paint(Label::Problem, "failed"), plain(what), plain(why)));
    }
    let publish = context.store_command("store publish --keys KEYDIR", &path_shown(location));
    text + "\n" + &next(&[(publish, "signs it: until then nobody uses what is new")])
}

pub(crate) fn published(context: &Context, location: &Path, summary: &PublishSummary) -> String {
    let store = path_shown(location);
    if !summary.signed {
        return format!(
            "Nothing is new in {store}: its {} are signed already.\n",
            count(summary.components as u64, "component", "components")
        );
    }
    format!(
        "{} of {} are new and signed with the rest (signing {})\n\n{}",
        paint(Label::Good, &summary.new.to_string()),
        count(summary.components as u64, "component", "components"),
        summary.versions.timestamp,
        next(&[(
            context.completed(format!("veritum store trust {store}")),
            "on every machine that is to use it, once"
        )])
    )
}

pub(crate) fn candidate(candidate: &TrustCandidate) -> String {
    format!(
        "The store {} is signed with this key:\n{}Compare it with what the store's keeper tells you, by another way than the store itself.\n\n",
        place(&candidate.location),
        keys(&candidate.fingerprints)
    )
}

/// A vendor's keys, before they are trusted.
pub(crate) fn vendor_keys(file: &Path, new: &[&Certificate], known: usize) -> String {
    let rows: Vec<_> =
        new.iter().map(|c| vec![labelled(Label::Name, c.fingerprint()), cell(quoted(c.user().as_bytes()))]).collect();
    let known = if known == 0 { String::new() } else { format!("({known} more in it are trusted already)\n") };
    format!(
        "The keyring {} holds {} that are not trusted yet:\n{}{known}Compare the fingerprints with what the vendor publishes, by another way than this file.\n\n",
        path_shown(file),
        count(new.len() as u64, "key", "keys"),
        lines("  ", &rows)
    )
}

pub(crate) fn keys_trusted(context: &Context, keys: usize) -> String {
    format!(
        "{} {}; the pins lie in {}\n\n{}",
        paint(Label::Good, "trusted:"),
        count(keys as u64, "key", "keys"),
        path_shown(&context.settings.trust),
        next(&[(context.command("check"), "looks at every file, changes nothing")])
    )
}

pub(crate) fn trusted(context: &Context, location: &Location) -> String {
    let store = place(location);
    format!(
        "{} {store}; the pin lies in {}\n\n{}",
        paint(Label::Good, "trusted:"),
        path_shown(&context.settings.trust),
        next(&[(context.store_command("check", &store), "looks at every file, changes nothing")])
    )
}

pub(crate) fn shown(store: &Store, entries: &[IndexEntry], manifests: &[Verified<Manifest>]) -> String {
    let mut text = format!(
        "{} in {}, signing {}, valid until {}\nkey:\n{}\n",
        count(entries.len() as u64, "component", "components"),
        place(&store.location()),
        store.versions().timestamp,
        local(&store.expires().to_string()),
        keys(&store.fingerprints())
    );
    let rows: Vec<_> = entries
        .iter()
        .map(|e| {
            vec![
                cell(e.component.name.clone()),
                cell(e.component.version.clone()),
                cell(e.component.arch.clone()),
                cell(count(e.entries, "entry", "entries")),
                labelled(Label::Remark, size(e.bytes)),
            ]
        })
        .collect();
    text.push_str(&lines("  ", &rows));
    for manifest in manifests {
        let manifest = manifest.get();
        text.push_str(&format!("\n{}\n", paint(Label::Heading, &manifest.component.to_string())));
        let rows: Vec<_> = manifest
            .entries
            .iter()
            .map(|e| {
                let tail = match &e.kind {
                    EntryKind::File { size: bytes, same_as: None, .. } => size(*bytes),
                    EntryKind::File { same_as: Some(first), .. } => {
                        format!("one file with {}", quoted(first.as_bytes()))
                    }
                    EntryKind::Link { target } => format!("leads to {}", quoted(target)),
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
