//! [`Decider`]: what happens to each difference.

use std::collections::{HashMap, HashSet};

use super::ReturnCase;
use super::compare::Difference;
use super::config::{ConfigFiles, is_generated};
use super::diversions::is_diversions;
use super::packages::{Moving, Packages};
use super::singles::{self, Single};
use super::unfinished;
use crate::model::{PathSet, SystemPath};
use crate::report::StayReason;
use crate::savepoints::Coverage;
use crate::savepoints::manifest::{Entry, What};
use crate::savepoints::parts::Head;

/// What happens to a difference.
#[derive(Debug, Clone, PartialEq, Eq)]
pub(super) enum Fate {
    /// The place becomes as it was.
    Returns,
    /// What was made since is set aside.
    SetAside,
    /// It stays, for this reason.
    Stays(StayReason),
    /// It is not in question, and not named.
    Ignored,
}

/// Accounts, their passwords and groups (passwd(5), shadow(5), group(5)), with the copies that tools keep.
pub(super) const ACCOUNTS: [&str; 6] =
    ["/etc/passwd", "/etc/group", "/etc/shadow", "/etc/gshadow", "/etc/subuid", "/etc/subgid"];

/// Decides about differences.
pub(super) struct Decider<'a> {
    case: &'a ReturnCase<'a>,
    coverage: &'a Coverage,
    packages: &'a Packages,
    differences: &'a [Difference],
    config: ConfigFiles<'a>,
    /// What existed then, by path: only differences, the others exist in both.
    at: HashMap<&'a SystemPath, usize>,
    /// The places of diversions that are no longer those of then.
    diverted: PathSet,
}

impl<'a> Decider<'a> {
    pub(super) fn new(
        case: &'a ReturnCase<'a>,
        head: &Head,
        coverage: &'a Coverage,
        packages: &'a Packages,
        differences: &'a [Difference],
        diverted: PathSet,
    ) -> Self {
        let at = differences.iter().enumerate().map(|(at, difference)| (&difference.path, at)).collect();
        Self { case, coverage, packages, differences, config: ConfigFiles::new(case, head, packages), at, diverted }
    }

    /// The fate of each difference.
    pub(super) fn fates(&self) -> Vec<Fate> {
        let mut fates: Vec<Fate> = Vec::with_capacity(self.differences.len());
        let mut aside: PathSet = PathSet::default();
        for difference in self.differences {
            let fate = match self.is_single(&difference.path) {
                true => self.fate_of_single(difference, &fates),
                false => self.fate(difference, &aside),
            };
            if fate == Fate::SetAside {
                aside.insert(difference.path.clone());
            }
            fates.push(fate);
        }
        self.follow_links(&mut fates, &mut aside);
        unfinished::set_aside_folders(self.differences, &mut fates);
        self.keep_folders(&mut fates);
        fates
    }

    fn fate(&self, difference: &Difference, aside: &PathSet) -> Fate {
        let path = &difference.path;
        if !self.case.wanted.packages.is_empty() {
            return self.fate_by_package(difference);
        }
        if let Some(why) = self.staying_owner(difference) {
            return Fate::Stays(why);
        }
        if is_accounts(path) {
            return if self.case.wanted.accounts { returned(difference) } else { Fate::Stays(StayReason::Accounts) };
        }
        if is_record(path) {
            return returned(difference);
        }
        match (&difference.then, &difference.now) {
            (None, Some(_)) => self.made_since(difference, aside),
            (Some(_), None) => self.gone_since(difference),
            (Some(then), Some((now, _))) => self.changed_since(difference, then, now),
            (None, None) => Fate::Ignored,
        }
    }

    /// Whether a place is covered without what is below it.
    fn is_single(&self, path: &SystemPath) -> bool {
        self.coverage.has_single(path) && !self.diverted.contains(path)
    }

