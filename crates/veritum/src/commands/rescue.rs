//! `rescue`: users' files to another disk.

use std::ffi::OsString;
use std::path::Path;
use std::sync::Arc;

use veritum_core::machine::{Disk, LiveDisk};
use veritum_core::model::{Action, SystemPath, quoted};
use veritum_core::report::RescueBackReport;
use veritum_core::rescue::BackRules;
use veritum_core::work::{
    BackWanted, RescueSource, RescueWanted, deleted_files, image_of_disk, rescue_files, verify_rescued,
};

use super::print;
use crate::args::RescueArgs;
use crate::context::Context;
use crate::errors::Failure;
use crate::output::after_change;
use crate::prompt::Question;
use crate::{exit, render};

pub(crate) fn run(context: &Context, args: &RescueArgs) -> Result<u8, Failure> {
    let disk: Arc<dyn Disk> = Arc::new(LiveDisk);
    let of_changes = [("--yes", context.global.yes), ("--state-dir", context.global.state_dir.is_some())];
    if let Some((option, _)) = of_changes.iter().find(|(_, given)| *given && args.back.is_none()) {
        let why = format!("{option} has no effect in rescue without --back");
        return Err(Failure::usage(why, "nothing was done".into(), None));
    }
    if args.deleted {
        return deleted(context, args, &disk);
    }
    if let Some(folder) = &args.back {
        return restore_rescued(context, args, folder, &disk);
    }
    match (&args.verify, &args.image, &args.to) {
        (Some(folder), ..) => verify(context, folder, &disk),
        (None, Some(image), _) => copy_disk(context, image, &disk),
        (None, None, Some(to)) => copy(context, args, to, &disk),
        (None, None, None) => Err(Failure::usage(
            "rescue needs --to DIR, --back DIR, --verify DIR, --image FILE or --deleted".into(),
            "nothing was done".into(),
            Some(Action::command("veritum help rescue")),
        )),
    }
}

fn copy_disk(context: &Context, image: &Path, disk: &Arc<dyn Disk>) -> Result<u8, Failure> {
    let global = &context.global;
    let ([device], None, false) = (global.disk.as_slice(), &global.root, global.plan) else {
        return Err(Failure::usage(
            "--image copies one disk".into(),
            "nothing was done".into(),
            Some("name it, and nothing else: --disk DEVICE".into()),
        ));
    };
    let report = image_of_disk(device, image, disk, &context.progress)?;
    let is_whole = report.unreadable.is_empty() && report.pending.is_empty() && report.failed.is_none();
    let status = match report.stopped {
        true => context.progress.interruption(),
        false if is_whole => exit::FINE,
        false => exit::PROBLEMS,
    };
    print(context, &report, status, || render::rescue::describe_image(context, &report))?;
    Ok(status)
}

fn copy(context: &Context, args: &RescueArgs, to: &Path, disk: &Arc<dyn Disk>) -> Result<u8, Failure> {
    let wanted = RescueWanted {
        to: to.to_owned(),
        from: from(context, args)?,
        kinds: args.only.clone(),
        caches: args.caches,
        plan_only: context.global.plan,
        chosen: chosen(args)?,
    };
    let (report, machine) = rescue_files(&context.settings, &wanted, disk, &context.progress)?;
    context.set_machine(machine);
    let status = match report.stopped {
        true => context.progress.interruption(),
        false if report.is_complete() => exit::FINE,
        false => exit::PROBLEMS,
    };
    print(context, &report, status, || render::rescue::describe(context, &report, &again(args, to)))?;
    Ok(status)
}

/// Where the files come from.
fn from(context: &Context, args: &RescueArgs) -> Result<RescueSource, Failure> {
    let global = &context.global;
    if global.root.is_some() && !global.disk.is_empty() {
        return Err(Failure::usage(
            "--disk and --root cannot be combined".into(),
            "files are copied from a mounted system, or from disks that are not mounted".into(),
            Some("use two commands".into()),
        ));
    }
    Ok(RescueSource { users: args.user.clone(), disks: global.disk.clone(), deleted: args.deleted })
}

/// The deleted files that are wanted.
fn chosen(args: &RescueArgs) -> Result<Vec<SystemPath>, Failure> {
    let path = |typed: &OsString| {
        SystemPath::parse(typed.as_encoded_bytes()).map_err(|_| {
            let why = format!("{} is not an absolute path", quoted(typed.as_encoded_bytes()));
            Failure::usage(why, "nothing was done".into(), Some("type it as rescue --deleted lists it".into()))
        })
    };
    args.file.iter().map(path).collect()
}

