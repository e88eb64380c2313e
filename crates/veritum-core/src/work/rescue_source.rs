//! Where users' files come from: the homes of a system that runs or is mounted, or of disks that are not mounted.

use std::os::fd::AsFd as _;
use std::path::{Path, PathBuf};
use std::sync::Arc;

use crate::apps::{Card, Cards};
use crate::devices::ext4::{FileSystem, NotReplayed, Replayed};
use crate::devices::{Device, VolumeKind, Window, parts_of};
use crate::homes::{OpenHome, cards_in, open_homes};
use crate::machine::{Account, Dir, Disk, Machine, Users};
use crate::model::{FileKind, SystemPath, error_words};
use crate::platform::block_devices::in_use;
use crate::report::MachineReport;
use crate::rescue::{self, DeletedHomes, MountedHomes, Origin, RescueError, Source, UnmountedHomes};
use crate::system::{Settings, WorkError};

/// Where users' files come from.
#[derive(Debug, Clone, Default)]
pub struct RescueSource {
    /// Only these users; all login users if empty.
    pub users: Vec<String>,
    /// Disks and images that are read instead of the system in the root folder.
    pub disks: Vec<PathBuf>,
    /// Whether files are looked for that were deleted.
    pub deleted: bool,
}

impl RescueSource {
    fn takes(&self, user: &str) -> bool {
        self.users.is_empty() || self.users.iter().any(|named| named == user)
    }
}

/// What of the source cannot be used, by user.
pub(super) type Troubles = Vec<(String, String)>;

/// What is known of an open source.
pub(super) struct Opened<'a> {
    pub(super) origin: Origin,
    pub(super) machine: MachineReport,
    pub(super) troubles: Troubles,
    pub(super) limits: Vec<String>,
    /// Files that were deleted, if they are looked for on disks.
    pub(super) lost: Option<DeletedHomes<'a>>,
    on: On<'a>,
}

/// What the homes are on.
enum On<'a> {
    /// File systems by their device numbers, below the root folder of a machine.
    Mounts(PathBuf, Vec<u64>),
    /// Disks.
    Disks(&'a [Device]),
}

impl Opened<'_> {
    /// Refuses a destination on what is copied from; returns whether it is on the same file system although it is not part of the machine,
    /// as with a machine in a folder.
    pub(super) fn require_other_disk(&self, to: &Path, disk: &Arc<dyn Disk>) -> Result<bool, RescueError> {
        let fail = |source| rescue::DestinationError { place: to.to_owned(), source };
        let full = to.canonicalize().map_err(fail)?;
        let folder = disk.open_root(&full).map_err(fail)?;
        let device = disk.look_open(folder.as_fd()).map_err(fail)?.id.dev;
        let (is_same, is_part) = match &self.on {
            On::Mounts(root, devices) => (devices.contains(&device), full.starts_with(root)),
            On::Disks(disks) => (disks.iter().any(|disk| disk.holds(device)), true),
        };
        match is_same && is_part {
            true => Err(RescueError::SameDisk { place: full }),
            false => Ok(is_same),
        }
    }
}