    /// `fates` are those of all differences before this one.
    fn fate_of_single(&self, difference: &Difference, fates: &[Fate]) -> Fate {
        if let Some(why) = self.staying_owner(difference).or_else(|| self.stays_as_config(difference)) {
            return Fate::Stays(why);
        }
        let path = &difference.path;
        let has_folder = path.parent().is_some_and(|folder| match self.at.get(&folder) {
            Some(at) => fates.get(*at) == Some(&Fate::Returns) || self.differences[*at].is_folder_now(),
            None => self.case.context.machine.resolve(&folder).is_ok_and(|real| real == folder),
        });
        let mut owners = self.packages.owners_then(path).chain(self.packages.owners_now(path));
        let package_returns = owners.any(|moving| moving.wanted && moving.stays.is_none());
        let all = self.case.wanted.packages.is_empty();
        let fate = singles::fate(difference, Single { package_returns, all, has_folder });
        // What a program changed there since is its data.
        let is_file = difference.now.as_ref().is_some_and(|(now, _)| matches!(now.what, What::File { .. }));
        match fate {
            Fate::Returns if is_file && !self.case.wanted.exact && !self.config.is_as_shipped(path) => {
                Fate::Stays(StayReason::DataChanged)
            }
            other => other,
        }
    }

    /// Why a configuration file stays that a person changed or removed.
    fn stays_as_config(&self, difference: &Difference) -> Option<StayReason> {
        let stays = self.is_config(difference) && !self.case.wanted.config && self.config.is_by_person(difference);
        let why = if difference.now.is_some() { StayReason::ConfigChanged } else { StayReason::ConfigRemoved };
        stays.then_some(why)
    }

    /// Only named packages: their own files, and dpkg's records of them.
    fn fate_by_package(&self, difference: &Difference) -> Fate {
        let path = &difference.path;
        let wanted = |moving: &Moving| moving.wanted;
        let own = self.packages.owners_then(path).chain(self.packages.owners_now(path)).any(wanted);
        let record = is_info(path) && self.packages.of_info(path.name()).is_some_and(wanted);
        let diverted = self.diverted.contains(path) || !self.diverted.is_empty() && is_diversions(path);
        if !own && !record && !diverted && !is_status(path) {
            return Fate::Ignored;
        }
        if let Some(why) = self.staying_owner(difference) {
            return Fate::Stays(why);
        }
        self.stays_as_config(difference).map_or_else(|| returned(difference), Fate::Stays)
    }

    /// Why the package stays to which a place belongs.
    fn staying_owner(&self, difference: &Difference) -> Option<StayReason> {
        let path = &difference.path;
        let stays = |moving: &Moving| moving.stays;
        if is_info(path) {
            return self.packages.of_info(path.name()).and_then(stays);
        }
        // A folder is shared by many packages.
        if difference.was_folder() && difference.is_folder_now() {
            return None;
        }
        self.packages.owners_then(path).chain(self.packages.owners_now(path)).find_map(stays)
    }

    fn made_since(&self, difference: &Difference, aside: &PathSet) -> Fate {
        let path = &difference.path;
        let listed = self.packages.owners_now(path).any(|moving| moving.stays.is_none());
        // A diversion made since goes, and the file comes back under its own name.
        let diverted = self.diverted.contains(path);
        let brought = listed || diverted || self.config.is_brought(path) || self.config.is_made_by_tools(difference);
        let interrupted =
            || unfinished::is_unfinished(path) || !is_of_a_person(path) && self.config.is_of_interrupted(difference);
        if brought || self.case.wanted.exact || interrupted() {
            return Fate::SetAside;
        }
        // What the system's tools made for a package that goes away: its folder goes with it, or its kernel does.
        let generated = || {
            let in_folder = path.parent().is_some_and(|folder| aside.contains(&folder));
            in_folder && !is_of_a_person(path) || self.is_of_leaving_kernel(path) || self.is_leaving_bytecode(path)
        };
        if is_of_a_person(path) || !generated() { Fate::Stays(StayReason::MadeSince) } else { Fate::SetAside }
    }

    /// Whether it is an initramfs of a kernel that was installed since.
    fn is_of_leaving_kernel(&self, path: &SystemPath) -> bool {
        let name = path.name();
        let Some(version) = name.strip_prefix(b"initrd.img-") else { return false };
        let kernel = path.parent().and_then(|folder| folder.child(&[b"vmlinuz-", version].concat()).ok());
        path.as_bytes().starts_with(b"/boot/") && kernel.is_some_and(|kernel| self.is_made_since(&kernel))
    }

