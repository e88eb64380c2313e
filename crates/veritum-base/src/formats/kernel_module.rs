//! What kernel modules say of themselves (MODULE_INFO in include/linux/module.h of the kernel's source): section `.modinfo`, and the
//! symbols that they export.

use std::io::Read as _;

use object::{Object as _, ObjectSection as _, ObjectSymbol as _};

use super::boot::packing::{Packing, reader};

/// The beginning of the names of symbols that export others.
const EXPORT: &str = "__ksymtab_";

/// What a module says of itself.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub struct ModuleInfo {
    /// The modules that it needs, by name.
    pub depends: Vec<String>,
    /// What it is loaded for: patterns of devices and the like.
    pub aliases: Vec<String>,
    /// Modules that are loaded before or after it.
    pub soft_depends: Vec<String>,
    /// The kernel that it was built for.
    pub version_magic: String,
    /// The firmware files that it can ask for.
    pub firmware: Vec<String>,
    /// The symbols that it exports.
    pub exports: Vec<String>,
}

/// Larger modules are not unpacked.
const MAX_MODULE: u64 = 64 << 20;

/// Reads a module, compressed or not; `None` if it is none.
#[must_use]
pub fn module_info(bytes: &[u8]) -> Option<ModuleInfo> {
    match Packing::of(bytes) {
        Some(packing @ (Packing::Gzip | Packing::Xz | Packing::Zstd)) => {
            let mut unpacked = Vec::new();
            reader(bytes, packing)?.take(MAX_MODULE).read_to_end(&mut unpacked).ok()?;
            uncompressed(&unpacked)
        }
        _ => uncompressed(bytes),
    }
}

fn uncompressed(elf: &[u8]) -> Option<ModuleInfo> {
    let file = object::File::parse(elf).ok()?;
    let section = file.section_by_name(".modinfo")?.data().ok()?;
    let mut info = ModuleInfo::default();
    for entry in section.split(|byte| *byte == 0) {
        let Some((key, value)) = std::str::from_utf8(entry).ok().and_then(|entry| entry.split_once('=')) else {
            continue;
        };
        let value = value.to_owned();
        match key {
            "depends" => info.depends.extend(value.split(',').filter(|name| !name.is_empty()).map(named)),
            "alias" => info.aliases.push(value),
            "softdep" => info.soft_depends.push(value),
            "vermagic" => info.version_magic = value,
            "firmware" => info.firmware.push(value),
            _ => {}
        }
    }
    let exported = file.symbols().filter_map(|symbol| symbol.name().ok()?.strip_prefix(EXPORT).map(str::to_owned));
    info.exports = exported.collect();
    Some(info)
}

/// A module's name, by that of its file: `-` and `_` are the same (modprobe(8)).
#[must_use]
pub fn named(text: &str) -> String {
    text.replace('-', "_")
}

/// The name of the module in a file, by its path; `None` if it is no module.
#[must_use]
pub fn module_of(path: &str) -> Option<String> {
    let file = path.rsplit('/').next()?;
    let end = file.find(".ko")?;
    matches!(&file[end..], ".ko" | ".ko.xz" | ".ko.zst" | ".ko.gz").then(|| named(&file[..end]))
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_modules_name_is_that_of_its_file() {
        assert_eq!(module_of("kernel/drivers/net/fog-horn.ko.zst").as_deref(), Some("fog_horn"));
        assert_eq!((module_of("fog.koala"), module_of("modules.dep")), (None, None));
        assert!(module_info(b"\x7fELF").is_none() && module_info(b"").is_none());
    }
}
