//! `guard`: runs under the service manager beside a change, and recovers it if that change's process dies.

use std::time::Duration;

use rustix::event::{PollFd, PollFlags, poll};
use rustix::process::{Pid, PidfdFlags, pidfd_open};
use veritum_core::change::ChangeError;
use veritum_core::work::WorkError;

use crate::context::Context;
use crate::errors::Failure;
use crate::exit;
use crate::processes::begun_at;

/// The number of recovery attempts while another process is changing the machine, and the time between them.
const TRIES: u32 = 60;
const PAUSE: Duration = Duration::from_secs(5);

pub(crate) fn run(context: &Context, pid: i32, begun: u64) -> Result<u8, Failure> {
    // A process that has ended has no handle: then there is nothing to wait for.
    let process = Pid::from_raw(pid).and_then(|pid| pidfd_open(pid, PidfdFlags::empty()).ok());
    // Another process may have got its id before the handle was opened; the handle identifies it from now on.
    if let Some(process) = process.filter(|_| begun_at(&pid.to_string()) == Some(begun)) {
        // Only an interruption is a reason to wait again; other errors would repeat.
        while poll(&mut [PollFd::new(&process, PollFlags::IN)], None) == Err(rustix::io::Errno::INTR) {}
    }
    for _ in 0..TRIES {
        let engine = context.open()?;
        if engine.interrupted()?.is_empty() {
            return Ok(exit::FINE);
        }
        match engine.recover(&context.progress) {
            Ok(_) => return Ok(exit::FINE),
            Err(WorkError::Change(ChangeError::Busy | ChangeError::PackageTool { .. })) => std::thread::sleep(PAUSE),
            Err(e) => return Err(e.into()),
        }
    }
    Ok(exit::PROBLEMS)
}
