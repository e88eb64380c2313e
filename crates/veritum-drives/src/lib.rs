//! What a drive reports of its own health: ATA's SMART data and status, and NVMe's health log, read by the pass-through requests of the
//! Linux kernel. Nothing is changed on the drive, and nothing is decided here: the pages are returned as they are.
//!
//! These requests are ioctl(2) calls with structures of the kernel, which contain pointers; that is all the `unsafe` code of this crate.

#![deny(unsafe_op_in_unsafe_fn)]

mod ata;
mod nvme;

pub use ata::{SmartPages, read_smart};
pub use nvme::read_health_log;

/// The size of a page in bytes.
pub const PAGE: usize = 512;

/// A page as the drive returned it.
pub type Page = [u8; PAGE];
