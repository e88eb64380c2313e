//! `demo`: builds the made-up machine, and walks through the commands.

use std::path::Path;
use std::process::Command;

use veritum_core::event::NoObserver;
use veritum_core::model::Action;
use veritum_demo::boot_disk::{self, BOOT_FAULTS, BootFault, boot_fault, disk, write};
use veritum_demo::mirror::Mirror;
use veritum_demo::{BuildOptions, Built, FAULTS, Fault, build, by_name};

use crate::args::{DemoArgs, Global};
use crate::errors::{Failure, unknown_word};
use crate::exit;
use crate::output::put;
use crate::places::shown;
use crate::render::count;
use crate::render::style::{Label, paint};

/// The damage in the walk-through.
const EXAMPLE: [&str; 10] = [
    "altered-library",
    "emptied-file",
    "missing-program",
    "folder-link-home",
    "wrong-permissions",
    "config-modified",
    "unowned-file",
    "download-altered",
    "list-expired",
    "failed-service",
];

/// The damage of the disk that does not start.
const BOOT_EXAMPLE: [&str; 4] = ["efi-loader-cut", "menu-kernel", "core-few-bytes", "table-backup"];

pub(crate) fn run(args: &DemoArgs, global: &Global) -> Result<u8, Failure> {
    if args.list_faults {
        let width = FAULTS.iter().map(|f| f.name.len()).max().unwrap_or(0);
        let condition = |f: &Fault| match (f.needs_root, f.mounts) {
            (_, true) => " (as root only, and only when it is named: mounts a small disk)",
            (true, false) => " (as root only)",
            (false, false) => "",
        };
        let line = |f: &Fault| format!("{:width$}  {}{}\n", f.name, f.what, condition(f));
        put(&FAULTS.iter().map(line).collect::<String>())?;
        put("\nOf the boot chain, on disk.img:\n\n")?;
        let width = BOOT_FAULTS.iter().map(|fault| fault.name.len()).max().unwrap_or(0);
        let line = |fault: &BootFault| format!("{:width$}  {} ({})\n", fault.name, fault.what, fault.effect.word());
        put(&BOOT_FAULTS.iter().map(line).collect::<String>())?;
        return Ok(exit::FINE);
    }
    if args.serve {
        return serve(&args.dir);
    }
    let (of_disk, others): (Vec<String>, Vec<String>) =
        args.fault.iter().cloned().partition(|name| boot_fault(name).is_some());
    let only_of_disk = !of_disk.is_empty() && others.is_empty();
    let faults = if only_of_disk { Vec::new() } else { faults(&others)? };
    let jobs = global.jobs.unwrap_or_else(|| std::thread::available_parallelism().map_or(2, usize::from));
    let options = BuildOptions { folder: &args.dir, seed: args.seed, faults: &faults, jobs };
    let built = build(options, &NoObserver).map_err(|e| {
        let hint = matches!(e, veritum_demo::BuildError::Occupied(_))
            .then(|| format!("choose another folder with --dir, or move {} away", shown(&args.dir)).into());
        Failure::not_done(
            e.to_string(),
            std::error::Error::source(&e).map(ToString::to_string).unwrap_or_default(),
            hint,
        )
    })?;
    make_disk(args, &of_disk, &others)?;
    let config = built.config.canonicalize().unwrap_or_else(|_| built.config.clone());
    put(&format!(
        "Built counter-03, a made-up ticket-office desktop: {} packages, {} files and symlinks, 2 users, {}.\n",
        built.packages,
        built.files,
        count(faults.len() as u64, "kind of damage", "kinds of damage")
    ))?;
    if !args.build_only {
        let pause = args.pause;
        example(&config, pause)?;
        updates(&args.dir, &built, pause)?;
        earlier_state(&built, &config, pause)?;
        apps(&built, &config, pause)?;
        old_disk(&args.dir, &config, pause)?;
        does_not_start(&args.dir, &config, pause)?;
    }
    put(&ending(&built, &config, args.build_only))?;
    if faults.iter().any(|f| f.mounts) {
        put(&format!("\nThe machine is on a small disk in memory. To delete it: umount {}\n", shown(&built.machine)))?;
    }
    Ok(exit::FINE)
}