fn deleted(context: &Context, args: &RescueArgs, disk: &Arc<dyn Disk>) -> Result<u8, Failure> {
    if let Some(to) = &args.to {
        if context.global.disk.is_empty() {
            return Err(Failure::usage(
                "--deleted copies from a disk that is not mounted (--disk DEVICE)".into(),
                "what is still in trash folders is copied as any other files".into(),
                Some(Action::command("veritum rescue --to DIR --only trash")),
            ));
        }
        return copy(context, args, to, disk);
    }
    if !args.file.is_empty() || !args.only.is_empty() {
        let option = if args.file.is_empty() { "--only" } else { "--file" };
        return Err(Failure::usage(
            format!("{option} has no effect with --deleted alone"),
            "it says which files are copied".into(),
            Some("add --to DIR".into()),
        ));
    }
    if context.global.plan {
        return Err(Failure::usage("--plan has no effect with --deleted".into(), "nothing was done".into(), None));
    }
    let (report, machine) =
        deleted_files(&context.settings, &from(context, args)?, args.caches, disk, &context.progress)?;
    context.set_machine(machine);
    print(context, &report, exit::FINE, || render::rescue::describe_deleted(context, &report, &args.user))?;
    Ok(exit::FINE)
}

fn restore_rescued(context: &Context, args: &RescueArgs, folder: &Path, disk: &Arc<dyn Disk>) -> Result<u8, Failure> {
    if !context.global.disk.is_empty() {
        return Err(Failure::usage(
            "--disk has no effect with --back".into(),
            "files are restored in the running system, or into one that is mounted (--root)".into(),
            None,
        ));
    }
    let engine = context.open()?;
    if !super::recover::first(context, &engine)? {
        return Ok(exit::FINE);
    }
    let rules = BackRules { kinds: args.only.clone(), newer: args.replace_newer };
    let wanted = BackWanted { from: folder.to_owned(), users: args.user.clone(), rules };
    let again = back_again(args, folder);
    let mut question = Question::new(context, "Restore them now?");
    let mut ask = |report: &RescueBackReport| question.ask(|| render::rescue_back::preview(context, report));
    let report = engine.restore_rescued(&wanted, context.global.plan, disk, &context.progress, &mut ask)?;
    if let Some(trouble) = question.trouble() {
        return Err(trouble);
    }
    let declined = question.declined;
    let status = match report.stopped {
        true => context.progress.interruption(),
        false if declined || report.is_complete() => exit::FINE,
        false => exit::PROBLEMS,
    };
    let told = print(context, &report, status, || render::rescue_back::describe(context, &report, &again, declined));
    if report.plan_only { told } else { after_change(told) }?;
    Ok(status)
}

/// The same command as typed, without the global options.
fn back_again(args: &RescueArgs, folder: &Path) -> String {
    let mut words = format!("rescue --back {}", quoted(folder.as_os_str().as_encoded_bytes()));
    words.push_str(&selection(args));
    words.push_str(if args.replace_newer { " --replace-newer" } else { "" });
    words
}

fn verify(context: &Context, folder: &Path, disk: &Arc<dyn Disk>) -> Result<u8, Failure> {
    let global = &context.global;
    let without_effect =
        [("--root", global.root.is_some()), ("--disk", !global.disk.is_empty()), ("--plan", global.plan)];
    if let Some((option, _)) = without_effect.iter().find(|(_, given)| *given) {
        return Err(Failure::usage(format!("{option} has no effect with --verify"), "nothing was done".into(), None));
    }
    let report = verify_rescued(folder, context.settings.jobs, disk, &context.progress)?;
    let is_intact = report.problems.is_empty() && report.damaged_lines == 0 && report.incomplete.is_empty();
    let status = match report.stopped {
        true => context.progress.interruption(),
        false if is_intact => exit::FINE,
        false => exit::PROBLEMS,
    };
    print(context, &report, status, || render::rescue::describe_verified(context, &report))?;
    Ok(status)
}

/// The same command as typed, without the global options.
fn again(args: &RescueArgs, to: &Path) -> String {
    let mut words = format!("rescue --to {}", quoted(to.as_os_str().as_encoded_bytes()));
    words.push_str(if args.deleted { " --deleted" } else { "" });
    let files = args.file.iter().map(|path| format!(" --file {}", quoted(path.as_encoded_bytes())));
    words.extend(files);
    words.push_str(&selection(args));
    words.push_str(if args.caches { " --caches" } else { "" });
    words
}

/// The users and kinds as typed.
fn selection(args: &RescueArgs) -> String {
    let mut words: String = args.user.iter().map(|user| format!(" --user {}", quoted(user.as_bytes()))).collect();
    if !args.only.is_empty() {
        let kinds = args.only.iter().map(|kind| kind.word()).collect::<Vec<_>>().join(",");
        words.push_str(&format!(" --only {kinds}"));
    }
    words
}
