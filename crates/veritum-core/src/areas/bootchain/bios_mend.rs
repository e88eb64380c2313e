//! What answers damaged boot code: the package's first sector, and a core image from the machine's own copy or made from the package's
//! files. Each is proved by the same examination before it is proposed.

use std::collections::BTreeSet;
use std::sync::Arc;

use super::bios::{Boot, SECTOR, SHIPPED, copied};
use super::fault::Faults;
use super::mend::Mend;
use super::packages::PackageFiles;
use crate::areas::{BOOTCHAIN, Examined};
use crate::devices::table_writer::Placed;
use crate::devices::{PartitionType, Patches, ReadAt as _, VolumeKind};
use crate::formats::boot::core_image::{self, CoreImage};
use crate::formats::boot::sector;
use crate::model::{StartEffect, SystemPath, error_words};

/// The code of the first sector ends here: behind it are the disk's signature and its table.
const CODE: usize = 0x1b8;
/// Where the sector of the core image is in it.
const CORE: usize = 0x5c;

impl Boot<'_> {
    /// The first sector with the package's code; the core image belongs into the sector `core`.
    pub(super) fn sector_mend(&self, core: Option<u64>) -> Result<Mend, String> {
        let core = core.ok_or("the disk has no place for the core image")?;
        let first = self.device.bytes_at(0, sector::SIZE).map_err(|e| error_words(&e))?;
        let new = sector::installed(&self.shipped.boot.bytes, &first, core).ok_or("boot.img is too short")?;
        let placed = vec![(0, new[..CODE].to_vec()), (510, new[510..].to_vec())];
        Ok(Mend::bytes(self.disk, placed, format!("{SHIPPED}/boot.img")))
    }

    /// The mark at the end of the first sector.
    pub(super) fn mark_mend(&self) -> Mend {
        Mend::bytes(self.disk, vec![(510, vec![0x55, 0xaa])], "the form of a boot sector")
    }

    /// The place of the core image in the first sector.
    pub(super) fn place_mend(&self, core: u64) -> Mend {
        Mend::bytes(self.disk, vec![(CORE as u64, core.to_le_bytes().to_vec())], "the place for the core image")
    }

    /// A core image for the sector `at`: the machine's own copy if it proves, else one made from the package's files.
    pub(super) fn core_mend(&self, at: u64, boots: usize, files: &PackageFiles<'_>) -> Result<Mend, String> {
        let copy = files.read(&copied("core.img")).ok().flatten();
        let own = copy.and_then(|copy| self.proved(&copy, at, boots, files).ok());
        if let Some(placed) = own {
            return Ok(Mend::bytes(self.disk, placed, format!("the machine's own copy, {}", copied("core.img"))));
        }
        let made = self.made(boots, files)?;
        let placed = self.proved(&made, at, boots, files)?;
        Ok(Mend::bytes(self.disk, placed, format!("the package's files in {SHIPPED}, of which it is made")))
    }

    /// The parity behind an image that is right, written again with it.
    pub(super) fn parity_mend(
        &self,
        image: &[u8],
        at: u64,
        boots: usize,
        files: &PackageFiles<'_>,
    ) -> Result<Mend, String> {
        let placed = self.proved(image, at, boots, files)?;
        Ok(Mend::bytes(self.disk, placed, "computed from the core image"))
    }

    /// The machine's own copy of the core image, from that on the disk if it proves.
    pub(super) fn copy_mend(&self, boots: usize, files: &PackageFiles<'_>) -> Result<Mend, String> {
        let at = self.place.ok_or("the disk has no place for the core image")?;
        let image = self.read_core(at).map_err(|(sector, why)| format!("sector {sector} cannot be read: {why}"))?;
        self.proved(&image, at, boots, files)?;
        let core = CoreImage::parse(&image, self.shipped.images()).map_err(|fault| super::bios_core::words(&fault))?;
        let copy = core_image::as_copied(&image[..core.size]).ok_or("it is too short")?;
        Ok(Mend::file(&copied("core.img"), copy, format!("the core image on {}", self.name)))
    }

    /// The sectors that a core image can have from a sector on.
    fn room(&self, at: u64) -> u64 {
        let table = &self.layout.disk(self.disk).table;
        let inside =
            table.partitions.iter().find(|p| p.kind.is_boot_code() && p.start <= at * SECTOR && at * SECTOR < p.end());
        let end = match inside {
            Some(partition) => partition.end(),
            None if table.partitions.iter().any(|partition| matches!(partition.kind, PartitionType::Gpt(_))) => 0,
            None => table.partitions.iter().map(|partition| partition.start).min().unwrap_or_default(),
        };
        (end / SECTOR).saturating_sub(at)
    }

    /// An image as it is written, if the examination finds nothing wrong with it there.
    fn proved(&self, image: &[u8], at: u64, boots: usize, files: &PackageFiles<'_>) -> Result<Vec<Placed>, String> {
        let core = CoreImage::parse(image, self.shipped.images()).map_err(|fault| super::bios_core::words(&fault))?;
        let image = &image[..core.size];
        let written = core_image::installed(image, at, self.room(at)).ok_or_else(|| {
            let (needed, room) = (image.len().div_ceil(sector::SIZE), self.room(at));
            format!("it does not fit: it needs {needed} sectors, and there are {room}")
        })?;
        let placed = vec![(at * SECTOR, written)];
        let mut patches = Patches::default();
        placed
            .iter()
            .try_for_each(|(at, bytes)| patches.write(self.device, *at, bytes))
            .map_err(|e| error_words(&e))?;
        let device = Arc::new(self.device.again_with(&patches).map_err(|e| error_words(&e))?);
        let (mut faults, mut examined) = (Faults::default(), Examined::new(BOOTCHAIN));
        self.on(&device).core_image(at, boots, files, &mut faults, &mut examined);
        let all = faults.sorted();
        // Parity for which there is no room is no damage.
        let bad = all.iter().find(|fault| fault.effect == Some(StartEffect::BreaksStart));
        match bad
            .map(|fault| fault.cause.clone())
            .or_else(|| examined.coverage.unexamined.first().map(|one| one.reason.clone()))
        {
            Some(why) => Err(why),
            None => Ok(placed),
        }
    }

    /// An image made from the package's files: what reads the table and the file system of /boot, and its place.
    fn made(&self, boots: usize, files: &PackageFiles<'_>) -> Result<Vec<u8>, String> {
        let volume = self.layout.volume(boots);
        let kind = volume.contains.as_ref().map(|found| found.kind);
        if kind != Some(VolumeKind::Ext4) {
            return Err("the machine's own copy is not right, and one is made only for /boot on ext4".to_owned());
        }
        let partition = volume.partition.as_ref().ok_or("no partition contains /boot")?;
        let (table, word) = match partition.kind {
            PartitionType::Gpt(_) => ("part_gpt", "gpt"),
            PartitionType::Mbr(_) => ("part_msdos", "msdos"),
        };
        let (_, path) =
            self.layout.find(&SystemPath::literal("/boot/grub")).ok_or("/boot/grub is on none of the disks")?;
        let prefix = format!("(,{word}{})/{}", partition.number, String::from_utf8_lossy(&path));
        let list = self.module(files, "moddep.lst")?;
        let mut modules = Vec::new();
        for name in in_order(&list, &["ext2", table, "biosdisk"]) {
            modules.push(self.module(files, &format!("{name}.mod"))?);
        }
        core_image::build(self.shipped.images(), &modules, &prefix)
            .ok_or_else(|| "an image cannot be made from the package's files".to_owned())
    }

    fn module(&self, files: &PackageFiles<'_>, name: &str) -> Result<Vec<u8>, String> {
        let path = SystemPath::parse(format!("{SHIPPED}/{name}").as_bytes()).map_err(|e| e.to_string())?;
        files.get(&path).map(|file| file.bytes).map_err(|not| super::packages::why(&path, &not))
    }
}

