//! The boot code of GRUB 2 for BIOS machines: the first sector and the core image, byte by byte against the package's files.

use super::fault::{Fault, Faults, Stage};
use super::layout::Layout;
use super::packages::{PackageFile, PackageFiles, why};
use crate::areas::Examined;
use crate::devices::{Device, DiskVolume, PartitionType, ReadAt, TableKind, VolumeKind};
use crate::formats::boot::core_image::{
    CoreImage, Header, ImageFault, MAX_IMAGE, PackageFiles as Images, Part, flat, is_first_sector, parts, protected,
};
use crate::formats::boot::parity::{is_correctable, parity_of};
use crate::formats::boot::sector::{self, SectorState, is_marked};
use crate::model::{KnownBy, SystemPath, Verdict, error_words};

/// The package's files.
pub(super) const SHIPPED: &str = "/usr/lib/grub/i386-pc";
/// The machine's own copies.
pub(super) const COPIES: &str = "/boot/grub/i386-pc";
const SECTOR: u64 = 512;
/// Where a core image begins on a disk with an MBR.
const BEHIND_MBR: u64 = 1;

/// The disk with boot code, and where its parts are.
struct Boot<'a> {
    layout: &'a Layout,
    /// Its position.
    disk: usize,
    device: &'a Device,
    name: String,
    /// The sector where the core image belongs; `None` if there is no place for it.
    place: Option<u64>,
    /// Whether the disk has a GPT: the mark of an MBR is judged with its table.
    has_gpt: bool,
    /// The package's files, by their names.
    shipped: Shipped,
    /// The boot sector of which the machine keeps a copy, if there is one.
    copy: Option<Vec<u8>>,
}

struct Shipped {
    boot: PackageFile,
    first: PackageFile,
    decompressor: PackageFile,
    kernel: Vec<u8>,
}

impl Shipped {
    fn read(files: &PackageFiles<'_>) -> Result<Self, String> {
        let get = |name: &str| {
            let path = shipped(name);
            files.get(&path).map_err(|not| why(&path, &not))
        };
        let kernel = flat(&get("kernel.img")?.bytes).ok_or_else(|| format!("{SHIPPED}/kernel.img is no program"))?;
        Ok(Self {
            boot: get("boot.img")?,
            first: get("diskboot.img")?,
            decompressor: get("lzma_decompress.img")?,
            kernel,
        })
    }

    fn images(&self) -> Images<'_> {
        Images { first: &self.first.bytes, decompressor: &self.decompressor.bytes, kernel: &self.kernel }
    }
}

fn shipped(name: &str) -> SystemPath {
    SystemPath::literal(SHIPPED).child(name.as_bytes()).unwrap_or_else(|_| SystemPath::literal(SHIPPED))
}

/// Judges the boot code of the disk that contains /boot. `boots` is the position of the volume with /boot/grub.
pub(super) fn judge(
    layout: &Layout,
    files: &PackageFiles<'_>,
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
        Err(why) => return examined.leave_out(format!("the boot code of {name}: {why}")),
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
    let boot = Boot { layout, disk, device: &layout.disk(disk).device, name, place, has_gpt, shipped, copy };
    let Ok(first) = boot.device.bytes_at(0, sector::SIZE) else { return };
    examined.coverage.examined += 1;
    boot.own_copy(files, faults);
    if let Some(core) = boot.first_sector(&first, faults, examined) {
        examined.coverage.examined += 1;
        boot.core_image(core, boots, files, faults, examined);
    }
}

