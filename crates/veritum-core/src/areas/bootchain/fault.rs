//! [`Faults`]: what is wrong with the boot chain, in the order in which a start meets it.

use super::BOOTCHAIN;
use super::generated::Generated;
use super::mend::{Mend, Target};
use crate::model::{
    Action, Authority, Finding, KnownBy, PackageId, Severity, StartEffect, Subject, SystemPath, Verdict,
};

/// The parts of the boot chain, in the order in which a start meets them.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord)]
pub(super) enum Stage {
    Firmware,
    Table,
    EfiPartition,
    BootCode,
    LoaderFiles,
    Menu,
    Kernel,
    Initramfs,
    Root,
    FirstProgram,
    Mounts,
}

/// Why nothing is written over what the medium cannot read.
pub(super) const NOT_KEPT: &str = "what is there cannot be read, and so not be kept";

/// Something that is wrong.
#[derive(Debug, Clone)]
pub(super) struct Fault {
    pub(super) stage: Stage,
    pub(super) subject: Subject,
    pub(super) verdict: Verdict,
    pub(super) effect: Option<StartEffect>,
    pub(super) known_by: KnownBy,
    pub(super) cause: String,
    pub(super) action: Option<Action>,
    pub(super) package: Option<(PackageId, Authority)>,
    /// What the system's own tools generate again to answer it.
    pub(super) generated: Option<Generated>,
    /// What a repair writes.
    pub(super) mends: Vec<Mend>,
    /// Why a repair writes nothing, or not all of it.
    pub(super) refused: Option<String>,
}

impl Fault {
    /// A fault of a part of a disk: `disk.img: boot code`.
    pub(super) fn on_disk(stage: Stage, name: String, verdict: Verdict, cause: impl Into<String>) -> Self {
        Self::new(stage, Subject::Volume { name }, verdict, cause)
    }

    /// A fault of a file of the machine.
    pub(super) fn on_path(stage: Stage, path: &SystemPath, verdict: Verdict, cause: impl Into<String>) -> Self {
        Self::new(stage, Subject::path(path), verdict, cause)
    }

    /// A fault of an entry of a file of the machine.
    pub(super) fn on_entry(
        stage: Stage,
        path: &SystemPath,
        entry: &str,
        verdict: Verdict,
        cause: impl Into<String>,
    ) -> Self {
        Self::new(stage, Subject::record(path, Some(entry)), verdict, cause)
    }

    fn new(stage: Stage, subject: Subject, verdict: Verdict, cause: impl Into<String>) -> Self {
        let (effect, known_by) = (None, KnownBy::Derived);
        let (generated, mends, refused) = (None, Vec::new(), None);
        Self {
            stage,
            subject,
            verdict,
            effect,
            known_by,
            cause: cause.into(),
            action: None,
            package: None,
            generated,
            mends,
            refused,
        }
    }

    /// Whether the content of a package's file is wrong, and can be read: with its package it can be written again in place.
    pub(super) fn is_of_content(&self) -> bool {
        let is_content = matches!(self.verdict, Verdict::Altered | Verdict::Corrupt | Verdict::Truncated);
        let is_open = self.mends.is_empty() && self.refused.is_none() && self.generated.is_none();
        is_content && is_open && self.package.is_some() && self.known_by != KnownBy::Medium
    }

    /// The same, with what it means for the next start.
    pub(super) fn effect(self, effect: StartEffect) -> Self {
        Self { effect: Some(effect), ..self }
    }

    pub(super) fn breaks(self) -> Self {
        self.effect(StartEffect::BreaksStart)
    }

    pub(super) fn latent(self) -> Self {
        self.effect(StartEffect::Latent)
    }

    /// The same, breaking the start if the condition is true, else without effect on it.
    pub(super) fn breaks_if(self, breaks: bool) -> Self {
        if breaks { self.breaks() } else { self.latent() }
    }

    pub(super) fn known_by(self, known_by: KnownBy) -> Self {
        Self { known_by, ..self }
    }

    pub(super) fn action(self, action: impl Into<Action>) -> Self {
        Self { action: Some(action.into()), ..self }
    }

    pub(super) fn package(self, package: Option<(PackageId, Authority)>) -> Self {
        Self { package, ..self }
    }

    /// The same, answered by what the system's own tools generate.
    pub(super) fn generated(self, generated: Generated) -> Self {
        Self { action: Some(generated.action()), generated: Some(generated), ..self }
    }

    /// The same with what a repair writes, or the reason why it writes nothing.
    pub(super) fn mended(mut self, mend: Result<Mend, String>) -> Self {
        match mend {
            Ok(mend) => self.mends.push(mend),
            Err(why) => self.refused = Some(why),
        }
        self
    }

    /// The same with everything that a repair writes, or the reason why it writes nothing.
    pub(super) fn mended_by(mut self, mends: Result<Vec<Mend>, String>) -> Self {
        match mends {
            Ok(mends) => self.mends.extend(mends),
            Err(why) => self.refused = Some(why),
        }
        self
    }

