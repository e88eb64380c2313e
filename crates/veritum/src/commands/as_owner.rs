//! `as-owner`: runs with the rights of a home's owner, and carries out requests from the socket that is its standard
//! input until the other side closes it.

use std::os::fd::AsFd as _;
use std::sync::Arc;

use veritum_core::machine::{Dir, Disk, LiveDisk};
use veritum_core::platform::as_owner::serve;
use veritum_core::scan::HomeResponder;

use crate::errors::Failure;
use crate::exit;

pub(crate) fn run() -> Result<u8, Failure> {
    let fail = |why: String| Failure::not_done("this command is for internal use".into(), why, None);
    let disk: Arc<dyn Disk> = Arc::new(LiveDisk);
    let mut responder = HomeResponder::default();
    let mut answer = |folder: &Dir, question: &[u8]| responder.answer(folder, question);
    serve(std::io::stdin().as_fd(), &disk, &mut answer).map_err(|e| fail(e.to_string()))?;
    Ok(exit::FINE)
}