    /// Whether it is the bytecode of a module that goes away.
    fn is_leaving_bytecode(&self, path: &SystemPath) -> bool {
        let Some(folder) = path.parent().filter(|folder| folder.name() == b"__pycache__") else { return false };
        let stem = path.name().split(|byte| *byte == b'.').next().unwrap_or_default();
        let source = folder.parent().and_then(|above| above.child(&[stem, b".py"].concat()).ok());
        source.is_some_and(|source| self.is_made_since(&source) || !self.exists_now(&source))
    }

    fn is_made_since(&self, path: &SystemPath) -> bool {
        self.at.get(path).is_some_and(|at| self.differences[*at].then.is_none())
    }

    fn exists_now(&self, path: &SystemPath) -> bool {
        match self.at.get(path) {
            Some(at) => self.differences[*at].now.is_some(),
            None => self.case.context.machine.look(path).ok().flatten().is_some(),
        }
    }

    fn gone_since(&self, difference: &Difference) -> Fate {
        let path = &difference.path;
        let comes_back = self.packages.owners_then(path).any(|moving| moving.change.to.is_none());
        if !self.is_config(difference) || comes_back || self.case.wanted.config || !self.config.is_by_person(difference)
        {
            return Fate::Returns;
        }
        Fate::Stays(StayReason::ConfigRemoved)
    }

    fn changed_since(&self, difference: &Difference, then: &Entry, now: &Entry) -> Fate {
        let path = &difference.path;
        if self.is_config(difference) {
            let stays = !self.case.wanted.config && self.config.is_by_person(difference);
            return if stays { Fate::Stays(StayReason::ConfigChanged) } else { Fate::Returns };
        }
        // An application's own data: no package ships it, and no package's installation wrote it.
        let file = matches!((&then.what, &now.what), (What::File { .. }, What::File { .. }));
        let unowned = self.packages.owners_now(path).next().is_none() && path.is_within_place("/opt");
        if file
            && unowned
            && !self.case.wanted.exact
            && self.config.is_unowned(path)
            && !self.config.is_in_a_run(difference)
        {
            return Fate::Stays(StayReason::DataChanged);
        }
        Fate::Returns
    }

    /// Whether a difference is one of a configuration file: below /etc and not generated, or listed as one. Folders are the system's.
    fn is_config(&self, difference: &Difference) -> bool {
        let path = &difference.path;
        let folder = difference.was_folder() || difference.is_folder_now();
        let listed = self.packages.conffiles.contains_key(path);
        listed || path.is_within_place("/etc") && !is_generated(path) && !folder
    }

    /// Symlinks made since whose target goes away go, too: alternatives, units that were enabled, links to kernels.
    fn follow_links(&self, fates: &mut [Fate], aside: &mut PathSet) {
        if !self.case.wanted.packages.is_empty() {
            return;
        }
        loop {
            let mut changed = false;
            for (difference, fate) in self.differences.iter().zip(fates.iter_mut()) {
                let (None, Some((now, _)), Fate::Stays(_)) = (&difference.then, &difference.now, &*fate) else {
                    continue;
                };
                let What::Link(target) = &now.what else { continue };
                let Some(target) = target_of(&difference.path, &target.0) else { continue };
                if self.is_leaving(&target, aside) {
                    *fate = Fate::SetAside;
                    aside.insert(difference.path.clone());
                    changed = true;
                }
            }
            if !changed {
                return;
            }
        }
    }

    /// Whether nothing will be at a path, or below a folder that goes.
    fn is_leaving(&self, path: &SystemPath, aside: &PathSet) -> bool {
        let gone = std::iter::successors(Some(path.clone()), SystemPath::parent).any(|place| aside.contains(&place));
        if gone {
            return true;
        }
        // Listed through a merged folder: compared by its real path.
        let real = path.parent().and_then(|parent| self.case.context.machine.resolve(&parent).ok());
        let real = real.and_then(|parent| parent.child(path.name()).ok());
        real.is_some_and(|real| {
            std::iter::successors(Some(real), SystemPath::parent).any(|place| aside.contains(&place))
        })
    }

