//! `look-into`: what runs with a home's owner's rights: looks into the folder that it was handed, and answers in JSON.

use std::os::fd::AsFd as _;
use std::sync::Arc;

use veritum_core::scan;
use veritum_core::target::{Dir, LiveDisk};

use super::put;
use crate::errors::Failure;
use crate::exit;

pub(crate) fn run(question: &str) -> Result<u8, Failure> {
    let fail = |why: String| Failure::not_done("the folder cannot be looked into".into(), why, None);
    let folder = std::io::stdin().as_fd().try_clone_to_owned().map_err(|e| fail(e.to_string()))?;
    let home = Dir::handed_over(Arc::new(LiveDisk), folder);
    let answer = scan::answer(&home, question).map_err(|e| fail(e.to_string()))?;
    put(&answer);
    Ok(exit::FINE)
}
