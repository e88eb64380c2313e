//! NVMe: Get Log Page (NVM Express Base Specification 2.0, 5.16).

use std::io;
use std::os::fd::BorrowedFd;

use rustix::ioctl::{Opcode, Updater, ioctl, opcode};

use crate::{PAGE, Page};

/// The request of `include/uapi/linux/nvme_ioctl.h`.
const ADMIN_COMMAND: Opcode = opcode::read_write::<Command>(b'N', 0x41);
const GET_LOG_PAGE: u8 = 0x02;
/// The page with the drive's health.
const HEALTH: u32 = 0x02;
/// All namespaces.
const WHOLE_DRIVE: u32 = u32::MAX;
const TIMEOUT_MS: u32 = 5000;

/// `struct nvme_admin_cmd`.
#[repr(C)]
#[derive(Default)]
struct Command {
    opcode: u8,
    flags: u8,
    reserved: u16,
    namespace: u32,
    words_2_3: [u32; 2],
    metadata: u64,
    address: u64,
    metadata_length: u32,
    data_length: u32,
    words_10_15: [u32; 6],
    timeout_ms: u32,
    result: u32,
}

/// Reads the health log of the drive that a node of an NVMe controller or namespace belongs to.
///
/// # Errors
/// When the device is no NVMe drive, or refuses; usually only root may.
pub fn read_health_log(device: BorrowedFd<'_>) -> io::Result<Page> {
    let mut page = [0; PAGE];
    let mut command = Command {
        opcode: GET_LOG_PAGE,
        namespace: WHOLE_DRIVE,
        address: page.as_mut_ptr() as u64,
        data_length: PAGE as u32,
        // The number of words of four bytes, less one, and the page.
        words_10_15: [(PAGE as u32 / 4 - 1) << 16 | HEALTH, 0, 0, 0, 0, 0],
        timeout_ms: TIMEOUT_MS,
        ..Command::default()
    };
    // SAFETY: the structure is that of the request, and `address` and `data_length` are those of a buffer that outlives the call.
    unsafe { ioctl(device, Updater::<ADMIN_COMMAND, Command>::new(&mut command)) }?;
    Ok(page)
}
