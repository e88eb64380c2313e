//! What the core image of GRUB loads next: the machine's own copies of the package's modules and lists.

use super::fault::{Fault, Faults, NOT_KEPT, Stage};
use super::mend::Mend;
use super::packages::{NotUsable, PackageFiles};
use crate::areas::Examined;
use crate::model::{Authority, KnownBy, PackageId, StartEffect, SystemPath, Verdict, quoted};

/// What is copied with the modules: lists, and the code of the first sector.
const COPIED: [&str; 9] = [
    "boot.img",
    "command.lst",
    "crypto.lst",
    "fs.lst",
    "moddep.lst",
    "partmap.lst",
    "parttool.lst",
    "terminal.lst",
    "video.lst",
];

/// Judges the machine's own copies of the package's modules: what the core image loads next.
pub(super) fn judge(
    files: &PackageFiles<'_>,
    (shipped, copies): (&'static str, &'static str),
    needed: &dyn Fn(&str) -> bool,
    faults: &mut Faults,
    examined: &mut Examined,
) {
    let (shipped, copies) = (SystemPath::literal(shipped), SystemPath::literal(copies));
    let names = match files.names(&shipped) {
        Ok(names) => names,
        Err(why) => return examined.leave_out(why),
    };
    // Of the lists and images, only some are copied.
    let of_modules = |name: &Vec<u8>| name.ends_with(b".mod") || COPIED.iter().any(|copied| copied.as_bytes() == name);
    let mut unusable = 0;
    let mut found: Vec<Fault> = Vec::new();
    for name in names.iter().filter(|name| of_modules(name)) {
        let (Ok(from), Ok(to)) = (shipped.child(name), copies.child(name)) else { continue };
        let text = String::from_utf8_lossy(name).into_owned();
        let module = text.trim_end_matches(".mod");
        let fault = |verdict, cause: String, owner: Option<(PackageId, Authority)>| {
            let fault = Fault::on_path(Stage::LoaderFiles, &to, verdict, cause).package(owner);
            fault.known_by(KnownBy::Package).breaks_if(needed(module)).action(format!("copy {from} to its place again"))
        };
        let right = match files.get(&from) {
            Ok(file) => file,
            Err(NotUsable::Unowned) => continue,
            Err(_) => {
                unusable += 1;
                examined.of_files.push(from);
                continue;
            }
        };
        examined.coverage.examined += 1;
        examined.coverage.bytes += right.bytes.len() as u64;
        *examined.coverage.verified_by.entry(right.owner.1).or_default() += 1;
        match files.read(&to) {
            Ok(Some(own)) if own == right.bytes => {}
            Ok(Some(own)) => {
                let cause = if own.is_empty() { "it is empty".to_owned() } else { format!("it is not {from}") };
                let mend = Mend::file(&to, right.bytes, from.to_string());
                found.push(fault(Verdict::Altered, cause, Some(right.owner)).mended(Ok(mend)));
            }
            Ok(None) => {
                let mend = Mend::file(&to, right.bytes, from.to_string());
                let missing = fault(Verdict::Missing, format!("it is a copy of {from}"), Some(right.owner));
                found.push(missing.mended(Ok(mend)));
            }
            Err(why) => {
                let unreadable = fault(Verdict::Unreadable, why, Some(right.owner)).known_by(KnownBy::Medium);
                found.push(unreadable.mended(Err(NOT_KEPT.to_owned())));
            }
        }
    }
    fold(found, &copies).into_iter().for_each(|fault| faults.push(fault));
    if unusable > 0 {
        examined.leave_out_many(format!("copies of modules whose originals in {shipped} are damaged"), unusable, None);
    }
}

/// Many faults of the same kind in a folder are one of the folder.
fn fold(found: Vec<Fault>, folder: &SystemPath) -> Vec<Fault> {
    const MANY: usize = 4;
    let (mut folded, mut rest): (Vec<Fault>, Vec<Fault>) = (Vec::new(), found);
    while let Some(first) = rest.first().cloned() {
        let (same, others): (Vec<Fault>, Vec<Fault>) =
            rest.into_iter().partition(|fault| (fault.verdict, fault.effect) == (first.verdict, first.effect));
        rest = others;
        if same.len() < MANY {
            folded.extend(same);
            continue;
        }
        let names: Vec<String> =
            same.iter().take(2).filter_map(|fault| fault.subject.as_path().map(file_name)).collect();
        let what = if first.verdict == Verdict::Missing { "are missing" } else { "are not those of the package" };
        let cause = format!("{} files {what}: {} and {} more", same.len(), names.join(", "), same.len() - names.len());
        // Files that are needed are named by themselves if there are others, too.
        let needed = if first.effect == Some(StartEffect::BreaksStart) { "needed files" } else { "other files" };
        let fault = Fault::on_entry(Stage::LoaderFiles, folder, needed, first.verdict, cause);
        let fault = Fault { effect: first.effect, known_by: first.known_by, ..fault.package(first.package) };
        let refused = same.iter().find_map(|fault| fault.refused.clone());
        let mends = same.into_iter().flat_map(|fault| fault.mends).collect();
        folded.push(Fault { mends, refused, ..fault });
    }
    folded
}

fn file_name(path: &SystemPath) -> String {
    quoted(path.name())
}

/// The modules that a start needs: `normal`, and what it and these need.
pub(super) fn needed_modules(list: &[u8], first: &[&str]) -> Vec<String> {
    let text = String::from_utf8_lossy(list);
    let of = |name: &str| -> Vec<&str> {
        let line = text.lines().find_map(|line| line.split_once(':').filter(|(own, _)| *own == name));
        line.map(|(_, needs)| needs.split_whitespace().collect()).unwrap_or_default()
    };
    let mut all: Vec<String> = Vec::new();
    let mut open: Vec<&str> = first.to_vec();
    while let Some(name) = open.pop() {
        if !all.iter().any(|known| known == name) {
            all.push(name.to_owned());
            open.extend(of(name));
        }
    }
    all
}
