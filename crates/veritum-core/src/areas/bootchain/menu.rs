//! The boot menu: whether it is complete, and whether what it names exists.

use super::fault::{Fault, Faults, NOT_KEPT, Stage};
use super::generated::Generated;
use super::layout::Layout;
use super::mend::Mend;
use super::menu_emergency;
use super::packages::PackageFiles;
use crate::areas::Examined;
use crate::formats::boot::environment::{self, EnvironmentFault};
use crate::formats::boot::menu::{Menu, MenuFault};
use crate::model::{KnownBy, SystemPath, Verdict};

pub(super) const MENU: &str = "/boot/grub/grub.cfg";
const ENVIRONMENT: &str = "/boot/grub/grubenv";
const SETTINGS: &str = "/etc/default/grub";

/// What an entry of the menu starts.
#[derive(Debug, Clone, Default)]
pub(super) struct Started {
    /// The kernel's path on the machine, if its file system is mounted there.
    pub(super) kernel: Option<SystemPath>,
    /// Those of the initial file systems.
    pub(super) initramfs: Vec<SystemPath>,
    /// The kernel's arguments.
    pub(super) arguments: Vec<String>,
}

/// What the menu starts.
#[derive(Debug, Default)]
pub(super) struct MenuStarts {
    /// What every entry starts, in order.
    pub(super) entries: Vec<Started>,
    /// The position of the one that starts by itself.
    pub(super) default: Option<usize>,
}

impl MenuStarts {
    /// What starts by itself.
    pub(super) fn started(&self) -> Option<&Started> {
        self.entries.get(self.default?)
    }
}

/// Judges the menu. `boots` is the position of the volume with /boot/grub, `root` that with the root.
pub(super) fn judge(
    layout: &Layout,
    files: &PackageFiles<'_>,
    (boots, root): (Option<usize>, Option<usize>),
    faults: &mut Faults,
    examined: &mut Examined,
) -> MenuStarts {
    let path = SystemPath::literal(MENU);
    let bytes = match files.read(&path) {
        Ok(Some(bytes)) => bytes,
        Ok(None) => {
            let cause = "GRUB shows its prompt instead of the menu";
            let found = Fault::on_path(Stage::Menu, &path, Verdict::Missing, cause).breaks().generated(Generated::Menu);
            faults.push(found.mended(menu_emergency::menu(layout, files, (boots, root))));
            return MenuStarts::default();
        }
        Err(why) => {
            let fault = Fault::on_path(Stage::Menu, &path, Verdict::Unreadable, why).known_by(KnownBy::Medium);
            faults.push(fault.breaks().mended(Err(NOT_KEPT.to_owned())));
            return MenuStarts::default();
        }
    };
    examined.coverage.examined += 1;
    let starts = judge_content(layout, files, (boots, root), &bytes, faults, examined);
    match menu_emergency::cause(&bytes) {
        Some(cause) => faults.push(fault(Verdict::Outdated, &cause)),
        None => age(files, faults),
    }
    starts
}

/// Judges a content as that of the menu.
pub(super) fn judge_content(
    layout: &Layout,
    files: &PackageFiles<'_>,
    (boots, root): (Option<usize>, Option<usize>),
    bytes: &[u8],
    faults: &mut Faults,
    examined: &mut Examined,
) -> MenuStarts {
    let menu = Menu::parse(bytes);
    let judge = Judge { layout, files, boots, root, menu: &menu };
    judge.structure(faults);
    let starts = judge.entries(faults, examined);
    judge.environment(faults);
    starts
}

/// Whether the settings are newer than the menu.
fn age(files: &PackageFiles<'_>, faults: &mut Faults) {
    let changed = |path: &'static str| files.changed(&SystemPath::literal(path));
    let (Some(menu), Some(settings)) = (changed(MENU), changed(SETTINGS)) else { return };
    if settings > menu {
        faults.push(fault(Verdict::Outdated, format!("{SETTINGS} was changed after it was generated")));
    }
}

