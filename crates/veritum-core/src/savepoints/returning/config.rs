//! [`ConfigFiles`]: whether a person changed a configuration file since, or a package did.

use super::ReturnCase;
use super::compare::Difference;
use super::packages::Packages;
use crate::machine::MachineTimeZone;
use crate::model::{FileKind, Instant, Md5, Stat, SystemPath, byte_lines};
use crate::platform::debian::Debian;
use crate::platform::{InstallState, Package, Platform as _};
use crate::savepoints::linkable::owned_now;
use crate::savepoints::parts::Head;

/// Places below /etc that the system's tools generate.
const GENERATED: [&str; 11] = [
    "/etc/alternatives",
    "/etc/ld.so.cache",
    "/etc/mailcap",
    "/etc/rc0.d",
    "/etc/rc1.d",
    "/etc/rc2.d",
    "/etc/rc3.d",
    "/etc/rc4.d",
    "/etc/rc5.d",
    "/etc/rc6.d",
    "/etc/rcS.d",
];
/// A place where tools put files both for packages and for the administrator.
const SHARED: &str = "/etc/ssl/certs";
/// The register of files that ucf(1) manages: a digest and a path in each line.
const UCF: &str = "/var/lib/ucf/hashfile";
/// Which package each of these files belongs to: a package and a path in each line.
const UCF_OWNERS: &str = "/var/lib/ucf/registry";
/// Larger files are taken for a person's, in bytes.
const MAX_CONFIG: u64 = 64 << 20;
/// A run's scripts may write so long after its last log entry, in seconds.
const AFTER: i64 = 5;
/// A run without a recorded end is over after this time, in seconds.
const LONGEST: i64 = 3600;

/// Whether the system's tools generate a place below /etc.
pub(super) fn is_generated(path: &SystemPath) -> bool {
    GENERATED.iter().any(|place| path.is_within_place(place))
}

/// What is known of configuration files.
pub(super) struct ConfigFiles<'a> {
    case: &'a ReturnCase<'a>,
    packages: &'a Packages,
    /// Files that ucf manages, with the digests of what packages brought.
    ucf: Vec<(SystemPath, Md5)>,
    /// These files with their packages.
    ucf_owners: Vec<(String, SystemPath)>,
    /// When the savepoint was made, in seconds since the epoch.
    made: i64,
    /// When packages were changed since the savepoint, in seconds since the epoch.
    runs: Vec<(i64, i64)>,
    owned: std::cell::OnceCell<crate::model::PathSet>,
}

impl<'a> ConfigFiles<'a> {
    pub(super) fn new(case: &'a ReturnCase<'a>, head: &Head, packages: &'a Packages) -> Self {
        let machine = case.context.machine;
        let read =
            |path: &'static str| machine.read_config(&SystemPath::literal(path)).ok().flatten().unwrap_or_default();
        let zone = MachineTimeZone::read(machine);
        let run = |run: crate::platform::Run| {
            let began = zone.timestamp(&run.began)?.as_second();
            let ended = run.ended.and_then(|ended| zone.timestamp(&ended)).map_or(began + LONGEST, |at| at.as_second());
            (ended >= head.made.as_second()).then_some((began, ended + AFTER))
        };
        let runs = Debian.runs(machine).into_iter().filter_map(run).collect();
        let (ucf, ucf_owners) = (registered(&read(UCF)), owners(&read(UCF_OWNERS)));
        Self { case, packages, ucf, ucf_owners, made: head.made.as_second(), runs, owned: std::cell::OnceCell::new() }
    }

    /// Whether a person, or a program outside the package tools, made this difference.
    pub(super) fn is_by_person(&self, difference: &Difference) -> bool {
        let path = &difference.path;
        if is_generated(path) {
            return false;
        }
        let shipped = self.packages.conffiles.get(path).and_then(|file| file.md5);
        let Some((now, stat)) = &difference.now else {
            return self.is_removed_by_person(difference, shipped.is_some());
        };
        if stat.kind != FileKind::File {
            let _ = now;
            return !self.is_in_a_run(difference);
        }
        if shipped.is_some() || self.ucf.iter().any(|(file, _)| file == path) {
            let is_brought = |content: Md5| {
                shipped == Some(content) || self.ucf.iter().any(|(file, md5)| file == path && *md5 == content)
            };
            // As a package brought it: nobody has changed it since then.
            let edited = difference.has_other_content() && !self.is_put_in_place(stat);
            return !self.md5_now(path).is_some_and(is_brought) && (edited || !self.is_in_a_run(difference));
        }
        !self.is_in_a_run(difference)
    }

    /// Whether the system's tools made a file for a package: in one of their places, while packages were changed.
    pub(super) fn is_made_by_tools(&self, difference: &Difference) -> bool {
        let path = &difference.path;
        (is_generated(path) || path.is_within_place(SHARED)) && self.is_in_a_run(difference)
    }

