//! Exit statuses: part of the interface, documented in the README.

/// Intact, or no problem found.
pub(crate) const FINE: u8 = 0;
/// Problems were found or remain, something named was not examined, or a change is unfinished.
pub(crate) const PROBLEMS: u8 = 1;
/// Wrong usage.
pub(crate) const USAGE: u8 = 2;
/// The command could not be carried out.
pub(crate) const NOT_CARRIED_OUT: u8 = 3;
/// All repaired, a restart is due.
pub(crate) const RESTART_DUE: u8 = 4;
/// Interrupted from the keyboard before anything took effect.
pub(crate) const INTERRUPTED: u8 = 130;
/// Terminated by another process before anything took effect.
pub(crate) const TERMINATED: u8 = 143;