    /// A folder made since stays if anything in it does.
    fn keep_folders(&self, fates: &mut [Fate]) {
        let mut kept: HashSet<SystemPath> = HashSet::new();
        for (difference, fate) in self.differences.iter().zip(fates.iter()) {
            if matches!(fate, Fate::Stays(_)) && difference.now.is_some() {
                kept.extend(std::iter::successors(difference.path.parent(), SystemPath::parent));
            }
        }
        for (difference, fate) in self.differences.iter().zip(fates.iter_mut()) {
            if *fate == Fate::SetAside && difference.is_folder_now() && kept.contains(&difference.path) {
                *fate = Fate::Stays(StayReason::ContainsStaying);
            }
        }
    }
}

/// The place becomes as it was: what was made since is set aside.
fn returned(difference: &Difference) -> Fate {
    if difference.then.is_some() { Fate::Returns } else { Fate::SetAside }
}

/// Whether a file of accounts, or the copy that a tool keeps of one.
pub(super) fn is_accounts(path: &SystemPath) -> bool {
    let bytes = path.as_bytes();
    let bytes = bytes.strip_suffix(b"-").unwrap_or(bytes);
    ACCOUNTS.iter().any(|file| file.as_bytes() == bytes)
}

/// Folders that people, applications and packages share; what is covered elsewhere are records of the package tools.
const SHARED: [&str; 4] = ["/usr", "/etc", "/boot", "/opt"];

/// Whether a path belongs to the records of the package tools: dpkg's database and what they note beside it.
fn is_record(path: &SystemPath) -> bool {
    // Where /usr is not merged, the folders of programs and libraries are in the root.
    let first = path.names().next().unwrap_or_default();
    let of_programs = first == b"bin" || first == b"sbin" || first.starts_with(b"lib");
    let in_root = path.parent().is_some_and(|parent| parent.is_root());
    !of_programs && !in_root && !SHARED.iter().any(|folder| path.is_within_place(folder))
}

pub(super) fn is_info(path: &SystemPath) -> bool {
    path.parent().is_some_and(|folder| folder.as_bytes().ends_with(b"/lib/dpkg/info"))
}

pub(super) fn is_status(path: &SystemPath) -> bool {
    path.as_bytes().ends_with(b"/lib/dpkg/status")
}

/// Whether a path is where people and applications put files of their own.
fn is_of_a_person(path: &SystemPath) -> bool {
    path.is_within_place("/etc") || path.is_within_place("/opt")
}

/// The place that a symlink points to, by its text.
fn target_of(link: &SystemPath, target: &[u8]) -> Option<SystemPath> {
    let mut names: Vec<&[u8]> = match target.first()? {
        b'/' => Vec::new(),
        _ => link.names().rev().skip(1).collect::<Vec<_>>().into_iter().rev().collect(),
    };
    for name in target.split(|byte| *byte == b'/') {
        match name {
            b"" | b"." => {}
            b".." => drop(names.pop()),
            name => names.push(name),
        }
    }
    SystemPath::below_root(&names.join(&b'/')).ok()
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn what_a_link_points_to_is_found_by_its_text() {
        let link = SystemPath::literal("/etc/systemd/system/a.wants/b");
        let told = |target: &[u8]| target_of(&link, target).map(|path| path.to_string());
        assert_eq!(told(b"/lib/systemd/system/b").as_deref(), Some("/lib/systemd/system/b"));
        assert_eq!(told(b"../../x/./b").as_deref(), Some("/etc/systemd/x/b"));
        assert_eq!(told(b"../../../../../..").as_deref(), Some("/"));
    }

    #[test]
    fn accounts_and_records_are_known_by_their_places() {
        let path = |text: &'static str| SystemPath::literal(text);
        assert!(
            is_accounts(&path("/etc/shadow"))
                && is_accounts(&path("/etc/passwd-"))
                && !is_accounts(&path("/etc/passwdx"))
        );
        assert!(is_record(&path("/var/lib/dpkg/status")) && is_record(&path("/data/lib/dpkg/info/a.list")));
        assert!(is_record(&path("/var/lib/systemd/deb-systemd-helper-enabled/x")) && !is_record(&path("/bin")));
        assert!(!is_record(&path("/lib/modules/6/x")) && !is_record(&path("/vmlinuz")));
        assert!(!is_record(&path("/usr/lib/dpkg/methods")) && is_info(&path("/var/lib/dpkg/info/a.list")));
    }
}
