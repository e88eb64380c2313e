//! The core image of GRUB 2 for BIOS machines: its list of sectors, its code, the modules in it, where it looks for the menu, and the parity
//! behind it.

use super::bios::{Boot, COPIES, SECTOR, SHIPPED, copied};
use super::fault::{Faults, NOT_KEPT};
use super::mend::Mend;
use super::packages::PackageFiles;
use crate::areas::Examined;
use crate::devices::{PartitionType, ReadAt as _, VolumeKind};
use crate::formats::boot::core_image::{
    CoreImage, Header, ImageFault, MAX_IMAGE, Part, is_first_sector, parts, protected,
};
use crate::formats::boot::parity::{is_correctable, parity_of};
use crate::formats::boot::sector;
use crate::model::{KnownBy, SystemPath, Verdict, error_words};

/// What answers a fault of the image.
type Again<'a> = &'a dyn Fn() -> Result<Mend, String>;

impl Boot<'_> {
    /// Judges the image that begins in a sector.
    pub(super) fn core_image(
        &self,
        at: u64,
        boots: usize,
        files: &PackageFiles<'_>,
        faults: &mut Faults,
        examined: &mut Examined,
    ) {
        const PART: &str = "core image";
        let again = || if self.is_proof { Err(String::new()) } else { self.core_mend(at, boots, files) };
        let image = match self.read_core(at) {
            Ok(image) => image,
            Err((sector, why)) => {
                let cause = format!("sector {sector} cannot be read: {why}");
                let found = self.fault(PART, Verdict::Unreadable, cause).breaks().known_by(KnownBy::Medium);
                faults.push(found.mended(Err(NOT_KEPT.to_owned())));
                return;
            }
        };
        if image.iter().all(|byte| *byte == 0) {
            let found = self.fault(PART, Verdict::Missing, "there is none: its place is zeros").breaks();
            faults.push(found.mended(again()));
            return;
        }
        let list = parts(&image);
        let is_list =
            list.as_ref().is_some_and(|list| list.len() == 1 && list[0].start == at + 1 && list[0].segment == 0x820);
        if !is_list && is_first_sector(&image, &self.shipped.first.bytes) {
            let cause = format!("its first sector does not lead to sector {}, where it goes on", at + 1);
            let found = self.fault(PART, Verdict::Inconsistent, cause).breaks().known_by(KnownBy::Derived);
            faults.push(found.mended(again()));
        }
        match CoreImage::parse(&image, self.shipped.images()) {
            Ok(core) => {
                let modules = self.modules(&core, files, faults, &again);
                self.needed(&modules, boots, faults, &again);
                self.prefix(&core, boots, (faults, examined), &again);
                self.parity(&core, &image, faults, &|| self.parity_mend(&image, at, boots, files));
                let sectors = list.and_then(|list| list.first().map(|part| u64::from(part.sectors)));
                let needed = (core.size as u64).div_ceil(SECTOR) - 1;
                if is_list && sectors.is_some_and(|sectors| sectors < needed) {
                    let cause = format!("its first sector loads {} of {needed} sectors", sectors.unwrap_or_default());
                    let found = self.fault(PART, Verdict::Truncated, cause).breaks().known_by(KnownBy::Derived);
                    faults.push(found.mended(again()));
                }
            }
            Err(fault) => self.damaged_core(&image, &fault, files, faults, &again),
        }
    }

    /// The whole of what can belong to an image: up to the first partition, or to the end of its own.
    pub(super) fn read_core(&self, at: u64) -> Result<Vec<u8>, (u64, String)> {
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
    fn damaged_core(
        &self,
        image: &[u8],
        fault: &ImageFault,
        files: &PackageFiles<'_>,
        faults: &mut Faults,
        again: Again<'_>,
    ) {
        const PART: &str = "core image";
        let copy = files.read(&copied("core.img")).ok().flatten();
        let copy = copy.and_then(|copy| Some((CoreImage::parse(&copy, self.shipped.images()).ok()?, copy)));
        let Some((core, right)) = copy else {
            let cause = format!("{}; the machine's own copy ({COPIES}/core.img) does not help", words(fault));
            faults.push(self.fault(PART, Verdict::Altered, cause).breaks().mended(again()));
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
        faults.push(self.fault(PART, Verdict::Altered, cause).breaks_if(!corrected).mended(again()));
    }

    /// Judges the modules in an image; the names of those that are the package's.
    fn modules(
        &self,
        core: &CoreImage,
        files: &PackageFiles<'_>,
        faults: &mut Faults,
        again: Again<'_>,
    ) -> Vec<String> {
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
                    faults.push(self.fault("core image", Verdict::Altered, cause).breaks().mended(again()));
                }
            }
        }
        found
    }

    /// Judges where the image looks for the menu and the other modules.
    fn prefix(
        &self,
        core: &CoreImage,
        boots: usize,
        (faults, examined): (&mut Faults, &mut Examined),
        again: Again<'_>,
    ) {
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
        // That of a copied system is the same but for this.
        let number = split(prefix).and_then(|(device, _)| {
            device.rsplit(',').next()?.trim_start_matches(|letter: char| !letter.is_ascii_digit()).parse().ok()
        });
        let other = number.and_then(|number| self.others.on_partition(self.layout, self.disk, number));
        if let Some(other) = other.filter(|_| !is_right) {
            let whose = self.layout.volume_name(other);
            let why = format!("it leads to {whose}, which this system does not mount");
            return examined.leave_out(format!("the core image of {}: {why}", self.name));
        }
        if !is_right {
            let whose = expected.map_or_else(String::new, |own| format!("(,{own})"));
            let cause = format!("it looks for its menu in {prefix}, which is {whose}{path} here");
            let found = self.fault("core image", Verdict::Inconsistent, cause).breaks().known_by(KnownBy::Derived);
            faults.push(found.mended(again()));
        }
    }

    /// Whether it contains what reads the partition table and the file system of /boot.
    fn needed(&self, modules: &[String], boots: usize, faults: &mut Faults, again: Again<'_>) {
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
                let found = self.fault("core image", Verdict::Inconsistent, cause).breaks().known_by(KnownBy::Derived);
                faults.push(found.mended(again()));
            }
        }
    }

    /// Judges the parity behind an image whose own bytes are right.
    fn parity(&self, core: &CoreImage, image: &[u8], faults: &mut Faults, again: Again<'_>) {
        let (Some(range), size) = (protected(&core.header, core.size), core.header.parity) else { return };
        if size == 0 {
            return;
        }
        let found = image.get(core.size..core.size.saturating_add(size)).unwrap_or_default();
        if found != parity_of(&image[range], size) {
            let cause = "the image itself is right, but damage to it could no longer be corrected at the start";
            let again = if self.is_proof { Err(String::new()) } else { again() };
            faults.push(self.fault("parity of the core image", Verdict::Altered, cause).latent().mended(again));
        }
    }
}

/// `(,gpt2)/boot/grub` as the device and the path.
fn split(prefix: &str) -> Option<(&str, &str)> {
    prefix.strip_prefix('(')?.split_once(')')
}

/// What is wrong with an image, in words.
pub(super) fn words(fault: &ImageFault) -> String {
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
