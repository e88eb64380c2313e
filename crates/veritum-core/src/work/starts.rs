//! `explain bootchain`: how the machine can be started with fewer parts, and back.

use super::{Engine, WorkError};
use crate::formats::boot::menu::{Entry, Menu};
use crate::model::SystemPath;
use crate::report::{StartWay, StartsReport};

const MENU: &str = "/boot/grub/grub.cfg";
/// What a kernel's arguments contain that starts with fewer parts.
const REDUCED: [&str; 4] = ["single", "recovery", "rescue", "systemd.unit=rescue.target"];
const ONCE: &str = "it counts for this start only: restart, and nothing is different";

impl Engine {
    /// Explains how the machine can be started with fewer parts: by its boot menu, and by arguments for the kernel.
    ///
    /// # Errors
    /// If its boot menu exists and cannot be read.
    pub fn explain_starts(&self) -> Result<StartsReport, WorkError> {
        let machine = &self.system.machine;
        let bytes = machine.read_config(&SystemPath::literal(MENU))?;
        let menu = Menu::parse(&bytes.clone().unwrap_or_default());
        let has_systemd = machine.resolve(&SystemPath::literal("/lib/systemd/systemd")).is_ok()
            || machine.resolve(&SystemPath::literal("/usr/lib/systemd/systemd")).is_ok();
        let mut remarks = Vec::new();
        if bytes.is_none() {
            remarks.push(format!("there is no boot menu ({MENU}): entries of another boot loader are not known here"));
        }
        remarks.extend(self.root_password());
        if !has_systemd {
            remarks.push("systemd is not installed: its targets do not exist here".to_owned());
        }
        let ways = if has_systemd { ways(&menu) } else { only_without_systemd() };
        let report = StartsReport {
            format: StartsReport::FORMAT.into(),
            machine: self.system.machine_report(),
            menu: menu_steps(&menu, machine.resolve(&SystemPath::literal("/boot/efi")).is_ok()),
            ways,
            remarks,
        };
        Ok(report)
    }

    /// Whether root can log in: systemd's rescue and emergency shells ask for its password.
    fn root_password(&self) -> Option<String> {
        let shadow = self.system.machine.read_config(&SystemPath::literal("/etc/shadow"));
        let Ok(Some(shadow)) = shadow else {
            return Some(
                "whether root has a password could not be read; rescue and emergency shells ask for it".into(),
            );
        };
        let text = String::from_utf8_lossy(&shadow);
        let field = text.lines().find_map(|line| line.strip_prefix("root:")?.split(':').next().map(str::to_owned))?;
        match field.as_bytes().first() {
            Some(b'!' | b'*') => Some(
                "root's password is locked: rescue and emergency shells do not open; use init=/bin/sh, or a rescue stick".into(),
            ),
            Some(_) => Some("rescue and emergency shells ask for root's password".into()),
            None => Some("root has no password: rescue and emergency shells open without one".into()),
        }
    }
}

/// How to get to the menu, and to change arguments in it.
fn menu_steps(menu: &Menu, is_uefi: bool) -> Vec<String> {
    let key = if is_uefi { "press Esc" } else { "hold Shift" };
    let timeouts = menu.commands.iter().filter(|command| command.name() == "set" && command.entry.is_none());
    let mut seconds =
        timeouts.filter_map(|command| command.words.get(1)?.strip_prefix("timeout=")?.parse::<i32>().ok());
    let seconds = seconds.next_back();
    let shown = match seconds {
        Some(0) => format!("{key} right after the firmware's own screen: the menu is not shown by itself"),
        Some(n) if n < 0 => "the menu waits for a choice".to_owned(),
        Some(1) => {
            format!("the menu is shown for 1 second; {key} after the firmware's own screen if it does not appear")
        }
        Some(n) => {
            format!("the menu is shown for {n} seconds; {key} after the firmware's own screen if it does not appear")
        }
        None => format!("{key} right after the firmware's own screen to see the menu"),
    };
    vec![
        shown,
        "select an entry; older kernels and recovery entries are below \"Advanced options\"".into(),
        "to add an argument: press e, go to the end of the line that begins with linux, type it there, press Ctrl-X"
            .into(),
    ]
}

/// The titles of entries with these arguments.
fn entries_with(menu: &Menu, is: impl Fn(&[String]) -> bool) -> Vec<String> {
    let title = |(at, entry): (usize, &Entry)| {
        let mut linux = menu.commands_of(at).filter(|command| command.name().starts_with("linux"));
        linux.any(|command| is(&command.words[1..])).then(|| entry.title.clone())
    };
    menu.entries.iter().enumerate().filter_map(title).collect()
}

fn is_reduced(arguments: &[String]) -> bool {
    arguments.iter().any(|argument| REDUCED.contains(&&**argument))
}

fn way(name: &str, argument: Option<&str>, does: &str, back: &str) -> StartWay {
    StartWay {
        name: name.into(),
        entries: Vec::new(),
        argument: argument.map(str::to_owned),
        does: does.into(),
        back: back.into(),
    }
}

fn ways(menu: &Menu) -> Vec<StartWay> {
    let kernel = |arguments: &[String]| arguments.first().cloned();
    let usual =
        menu.commands.iter().find(|command| command.name().starts_with("linux")).and_then(|c| kernel(&c.words[1..]));
    let older = entries_with(menu, |arguments| kernel(arguments) != usual && !is_reduced(arguments));
    let mut all = Vec::new();
    if !older.is_empty() {
        let does = "starts another installed kernel, with everything else as usual";
        all.push(StartWay { entries: older, ..way("another kernel", None, does, ONCE) });
    }
    all.push(way(
        "check the file systems",
        Some("fsck.mode=force"),
        "checks the root and what fstab says before it is mounted; with fsck.repair=yes every question is answered with yes",
        ONCE,
    ));
    all.push(way(
        "skip the check",
        Some("fsck.mode=skip"),
        "starts although a check of a file system fails or hangs",
        ONCE,
    ));
    let does = "mounts all file systems and opens a shell for root; no network, no other services, no desktop";
    let back = "type exit or press Ctrl-D to continue to the usual start; or systemctl reboot";
    let rescue = StartWay {
        entries: entries_with(menu, is_reduced),
        ..way("rescue", Some("systemd.unit=rescue.target"), does, back)
    };
    all.push(rescue);
    all.push(way(
        "emergency",
        Some("systemd.unit=emergency.target"),
        "opens a shell for root with only the root mounted, read-only: for a damaged fstab. To write: mount -o remount,rw /",
        "systemctl reboot",
    ));
    all.extend(only_without_systemd());
    all
}

fn only_without_systemd() -> Vec<StartWay> {
    vec![way(
        "a bare shell",
        Some("init=/bin/sh"),
        "opens a shell instead of the system, without a password and with the root read-only. To write: mount -o remount,rw /",
        "mount -o remount,ro /, then reboot -f",
    )]
}