    /// Whether a package brought a file by ucf that was not installed then.
    pub(super) fn is_brought(&self, path: &SystemPath) -> bool {
        let owner = self.ucf_owners.iter().find(|(_, file)| file == path).map(|(package, _)| package);
        let is_new = |package: &String| {
            self.packages.returning().any(|m| m.change.package == *package && m.change.from.is_none())
        };
        owner.is_some_and(is_new)
    }

    fn is_removed_by_person(&self, difference: &Difference, is_shipped: bool) -> bool {
        if is_shipped {
            return true;
        }
        let folder = difference.path.parent().and_then(|folder| self.case.context.machine.look(&folder).ok().flatten());
        !folder.is_none_or(|folder| self.is_moment_of_a_run(folder.mtime))
    }

    fn md5_now(&self, path: &SystemPath) -> Option<Md5> {
        let dir = self.case.context.machine.dir(&path.parent()?).ok()?;
        Some(Md5::hash(&dir.read(path.name(), MAX_CONFIG).ok()?))
    }

    /// Whether a file is as an installed package that owns it shipped it; not if its digest is unknown.
    pub(super) fn is_as_shipped(&self, path: &SystemPath) -> bool {
        let records = Debian.records(self.case.context.machine);
        let is_owner = |package: &&Package| {
            let id = &package.id;
            self.packages.owners_now(path).any(|m| m.change.package == id.name && m.change.arch == id.arch)
        };
        let shipped = |package: &Package| records.read_list(package, None).ok()?.md5s.get(path).copied();
        let mut shipped = self.case.installed.packages.iter().filter(is_owner).filter_map(shipped);
        self.md5_now(path).is_some_and(|now| shipped.any(|md5| md5 == now))
    }

    /// Whether the package tools were running when it changed: its content by its modification time, the rest by its change time.
    pub(super) fn is_in_a_run(&self, difference: &Difference) -> bool {
        let Some((_, stat)) = &difference.now else { return false };
        let by_content = difference.has_other_content() && !self.is_put_in_place(stat);
        let times = if by_content { vec![stat.mtime] } else { vec![stat.mtime, stat.ctime] };
        times.into_iter().any(|at| self.is_moment_of_a_run(at))
    }

    /// Whether a content that differs was not written since: it was put in place with an earlier time, as package tools do.
    fn is_put_in_place(&self, stat: &Stat) -> bool {
        stat.mtime.s < self.made
    }

    /// Whether it is a place outside /etc and /opt that no package lists and that was made while packages were changed, although an
    /// installation was interrupted: a list comes only after the files.
    pub(super) fn is_of_interrupted(&self, difference: &Difference) -> bool {
        let is_half = |package: &Package| package.install_state == InstallState::HalfInstalled;
        let made_in_a_run = || difference.now.as_ref().is_some_and(|(_, stat)| self.is_moment_of_a_run(stat.ctime));
        let packages = &self.case.installed.packages;
        packages.iter().any(is_half) && made_in_a_run() && self.is_unowned(&difference.path)
    }

    fn is_moment_of_a_run(&self, at: Instant) -> bool {
        self.runs.iter().any(|(began, ended)| (*began..=*ended).contains(&at.s))
    }

    /// Whether no installed package lists a path.
    pub(super) fn is_unowned(&self, path: &SystemPath) -> bool {
        let owned =
            self.owned.get_or_init(|| owned_now(self.case.context.machine, self.case.installed, self.case.threads));
        !owned.contains(path)
    }
}

/// The lines of ucf's register.
fn registered(text: &[u8]) -> Vec<(SystemPath, Md5)> {
    let line = |line: &[u8]| {
        let (md5, path) = (line.get(..32)?, line.get(32..)?.trim_ascii());
        Some((SystemPath::parse(path).ok()?, Md5::from_hex(md5).ok()?))
    };
    byte_lines(text).filter_map(line).collect()
}

/// The lines of ucf's list of owners.
fn owners(text: &[u8]) -> Vec<(String, SystemPath)> {
    let line = |line: &[u8]| {
        let (package, path) = line.split_at(line.iter().position(u8::is_ascii_whitespace)?);
        Some((String::from_utf8_lossy(package).into_owned(), SystemPath::parse(path.trim_ascii()).ok()?))
    };
    byte_lines(text).filter_map(line).collect()
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn ucfs_register_is_read_and_what_is_none_of_it_is_left_out() {
        let text = b"900150983cd24fb0d6963f7d28e17f72  /etc/default/grub\nnonsense\n\n900150983cd24fb0d6963f7d28e17f72  relative\n";
        let lines = b"quay         /etc/quay.conf\nlonely\n";
        assert_eq!(owners(lines), [("quay".to_owned(), SystemPath::literal("/etc/quay.conf"))]);
        assert_eq!(registered(text), [(SystemPath::literal("/etc/default/grub"), Md5::hash(b"abc"))]);
    }

    #[test]
    fn generated_places_are_known() {
        for (path, generated) in
            [("/etc/alternatives/vi", true), ("/etc/rc2.d/S01x", true), ("/etc/fstab", false), ("/etc/rc", false)]
        {
            assert_eq!(is_generated(&SystemPath::parse(path.as_bytes()).unwrap()), generated, "{path}");
        }
    }
}
