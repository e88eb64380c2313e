//! `list`: packages, applications, changes, updates, savepoints and disks.

use veritum_core::work::{UpdatesWanted, list_disks};

use veritum_core::model::Action;

use super::print;
use crate::args::{Listing, UpdatesArgs};
use crate::context::Context;
use crate::errors::Failure;
use crate::{exit, render};

pub(crate) fn run(context: &Context, what: Listing, sizes: bool, updates: UpdatesArgs) -> Result<u8, Failure> {
    let UpdatesArgs { since, package, trouble } = updates;
    let of_savepoints = matches!(what, Listing::Savepoints) && since.is_none() && package.is_none();
    if !(matches!(what, Listing::Updates) || of_savepoints)
        && (since.is_some() || package.is_some() || trouble.is_some())
    {
        let hint = Some(Action::command(context.command("list updates")));
        let why = "--since and --package apply to `list updates` only, --trouble also to `list savepoints`";
        return Err(Failure::usage("invalid option".into(), why.into(), hint));
    }
    if sizes && !matches!(what, Listing::Apps) {
        let hint = Some(Action::command(context.command("list apps --sizes")));
        let why = "--sizes applies to `list apps` only";
        return Err(Failure::usage("invalid option".into(), why.into(), hint));
    }
    if matches!(what, Listing::Disks) {
        if context.global.root.is_some() {
            let why = "disks are those of this computer, or those named with --disk";
            return Err(Failure::usage("--root has no effect on `list disks`".into(), why.into(), None));
        }
        let report = list_disks(&context.global.disk)?;
        print(context, &report, exit::FINE, || render::disks::describe(context, &report))?;
        return Ok(exit::FINE);
    }
    if !context.global.disk.is_empty() {
        let hint = Some(Action::command(context.command("list disks")));
        return Err(Failure::usage("--disk applies to `list disks` only".into(), "nothing was done".into(), hint));
    }
    // Changes are in their logs; JSON also has the number of packages.
    let engine = if matches!(what, Listing::Changes) && !context.global.json {
        context.open_briefly()?
    } else {
        context.open()?
    };
    match what {
        Listing::Disks => {}
        Listing::Packages => {
            let report = engine.list_packages();
            print(context, &report, exit::FINE, || render::list::packages(context, &report))?;
        }
        Listing::Apps => {
            let report = engine.list_apps(sizes)?;
            print(context, &report, exit::FINE, || render::apps::list(context, &report))?;
        }
        Listing::Changes => {
            let report = engine.list_changes()?;
            print(context, &report, exit::FINE, || render::list::changes(context, &report))?;
        }
        Listing::Savepoints => {
            let report = engine.list_savepoints(trouble, &context.progress)?;
            print(context, &report, exit::FINE, || render::savepoints::listed(context, &report))?;
        }
        Listing::Updates => {
            let report = engine.list_updates(&UpdatesWanted { since, package, trouble });
            print(context, &report, exit::FINE, || render::updates::describe(context, &report))?;
        }
    }
    engine.leave();
    Ok(exit::FINE)
}
