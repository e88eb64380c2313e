//! The boot code of GRUB 2 for BIOS machines: the first sector and the core image, byte by byte against the package's files.

use super::bios_core::words;
use super::fault::{Fault, Faults, NOT_KEPT, Stage};
use super::layout::Layout;
use super::others::Others;
use super::packages::{PackageFile, PackageFiles, why};
use crate::areas::Examined;
use crate::devices::{Device, DiskVolume, ReadAt as _, TableKind};
use crate::formats::boot::core_image::{CoreImage, PackageFiles as Images, flat, is_first_sector};
use crate::formats::boot::sector::{self, SectorState, is_marked};
use crate::model::{KnownBy, SystemPath, Verdict};

/// The package's files.
pub(super) const SHIPPED: &str = "/usr/lib/grub/i386-pc";
/// The machine's own copies.
pub(super) const COPIES: &str = "/boot/grub/i386-pc";
/// The size of a sector in bytes.
pub(super) const SECTOR: u64 = 512;
/// Where a core image begins on a disk with an MBR.
const BEHIND_MBR: u64 = 1;

/// The disk with boot code, and where its parts are.
pub(super) struct Boot<'a> {
    pub(super) layout: &'a Layout,
    pub(super) others: &'a Others,
    /// Its position.
    pub(super) disk: usize,
    pub(super) device: &'a Device,
    pub(super) name: String,
    /// The sector where the core image belongs; `None` if there is no place for it.
    pub(super) place: Option<u64>,
    /// Whether the disk has a GPT: the mark of an MBR is judged with its table.
    has_gpt: bool,
    /// Whether this is only examined to prove it: what answers its faults is not looked for.
    pub(super) is_proof: bool,
    /// The package's files, by their names.
    pub(super) shipped: Shipped,
    /// The boot sector of which the machine keeps a copy, if there is one.
    copy: Option<Vec<u8>>,
}

#[derive(Clone)]
pub(super) struct Shipped {
    pub(super) boot: PackageFile,
    pub(super) first: PackageFile,
    pub(super) decompressor: PackageFile,
    kernel: Vec<u8>,
}

impl Shipped {
    /// The files; else the one that cannot be used, and why.
    fn read(files: &PackageFiles<'_>) -> Result<Self, (SystemPath, String)> {
        let get = |name: &str| {
            let path = shipped(name);
            files.get(&path).map_err(|not| (path.clone(), why(&path, &not)))
        };
        let kernel = flat(&get("kernel.img")?.bytes);
        let kernel = kernel.ok_or_else(|| (shipped("kernel.img"), format!("{SHIPPED}/kernel.img is no program")))?;
        Ok(Self {
            boot: get("boot.img")?,
            first: get("diskboot.img")?,
            decompressor: get("lzma_decompress.img")?,
            kernel,
        })
    }

    pub(super) fn images(&self) -> Images<'_> {
        Images { first: &self.first.bytes, decompressor: &self.decompressor.bytes, kernel: &self.kernel }
    }
}

fn shipped(name: &str) -> SystemPath {
    SystemPath::literal(SHIPPED).child(name.as_bytes()).unwrap_or_else(|_| SystemPath::literal(SHIPPED))
}

