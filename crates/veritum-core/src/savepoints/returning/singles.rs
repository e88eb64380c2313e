//! [`fate`]: what happens to a package's place in `/var` that is covered singly. What is below its folders is data of services, so
//! folders are only created; files and symlinks change only together with their package.

use super::compare::Difference;
use super::decide::Fate;
use crate::report::StayReason;

/// What is known of a place that is covered singly.
#[derive(Debug, Clone, Copy)]
pub(super) struct Single {
    /// Whether a package that owns it, or did, differs and returns.
    pub(super) package_returns: bool,
    /// Whether the whole system returns.
    pub(super) all: bool,
    /// Whether its folder exists after the return.
    pub(super) has_folder: bool,
}

/// The fate of a difference at such a place.
pub(super) fn fate(difference: &Difference, single: Single) -> Fate {
    let (was_folder, is_folder) = (difference.was_folder(), difference.is_folder_now());
    match (&difference.then, &difference.now) {
        (Some(_), None) if single.package_returns || single.all => match single.has_folder {
            true => Fate::Returns,
            false => Fate::Stays(StayReason::NotCovered),
        },
        (None, Some(_)) if single.package_returns && !is_folder => Fate::SetAside,
        (Some(_), Some(_)) if single.package_returns && was_folder != is_folder => Fate::Stays(StayReason::NotCovered),
        (Some(_), Some(_)) if single.package_returns && !was_folder => Fate::Returns,
        _ => Fate::Ignored,
    }
}
