//! What a repair prints about the test that updates work.

use veritum_core::report::{ProofOutcome, ProofReport, ProvedSource};

use super::style::{Label, paint};
use super::{count, local, plain, size};

/// What the proof came to.
pub(crate) fn describe(proof: &ProofReport) -> String {
    match proof.outcome {
        ProofOutcome::NotTried => format!(
            "{} that updates come: {}\n\n",
            paint(Label::Note, "Not proved"),
            proof.why.as_deref().unwrap_or("nothing was asked")
        ),
        ProofOutcome::Proved => {
            format!("{}\n{}{}{}\n", paint(Label::Good, "Updates come."), came(proof), waits(proof), strangers(proof))
        }
        ProofOutcome::Failed => {
            let mut text = format!("{}:\n", paint(Label::Bad, "Updates do not come yet"));
            let failed = proof.sources.iter().filter(|s| s.why.is_some() && !s.unknown_key);
            let package = proof.package.as_ref().map(|p| (p.component.to_string(), p.why.as_ref(), p.advice.as_ref()));
            let of_sources = failed.map(|s| (plain(&s.source), s.why.as_ref(), s.advice.as_ref()));
            let mut all: Vec<_> = of_sources.chain(package.filter(|(_, why, _)| why.is_some())).collect();
            if all.is_empty() {
                all = proof.sources.iter().map(|s| (plain(&s.source), s.why.as_ref(), s.advice.as_ref())).collect();
            }
            for (name, why, advice) in all {
                text.push_str(&format!("  {name}\n"));
                text.push_str(&why.map(|why| format!("      {}\n", plain(why))).unwrap_or_default());
                text.push_str(&advice.map(|a| format!("      {}\n", paint(Label::Remark, a))).unwrap_or_default());
            }
            let good = proof.sources.iter().filter(|s| s.why.is_none()).count() as u64;
            if good > 0 {
                text.push_str(&format!(
                    "  {} answered as it should be.\n",
                    count(good, "other archive", "other archives")
                ));
            }
            text + "\n"
        }
    }
}

fn came(proof: &ProofReport) -> String {
    let good: Vec<&ProvedSource> = proof.sources.iter().filter(|s| s.why.is_none()).collect();
    let newest = good.iter().filter_map(|s| s.made.as_ref()).max();
    let lists = count(good.len() as u64, "archive", "archives");
    let dated = newest.map(|at| format!(", the newest made {}", local(at))).unwrap_or_default();
    let package = match &proof.package {
        Some(p) => {
            let (name, version, bytes) = (&p.component.name, &p.component.version, size(p.bytes));
            format!("{name} {version} ({bytes}) came and is the one that was signed")
        }
        None => "no package of theirs is installed or waits".into(),
    };
    format!("  {lists} gave lists that count as new{dated}\n  {package}\n")
}

/// Archives that only the machine knows.
fn strangers(proof: &ProofReport) -> String {
    let named: Vec<String> = proof.sources.iter().filter(|s| s.unknown_key).map(|s| plain(&s.source)).collect();
    match named.is_empty() {
        true => String::new(),
        false => format!("  not judged, since only this machine knows the key: {}\n", named.join(", ")),
    }
}

fn waits(proof: &ProofReport) -> String {
    let security = match (proof.updates, proof.security) {
        (_, 0) => String::new(),
        (updates, security) if updates == security => ", for security".into(),
        (_, security) => format!(", {security} of them for security"),
    };
    match proof.updates {
        0 => "  nothing waits to be installed\n".into(),
        n => {
            let verb = if n == 1 { "waits" } else { "wait" };
            format!("  {} {verb} to be installed{security} ({})\n", count(n, "update", "updates"), size(proof.bytes))
        }
    }
}
