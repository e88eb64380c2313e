//! What the system's own tools generate: an initial file system, and the boot menu. Each is generated into a temporary file, examined as if
//! it were in place, and only then put there by a change of files.

use std::io::Cursor;
use std::sync::Arc;

use super::fault::{Fault, Faults};
use super::kernels::Kernel;
use super::layout::Layout;
use super::menu::MENU;
use super::packages::PackageFiles;
use super::{BOOTCHAIN, COMPARED, initramfs, initramfs_needs, menu, menu_emergency, mounts};
use crate::areas::{Cx, Examined, Fetch, FileWork, Step, Work};
use crate::event::Flow;
use crate::model::{Action, FileKind, Identity, Instant, Scope, Stat, SystemPath};
use crate::report::ActionReport;
use crate::system::{System, WorkError};

/// What makes initial file systems (mkinitramfs(8), dracut(8)).
const MAKERS: [&str; 2] = ["/usr/sbin/mkinitramfs", "/usr/bin/dracut"];
/// What makes boot menus (grub-mkconfig(8)).
const MENU_MAKER: &str = "/usr/sbin/grub-mkconfig";

/// What is generated.
#[derive(Debug, Clone, PartialEq)]
pub(super) enum Generated {
    /// The initial file system of a kernel.
    Initramfs(Kernel),
    /// The boot menu.
    Menu,
}

impl Generated {
    pub(super) fn initramfs(kernel: &Kernel) -> Self {
        Self::Initramfs(kernel.clone())
    }

    /// What a person does instead.
    pub(super) fn action(&self) -> Action {
        match self {
            Self::Initramfs(kernel) => {
                let command = format!("update-initramfs -u -k {}", kernel.version);
                Action::explained("have it made again, in the mounted system", command)
            }
            Self::Menu => Action::explained("have the menu generated again, in the mounted system", "update-grub"),
        }
    }

    /// Where it is.
    pub(super) fn path(&self) -> SystemPath {
        match self {
            Self::Initramfs(kernel) => kernel.initramfs.clone(),
            Self::Menu => SystemPath::literal(MENU),
        }
    }

    /// The program that makes it.
    ///
    /// # Errors
    /// Why it cannot be run.
    pub(super) fn maker(&self, system: &System) -> Result<&'static str, String> {
        system.tool_runner()?;
        let is_there = |program: &'static str| system.machine.resolve(&SystemPath::literal(program)).is_ok();
        let found = match self {
            Self::Initramfs(_) => MAKERS.into_iter().find(|program| is_there(program)),
            Self::Menu => Some(MENU_MAKER).filter(|program| is_there(program)),
        };
        found.ok_or_else(|| "what generates it is not installed".to_owned())
    }

    /// The step that has it generated.
    pub(super) fn step(self, maker: &'static str, shows: Vec<ActionReport>) -> Step {
        let more = match self {
            Self::Menu => " If it makes none that is right, an emergency menu starts the kernels that are there.",
            Self::Initramfs(_) => "",
        };
        let remark = format!(
            "{maker} of the system itself makes {}, with the system's own scripts; it is verified before it is put in place.{more}",
            self.path()
        );
        Step::new(shows.clone(), Work::Fetched(Arc::new(New { generated: self, maker, shows }))).remarked(remark)
    }
}

/// Something that is to be generated.
#[derive(Debug)]
struct New {
    generated: Generated,
    maker: &'static str,
    shows: Vec<ActionReport>,
}

impl Fetch for New {
    fn fetch(&self, cx: &Cx<'_>) -> Result<FileWork, WorkError> {
        if cx.observer.on_event(crate::event::Event::Advance { items: 0, bytes: 0 }) == Flow::Stop {
            return Err(WorkError::Stopped);
        }
        let made = self.make(cx.system);
        let proved = match made {
            Ok(bytes) => self.prove(cx, bytes)?,
            Err(why) => Err(why),
        };
        let proved = match (&self.generated, proved) {
            (Generated::Menu, Err(why)) => self.emergency(cx, &why)?.map_err(|_| why),
            (_, proved) => proved,
        };
        Ok(match proved.and_then(|bytes| self.work(cx, bytes)) {
            Ok(work) => work,
            Err(why) => FileWork { failed: Some(why), ..FileWork::default() },
        })
    }
}

impl New {
    fn make(&self, system: &System) -> Result<Vec<u8>, String> {
        let text = |words: &[&str]| words.iter().map(|word| (*word).to_owned()).collect::<Vec<String>>();
        match &self.generated {
            Generated::Initramfs(kernel) if self.maker == MAKERS[0] => {
                system.generate(self.maker, &|out| text(&["-o", out, &kernel.version]))
            }
            Generated::Initramfs(kernel) => {
                system.generate(self.maker, &|out| text(&["--force", out, &kernel.version]))
            }
            Generated::Menu => system.generate(self.maker, &|out| text(&["-o", out])),
        }
    }