fn fault(verdict: Verdict, cause: impl Into<String>) -> Fault {
    Fault::on_path(Stage::Menu, &SystemPath::literal(MENU), verdict, cause).generated(Generated::Menu)
}

/// A menu whose kernels get the root by its UUID, where a generator that could not see that named a device.
pub(super) fn with_root(layout: &Layout, menu: Vec<u8>, root: Option<usize>) -> Vec<u8> {
    let uuid = root.and_then(|root| layout.volume(root).contains.as_ref()).map(|found| &found.uuid);
    let (Some(uuid), Ok(text)) = (uuid.filter(|uuid| !uuid.is_empty()), std::str::from_utf8(&menu)) else {
        return menu;
    };
    let word = |word: &str| match word.starts_with("root=/dev/") && !word.starts_with("root=/dev/mapper/") {
        true => format!("root=UUID={uuid}"),
        false => word.to_owned(),
    };
    let line = |line: &str| match line.trim_start().starts_with("linux") {
        true => line.split(' ').map(word).collect::<Vec<_>>().join(" "),
        false => line.to_owned(),
    };
    text.split('\n').map(line).collect::<Vec<_>>().join("\n").into_bytes()
}

/// Why a menu that still starts is not written here.
const GENERATED: &str = "the system's own generator makes it, on the mounted system";

pub(super) struct Judge<'a, 'b> {
    pub(super) layout: &'a Layout,
    pub(super) files: &'a PackageFiles<'b>,
    /// The position of the volume with /boot/grub.
    pub(super) boots: Option<usize>,
    /// That of the volume with the root.
    pub(super) root: Option<usize>,
    pub(super) menu: &'a Menu,
}

impl Judge<'_, '_> {
    pub(super) fn fault(&self, verdict: Verdict, cause: impl Into<String>) -> Fault {
        fault(verdict, cause)
    }

    fn structure(&self, faults: &mut Faults) {
        let menu = self.menu;
        let again = || menu_emergency::menu(self.layout, self.files, (self.boots, self.root));
        // What is complete before the damage is still shown.
        let is_section = |fault: &&MenuFault| matches!(fault, MenuFault::Section(_));
        let first = menu.faults.iter().filter(|fault| !is_section(fault)).map(line_of).min().unwrap_or(usize::MAX);
        let shown = menu.entries.iter().any(|entry| entry.line < first && entry.above.is_empty());
        for fault in &menu.faults {
            let (verdict, cause) = match fault {
                MenuFault::Empty => (Verdict::Truncated, "it is empty".to_owned()),
                MenuFault::Zeros => (Verdict::Corrupt, "it contains zero bytes".to_owned()),
                MenuFault::Large => (Verdict::Corrupt, "it is larger than menus are".to_owned()),
                MenuFault::Quote(line) => (Verdict::Truncated, format!("a quotation in line {line} does not end")),
                MenuFault::Open(line) => (Verdict::Truncated, format!("what begins in line {line} does not end")),
                MenuFault::Close(line) => (Verdict::Corrupt, format!("line {line} ends what does not begin")),
                MenuFault::Section(line) => (Verdict::Truncated, format!("the section in line {line} is not complete")),
            };
            let found = self.fault(verdict, cause).known_by(KnownBy::SelfProof).breaks_if(!shown);
            // What still starts is better than an emergency menu.
            let mend = if shown { Err(GENERATED.to_owned()) } else { again() };
            faults.push(found.mended(mend));
        }
        if menu.faults.is_empty() && menu.entries.is_empty() {
            let found = self.fault(Verdict::Inconsistent, "it has no entries").breaks();
            faults.push(found.mended(again()));
        }
    }

    /// Judges what every entry names.
    fn entries(&self, faults: &mut Faults, examined: &mut Examined) -> MenuStarts {
        let default = self.default(faults);
        let mut starts = MenuStarts { entries: Vec::new(), default };
        for at in 0..self.menu.entries.len() {
            examined.coverage.examined += 1;
            let is_default = default == Some(at);
            starts.entries.push(self.entry(at, is_default, faults, examined));
        }
        starts
    }