fn faults(names: &[String]) -> Result<Vec<&'static Fault>, Failure> {
    let root = rustix::process::geteuid().is_root();
    let possible = |f: &&'static Fault| root || !f.needs_root;
    match names {
        [] => Ok(EXAMPLE.iter().filter_map(|n| by_name(n)).collect()),
        [one] if one == "all" => Ok(FAULTS.iter().filter(|f| possible(f) && !f.mounts).collect()),
        [one] if one == "none" => Ok(Vec::new()),
        names => names
            .iter()
            .map(|name| {
                let known: Vec<&str> = FAULTS.iter().map(|f| f.name).collect();
                let fault = by_name(name).ok_or_else(|| unknown_word("kind of damage", name, &known))?;
                if possible(&fault) {
                    Ok(fault)
                } else {
                    Err(Failure::not_done(format!("{name} needs root"), String::new(), None))
                }
            })
            .collect(),
    }
}

/// Damage to files, from its discovery to its undo.
fn example(config: &Path, pause: bool) -> Result<(), Failure> {
    put(&format!("\n{} export VERITUM_CONFIG={}\n", paint(Label::Prompt, "$"), shown(config)))?;
    let steps: [(&str, &[&str]); 9] = [
        ("What system is this, and what can its files be verified with?", &["status"]),
        ("What is wrong with it? (read-only)", &["check"]),
        ("What exactly is wrong with that library?", &["explain", "/usr/lib/x86_64-foreshore/libgunwale.so.5.4.2"]),
        ("What would a repair do?", &["repair", "--plan"]),
        ("Repair it. (Without --yes it asks first.)", &["repair", "--yes"]),
        ("Is it repaired?", &["check"]),
        ("What was changed?", &["list", "changes"]),
        ("Undo the repair.", &["undo", "--yes"]),
        ("The damage is back; undoing the undo repairs it again.", &["undo", "2", "--yes"]),
    ];
    steps.iter().try_for_each(|(remark, words)| step(remark, words, (config, None), pause))
}

/// Updates, with the repositories served on loopback.
fn updates(folder: &Path, built: &Built, pause: bool) -> Result<(), Failure> {
    let mirror = mirror(folder)?;
    let config = built.with_repositories.canonicalize().unwrap_or_else(|_| built.with_repositories.clone());
    put(&format!("\n{}\n", paint(Label::Heading, "Updates do not work. Why?")))?;
    put(&format!("\n{} export VERITUM_CONFIG={}\n", paint(Label::Prompt, "$"), shown(&config)))?;
    put(&format!("{} export http_proxy={}\n", paint(Label::Prompt, "$"), mirror.url()))?;
    let steps: [(&str, &[&str]); 4] = [
        ("What blocks them? (without the network)", &["check", "updates"]),
        ("Repair it, and test that updates work.", &["repair", "updates", "--yes"]),
        ("What was installed in the days before the trouble?", &["list", "updates", "--trouble", "2026-03-03"]),
        ("The repair was one change, which can be undone.", &["list", "changes"]),
    ];
    steps.iter().try_for_each(|(remark, words)| step(remark, words, (&config, Some(mirror.url())), pause))
}

/// An update that broke an application, whose files are as its package has them.
fn earlier_state(built: &Built, config: &Path, pause: bool) -> Result<(), Failure> {
    put(&format!("\n{}\n", paint(Label::Heading, "Since the update of 2 March, Gullmail shows no mail")))?;
    put(&format!("\n{} export VERITUM_CONFIG={}\n", paint(Label::Prompt, "$"), shown(config)))?;
    let run = |steps: &[(&str, &[&str])]| {
        steps.iter().try_for_each(|(remark, words)| step(remark, words, (config, None), pause))
    };
    run(&[("Is anything of it damaged?", &["check", "app:gullmail"])])?;
    start(built, "It is as the package brought it. What does it say itself?")?;
    run(&[
        ("Is there a savepoint from before the trouble?", &["list", "savepoints", "--trouble", "2026-03-03"]),
        ("What would a return to it change, and what not? (read-only)", &["return", "1", "--plan"]),
        ("Return. (Without --yes it asks first.)", &["return", "1", "--yes"]),
    ])?;
    start(built, "Does Gullmail work?")
}

/// Starts the machine's mail program, where this computer can execute it.
fn start(built: &Built, remark: &str) -> Result<(), Failure> {
    if !cfg!(target_arch = "x86_64") {
        return Ok(());
    }
    let program = built.machine.join("usr/bin/gullmail");
    let output = Command::new(&program).output();
    let output =
        output.map_err(|e| Failure::not_done(format!("cannot run {}", shown(&program)), e.to_string(), None))?;
    put(&format!(
        "\n{}\n{} {}\n{}",
        paint(Label::Remark, &format!("# {remark}")),
        paint(Label::Prompt, "$"),
        shown(&program),
        String::from_utf8_lossy(&output.stdout)
    ))
}

