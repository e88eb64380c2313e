//! `list`: components and changes.

use super::print;
use crate::args::Listing;
use crate::context::Context;
use crate::errors::Failure;
use crate::{exit, render};

pub(crate) fn run(context: &Context, what: Listing) -> Result<u8, Failure> {
    let workshop = context.open()?;
    match what {
        Listing::Components => {
            let report = workshop.list_components();
            print(context, &report, || render::list::components(&report))?;
        }
        Listing::Changes => {
            let report = workshop.list_changes()?;
            print(context, &report, || render::list::changes(context, &report))?;
        }
    }
    Ok(exit::FINE)
}
