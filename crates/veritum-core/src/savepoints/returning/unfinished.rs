//! What a killed dpkg leaves: files under their temporary names, in folders that no list contains yet.

use std::collections::HashMap;

use super::compare::Difference;
use super::decide::Fate;
use crate::model::{PathSet, SystemPath};
use crate::report::StayReason;

/// The ends of the names that dpkg gives files while it unpacks a package; for people it uses others.
const TEMPORARY: [&[u8]; 2] = [b".dpkg-new", b".dpkg-tmp"];

/// Whether it is a file that dpkg had not put in place yet.
pub(super) fn is_unfinished(path: &SystemPath) -> bool {
    TEMPORARY.iter().any(|end| path.name().ends_with(end))
}

/// Folders made since in which nothing but such files would stay go, too.
pub(super) fn set_aside_folders(differences: &[Difference], fates: &mut [Fate]) {
    let at: HashMap<&SystemPath, usize> = differences.iter().enumerate().map(|(at, d)| (&d.path, at)).collect();
    let made_since = |folder: &SystemPath, fates: &[Fate]| {
        at.get(folder).copied().filter(|at| fates[*at] == Fate::Stays(StayReason::MadeSince))
    };
    let above = |path: &SystemPath| std::iter::successors(path.parent(), SystemPath::parent);
    let mut going = PathSet::default();
    for difference in differences.iter().filter(|d| d.then.is_none() && is_unfinished(&d.path)) {
        going.extend(above(&difference.path).take_while(|folder| made_since(folder, fates).is_some()));
    }
    let stays = |(difference, fate): &(&Difference, &Fate)| {
        difference.now.is_some() && **fate != Fate::SetAside && !going.contains(&difference.path)
    };
    let kept: PathSet = differences.iter().zip(&*fates).filter(stays).flat_map(|(d, _)| above(&d.path)).collect();
    for folder in going.difference(&kept) {
        if let Some(at) = made_since(folder, fates) {
            fates[at] = Fate::SetAside;
        }
    }
}
