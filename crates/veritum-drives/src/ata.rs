//! ATA: SMART data, thresholds and status (ATA/ATAPI Command Set 3, 7.48), through SCSI (SCSI/ATA Translation 4, 12.2.2).

use std::io;
use std::os::fd::BorrowedFd;

use rustix::ioctl::{Opcode, Updater, ioctl};

use crate::{PAGE, Page};

/// The request of `include/scsi/sg.h`.
const SG_IO: Opcode = 0x2285;
const PASS_THROUGH_16: u8 = 0x85;
const SMART: u8 = 0xb0;
const READ_DATA: u8 = 0xd0;
const READ_THRESHOLDS: u8 = 0xd1;
const RETURN_STATUS: u8 = 0xda;
/// What each SMART request has in two registers, and what the status is in them: as before, or these if the drive is failing.
const SIGNATURE: (u8, u8) = (0x4f, 0xc2);
const FAILING: (u8, u8) = (0xf4, 0x2c);
const FROM_DRIVE: i32 = -3;
const NO_DATA: i32 = -1;
const TIMEOUT_MS: u32 = 10_000;
/// The drive, or what it is attached to, does not answer such a request.
const NO_ANSWER: io::ErrorKind = io::ErrorKind::Unsupported;

/// `struct sg_io_hdr`.
#[repr(C)]
struct Request {
    interface: i32,
    direction: i32,
    command_length: u8,
    sense_length: u8,
    segments: u16,
    data_length: u32,
    data: *mut u8,
    command: *const u8,
    sense: *mut u8,
    timeout_ms: u32,
    flags: u32,
    pack: i32,
    user: *mut u8,
    status: u8,
    masked_status: u8,
    message_status: u8,
    sense_written: u8,
    host_status: u16,
    driver_status: u16,
    rest: i32,
    duration_ms: u32,
    info: u32,
}

/// What an ATA drive reports.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct SmartPages {
    /// Its attributes.
    pub data: Page,
    /// The thresholds of the attributes, if it has them.
    pub thresholds: Option<Page>,
    /// Whether it says that it is failing; `None` if it does not answer that.
    pub is_failing: Option<bool>,
}

/// Reads what an ATA drive reports of itself.
///
/// # Errors
/// When the device is no ATA drive, or SMART is disabled or refused; usually only root may.
pub fn read_smart(device: BorrowedFd<'_>) -> io::Result<SmartPages> {
    let data = read_page(device, READ_DATA)?;
    Ok(SmartPages { data, thresholds: read_page(device, READ_THRESHOLDS).ok(), is_failing: read_status(device) })
}

/// The 16 bytes of a SMART request.
fn command(feature: u8, protocol: u8, flags: u8, count: u8) -> [u8; 16] {
    let (middle, high) = SIGNATURE;
    [PASS_THROUGH_16, protocol << 1, flags, 0, feature, 0, count, 0, 0, 0, middle, 0, high, 0, SMART, 0]
}

fn read_page(device: BorrowedFd<'_>, feature: u8) -> io::Result<Page> {
    const PIO_IN: u8 = 4;
    // From the drive, in blocks, as many as counted.
    const FLAGS: u8 = 0x0e;
    let mut page = [0; PAGE];
    let (_, status) = send(device, &command(feature, PIO_IN, FLAGS, 1), Some(&mut page))?;
    if status == 0 { Ok(page) } else { Err(NO_ANSWER.into()) }
}

/// Whether the drive says that it is failing: in the registers that it returns.
fn read_status(device: BorrowedFd<'_>) -> Option<bool> {
    const WITHOUT_DATA: u8 = 3;
    // The registers are wanted.
    const FLAGS: u8 = 0x20;
    let (sense, _) = send(device, &command(RETURN_STATUS, WITHOUT_DATA, FLAGS, 0), None).ok()?;
    // Sense data with descriptors, the first of which has the registers.
    let is_registers = sense.len() >= 22 && sense[0] & 0x7f == 0x72 && sense[8] == 0x09;
    match (is_registers, (*sense.get(17)?, *sense.get(19)?)) {
        (true, SIGNATURE) => Some(false),
        (true, FAILING) => Some(true),
        _ => None,
    }
}

/// Sends a request; returns the sense data and the status.
fn send(device: BorrowedFd<'_>, command: &[u8; 16], page: Option<&mut Page>) -> io::Result<(Vec<u8>, u8)> {
    let mut sense = [0u8; 32];
    let (direction, data_length) = if page.is_some() { (FROM_DRIVE, PAGE as u32) } else { (NO_DATA, 0) };
    let mut request = Request {
        interface: i32::from(b'S'),
        direction,
        command_length: command.len() as u8,
        sense_length: sense.len() as u8,
        segments: 0,
        data_length,
        data: page.map_or(std::ptr::null_mut(), |page| page.as_mut_ptr()),
        command: command.as_ptr(),
        sense: sense.as_mut_ptr(),
        timeout_ms: TIMEOUT_MS,
        flags: 0,
        pack: 0,
        user: std::ptr::null_mut(),
        status: 0,
        masked_status: 0,
        message_status: 0,
        sense_written: 0,
        host_status: 0,
        driver_status: 0,
        rest: 0,
        duration_ms: 0,
        info: 0,
    };
    // SAFETY: the structure is that of the request, and its pointers are to buffers of these sizes that outlive the call.
    unsafe { ioctl(device, Updater::<SG_IO, Request>::new(&mut request)) }?;
    // The driver's status only says that there are sense data.
    if request.host_status != 0 {
        return Err(io::Error::from(NO_ANSWER));
    }
    let written = usize::from(request.sense_written).min(sense.len());
    Ok((sense[..written].to_vec(), request.status))
}
