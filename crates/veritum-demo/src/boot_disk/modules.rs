//! Made-up kernel modules: relocatable ELF files with a section `.modinfo`, and the lists of them, as text and as binary tries.

use super::KERNEL;

/// What a module says: the path of its file below `kernel`, what it needs, and what it is loaded for.
pub(super) type Said = (&'static str, &'static str, &'static str);

/// The installed modules.
pub(super) const INSTALLED: [Said; 6] = [
    ("fs/ext4/ext4", "jetty", "fs-ext4"),
    ("fs/jetty", "", ""),
    ("drivers/gangway", "", "quay:gangway-*"),
    ("drivers/foghorn", "", ""),
    ("fs/fat/vfat", "bilge", "fs-vfat"),
    ("fs/fat/bilge", "", ""),
];
/// Those in the initial file system: the first ones.
pub(super) const INITIAL: usize = 2;

/// A module with that path below `kernel`; `ballast` gives it a realistic size.
pub(super) fn module(path: &str, ballast: &[u8]) -> Vec<u8> {
    let (_, depends, alias) = INSTALLED.iter().find(|(own, ..)| *own == path).copied().unwrap_or((path, "", ""));
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

/// The lists of modules: their names, and their contents.
pub(super) fn lists(all: &[Said]) -> Vec<(&'static str, Vec<u8>)> {
    let path = |own: &str| format!("kernel/{own}.ko");
    let named = |own: &str| own.rsplit('/').next().unwrap_or(own).to_owned();
    let file = |name: &str| all.iter().map(|(own, ..)| path(own)).find(|path| path.ends_with(&format!("/{name}.ko")));
    let needs: Vec<(String, String)> = all
        .iter()
        .map(|(own, depends, _)| {
            let needed = file(depends).filter(|_| !depends.is_empty()).map(|path| format!(" {path}"));
            (named(own), format!("{}:{}", path(own), needed.unwrap_or_default()))
        })
        .collect();
    let aliases = all.iter().filter(|(_, _, alias)| !alias.is_empty());
    let aliases: Vec<(String, String)> = aliases.map(|(own, _, alias)| ((*alias).to_owned(), named(own))).collect();
    let as_matched: Vec<(String, String)> =
        aliases.iter().map(|(alias, module)| (alias.replace('-', "_"), module.clone())).collect();
    let text = |lines: Vec<String>| lines.concat().into_bytes();
    vec![
        ("modules.dep", text(needs.iter().map(|(_, line)| format!("{line}\n")).collect())),
        ("modules.dep.bin", trie(&needs)),
        ("modules.alias", text(aliases.iter().map(|(alias, module)| format!("alias {alias} {module}\n")).collect())),
        ("modules.alias.bin", trie(&as_matched)),
        ("modules.symbols", b"# Aliases for symbols, used by symbol_request().\n".to_vec()),
        ("modules.symbols.bin", trie(&[])),
        ("modules.softdep", b"# Soft dependencies extracted from modules themselves.\n".to_vec()),
    ]
}

/// Keys with their values as the binary trie that programs read.
fn trie(pairs: &[(String, String)]) -> Vec<u8> {
    let mut out = [0xb007_f457u32, 0x0002_0001, 0].iter().flat_map(|number| number.to_be_bytes()).collect::<Vec<u8>>();
    let pairs: Vec<(&[u8], &str)> = pairs.iter().map(|(key, value)| (key.as_bytes(), &**value)).collect();
    let root = node(&mut out, &pairs);
    out[8..12].copy_from_slice(&root.to_be_bytes());
    out
}

/// Writes a node behind its children; its place, with what it has.
fn node(out: &mut Vec<u8>, pairs: &[(&[u8], &str)]) -> u32 {
    const VALUES: u32 = 0x4000_0000;
    const CHILDREN: u32 = 0x2000_0000;
    let letters: Vec<u8> = pairs.iter().filter_map(|(key, _)| key.first().copied()).collect();
    let range = letters.iter().min().copied().zip(letters.iter().max().copied());
    let mut children = Vec::new();
    for letter in range.map(|(first, last)| first..=last).into_iter().flatten() {
        let below: Vec<(&[u8], &str)> = pairs
            .iter()
            .filter(|(key, _)| key.first() == Some(&letter))
            .map(|(key, value)| (&key[1..], *value))
            .collect();
        children.push(if below.is_empty() { 0 } else { node(out, &below) });
    }
    let mut place = out.len() as u32;
    if let Some((first, last)) = range {
        place |= CHILDREN;
        out.extend([first, last]);
        out.extend(children.iter().flat_map(|child| child.to_be_bytes()));
    }
    let own: Vec<&str> = pairs.iter().filter(|(key, _)| key.is_empty()).map(|(_, value)| *value).collect();
    if !own.is_empty() {
        place |= VALUES;
        out.extend((own.len() as u32).to_be_bytes());
        for (order, value) in own.iter().enumerate() {
            out.extend((order as u32).to_be_bytes());
            out.extend(value.bytes());
            out.push(0);
        }
    }
    place
}
