//! What answers wrong names in the boot menu: the word that is right, in its place.

use super::mend::Mend;
use super::menu::{Judge, MENU};
use crate::devices::VolumeKind;
use crate::formats::boot::menu::Command;
use crate::model::SystemPath;
use crate::platform::debian::compare_versions;

/// What the names of kernels and initial file systems begin with, before their versions.
const NAMES: [&str; 3] = ["vmlinuz-", "vmlinux-", "initrd.img-"];

impl Judge<'_, '_> {
    fn line(&self, line: usize, from: &str, to: &str, source: impl Into<String>) -> Mend {
        Mend::line(&SystemPath::literal(MENU), line, from, to, source)
    }

    /// The UUID of the file system at a position.
    fn uuid(&self, volume: Option<usize>) -> Option<&str> {
        let contains = self.layout.volume(volume?).contains.as_ref()?;
        Some(&*contains.uuid).filter(|uuid| !uuid.is_empty())
    }

    /// The root that the kernel is given, by the file system that is the root.
    pub(super) fn root_mend(&self, command: &Command) -> Result<Mend, String> {
        let uuid = self.uuid(self.root).ok_or("which file system is the root is not known")?;
        let word = command.words.iter().find(|word| word.starts_with("root="));
        let word = word.ok_or("the line names no root")?;
        Ok(self.line(command.line, word, &format!("root=UUID={uuid}"), "the file system that is the root"))
    }

    /// The file system that is searched for, by that with /boot/grub.
    pub(super) fn search_mend(&self, line: usize, wrong: &str) -> Result<Mend, String> {
        let uuid = self.uuid(self.boots).ok_or("which file system contains /boot/grub is not known")?;
        Ok(self.line(line, wrong, uuid, "the file system with /boot/grub"))
    }

    /// The UUID of the only swap space.
    pub(super) fn only_swap(&self) -> Option<String> {
        let mut all = self.layout.of_kind(VolumeKind::Swap);
        let only = all.next().filter(|_| all.next().is_none());
        self.uuid(only).map(str::to_owned)
    }

    /// A kernel or an initial file system that exists, instead of one that does not: that of the same version as the other in the entry,
    /// else the newest kernel.
    pub(super) fn file_mend(&self, at: usize, line: usize, word: &str, place: &SystemPath) -> Result<Mend, String> {
        let name = String::from_utf8_lossy(place.name()).into_owned();
        let kind =
            NAMES.into_iter().find(|kind| name.starts_with(kind)).ok_or("what it should be is not known here")?;
        let folder = place.parent().ok_or("it is no file")?;
        let names = self.files.names(&folder)?;
        let names: Vec<String> = names.into_iter().filter_map(|name| String::from_utf8(name).ok()).collect();
        let mut versions: Vec<&str> = names.iter().filter_map(|name| name.strip_prefix(kind)).collect();
        versions.retain(|version| !version.ends_with(".old") && !version.contains(".dpkg-"));
        versions.sort_by(|a, b| compare_versions(b, a));
        let others = self.menu.commands_of(at).flat_map(|command| command.words.iter().skip(1));
        let mut named = others.filter_map(|word| version_of(word)).filter(|version| versions.contains(version));
        let is_kernel = kind != "initrd.img-";
        let version = match (named.next(), &versions[..]) {
            (Some(version), _) => version,
            (None, [newest, ..]) if is_kernel => newest,
            _ if !is_kernel => return Ok(Mend::with(place)),
            _ => return Err("no kernel is in its folder".to_owned()),
        };
        let from = self.menu.commands_of(at).filter(|command| command.line == line).flat_map(|command| &command.words);
        let from = from.into_iter().find(|own| own.ends_with(word)).ok_or("its line is written in another way")?;
        let to = from.strip_suffix(&*name).map(|above| format!("{above}{kind}{version}"));
        let to = to.ok_or("its line is written in another way")?;
        Ok(self.line(line, from, &to, format!("{folder}/{kind}{version}")))
    }
}

/// The version in the name of a kernel or an initial file system.
fn version_of(word: &str) -> Option<&str> {
    let name = word.rsplit('/').next()?;
    NAMES.into_iter().find_map(|kind| name.strip_prefix(kind))
}