    /// Examines what was made as if it were in place.
    fn prove(&self, cx: &Cx<'_>, bytes: Vec<u8>) -> Result<Result<Vec<u8>, String>, WorkError> {
        let layout = Layout::open(cx)?;
        let mut examined = Examined::new(BOOTCHAIN);
        let scope = Scope { paths: COMPARED.map(SystemPath::literal).to_vec(), ..Scope::default() };
        match &self.generated {
            Generated::Menu => cx.with_reference(&scope, |reference| {
                let files = PackageFiles::new(cx, reference);
                let (boots, root) = places(&layout);
                let bytes = menu::with_root(&layout, bytes, root);
                let mut faults = Faults::default();
                menu::judge_content(&layout, &files, (boots, root), &bytes, &mut faults, &mut examined);
                first_of(faults).map_or(Ok(bytes), Err)
            }),
            Generated::Initramfs(kernel) => {
                let mut faults = Faults::default();
                let later = cx.with_reference(&scope, |reference| {
                    let files = PackageFiles::new(cx, reference);
                    let fstab = mounts::read(&files);
                    let (_, root) = places(&layout);
                    let kind = root.and_then(|root| layout.volume(root).contains.as_ref()).map(|found| found.kind);
                    let openers = mounts::openers(&files, &fstab);
                    let is_checked = fstab.iter().any(|mount| mount.place == b"/" && mount.pass > 0);
                    let wanted = initramfs_needs::Wanted { layout: &layout, root: kind, openers: &openers, is_checked };
                    let content: (&mut (dyn std::io::BufRead + Send), Stat) =
                        (&mut Cursor::new(&bytes), self.stat(cx, &bytes));
                    initramfs::judge_content(cx, &files, kernel, &wanted, content, &mut faults, &mut examined)
                })?;
                let Some(later) = later else { return Ok(Err("it cannot be read".to_owned())) };
                let scope = Scope { paths: later.paths().collect(), ..Scope::default() };
                if !scope.paths.is_empty() {
                    cx.with_reference(&scope, |reference| later.judge(&PackageFiles::new(cx, reference), &mut faults))?;
                }
                Ok(first_of(faults).map_or(Ok(bytes), Err))
            }
        }
    }

    /// An emergency menu, where the generator's is not right; examined like that.
    fn emergency(&self, cx: &Cx<'_>, why: &str) -> Result<Result<Vec<u8>, String>, WorkError> {
        let layout = Layout::open(cx)?;
        let made = cx
            .with_reference(&Scope { paths: vec![SystemPath::literal(MENU)], ..Scope::default() }, |reference| {
                menu_emergency::text(&layout, &PackageFiles::new(cx, reference), places(&layout))
            })?;
        match made {
            Ok(text) => self.prove(cx, menu_emergency::because(&text, why).into_bytes()),
            Err(why) => Ok(Err(why)),
        }
    }

    /// How it would be in place.
    fn stat(&self, cx: &Cx<'_>, bytes: &[u8]) -> Stat {
        let now = Instant { s: cx.system.settings.now.as_second(), n: 0 };
        Stat {
            kind: FileKind::File,
            mode: 0o644,
            uid: 0,
            gid: 0,
            size: bytes.len() as u64,
            mtime: now,
            ctime: now,
            id: Identity { dev: 0, ino: 0 },
            names: 1,
            rdev: 0,
        }
    }

    fn work(&self, cx: &Cx<'_>, bytes: Vec<u8>) -> Result<FileWork, String> {
        let (system, path) = (cx.system, self.generated.path());
        let (place, before) = system.place_of_file(&path).ok_or("its folder does not exist")?;
        let owner = system.settings.policy.owner_of_root.unwrap_or((0, 0));
        let findings = self.shows.iter().flat_map(|action| action.findings.clone()).collect();
        let mut work = FileWork::default();
        let action = work.put((place, before), bytes, owner, system.settings.now.as_second());
        (action.listed, action.findings) = (path, findings);
        Ok(work)
    }
}

fn places(layout: &Layout) -> (Option<usize>, Option<usize>) {
    (layout.volume_of(&SystemPath::literal("/boot/grub")), layout.volume_of(&SystemPath::root()))
}

/// What is wrong with what was made, if anything is.
fn first_of(faults: Faults) -> Option<String> {
    let is_problem = |fault: &Fault| fault.verdict.is_problem();
    let first = faults.sorted().into_iter().find(is_problem)?;
    Some(format!("what was made is not right: {}", first.cause))
}
