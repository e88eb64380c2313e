//! `guard`: runs beside a change under the service manager's care, and puts things right when that change's process dies.

use std::time::Duration;

use rustix::event::{PollFd, PollFlags, poll};
use rustix::process::{Pid, PidfdFlags, pidfd_open};
use veritum_core::change::ChangeError;
use veritum_core::work::WorkError;

use crate::context::Context;
use crate::errors::Failure;
use crate::exit;

/// How often recovery is tried while somebody else works on the machine, and how far apart.
const TRIES: u32 = 60;
const PAUSE: Duration = Duration::from_secs(5);

pub(crate) fn run(context: &Context, pid: i32) -> Result<u8, Failure> {
    // A process that has ended already has no handle: then there is nothing to wait for.
    if let Some(process) = Pid::from_raw(pid).and_then(|pid| pidfd_open(pid, PidfdFlags::empty()).ok()) {
        while poll(&mut [PollFd::new(&process, PollFlags::IN)], None).is_err() {}
    }
    for _ in 0..TRIES {
        let workshop = context.open()?;
        if workshop.interrupted()?.is_empty() {
            return Ok(exit::FINE);
        }
        match workshop.recover(&context.progress) {
            Ok(_) => return Ok(exit::FINE),
            Err(WorkError::Change(ChangeError::Busy | ChangeError::PackageTool { .. })) => std::thread::sleep(PAUSE),
            Err(e) => return Err(e.into()),
        }
    }
    Ok(exit::PROBLEMS)
}