/// What is done with an open source.
type Run<'a, T> = &'a mut dyn FnMut(&dyn Source, &Opened<'_>) -> Result<T, RescueError>;

/// Opens the homes that are wanted.
pub(super) fn with_source<T>(
    settings: &Settings,
    from: &RescueSource,
    disk: &Arc<dyn Disk>,
    run: Run<'_, T>,
) -> Result<T, RescueError> {
    let own = settings.cards.as_deref().map(cards_in).transpose()?;
    let cards: Vec<&Card> = own.iter().flat_map(Cards::iter).chain(Cards::shipped().iter()).collect();
    match from.disks.is_empty() {
        true => from_machine(settings, from, disk, cards, run),
        false => from_disks(from, cards, run),
    }
}

fn from_machine<T>(
    settings: &Settings,
    from: &RescueSource,
    disk: &Arc<dyn Disk>,
    cards: Vec<&Card>,
    run: Run<'_, T>,
) -> Result<T, RescueError> {
    let machine = Machine::open(&settings.root, disk.clone()).map_err(WorkError::from)?;
    let mut accounts = accounts(&machine, from)?;
    let only_own = keep_own(settings, from, &mut accounts);
    let mut troubles = Troubles::new();
    let mut open: Vec<OpenHome> = Vec::new();
    for (user, home) in open_homes(&machine, settings, &accounts.iter().collect::<Vec<_>>()) {
        match home {
            Ok(home) => open.push(home),
            Err(e) => troubles.push((user, error_words(&e))),
        }
    }
    let is_known = |user: &str| open.iter().any(|home| home.user == user) || troubles.iter().any(|(u, _)| u == user);
    let absent = accounts.iter().filter(|account| !is_known(&account.name));
    let limits: Vec<String> = absent.map(absent_home).chain(only_own).collect();
    if open.is_empty() && troubles.is_empty() {
        return Err(RescueError::NoHomes { place: settings.root.clone(), absent: limits });
    }
    let is_root = rustix::process::geteuid().is_root();
    let administrators = |home: &OpenHome| -> Option<Dir> {
        let differ = is_root && !settings.helper.is_empty();
        differ.then(|| machine.dir(&home.place).ok()).flatten()
    };
    let source = MountedHomes::new(&open, cards, &administrators);
    let identified = machine.identified();
    let id = machine.read_config(&SystemPath::literal("/etc/machine-id")).ok().flatten().unwrap_or_default();
    let (host, system) = (identified.hostname.clone(), identified.system.clone());
    let of_homes = open.iter().filter_map(|home| home.dir().look_self().ok()).map(|stat| stat.id.dev);
    let devices = of_homes.chain([machine.root_id().dev]).collect();
    let opened = Opened {
        machine: MachineReport {
            root: machine.path().display().to_string(),
            system: system.clone(),
            hostname: host.clone(),
            live: machine.is_live(),
            ..MachineReport::default()
        },
        origin: Origin { host, machine: text(&id), system },
        troubles,
        limits,
        lost: None,
        on: On::Mounts(machine.path().to_owned(), devices),
    };
    run(&source, &opened)
}

/// Restricts an ordinary user to their own home, the only one that they can read; returns a remark about the others.
fn keep_own(settings: &Settings, from: &RescueSource, accounts: &mut Vec<Account>) -> Option<String> {
    let user = rustix::process::geteuid();
    let is_able = user.is_root() || settings.policy.owner_of_root.is_some() || !from.users.is_empty();
    let own = accounts.iter().find(|account| account.uid == user.as_raw()).cloned().filter(|_| !is_able)?;
    let others = accounts.len() - 1;
    accounts.retain(|account| account.uid == own.uid);
    (others > 0).then(|| format!("only {}'s own files: run it as root to copy those of other users", own.name))
}

fn absent_home(account: &Account) -> String {
    let place = account.home.as_ref().map_or_else(|| "none".into(), ToString::to_string);
    format!("the home of {}, {place}, does not exist: is its file system mounted?", account.name)
}

/// The accounts whose homes are wanted. Where none are recorded, the folders that belong to people: the file system is only that of the
/// homes.
fn accounts(machine: &Machine, from: &RescueSource) -> Result<Vec<Account>, WorkError> {
    let mut all: Vec<Account> = machine.users().accounts().to_vec();
    if !all.iter().any(Account::is_login) {
        all.extend(homes_by_owner(machine));
    }
    for named in &from.users {
        if !all.iter().any(|account| account.name == *named) {
            let known = all.iter().filter(|account| account.is_login()).map(|account| account.name.clone()).collect();
            return Err(WorkError::Unknown { what: "user", name: named.clone(), known, listed_by: None });
        }
    }
    all.retain(|account| from.takes(&account.name) && (account.is_login() || !from.users.is_empty()));
    Ok(all)
}

fn homes_by_owner(machine: &Machine) -> Vec<Account> {
    let mut found = Vec::new();
    for top in ["/home", "/"] {
        let top = SystemPath::literal(top);
        let Ok(dir) = machine.dir(&top) else { continue };
        let mut names = dir.disk().list(dir.fd()).unwrap_or_default();
        names.sort_unstable_by(|a, b| a.0.cmp(&b.0));
        for (name, _) in names {
            let (Ok(Some(stat)), Ok(place)) = (dir.look(&name), top.child(&name)) else { continue };
            let is_home = stat.kind == FileKind::Folder && Users::default().is_login(stat.uid);
            if let (true, Ok(user)) = (is_home, std::str::from_utf8(&name)) {
                found.push(Account { name: user.to_owned(), uid: stat.uid, home: Some(place) });
            }
        }
    }
    found
}

fn from_disks<T>(from: &RescueSource, cards: Vec<&Card>, run: Run<'_, T>) -> Result<T, RescueError> {
    let devices = from.disks.iter().map(|path| Device::open(path)).collect::<Result<Vec<_>, _>>();
    let devices = devices.map_err(WorkError::from)?;
    let mut limits = Vec::new();
    let found: Vec<DiskFileSystem<'_>> = devices.iter().flat_map(|device| volumes(device, &mut limits)).collect();
    let replayed: Vec<_> = found.iter().map(DiskFileSystem::replayed).collect();
    let (mut systems, mut names, mut unfit) = (Vec::new(), Vec::new(), Vec::new());
    for (volume, replayed) in found.iter().zip(&replayed) {
        let name = &volume.name;
        match FileSystem::open_with(&volume.bytes, replayed.as_ref().ok()) {
            Ok(system) => {
                let is_as_it_was = replayed.as_ref().is_ok_and(Replayed::is_all);
                if system.superblock.needs_recovery() && !is_as_it_was {
                    limits.push(format!(
                        "{name} was not unmounted cleanly, or is in use: what was written last may be missing, or older than it was"
                    ));
                }
                names.push(name);
                unfit.push(unfit_for_deleted(volume, &system, is_as_it_was));
                systems.push(system);
            }
            Err(why) => limits.push(format!("{name} cannot be read as ext4: {why}")),
        }
    }
    let mut source = UnmountedHomes::find(&systems, cards.clone());
    let of_homes = source.homes().iter().map(|home| home.user.clone());
    let known: Vec<String> = of_homes.chain(source.absent.iter().map(|account| account.name.clone())).collect();
    let unknown = from.users.iter().find(|user| !known.is_empty() && !known.contains(user));
    if let Some(name) = unknown.cloned() {
        return Err(WorkError::Unknown { what: "user", name, known, listed_by: None }.into());
    }
    source.keep(|user| from.takes(user));
    limits.extend(source.absent.iter().map(|account| {
        let place = account.home.as_ref().map_or_else(|| "none".into(), ToString::to_string);
        format!("the home of {}, {place}, was not found on these disks", account.name)
    }));
    if source.homes().is_empty() {
        return Err(RescueError::NoHomes { place: from.disks[0].clone(), absent: limits });
    }
    limits.push("extended attributes are not read from disks that are not mounted".into());
    let again =
        |user: &String| (user.clone(), "another system on these disks has the same home: name its disk alone".into());
    let origin = origin_of(&systems);
    let lost = from.deleted.then(|| DeletedHomes::find(&systems, &unfit, &source, &cards));
    let of_lost = lost.iter().flat_map(|lost| &lost.limits);
    limits.extend(of_lost.map(|(fs, why)| format!("the file system's journal of {} is not read: {why}", names[*fs])));
    let opened = Opened {
        machine: MachineReport {
            hostname: origin.host.clone(),
            system: origin.system.clone(),
            ..MachineReport::default()
        },
        origin,
        troubles: source.others.iter().map(again).collect(),
        limits,
        lost,
        on: On::Disks(&devices),
    };
    run(&source, &opened)
}

/// Why files that were deleted are not looked for: each write can take their places, or what is free now is not known.
fn unfit_for_deleted(volume: &DiskFileSystem<'_>, system: &FileSystem<'_>, is_as_it_was: bool) -> Option<&'static str> {
    match system.superblock.needs_recovery() && !is_as_it_was {
        _ if volume.in_use => Some("it is in use: unmount it first, or read it from another system"),
        true => Some("it could not be applied, so that what is free now is not known"),
        false => None,
    }
}