/// Applications, on the machine as the first part left it.
fn apps(built: &Built, config: &Path, pause: bool) -> Result<(), Failure> {
    put(&format!("\n{}\n", paint(Label::Heading, "The day after a power cut, three applications do not start")))?;
    put(&format!("\n{} export VERITUM_CONFIG={}\n", paint(Label::Prompt, "$"), shown(config)))?;
    for fault in ["emptied-program", "settings-cut", "lock-left"].into_iter().filter_map(by_name) {
        veritum_demo::apply(&built.machine, fault)
            .map_err(|e| Failure::not_done("cannot damage the demo machine".into(), e.to_string(), None))?;
    }
    let three = ["app:tidewriter", "app:berthbook", "app:gullmail"];
    let steps: [(&str, &[&str]); 6] = [
        ("Is it the program, or its data in a user's home?", &["check", three[0], three[1], three[2]]),
        ("Berthbook: the program. (User data is not touched.)", &["repair", "app:berthbook", "--yes"]),
        (
            "Tidewriter: its settings. What is moved aside, what stays? (Without --yes it asks first.)",
            &["reset", "tidewriter", "--user", "mirela", "--yes"],
        ),
        (
            "Gullmail: only the leftover lock. Its mail is in the same folder.",
            &["reset", "gullmail", "--only", "locks", "--yes", "--prove"],
        ),
        ("Do they start now?", &["check", three[0], three[1], three[2]]),
        ("Everything that was moved aside can be restored.", &["list", "changes"]),
    ];
    steps.iter().try_for_each(|(remark, words)| step(remark, words, (config, None), pause))
}

/// The disk of another computer, which fails: users' files first.
fn old_disk(folder: &Path, config: &Path, pause: bool) -> Result<(), Failure> {
    let other = folder.join("another-disk");
    let made = std::fs::create_dir_all(&other);
    made.map_err(|e| Failure::not_done("cannot create a folder for the demo".into(), e.to_string(), None))?;
    let image = folder.join(veritum_demo::old_disk::NAME);
    let (Some(image), Some(other)) = (image.to_str(), other.to_str()) else { return Ok(()) };
    put(&format!(
        "\n{}\n",
        paint(Label::Heading, "An old computer's disk is failing; there is an image of what it still gave")
    ))?;
    let steps: [(&str, &[&str]); 4] = [
        ("Which files lie where it could not be read?", &["check", "volumes", "--disk", image]),
        ("Copy the user's files to another disk. (Here: a folder.)", &["rescue", "--to", other, "--disk", image]),
        ("Are the copies still what was written? (later, on any computer)", &["rescue", "--verify", other]),
        ("Restore them in the user's home on the new computer.", &["rescue", "--back", other, "--yes"]),
    ];
    steps.iter().try_for_each(|(remark, words)| step(remark, words, (config, None), pause))
}

/// Writes counter-03's disk: with the named kinds of damage, or with those of the walk-through.
fn make_disk(args: &DemoArgs, named: &[String], others: &[String]) -> Result<(), Failure> {
    let example = || BOOT_EXAMPLE.iter().filter_map(|name| boot_fault(name)).collect::<Vec<_>>();
    let faults: Vec<&BootFault> = match (named, others) {
        ([], [one]) if one == "none" => Vec::new(),
        ([], _) => example(),
        (named, _) => named.iter().filter_map(|name| boot_fault(name)).collect(),
    };
    let made = disk(args.seed, &faults).and_then(|image| write(&args.dir.join(boot_disk::NAME), &image));
    made.map_err(|e| Failure::not_done("cannot write the disk of the demo machine".into(), e.to_string(), None))
}

