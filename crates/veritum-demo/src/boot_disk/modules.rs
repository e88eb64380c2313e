//! Made-up kernel modules: relocatable ELF files with a section `.modinfo`, and the lists of those in an initial file system.

use super::KERNEL;

/// What modules say, by the paths of their files below `kernel`: what they need, and what they are loaded for.
const SAID: [(&str, &str, &str); 2] = [("fs/ext4/ext4", "jetty", "fs-ext4"), ("fs/jetty", "", "")];

/// A module with that path below `kernel`; `ballast` gives it a realistic size.
pub(super) fn module(path: &str, ballast: &[u8]) -> Vec<u8> {
    let (_, depends, alias) = SAID.iter().find(|(own, ..)| *own == path).copied().unwrap_or((path, "", ""));
    let name = path.rsplit('/').next().unwrap_or(path);
    let mut info = format!("name={name}\0depends={depends}\0vermagic={KERNEL} SMP\0");
    if !alias.is_empty() {
        info.push_str(&format!("alias={alias}\0"));
    }
    let names = b"\0.modinfo\0.rodata\0.shstrtab\0";
    let (info_at, ballast_at) = (64, 64 + info.len());
    let names_at = ballast_at + ballast.len();
    let table = (names_at + names.len()).next_multiple_of(8);
    let mut file = vec![0x7f, b'E', b'L', b'F', 2, 1, 1, 0, 0, 0, 0, 0, 0, 0, 0, 0];
    file.extend([1, 0, 62, 0, 1, 0, 0, 0]);
    file.extend([0; 16]);
    file.extend((table as u64).to_le_bytes());
    file.extend([0; 4]);
    file.extend([64, 0, 0, 0, 0, 0, 64, 0, 4, 0, 3, 0]);
    file.extend(info.bytes());
    file.extend(ballast);
    file.extend(names);
    file.resize(table, 0);
    file.extend([0; 64]);
    for (name, kind, at, size) in
        [(1u32, 1u32, info_at, info.len()), (10, 1, ballast_at, ballast.len()), (18, 3, names_at, names.len())]
    {
        file.extend(name.to_le_bytes());
        file.extend(kind.to_le_bytes());
        file.extend([0; 16]);
        file.extend((at as u64).to_le_bytes());
        file.extend((size as u64).to_le_bytes());
        file.extend([0; 8]);
        file.extend(1u64.to_le_bytes());
        file.extend([0; 8]);
    }
    file
}

/// The lists of the modules in an initial file system: their names, and their texts.
pub(super) fn lists() -> [(&'static str, String); 3] {
    let path = |own: &str| format!("kernel/{own}.ko");
    let file = |name: &str| SAID.iter().map(|(own, ..)| path(own)).find(|path| path.ends_with(&format!("/{name}.ko")));
    let needs = SAID.iter().map(|(own, depends, _)| {
        let needed = file(depends).filter(|_| !depends.is_empty()).unwrap_or_default();
        format!("{}: {needed}\n", path(own)).replace(": \n", ":\n")
    });
    let named = |own: &str| own.rsplit('/').next().unwrap_or(own).to_owned();
    let aliases = SAID.iter().filter(|(_, _, alias)| !alias.is_empty());
    let aliases = aliases.map(|(own, _, alias)| format!("alias {alias} {}\n", named(own)));
    let head = "# Soft dependencies extracted from modules themselves.\n".to_owned();
    [("modules.dep", needs.collect()), ("modules.alias", aliases.collect()), ("modules.softdep", head)]
}
