//! The one question before a change.

use std::io::{BufRead as _, IsTerminal as _, Write as _};

use crate::errors::Failure;

/// Asks on stderr; only a clear yes is one.
pub(crate) fn agree(question: &str, yes: bool) -> Result<bool, Failure> {
    if yes {
        return Ok(true);
    }
    if !std::io::stdin().is_terminal() {
        return Err(Failure::usage(
            "there is nobody to ask".into(),
            "standard input is no terminal".into(),
            Some("add --yes to agree beforehand, or --plan to only look".into()),
        ));
    }
    let mut err = std::io::stderr().lock();
    let _ = write!(err, "{question} [y/N] ");
    let _ = err.flush();
    let mut answer = String::new();
    let _ = std::io::stdin().lock().read_line(&mut answer);
    Ok(matches!(answer.trim().to_lowercase().as_str(), "y" | "yes"))
}
