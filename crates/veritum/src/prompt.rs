//! The one question before a change.

use std::io::{self, Write as _};
use std::time::Duration;

use rustix::event::{PollFd, PollFlags, Timespec, poll};
use veritum_core::work::Agreement;

use crate::context::{Context, unanswerable};
use crate::errors::{Failure, cannot_ask};
use crate::output::put;

/// The interval at which Ctrl-C is checked: the signal may come just before the wait begins.
const LOOK: Duration = Duration::from_millis(200);
/// Longer answers are refused.
const MAX_ANSWER: usize = 1000;

/// The question before a change, and the answer.
pub(crate) struct Question<'a> {
    context: &'a Context,
    text: &'static str,
    /// Whether the answer was no.
    pub(crate) declined: bool,
    trouble: Option<Failure>,
}

impl<'a> Question<'a> {
    pub(crate) fn new(context: &'a Context, text: &'static str) -> Self {
        Self { context, text, declined: false, trouble: None }
    }

    /// Shows the preview, except with JSON, and asks. If the question cannot be asked, the answer is no.
    pub(crate) fn ask(&mut self, preview: impl FnOnce() -> String) -> Agreement {
        let shown = if self.context.global.json { Ok(()) } else { put(&preview()) };
        match shown.and_then(|()| agree(self.context, self.text)) {
            Ok(true) => return Agreement::Yes,
            Ok(false) => self.declined = true,
            Err(failure) => self.trouble = Some(failure),
        }
        Agreement::No
    }

    /// Why the question could not be asked, if so.
    pub(crate) fn trouble(&mut self) -> Option<Failure> {
        self.trouble.take()
    }
}

/// Asks on stderr; only a clear yes counts, and Ctrl-C is a no.
pub(crate) fn agree(context: &Context, question: &str) -> Result<bool, Failure> {
    if let Some(why) = unanswerable(&context.global) {
        return Err(cannot_ask(why));
    }
    if context.global.yes {
        return Ok(true);
    }
    let mut err = io::stderr().lock();
    let _ = write!(err, "{question} [y/N] ");
    let _ = err.flush();
    let answer = line(&mut || context.progress.is_stopped());
    if answer.is_none() {
        let _ = writeln!(err);
    }
    Ok(matches!(answer.unwrap_or_default().trim().to_lowercase().as_str(), "y" | "yes"))
}

/// The typed line; `None` when stopped in the meantime. Read byte by byte, so that input for a later question is not
/// consumed.
fn line(stopped: &mut dyn FnMut() -> bool) -> Option<String> {
    let stdin = io::stdin();
    let mut typed = Vec::new();
    let wait = Timespec { tv_sec: 0, tv_nsec: i64::try_from(LOOK.as_nanos()).unwrap_or_default() };
    loop {
        if stopped() {
            return None;
        }
        match poll(&mut [PollFd::new(&stdin, PollFlags::IN)], Some(&wait)) {
            Ok(0) | Err(rustix::io::Errno::INTR) => continue,
            Ok(_) => {}
            Err(_) => return Some(String::new()),
        }
        let mut byte = [0];
        match rustix::io::read(&stdin, &mut byte) {
            Ok(1) if byte[0] != b'\n' && typed.len() < MAX_ANSWER => typed.push(byte[0]),
            Err(rustix::io::Errno::INTR) => {}
            _ => return Some(String::from_utf8_lossy(&typed).into_owned()),
        }
    }
}