/// The disk of a computer that does not start, read on another one.
fn does_not_start(folder: &Path, config: &Path, pause: bool) -> Result<(), Failure> {
    let image = folder.join(boot_disk::NAME);
    let Some(image) = image.to_str() else { return Ok(()) };
    put(&format!(
        "\n{}\n",
        paint(
            Label::Heading,
            "Counter-03 was switched off during an update, and does not start. Its disk is read elsewhere"
        )
    ))?;
    // What is written over is kept on another disk. (Here: a folder.)
    let kept = folder.join("kept-for-counter-03");
    let Some(kept) = kept.to_str() else { return Ok(()) };
    let steps: [(&str, &[&str]); 8] = [
        ("Which system is on it? (nothing is mounted)", &["list", "disks", "--disk", image]),
        ("What keeps it from starting, and what else is damaged?", &["check", "bootchain", "--disk", image]),
        ("How could it be started with fewer parts?", &["explain", "bootchain", "--disk", image]),
        (
            "What would a repair write, byte by byte, and from where?",
            &["repair", "bootchain", "--disk", image, "--plan"],
        ),
        (
            "Repair it. What is written over is kept on another disk. (Here: a folder. Without --yes it asks first.)",
            &["repair", "bootchain", "--disk", image, "--state-dir", kept, "--yes"],
        ),
        ("Does it start now?", &["check", "bootchain", "--disk", image]),
        ("Undo it: the disk is byte for byte what it was.", &["undo", "--state-dir", kept, "--yes"]),
        ("Undoing the undo repairs it again.", &["undo", "2", "--state-dir", kept, "--yes"]),
    ];
    steps.iter().try_for_each(|(remark, words)| step(remark, words, (config, None), pause))
}

fn mirror(folder: &Path) -> Result<Mirror, Failure> {
    let served = folder.join("served");
    if !served.is_dir() {
        let why = format!("no demo machine in {}", shown(folder));
        return Err(Failure::usage(
            "cannot serve the repositories".into(),
            why,
            Some(Action::command("veritum demo --build-only")),
        ));
    }
    Mirror::serve(&served).map_err(|e| Failure::not_done("cannot serve the repositories".into(), e.to_string(), None))
}

/// Serves the repositories until the program is interrupted.
fn serve(folder: &Path) -> Result<u8, Failure> {
    let mirror = mirror(folder)?;
    let config = folder.join("with-repository.toml");
    let config = config.canonicalize().unwrap_or(config);
    put(&format!(
        "Serving the demo machine's repositories at {} until interrupted. In another terminal:\n\n  \
         export VERITUM_CONFIG={}\n  export http_proxy={}\n  veritum check updates\n  veritum repair updates\n",
        mirror.url(),
        shown(&config),
        mirror.url()
    ))?;
    loop {
        std::thread::park();
    }
}

/// Runs one command and shows it with its real output.
fn step(remark: &str, words: &[&str], (config, proxy): (&Path, Option<&str>), pause: bool) -> Result<(), Failure> {
    let program = std::env::current_exe()
        .map_err(|e| Failure::not_done("cannot find the veritum program".into(), e.to_string(), None))?;
    let color = if anstream::stdout().current_choice() == anstream::ColorChoice::Never { "never" } else { "always" };
    put(&format!(
        "\n{}\n{} veritum {}\n",
        paint(Label::Remark, &format!("# {remark}")),
        paint(Label::Prompt, "$"),
        words.join(" ")
    ))?;
    let mut command = Command::new(&program);
    command.args(words).args(["--color", color]).env("VERITUM_CONFIG", config);
    for name in [
        "VERITUM_ROOT",
        "VERITUM_STORE",
        "VERITUM_STATE_DIR",
        "VERITUM_NO_NETWORK",
        "http_proxy",
        "no_proxy",
        "NO_PROXY",
    ] {
        command.env_remove(name);
    }
    command.envs(proxy.map(|url| ("http_proxy", url)));
    let status = command.status();
    status.map_err(|e| Failure::not_done("cannot run the veritum program".into(), e.to_string(), None))?;
    if pause {
        put(&format!("\n{}", paint(Label::Remark, "[Enter continues]")))?;
        let _ = std::io::stdin().read_line(&mut String::new());
    }
    Ok(())
}

fn ending(built: &Built, config: &Path, only_built: bool) -> String {
    let mut text = String::from("\nThe demo machine is kept. Try:\n\n");
    text.push_str(&format!("  export VERITUM_CONFIG={}\n", shown(config)));
    let first = if only_built { "veritum check" } else { "veritum check --verbose" };
    text.push_str(&format!("  {first}\n  veritum list packages\n  veritum explain /usr/bin/gullmail\n"));
    let without = built.without_store.canonicalize().unwrap_or_else(|_| built.without_store.clone());
    text.push_str("\nThe same without a store, verified by the vendor's repository:\n\n");
    text.push_str(&format!("  veritum check --config {}\n", shown(&without)));
    text.push_str("\nTo try `repair updates`, serve its repositories first: veritum demo --serve\n");
    text
}
