//! `list`: components, applications, changes and updates.

use veritum_core::work::UpdatesWanted;

use super::print;
use crate::args::{Listing, UpdatesArgs};
use crate::context::Context;
use crate::errors::Failure;
use crate::{exit, render};

pub(crate) fn run(context: &Context, what: Listing, sizes: bool, updates: UpdatesArgs) -> Result<u8, Failure> {
    let UpdatesArgs { since, component, trouble } = updates;
    if !matches!(what, Listing::Updates) && (since.is_some() || component.is_some() || trouble.is_some()) {
        let hint = Some(context.command("list updates"));
        let why = "--since, --component and --trouble choose among updates";
        return Err(Failure::usage("the command cannot be read".into(), why.into(), hint));
    }
    if sizes && !matches!(what, Listing::Apps) {
        let hint = Some(context.command("list apps --sizes"));
        let why = "--sizes tells how much applications take";
        return Err(Failure::usage("the command cannot be read".into(), why.into(), hint));
    }
    let engine = context.open()?;
    match what {
        Listing::Components => {
            let report = engine.list_components();
            print(context, &report, || render::list::components(&report))?;
        }
        Listing::Apps => {
            let report = engine.list_apps(sizes)?;
            print(context, &report, || render::apps::list(context, &report))?;
        }
        Listing::Changes => {
            let report = engine.list_changes()?;
            print(context, &report, || render::list::changes(context, &report))?;
        }
        Listing::Updates => {
            let report = engine.list_updates(&UpdatesWanted { since, component, trouble });
            print(context, &report, || render::updates::describe(context, &report))?;
        }
    }
    Ok(exit::FINE)
}
