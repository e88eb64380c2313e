//! dpkg's configuration by the administrator: diversions, overrides, and paths that are not unpacked.

use globset::GlobBuilder;

use crate::machine::Machine;
use crate::model::SystemPath;
use crate::platform::{Diversion, LeftOut, Override, RecordProblem};

/// Further entries of one file are not read.
const MAX_ENTRIES: usize = 100_000;

/// `diversions`: three lines each: from, to, by (`:` for the administrator). dpkg-divert(1).
pub fn diversions(bytes: &[u8], path: &SystemPath) -> (Vec<Diversion>, Vec<RecordProblem>) {
    let mut all = Vec::new();
    let mut problems = Vec::new();
    let mut lines = bytes.split(|b| *b == b'\n').filter(|l| !l.is_empty());
    while let Some(from) = lines.next() {
        let read =
            (SystemPath::parse(from), lines.next().map(SystemPath::parse), lines.next().map(std::str::from_utf8));
        match read {
            (Ok(from), Some(Ok(to)), Some(Ok(by))) if all.len() < MAX_ENTRIES => {
                all.push(Diversion { from, to, by: (by != ":").then(|| by.to_owned()) });
            }
            _ => {
                problems.push(RecordProblem { path: path.clone(), what: "invalid diversion".into() });
                break;
            }
        }
    }
    (all, problems)
}

/// `statoverride`: user, group, mode in octal, path. dpkg-statoverride(1).
pub fn overrides(bytes: &[u8], path: &SystemPath) -> (Vec<Override>, Vec<RecordProblem>) {
    let mut all = Vec::new();
    let mut problems = Vec::new();
    for line in bytes.split(|b| *b == b'\n').filter(|l| !l.is_empty()).take(MAX_ENTRIES) {
        match override_line(line) {
            Some(one) => all.push(one),
            None => problems.push(RecordProblem { path: path.clone(), what: "invalid override".into() }),
        }
    }
    problems.truncate(20);
    (all, problems)
}

fn override_line(line: &[u8]) -> Option<Override> {
    let mut fields = line.splitn(4, |b| *b == b' ');
    let mut text = || {
        let field = std::str::from_utf8(fields.next()?).ok()?.trim_start_matches('#');
        (!field.is_empty()).then(|| field.to_owned())
    };
    let (user, group, mode) = (text()?, text()?, text()?);
    let mode = u32::from_str_radix(&mode, 8).ok().filter(|m| *m <= 0o7777)?;
    Some(Override { path: SystemPath::parse(fields.next()?).ok()?, user, group, mode })
}

/// `path-exclude` and `path-include` of dpkg.cfg(5), in dpkg's order.
pub(super) fn left_out(machine: &Machine) -> LeftOut {
    let mut rules = Vec::new();
    let folder = SystemPath::literal("/etc/dpkg/dpkg.cfg.d");
    let mut names = machine.dir(&folder).and_then(|d| d.disk().list(d.fd())).unwrap_or_default();
    names.sort_by(|a, b| a.0.cmp(&b.0));
    let fragments =
        names.iter().filter(|(name, _)| name.iter().all(|b| b.is_ascii_alphanumeric() || b"_-".contains(b)));
    let files = fragments.filter_map(|(name, _)| folder.child(name).ok());
    for file in files.chain([SystemPath::literal("/etc/dpkg/dpkg.cfg")]) {
        let text = machine.read_config(&file).ok().flatten().unwrap_or_default();
        rules.extend(String::from_utf8_lossy(&text).lines().take(MAX_ENTRIES).filter_map(rule));
    }
    LeftOut::new(rules)
}

fn rule(line: &str) -> Option<(bool, globset::GlobMatcher)> {
    let (option, pattern) = line.trim().trim_start_matches('-').split_once(|c: char| c == '=' || c.is_whitespace())?;
    let out = match option.trim() {
        "path-exclude" => true,
        "path-include" => false,
        _ => return None,
    };
    let pattern = pattern.trim().trim_start_matches('=').trim().trim_matches('"');
    // dpkg matches with fnmatch(3) without flags: `*` matches slashes, braces are plain characters.
    let pattern = pattern.replace('{', "[{]").replace('}', "[}]").replace("**", "*");
    let glob = GlobBuilder::new(&pattern).literal_separator(false).backslash_escape(true).build().ok()?;
    Some((out, glob.compile_matcher()))
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn the_last_rule_that_fits_decides() {
        let rules = ["path-exclude=/usr/share/doc/*", "path-include /usr/share/doc/*/copyright", "# no rule"];
        let left_out = LeftOut::new(rules.iter().filter_map(|r| rule(r)).collect());
        assert!(left_out.has(&SystemPath::literal("/usr/share/doc/a/b/changelog")));
        assert!(!left_out.has(&SystemPath::literal("/usr/share/doc/a/copyright")));
        assert!(!left_out.has(&SystemPath::literal("/usr/bin/x")));
    }

    #[test]
    fn diversions_and_overrides_are_read_line_by_line() {
        let at = SystemPath::literal("/x");
        let (all, bad) =
            diversions(b"/usr/bin/a\n/usr/bin/a.real\n:\n/usr/bin/b\n/usr/bin/b.old\nother\n/usr/bin/c\n", &at);
        assert_eq!((all.len(), bad.len()), (2, 1));
        assert_eq!((all[0].by.as_deref(), all[1].by.as_deref()), (None, Some("other")));
        let (all, bad) = overrides(b"root adm 0750 /usr/bin/a b\n#7 root 4755 /x\nroot root 99999 /y\n", &at);
        assert_eq!(
            (all[0].mode, all[0].path.as_bytes(), all[1].user.as_str(), bad.len()),
            (0o750, &b"/usr/bin/a b"[..], "7", 1)
        );
    }

    proptest::proptest! {
        #[test]
        fn of_damaged_tables_only_whole_lines_that_can_be_so_are_taken(seed: u64) {
            let at = SystemPath::literal("/x");
            let table = crate::testkit::mutated(b"/usr/bin/a\n/usr/bin/a.real\n:\n/usr/bin/b\n/usr/bin/b.old\nother\n", seed);
            let (all, bad) = diversions(&table, &at);
            proptest::prop_assert!(all.len() + bad.len() <= table.split(|b| *b == b'\n').count());
            proptest::prop_assert!(all.iter().all(|d| d.by.as_ref().is_none_or(|by| !by.is_empty())));
            let (all, _) = overrides(&crate::testkit::mutated(b"root adm 0750 /usr/bin/a b\n#7 root 4755 /x\n", seed), &at);
            proptest::prop_assert!(all.iter().all(|o| o.mode <= 0o7777 && !o.user.is_empty() && !o.group.is_empty()));
        }
    }
}