    /// What a person does about a fault of this stage.
    fn usual_action(&self) -> Action {
        match self.stage {
            Stage::Firmware | Stage::EfiPartition => {
                Action::explained("install the boot loader again, in the mounted system", "grub-install")
            }
            Stage::Table => {
                "write the table again from its valid copy with a partition editor; keep a copy of both first".into()
            }
            Stage::BootCode | Stage::LoaderFiles => {
                Action::explained("install the boot loader again, in the mounted system", "grub-install DISK")
            }
            Stage::Menu => Action::explained("have the menu generated again, in the mounted system", "update-grub"),
            Stage::Kernel => match &self.package {
                Some((id, _)) => Action::command(format!("apt-get install --reinstall {}", id.name)),
                None => "install the kernel's package again".into(),
            },
            Stage::Initramfs => {
                Action::explained("have it made again, in the mounted system", "update-initramfs -u -k all")
            }
            Stage::Root => "let the file system's own check repair it, unmounted".into(),
            Stage::FirstProgram => "repair the file in the mounted system".into(),
            Stage::Mounts => "correct it in the mounted system; veritum list disks shows what is there".into(),
        }
    }

    pub(super) fn finding(&self) -> Finding {
        let finding = Finding::on(BOOTCHAIN, self.subject.clone(), self.verdict);
        let severity = match self.effect {
            Some(StartEffect::BreaksStart) => Severity::High,
            Some(StartEffect::Latent) => Severity::Medium,
            _ => finding.severity,
        };
        Finding {
            severity,
            package: self.package.as_ref().map(|(id, _)| id.clone()),
            verified_by: self.package.as_ref().map(|(_, authority)| *authority),
            cause: Some(self.cause.clone()),
            action: Some(self.action.clone().unwrap_or_else(|| self.usual_action())),
            effect: self.effect,
            known_by: Some(self.known_by),
            ..finding
        }
    }
}

/// What is wrong with the boot chain.
#[derive(Debug, Default)]
pub(super) struct Faults(Vec<Fault>);

impl Faults {
    pub(super) fn push(&mut self, fault: Fault) {
        let same = |known: &Fault| known.subject == fault.subject && known.verdict == fault.verdict;
        match self.0.iter_mut().find(|known| same(known)) {
            // One finding for a subject and verdict: the most serious effect, and all causes.
            Some(known) => {
                known.effect = match (known.effect, fault.effect) {
                    (Some(one), Some(other)) => Some(one.min(other)),
                    (one, other) => one.or(other),
                };
                fault.cause.split("; ").for_each(|cause| add_cause(&mut known.cause, cause));
                known.generated = known.generated.take().or(fault.generated);
                known.mends.extend(fault.mends);
                known.refused = known.refused.take().or(fault.refused);
            }
            None => self.0.push(fault),
        }
    }

    /// Adds others. If they are of a disk from which the machine does not start, none of them keeps it from starting.
    pub(super) fn append(&mut self, others: Self, starts: bool) {
        for fault in others.0 {
            let breaks = fault.effect == Some(StartEffect::BreaksStart);
            self.push(if breaks && !starts { fault.latent() } else { fault });
        }
    }

    /// Whether what answers one of them names a file, by its name, in a line of another.
    pub(super) fn writes_name(&self, of: &SystemPath, name: &[u8]) -> bool {
        let mut mends = self.0.iter().flat_map(|fault| &fault.mends);
        mends.any(|mend| match &mend.target {
            Target::Line(path, change) => {
                path == of && change.to.as_bytes().rsplit(|byte| *byte == b'/').next() == Some(name)
            }
            _ => false,
        })
    }

    pub(super) fn all_mut(&mut self) -> impl Iterator<Item = &mut Fault> {
        self.0.iter_mut()
    }

    /// Them in order: what breaks the start first, and each in the order in which the start meets it.
    pub(super) fn sorted(mut self) -> Vec<Fault> {
        self.0.sort_by_key(|fault| (fault.effect.is_none(), fault.effect, fault.stage));
        self.0
    }
}

/// Adds a cause to others; of the same one in several lines, only the line is added.
fn add_cause(causes: &mut String, more: &str) {
    if causes.contains(more) {
        return;
    }
    let parts = |cause: &str| {
        let (lines, what) = cause.split_once(": ")?;
        let lines = lines.strip_prefix("lines ").or(lines.strip_prefix("line "))?;
        Some((lines.to_owned(), what.to_owned()))
    };
    let mut all: Vec<String> = causes.split("; ").map(str::to_owned).collect();
    let same = parts(more).and_then(|(line, what)| {
        let at = all.iter().position(|known| parts(known).is_some_and(|(_, known)| known == what))?;
        Some((at, line, what))
    });
    match same {
        Some((at, line, what)) => {
            let lines = parts(&all[at]).map(|(lines, _)| lines).unwrap_or_default();
            if lines.split(", ").any(|known| known == line) {
                return;
            }
            all[at] = format!("lines {lines}, {line}: {what}");
        }
        None => all.push(more.to_owned()),
    }
    *causes = all.join("; ");
}

#[cfg(test)]
mod tests {
    use super::add_cause;

    #[test]
    fn the_same_cause_in_several_lines_is_said_once() {
        let mut causes = "line 12: the kernel gets no root".to_owned();
        add_cause(&mut causes, "line 21: the kernel gets no root");
        add_cause(&mut causes, "line 13: /boot/fog does not exist");
        add_cause(&mut causes, "line 30: the kernel gets no root");
        add_cause(&mut causes, "line 30: the kernel gets no root");
        assert_eq!(causes, "lines 12, 21, 30: the kernel gets no root; line 13: /boot/fog does not exist");
    }
}