/// Judges the boot code of the disk that contains /boot. `boots` is the position of the volume with /boot/grub.
pub(super) fn judge(
    layout: &Layout,
    (files, others): (&PackageFiles<'_>, &Others),
    boots: usize,
    faults: &mut Faults,
    examined: &mut Examined,
) {
    let disk = layout.volume(boots).disk;
    let name = layout.disk_name(disk);
    // What is a file system from its beginning has no boot code of ours; that its disk is not known is said elsewhere.
    if layout.volume(boots).partition.is_none() && layout.volume(boots).start == 0 {
        return;
    }
    let shipped = match Shipped::read(files) {
        Ok(shipped) => shipped,
        Err((path, why)) => {
            examined.of_files.push(path);
            return examined.leave_out(format!("the boot code of {name}: {why}"));
        }
    };
    let place = match layout.disk(disk).table.kind {
        TableKind::Gpt => {
            let all = layout.disk(disk).table.partitions.iter();
            all.filter(|p| p.kind.is_boot_code()).map(|p| p.start / SECTOR).next()
        }
        _ => Some(BEHIND_MBR),
    };
    let has_gpt = layout.disk(disk).gpt.is_there();
    let copy = files.read(&copied("boot.img")).ok().flatten().filter(|copy| copy.len() == sector::SIZE);
    let device = &layout.disk(disk).device;
    let boot = Boot { layout, others, disk, device, name, place, has_gpt, is_proof: false, shipped, copy };
    let Ok(first) = boot.device.bytes_at(0, sector::SIZE) else { return };
    examined.coverage.examined += 1;
    boot.own_copy(files, faults, boots);
    if let Some(other) = others.on_disk(layout, disk) {
        let whose = layout.volume_name(other);
        let why = format!("it was written from {whose}, which this system does not mount");
        return examined.leave_out(format!("the boot code of {}: {why}", boot.name));
    }
    if let Some(core) = boot.first_sector(&first, faults, examined) {
        examined.coverage.examined += 1;
        boot.core_image(core, boots, files, faults, examined);
    }
}

impl<'a> Boot<'a> {
    /// The same on another state of the disk.
    pub(super) fn on<'b>(&'b self, device: &'b Device) -> Boot<'b> {
        let (name, shipped, copy) = (self.name.clone(), self.shipped.clone(), self.copy.clone());
        let Self { layout, others, disk, place, has_gpt, .. } = *self;
        Boot { layout, others, disk, device, name, place, has_gpt, is_proof: true, shipped, copy }
    }
}

impl Boot<'_> {
    fn part(&self, part: &str) -> String {
        format!("{}: {part}", self.name)
    }

    pub(super) fn fault(&self, part: &str, verdict: Verdict, cause: impl Into<String>) -> Fault {
        let owner = Some(self.shipped.boot.owner.clone());
        let fault = Fault::on_disk(Stage::BootCode, self.part(part), verdict, cause).package(owner);
        fault.known_by(KnownBy::Package).action(reinstall(self.device))
    }

    /// Judges the machine's own copy of the core image: it starts nothing, but the image on the disk is mended with it.
    fn own_copy(&self, files: &PackageFiles<'_>, faults: &mut Faults, boots: usize) {
        let path = copied("core.img");
        let on_copy = |verdict, cause: String| {
            let fault = Fault::on_path(Stage::LoaderFiles, &path, verdict, cause).latent();
            fault.package(Some(self.shipped.boot.owner.clone())).known_by(KnownBy::Package)
        };
        match files.read(&path) {
            Ok(Some(copy)) => {
                if let Err(fault) = CoreImage::parse(&copy, self.shipped.images()) {
                    let altered = on_copy(Verdict::Altered, format!("this copy of the core image: {}", words(&fault)));
                    faults.push(altered.mended(self.copy_mend(boots, files)));
                }
            }
            Ok(None) => {
                let missing = on_copy(Verdict::Missing, "it is the machine's own copy of the core image".to_owned());
                faults.push(missing.mended(self.copy_mend(boots, files)));
            }
            Err(why) => {
                let unreadable = on_copy(Verdict::Unreadable, why).known_by(KnownBy::Medium);
                faults.push(unreadable.mended(Err(NOT_KEPT.to_owned())));
            }
        }
    }

    /// Judges the first sector. The sector of the core image, if that can be examined.
    fn first_sector(&self, first: &[u8], faults: &mut Faults, examined: &mut Examined) -> Option<u64> {
        const PART: &str = "boot code in the first sector";
        if !is_marked(first) && self.has_gpt {
            let cause =
                "the first sector does not end with the mark of a boot sector (55 aa): a BIOS does not start it";
            let found = self.fault(PART, Verdict::Corrupt, cause).breaks().known_by(KnownBy::SelfProof);
            faults.push(found.mended(Ok(self.mark_mend())));
        }
        match sector::compare(first, &self.shipped.boot.bytes) {
            SectorState::Installed { core } => self.core_place(core, PART, faults, examined),
            SectorState::Empty => {
                let cause = match first.first() {
                    Some(0) => "there is none: the code is zeros",
                    _ => "there is none: the code is erased (ff)",
                };
                faults.push(self.fault(PART, Verdict::Missing, cause).breaks().mended(self.sector_mend(self.place)));
                self.place
            }
            SectorState::Damaged { first, count, core } => {
                let differ = if count == 1 { "1 byte differs".to_owned() } else { format!("{count} bytes differ") };
                let cause = format!("{differ} from boot.img of the package, the first one at {first:#x}");
                let place = self.place.filter(|place| *place == core).or(self.place);
                faults.push(self.fault(PART, Verdict::Altered, cause).breaks().mended(self.sector_mend(place)));
                place
            }
            SectorState::Other => {
                match known_code(first, self.copy.as_deref()) {
                    Some(whose) => examined.leave_out(format!("the first sector of {} contains {whose}", self.name)),
                    None => {
                        let cause = "it is not the package's boot code, nor other code that is known";
                        let why = "whose code it is, is not known".to_owned();
                        faults.push(self.fault(PART, Verdict::Altered, cause).breaks().mended(Err(why)));
                    }
                }
                None
            }
        }
    }

    /// Judges where the first sector says that the core image is.
    fn core_place(&self, core: u64, part: &str, faults: &mut Faults, examined: &mut Examined) -> Option<u64> {
        if self.place == Some(core) {
            return Some(core);
        }
        let begins = |sector: u64| {
            let read = self.device.bytes_at(sector.saturating_mul(SECTOR), sector::SIZE);
            read.is_ok_and(|first| is_first_sector(&first, &self.shipped.first.bytes))
        };
        if begins(core) {
            let start = core.saturating_mul(SECTOR);
            let holds = |v: &&DiskVolume| v.start <= start && start - v.start < v.bytes.size() && v.contains.is_some();
            let disk = self.disk;
            if self.layout.set.volumes.iter().filter(|v| v.disk == disk).find(holds).is_some() {
                examined
                    .leave_out(format!("the core image of {} is in sector {core}, inside a file system", self.name));
                return None;
            }
            let cause = format!(
                "it begins in sector {core}, which is in no partition for it (bios_grub): other programs can write there"
            );
            let fault = self.fault("place of the core image", Verdict::Inconsistent, cause);
            let why = "the table has no partition for it: that is a person's decision".to_owned();
            faults.push(fault.latent().known_by(KnownBy::Derived).mended(Err(why)));
            return Some(core);
        }
        match self.place {
            Some(place) => {
                let cause = format!("it starts sector {core} as the core image, which belongs into sector {place}");
                let found = self.fault(part, Verdict::Inconsistent, cause).breaks().known_by(KnownBy::Derived);
                faults.push(found.mended(Ok(self.place_mend(place))));
                Some(place)
            }
            None => {
                let cause = "the disk has a GPT and no partition for the core image (bios_grub)";
                faults.push(self.fault("core image", Verdict::Missing, cause).breaks().known_by(KnownBy::Derived));
                None
            }
        }
    }
}

/// The path of one of the machine's own copies.
pub(super) fn copied(name: &str) -> SystemPath {
    SystemPath::literal(COPIES).child(name.as_bytes()).unwrap_or_else(|_| SystemPath::literal(COPIES))
}

/// Boot code of others that is known by the words that it prints, and that of another version of GRUB.
fn known_code(first: &[u8], copy: Option<&[u8]>) -> Option<&'static str> {
    let has = |words: &[u8]| first.windows(words.len()).any(|window| window == words);
    if has(b"Missing operating system") || has(b"Error loading operating system") {
        return Some("the generic boot code of another system, which is not judged");
    }
    let is_copied = |copy| matches!(sector::compare(first, copy), SectorState::Installed { .. });
    if copy.is_some_and(is_copied) {
        return Some(
            "the boot code of which the machine keeps a copy, and not the installed package's: it is not judged",
        );
    }
    None
}

/// What a person does about damaged boot code.
fn reinstall(device: &Device) -> String {
    let disk = if device.is_block() { format!(" {}", device.path().display()) } else { " DISK".to_owned() };
    format!("install the boot code again, in the mounted system: grub-install{disk}")
}
