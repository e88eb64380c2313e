//! The boot sector of GRUB 2 for BIOS machines (`boot.img`), and what is written into it when it is installed
//! (include/grub/i386/pc/boot.h in its source).

use std::ops::Range;

use crate::formats::numbers::{le16, le64};

/// The size of a boot sector in bytes.
pub const SIZE: usize = 512;
/// Where the sector of the core image is written.
const CORE_SECTOR: Range<usize> = 0x5c..0x64;
/// Where an instruction is replaced by none, on hard disks.
const DRIVE_CHECK: Range<usize> = 0x66..0x68;
/// What replaces it.
const NOTHING: [u8; 2] = [0x90, 0x90];
/// The parameters of a file system, which stay as the disk had them.
const PARAMETERS: Range<usize> = 0x03..0x5a;
/// The disk's signature, its partition table and the mark at the end, which is judged by itself.
const TABLE: Range<usize> = 0x1b8..SIZE;
/// The last two bytes: a BIOS starts no sector without them.
const MARK: u16 = 0xaa55;

/// What a boot sector is, compared with that of the package.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum SectorState {
    /// Every byte is the package's, but for what is written into it when it is installed.
    Installed {
        /// The sector at which its core image begins.
        core: u64,
    },
    /// The code is zeros, or ones: the sector was erased.
    Empty,
    /// Its first bytes are GRUB's, and these bytes are not the package's.
    Damaged {
        /// The first one, and their number.
        first: usize,
        /// Their number.
        count: usize,
        /// The sector at which its core image would begin.
        core: u64,
    },
    /// Other code.
    Other,
}

/// Whether the sector ends with the mark of a boot sector.
#[must_use]
pub fn is_marked(sector: &[u8]) -> bool {
    le16(sector, SIZE - 2) == MARK
}

/// Compares a disk's first sector with the package's `boot.img`. Both have [`SIZE`] bytes.
#[must_use]
pub fn compare(sector: &[u8], package: &[u8]) -> SectorState {
    // One byte again and again, as disks are erased.
    let is_erased = |bytes: &[u8]| {
        let code = bytes.get(..TABLE.start).unwrap_or_default();
        code.iter().all(|byte| [0, 0xff].contains(byte) && Some(byte) == code.first())
    };
    if is_erased(sector) {
        return SectorState::Empty;
    }
    let is_installed = |at: &usize| {
        let written = CORE_SECTOR.contains(at) || PARAMETERS.contains(at) || TABLE.contains(at);
        let no_check = DRIVE_CHECK.contains(at) && sector.get(DRIVE_CHECK) == Some(&NOTHING);
        written || no_check
    };
    let differs = |at: &usize| sector.get(*at) != package.get(*at) && !is_installed(at);
    let different: Vec<usize> = (0..SIZE).filter(differs).collect();
    let core = le64(sector, CORE_SECTOR.start);
    match different[..] {
        [] => SectorState::Installed { core },
        [first, ..] if is_grub(sector, package) => SectorState::Damaged { first, count: different.len(), core },
        _ => SectorState::Other,
    }
}

/// A boot sector as it is installed: the package's code, with the sector of the core image; parameters, disk signature and table are those
/// of the first sector that the disk has. Both have [`SIZE`] bytes.
#[must_use]
pub fn installed(package: &[u8], first: &[u8], core: u64) -> Option<Vec<u8>> {
    let mut sector = package.get(..SIZE)?.to_vec();
    for kept in [PARAMETERS, TABLE] {
        sector[kept.clone()].copy_from_slice(first.get(kept)?);
    }
    sector[CORE_SECTOR].copy_from_slice(&core.to_le_bytes());
    sector[DRIVE_CHECK].copy_from_slice(&NOTHING);
    sector[SIZE - 2..].copy_from_slice(&MARK.to_le_bytes());
    Some(sector)
}

/// Whether most of the code is the package's.
fn is_grub(sector: &[u8], package: &[u8]) -> bool {
    let code = || PARAMETERS.end..TABLE.start;
    let same = code().filter(|at| sector.get(*at) == package.get(*at) && package.get(*at) != Some(&0)).count();
    let all = code().filter(|at| package.get(*at) != Some(&0)).count();
    same * 2 > all
}

#[cfg(test)]
mod tests {
    use super::*;

    fn package() -> Vec<u8> {
        let mut bytes: Vec<u8> = (0..SIZE).map(|at| (at % 251) as u8 | 1).collect();
        bytes[0x66..0x68].copy_from_slice(&[0xeb, 0x05]);
        bytes[510..].copy_from_slice(&[0x55, 0xaa]);
        bytes
    }

    #[test]
    fn only_what_an_installation_writes_may_differ() {
        let package = package();
        let mut sector = package.clone();
        sector[0x5c..0x64].copy_from_slice(&2048u64.to_le_bytes());
        sector[0x66..0x68].fill(0x90);
        sector[3..0x5a].fill(0);
        sector[0x1b8..].fill(7);
        assert_eq!(compare(&sector, &package), SectorState::Installed { core: 2048 });
        sector[0x67] = 0x91;
        assert_eq!(compare(&sector, &package), SectorState::Damaged { first: 0x66, count: 2, core: 2048 });
        assert_eq!(compare(&vec![0xcc; SIZE], &package), SectorState::Other);
        let written = installed(&package, &sector, 2048).unwrap();
        assert_eq!(compare(&written, &package), SectorState::Installed { core: 2048 });
        assert!(
            written[0x1b8..510] == sector[0x1b8..510] && written[3..0x5a] == sector[3..0x5a] && is_marked(&written)
        );
        sector[..0x1b8].fill(0);
        assert_eq!(compare(&sector, &package), SectorState::Empty);
        sector[..0x1b8].fill(0xff);
        assert_eq!(compare(&sector, &package), SectorState::Empty);
        assert!(is_marked(&package) && !is_marked(&[0; 512]) && !is_marked(&[]));
    }
}