impl Boot<'_> {
    fn part(&self, part: &str) -> String {
        format!("{}: {part}", self.name)
    }

    fn fault(&self, part: &str, verdict: Verdict, cause: impl Into<String>) -> Fault {
        let owner = Some(self.shipped.boot.owner.clone());
        let fault = Fault::on_disk(Stage::BootCode, self.part(part), verdict, cause).package(owner);
        fault.known_by(KnownBy::Package).action(reinstall(self.device))
    }

    /// Judges the machine's own copy of the core image: it starts nothing, but the image on the disk is mended with it.
    fn own_copy(&self, files: &PackageFiles<'_>, faults: &mut Faults) {
        let path = copied("core.img");
        let on_copy = |verdict, cause: String| {
            let fault = Fault::on_path(Stage::LoaderFiles, &path, verdict, cause).latent();
            fault.package(Some(self.shipped.boot.owner.clone())).known_by(KnownBy::Package)
        };
        match files.read(&path) {
            Ok(Some(copy)) => {
                if let Err(fault) = CoreImage::parse(&copy, self.shipped.images()) {
                    faults.push(on_copy(Verdict::Altered, format!("this copy of the core image: {}", words(&fault))));
                }
            }
            Ok(None) => {
                faults.push(on_copy(Verdict::Missing, "it is the machine's own copy of the core image".to_owned()));
            }
            Err(why) => faults.push(on_copy(Verdict::Unreadable, why).known_by(KnownBy::Medium)),
        }
    }

    /// Judges the first sector. The sector of the core image, if that can be examined.
    fn first_sector(&self, first: &[u8], faults: &mut Faults, examined: &mut Examined) -> Option<u64> {
        const PART: &str = "boot code in the first sector";
        if !is_marked(first) && self.has_gpt {
            let cause =
                "the first sector does not end with the mark of a boot sector (55 aa): a BIOS does not start it";
            faults.push(self.fault(PART, Verdict::Corrupt, cause).breaks().known_by(KnownBy::SelfProof));
        }
        match sector::compare(first, &self.shipped.boot.bytes) {
            SectorState::Installed { core } => self.core_place(core, PART, faults, examined),
            SectorState::Empty => {
                let cause = "there is none: the code is zeros";
                faults.push(self.fault(PART, Verdict::Missing, cause).breaks());
                self.place
            }
            SectorState::Damaged { first, count, core } => {
                let differ = if count == 1 { "1 byte differs".to_owned() } else { format!("{count} bytes differ") };
                let cause = format!("{differ} from boot.img of the package, the first one at {first:#x}");
                faults.push(self.fault(PART, Verdict::Altered, cause).breaks());
                self.place.filter(|place| *place == core).or(self.place)
            }
            SectorState::Other => {
                match known_code(first, self.copy.as_deref()) {
                    Some(whose) => examined.leave_out(format!("the first sector of {} contains {whose}", self.name)),
                    None => {
                        let cause = "it is not the package's boot code, nor other code that is known";
                        faults.push(self.fault(PART, Verdict::Altered, cause).breaks());
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
            faults.push(fault.latent().known_by(KnownBy::Derived));
            return Some(core);
        }
        match self.place {
            Some(place) => {
                let cause = format!("it starts sector {core} as the core image, which belongs into sector {place}");
                faults.push(self.fault(part, Verdict::Inconsistent, cause).breaks().known_by(KnownBy::Derived));
                Some(place)
            }
            None => {
                let cause = "the disk has a GPT and no partition for the core image (bios_grub)";
                faults.push(self.fault("core image", Verdict::Missing, cause).breaks().known_by(KnownBy::Derived));
                None
            }
        }
    }

    fn core_image(
        &self,
        at: u64,
        boots: usize,
        files: &PackageFiles<'_>,
        faults: &mut Faults,
        examined: &mut Examined,
    ) {
        const PART: &str = "core image";
        let image = match self.read_core(at) {
            Ok(image) => image,
            Err((sector, why)) => {
                let cause = format!("sector {sector} cannot be read: {why}");
                faults.push(self.fault(PART, Verdict::Unreadable, cause).breaks().known_by(KnownBy::Medium));
                return;
            }
        };
        if image.iter().all(|byte| *byte == 0) {
            faults.push(self.fault(PART, Verdict::Missing, "there is none: its place is zeros").breaks());
            return;
        }
        let list = parts(&image);
        let is_list =
            list.as_ref().is_some_and(|list| list.len() == 1 && list[0].start == at + 1 && list[0].segment == 0x820);
        if !is_list && is_first_sector(&image, &self.shipped.first.bytes) {
            let cause = format!("its first sector does not lead to sector {}, where it goes on", at + 1);
            faults.push(self.fault(PART, Verdict::Inconsistent, cause).breaks().known_by(KnownBy::Derived));
        }
        match CoreImage::parse(&image, self.shipped.images()) {
            Ok(core) => {
                let modules = self.modules(&core, files, faults);
                self.needed(&modules, boots, faults);
                self.prefix(&core, boots, faults, examined);
                self.parity(&core, &image, faults);
                let sectors = list.and_then(|list| list.first().map(|part| u64::from(part.sectors)));
                let needed = (core.size as u64).div_ceil(SECTOR) - 1;
                if is_list && sectors.is_some_and(|sectors| sectors < needed) {
                    let cause = format!("its first sector loads {} of {needed} sectors", sectors.unwrap_or_default());
                    faults.push(self.fault(PART, Verdict::Truncated, cause).breaks().known_by(KnownBy::Derived));
                }
            }
            Err(fault) => self.damaged_core(&image, &fault, files, faults),
        }
    }

    /// The whole of what can belong to an image: up to the first partition, or to the end of its own.
    fn read_core(&self, at: u64) -> Result<Vec<u8>, (u64, String)> {
        let first = self.read_sectors(at, 6)?;
        let header = Header::parse(&first);
        let listed = parts(&first).and_then(|list| list.first().map(|part| usize::from(part.sectors) + 1)).unwrap_or(1);
        let told = sector::SIZE.saturating_add(self.shipped.decompressor.bytes.len()).saturating_add(header.compressed);
        let told = told.saturating_add(header.parity).min(MAX_IMAGE).div_ceil(sector::SIZE);
        self.read_sectors(at, listed.max(told.min(2047)) as u64)
    }

    fn read_sectors(&self, at: u64, count: u64) -> Result<Vec<u8>, (u64, String)> {
        let start = at.saturating_mul(SECTOR);
        let left = self.device.size().saturating_sub(start) / SECTOR;
        let count = count.min(left);
        let read = self.device.bytes_at(start, usize::try_from(count * SECTOR).unwrap_or_default());
        read.map_err(|e| {
            let bad = (at..at + count).find(|sector| self.device.bytes_at(sector * SECTOR, sector::SIZE).is_err());
            (bad.unwrap_or(at), error_words(&e))
        })
    }

    /// Judges an image that is not the package's: what the machine's own copy shows about it.
    fn damaged_core(&self, image: &[u8], fault: &ImageFault, files: &PackageFiles<'_>, faults: &mut Faults) {
        const PART: &str = "core image";
        let copy = files.read(&copied("core.img")).ok().flatten();
        let copy = copy.and_then(|copy| Some((CoreImage::parse(&copy, self.shipped.images()).ok()?, copy)));
        let Some((core, right)) = copy else {
            let cause = format!("{}; the machine's own copy ({COPIES}/core.img) does not help", words(fault));
            faults.push(self.fault(PART, Verdict::Altered, cause).breaks());
            return;
        };
        let size = core.size;
        let found = [image.get(..size).unwrap_or(image), &vec![0; size.saturating_sub(image.len())]].concat();
        let written = |at: &usize| (0x1f4..0x200).contains(at) || (0x210..0x214).contains(at);
        let wrong: Vec<usize> = (0..size).filter(|at| found[*at] != right[*at] && !written(at)).collect();
        let count = wrong.len();
        let many = count * 4 > size;
        let cause = match (wrong.first(), many) {
            (Some(first), false) => format!("{count} bytes differ from the right image, the first one at {first:#x}"),
            _ => words(fault),
        };
        let header = Header::parse(&found);
        let corrected = protected(&header, size).is_some_and(|range| {
            let parity = image.get(size..size.saturating_add(header.parity)).unwrap_or_default();
            let data = &right[range.clone()];
            header.parity > 0
                && wrong.iter().all(|at| range.contains(at))
                && is_correctable((&found[range], data), (parity, &parity_of(data, header.parity)))
        });
        let cause = match corrected {
            true => format!("{cause}; at the start GRUB corrects them by the parity behind it"),
            false => cause,
        };
        faults.push(self.fault(PART, Verdict::Altered, cause).breaks_if(!corrected));
    }

    /// Judges the modules in an image; the names of those that are the package's.
    fn modules(&self, core: &CoreImage, files: &PackageFiles<'_>, faults: &mut Faults) -> Vec<String> {
        let folder = SystemPath::literal(SHIPPED);
        let names = files.names(&folder).unwrap_or_default();
        let modules = names.iter().filter_map(|name| {
            let own = files.get(&folder.child(name).ok().filter(|_| name.ends_with(b".mod"))?).ok()?;
            Some((String::from_utf8_lossy(name).trim_end_matches(".mod").to_owned(), own.bytes))
        });
        let shipped: Vec<(String, Vec<u8>)> = modules.collect();
        let mut found = Vec::new();
        for part in &core.parts {
            let Part::Module(content) = part else { continue };
            let is = |(_, own): &&(String, Vec<u8>)| {
                content.starts_with(own) && content[own.len()..].iter().all(|byte| *byte == 0)
            };
            match shipped.iter().find(is) {
                Some((name, _)) => found.push(name.clone()),
                None => {
                    let cause = format!("a module of {} bytes in it is none of the package's", content.len());
                    faults.push(self.fault("core image", Verdict::Altered, cause).breaks());
                }
            }
        }
        found
    }

    /// Judges where the image looks for the menu and the other modules.
    fn prefix(&self, core: &CoreImage, boots: usize, faults: &mut Faults, examined: &mut Examined) {
        let volume = self.layout.volume(boots);
        let Some((_, path)) = self.layout.find(&SystemPath::literal("/boot/grub")) else { return };
        let path = format!("/{}", String::from_utf8_lossy(&path));
        let prefix = core.prefix().unwrap_or_default();
        let uuid = volume.contains.as_ref().map_or("", |found| &found.uuid);
        let expected = volume.partition.as_ref().map(|partition| {
            let kind = if matches!(partition.kind, PartitionType::Gpt(_)) { "gpt" } else { "msdos" };
            format!("{kind}{}", partition.number)
        });
        let is_right = match (split(prefix), core.configuration()) {
            (Some((device, below)), None) if !device.is_empty() => {
                let partition = device.rsplit(',').next().unwrap_or_default();
                below == path && expected.as_deref().is_none_or(|own| own == partition)
            }
            // A search for the file system sets the prefix.
            (_, Some(text)) if text.contains("search") => text.contains(uuid),
            (_, _) => {
                examined.leave_out(format!("where the core image of {} looks for its menu ({prefix})", self.name));
                true
            }
        };
        if !is_right {
            let whose = expected.map_or_else(String::new, |own| format!("(,{own})"));
            let cause = format!("it looks for its menu in {prefix}, which is {whose}{path} here");
            faults.push(self.fault("core image", Verdict::Inconsistent, cause).breaks().known_by(KnownBy::Derived));
        }
    }

    /// Whether it contains what reads the partition table and the file system of /boot.
    fn needed(&self, modules: &[String], boots: usize, faults: &mut Faults) {
        let volume = self.layout.volume(boots);
        let table = volume.partition.as_ref().map(|partition| match partition.kind {
            PartitionType::Gpt(_) => "part_gpt",
            PartitionType::Mbr(_) => "part_msdos",
        });
        let file_system = volume.contains.as_ref().and_then(|found| match found.kind {
            VolumeKind::Ext4 => Some("ext2"),
            VolumeKind::Btrfs => Some("btrfs"),
            VolumeKind::Xfs => Some("xfs"),
            VolumeKind::Vfat => Some("fat"),
            _ => None,
        });
        for name in [table, file_system].into_iter().flatten() {
            if !modules.iter().any(|own| own == name) {
                let cause = format!("it does not contain the module {name}, without which it cannot read /boot/grub");
                faults.push(self.fault("core image", Verdict::Inconsistent, cause).breaks().known_by(KnownBy::Derived));
            }
        }
    }

    /// Judges the parity behind an image whose own bytes are right.
    fn parity(&self, core: &CoreImage, image: &[u8], faults: &mut Faults) {
        let (Some(range), size) = (protected(&core.header, core.size), core.header.parity) else { return };
        if size == 0 {
            return;
        }
        let found = image.get(core.size..core.size.saturating_add(size)).unwrap_or_default();
        if found != parity_of(&image[range], size) {
            let cause = "the image itself is right, but damage to it could no longer be corrected at the start";
            faults.push(self.fault("parity of the core image", Verdict::Altered, cause).latent());
        }
    }
}

/// `(,gpt2)/boot/grub` as the device and the path.
fn split(prefix: &str) -> Option<(&str, &str)> {
    prefix.strip_prefix('(')?.split_once(')')
}

fn copied(name: &str) -> SystemPath {
    SystemPath::literal(COPIES).child(name.as_bytes()).unwrap_or_else(|_| SystemPath::literal(COPIES))
}

fn words(fault: &ImageFault) -> String {
    match fault {
        ImageFault::Code(at) => format!("its own code is not the package's, from {at:#x} on"),
        ImageFault::Header => "its header names impossible sizes".to_owned(),
        ImageFault::Short => "it ends too early".to_owned(),
        ImageFault::Unpack => "what is compressed in it cannot be unpacked".to_owned(),
        ImageFault::Kernel(_) => {
            "it contains another kernel than the package's: it is altered, or of another version".to_owned()
        }
        ImageFault::Modules => "the modules in it cannot be read".to_owned(),
    }
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
