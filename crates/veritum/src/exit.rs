//! Exit statuses: part of the interface, documented in the README.

/// Intact, or intact as known.
pub(crate) const FINE: u8 = 0;
/// Problems found, or some remain, or something named was not examined, or a change is unfinished.
pub(crate) const PROBLEMS: u8 = 1;
/// Wrong usage.
pub(crate) const USAGE: u8 = 2;
/// Nothing could be carried out.
pub(crate) const NOT_CARRIED_OUT: u8 = 3;
/// All repaired, a restart is due.
pub(crate) const RESTART_DUE: u8 = 4;
/// Interrupted at the keyboard before anything took effect.
pub(crate) const INTERRUPTED: u8 = 130;
/// Asked to end by another process before anything took effect.
pub(crate) const TERMINATED: u8 = 143;