    /// The position of the entry that starts by itself.
    fn default(&self, faults: &mut Faults) -> Option<usize> {
        let sets = self.menu.commands.iter().filter(|command| command.name() == "set" && command.entry.is_none());
        let mut values = sets.filter_map(|command| command.words.get(1)?.strip_prefix("default="));
        let mut wanted = values.rfind(|value| !value.contains('$')).unwrap_or("0").to_owned();
        let saved = self.environment_values();
        let saved = |name: &str| saved.iter().find(|(own, _)| own == name).map(|(_, value)| value.clone());
        let uses_saved = self.menu.commands.iter().any(|c| c.words.iter().any(|word| word == "default=${saved_entry}"));
        for (name, used) in [("saved_entry", uses_saved), ("next_entry", true)] {
            if let Some(value) = saved(name).filter(|value| used && !value.is_empty()) {
                match self.find(&value) {
                    Some(_) => wanted = value,
                    None => {
                        let path = SystemPath::literal(ENVIRONMENT);
                        let cause = format!("{name} is {value}, which is no entry of the menu: the first one starts");
                        let found = Fault::on_path(Stage::Menu, &path, Verdict::Inconsistent, cause).latent();
                        faults.push(found.mended(self.without_value(name)));
                    }
                }
            }
        }
        // A submenu starts its first entry.
        let first_below =
            || self.menu.entries.iter().position(|entry| entry.position.starts_with(&format!("{wanted}>")));
        self.find(&wanted).or_else(first_below).or((!self.menu.entries.is_empty()).then_some(0))
    }

    /// The position of an entry by its place, its id or its title; each part may name a submenu.
    fn find(&self, wanted: &str) -> Option<usize> {
        let last = wanted.rsplit('>').next().unwrap_or(wanted);
        let entries = &self.menu.entries;
        let by = |is: &dyn Fn(&crate::formats::boot::menu::Entry) -> bool| entries.iter().position(is);
        by(&|entry| entry.position == wanted)
            .or_else(|| by(&|entry| !entry.id.is_empty() && entry.id == last))
            .or_else(|| by(&|entry| entry.title == last))
    }

    /// The environment block without one of its values.
    fn without_value(&self, name: &str) -> Result<Mend, String> {
        let values: Vec<_> = self.environment_values().into_iter().filter(|(own, _)| own != name).collect();
        let block = environment::block(&values).ok_or("its values do not fit")?;
        Ok(Mend::file(&SystemPath::literal(ENVIRONMENT), block, format!("its other values, without {name}")))
    }

    fn environment_values(&self) -> Vec<(String, String)> {
        let bytes = self.files.read(&SystemPath::literal(ENVIRONMENT)).ok().flatten();
        bytes.and_then(|bytes| environment::parse(&bytes).ok()).unwrap_or_default()
    }

    fn environment(&self, faults: &mut Faults) {
        let path = SystemPath::literal(ENVIRONMENT);
        let Ok(Some(bytes)) = self.files.read(&path) else { return };
        let cause = match environment::parse(&bytes) {
            Ok(_) => return,
            Err(EnvironmentFault::Size(size)) => format!("it has {size} bytes instead of 1024: GRUB ignores it"),
            Err(EnvironmentFault::Header) => "it does not begin as GRUB expects: GRUB ignores it".to_owned(),
        };
        let found = Fault::on_path(Stage::Menu, &path, Verdict::Corrupt, cause).latent().known_by(KnownBy::SelfProof);
        let empty = environment::block(&[]).ok_or_else(String::new);
        faults.push(found.mended(empty.map(|block| Mend::file(&path, block, "an empty environment block"))));
    }
}

fn line_of(fault: &MenuFault) -> usize {
    match fault {
        MenuFault::Empty | MenuFault::Zeros | MenuFault::Large => 0,
        MenuFault::Quote(line) | MenuFault::Open(line) | MenuFault::Close(line) | MenuFault::Section(line) => *line,
    }
}