/// Modules with those that they need, each behind these.
fn in_order(list: &[u8], names: &[&str]) -> Vec<String> {
    let text = String::from_utf8_lossy(list);
    let needs = |name: &str| {
        let line = text.lines().find_map(|line| line.split_once(':').filter(|(own, _)| *own == name));
        line.map(|(_, needs)| needs.split_whitespace().collect::<Vec<_>>()).unwrap_or_default()
    };
    // What is open is put behind all that it needs; what was met before is not opened again.
    let (mut found, mut met): (Vec<String>, BTreeSet<&str>) = Default::default();
    let mut open: Vec<(&str, bool)> = names.iter().rev().map(|name| (*name, false)).collect();
    while let Some((name, is_ready)) = open.pop() {
        if is_ready {
            found.push(name.to_owned());
        } else if met.insert(name) {
            open.push((name, true));
            open.extend(needs(name).into_iter().rev().map(|needed| (needed, false)));
        }
    }
    found
}

#[cfg(test)]
mod tests {
    use super::in_order;

    #[test]
    fn modules_come_behind_those_that_they_need_and_a_circle_ends() {
        let list = b"ext2: fshelp\nfshelp:\npart_gpt:\nquay: pier\npier: quay\n";
        assert_eq!(in_order(list, &["ext2", "part_gpt", "fshelp"]), ["fshelp", "ext2", "part_gpt"]);
        assert_eq!(in_order(list, &["quay"]), ["pier", "quay"]);
    }
}