/// The system that file systems are of, by its own files.
pub(super) fn origin_of(systems: &[FileSystem<'_>]) -> Origin {
    let file = |path: &[u8]| systems.iter().find_map(|system| rescue::small_file(system, path));
    let os_release = file(b"etc/os-release").or_else(|| file(b"usr/lib/os-release")).unwrap_or_default();
    let os_release = String::from_utf8_lossy(&os_release).into_owned();
    let named = os_release.lines().find_map(|line| line.strip_prefix("PRETTY_NAME="));
    let system = named.map_or_else(|| "a disk".into(), |name| text(name.trim_matches('"').as_bytes()));
    let uuid = systems.first().map(|system| system.superblock.uuid.clone()).unwrap_or_default();
    let id = text(&file(b"etc/machine-id").unwrap_or_default());
    let machine = if id.is_empty() { uuid } else { id };
    Origin { host: text(&file(b"etc/hostname").unwrap_or_default()), machine, system }
}

/// A file system of a disk that is read without the kernel.
pub(super) struct DiskFileSystem<'a> {
    pub(super) name: String,
    pub(super) bytes: Window<'a>,
    in_use: bool,
}

impl DiskFileSystem<'_> {
    /// What ext4's journal has of it; nothing while the kernel is using it, and writes both.
    pub(super) fn replayed(&self) -> Result<Replayed<'_>, NotReplayed> {
        if self.in_use { Err(NotReplayed::NotNeeded) } else { Replayed::new(&self.bytes) }
    }
}

/// The ext4 file systems of a disk, each with its name.
pub(super) fn volumes<'a>(device: &'a Device, limits: &mut Vec<String>) -> Vec<DiskFileSystem<'a>> {
    let disk = device.path().display().to_string();
    let mut found = Vec::new();
    for part in parts_of(device) {
        let name = part.name(&disk);
        match part.contains.map(|volume| volume.kind) {
            Some(VolumeKind::Ext4) | None => {
                let in_use = in_use(device.path(), part.start);
                found.push(DiskFileSystem { name, bytes: part.bytes, in_use });
            }
            Some(VolumeKind::Swap | VolumeKind::Vfat) => {}
            Some(other) => {
                limits.push(format!("{name} contains {}, which is read only where it is mounted", other.name()))
            }
        }
    }
    found
}

/// The first line of a small file, without characters that do not belong there.
fn text(bytes: &[u8]) -> String {
    let text = String::from_utf8_lossy(bytes);
    text.lines().next().unwrap_or_default().trim().chars().filter(|c| !c.is_control()).take(64).collect()
}
