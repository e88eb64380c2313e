//! What a repair prints about the test that updates work.

use veritum_core::report::{ProofOutcome, ProofReport, ProvedSource};

use super::layout::headline;
use super::style::{Label, paint};
use super::{count, local, plain, size};
use crate::context::Context;

/// The result of the test; `blocking` is the number of remaining problems that block the installation of updates.
pub(crate) fn describe(context: &Context, proof: &ProofReport, blocking: u64) -> String {
    match proof.outcome {
        ProofOutcome::NotTried => format!(
            "{} whether updates work: {}\n\n",
            paint(Label::Note, "Not tested"),
            proof.why.as_deref().unwrap_or("no repository was contacted")
        ),
        ProofOutcome::Proved => {
            let head = match blocking {
                0 => paint(Label::Good, "UPDATES WORK"),
                n => {
                    let blocked = format!(
                        "updates can be downloaded, but {} below can block their installation",
                        count(n, "problem", "problems")
                    );
                    headline(Label::Bad, "UPDATES BLOCKED", &blocked, context.width).trim_end().to_owned()
                }
            };
            format!("{head}\n{}{}{}\n", came(proof), waits(proof), strangers(proof))
        }
        ProofOutcome::Failed => {
            let mut text = format!("{}\n", paint(Label::Bad, "UPDATES DO NOT WORK YET"));
            let failed = proof.sources.iter().filter(|s| s.why.is_some() && !s.unknown_key);
            let package = proof.package.as_ref();
            let package = package.map(|p| (p.package.to_string(), p.why.as_ref(), p.action.as_ref()));
            let of_sources = failed.map(|s| (plain(&s.source), s.why.as_ref(), s.action.as_ref()));
            let mut all: Vec<_> = of_sources.chain(package.filter(|(_, why, _)| why.is_some())).collect();
            if all.is_empty() {
                all = proof.sources.iter().map(|s| (plain(&s.source), s.why.as_ref(), s.action.as_ref())).collect();
            }
            for (name, why, action) in all {
                text.push_str(&format!("  {name}\n"));
                text.push_str(&why.map(|why| format!("      {}\n", plain(why))).unwrap_or_default());
                let action =
                    action.map(|a| format!("      {}\n", paint(Label::Command, &format!("-> {}", context.action(a)))));
                text.push_str(&action.unwrap_or_default());
            }
            let good = proof.sources.iter().filter(|s| s.why.is_none()).count() as u64;
            if good > 0 {
                text.push_str(&format!(
                    "  {} answered correctly.\n",
                    count(good, "other repository", "other repositories")
                ));
            }
            text + "\n"
        }
    }
}

fn came(proof: &ProofReport) -> String {
    let good: Vec<&ProvedSource> = proof.sources.iter().filter(|s| s.why.is_none()).collect();
    let newest = good.iter().filter_map(|s| s.made.as_ref()).max();
    let lists = count(good.len() as u64, "repository", "repositories");
    let dated = newest.map(|at| format!(", newest dated {}", local(at))).unwrap_or_default();
    let deb = match &proof.package {
        Some(p) => {
            let (name, version, bytes) = (&p.package.name, &p.package.version, size(p.bytes));
            format!("{name} {version} ({bytes}) downloaded, signature chain verified")
        }
        None => "none of their packages is installed or waiting".into(),
    };
    format!("  {lists} with current package lists{dated}\n  {deb}\n")
}

/// Repositories whose key only the machine knows.
fn strangers(proof: &ProofReport) -> String {
    let named: Vec<String> = proof.sources.iter().filter(|s| s.unknown_key).map(|s| plain(&s.source)).collect();
    match named.is_empty() {
        true => String::new(),
        false => format!("  not checked (signing key not trusted yet): {}\n", named.join(", ")),
    }
}

fn waits(proof: &ProofReport) -> String {
    let security = match (proof.updates, proof.security) {
        (_, 0) => String::new(),
        (updates, security) if updates == security => ", a security update".into(),
        (_, security) => format!(", {security} of them security"),
    };
    match proof.updates {
        0 => "  no updates are waiting\n".into(),
        n => {
            let verb = if n == 1 { "is" } else { "are" };
            format!("  {} {verb} waiting{security} ({})\n", count(n, "update", "updates"), size(proof.bytes))
        }
    }
}
