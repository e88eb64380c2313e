//! Writes to the two streams: a closed pipe is a quiet end, other errors are reported.

use std::io::{self, Write as _};

use veritum_core::model::Action;

use crate::errors::Failure;
use crate::exit;

/// Writes to stdout.
pub(crate) fn put(text: &str) -> Result<(), Failure> {
    let mut out = anstream::stdout().lock();
    told(out.write_all(text.as_bytes()).and_then(|()| out.flush()))
}

fn told(written: io::Result<()>) -> Result<(), Failure> {
    match written {
        Err(e) if e.kind() != io::ErrorKind::BrokenPipe => {
            let why = veritum_core::model::error_words(&e);
            Err(Failure::not_done("cannot write the output".into(), why, None))
        }
        _ => Ok(()),
    }
}

/// The same after something was changed: that is done whether it can be reported or not.
pub(crate) fn after_change(told: Result<(), Failure>) -> Result<(), Failure> {
    told.map_err(|failure| Failure {
        why: format!("{}; the changes made are kept", failure.why),
        hint: Some(Action::command("veritum list changes")),
        status: exit::PROBLEMS,
        ..failure
    })
}

/// Writes a line to stderr; errors are ignored.
pub(crate) fn note(line: &str) {
    let _ = writeln!(io::stderr().lock(), "{line}");
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn only_a_reader_that_went_away_is_a_quiet_end() {
        assert!(told(Err(io::ErrorKind::BrokenPipe.into())).is_ok());
        let full = told(Err(io::ErrorKind::StorageFull.into())).unwrap_err();
        assert_eq!(full.status, exit::NOT_CARRIED_OUT);
        let after = after_change(Err(full)).unwrap_err();
        assert!(after.status == exit::PROBLEMS && after.why.ends_with("; the changes made are kept"), "{after:?}");
    }
}
