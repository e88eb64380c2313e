//! Made-up programs and libraries in the format ELF: what the dynamic linker reads of them is real, the rest is ballast.

/// The dynamic linker.
pub(super) const LINKER: &str = "/lib64/ld-foreshore.so.2";

/// A program, or a library if it has no linker, that needs these libraries; `search` are the folders that it has searched first.
pub(super) fn program(linker: Option<&str>, needed: &[&str], search: &str, ballast: &[u8]) -> Vec<u8> {
    const HEADERS: usize = 64 + 3 * 56;
    let linker = linker.map(|path| format!("{path}\0")).unwrap_or_default();
    let dynamic = (HEADERS + linker.len()).next_multiple_of(8);
    let mut names = vec![0];
    let mut entries: Vec<(u64, u64)> = Vec::new();
    let searched = [search].into_iter().filter(|search| !search.is_empty()).map(|search| (29, search));
    for (tag, text) in needed.iter().map(|name| (1, *name)).chain(searched) {
        entries.push((tag, names.len() as u64));
        names.extend(text.bytes());
        names.push(0);
    }
    let size = (entries.len() + 3) * 16;
    entries.extend([(5, (dynamic + size) as u64), (10, names.len() as u64), (0, 0)]);
    let total = dynamic + size + names.len() + ballast.len();

    let mut file = vec![0x7f, b'E', b'L', b'F', 2, 1, 1, 0, 0, 0, 0, 0, 0, 0, 0, 0];
    file.extend([3, 0, 62, 0, 1, 0, 0, 0]);
    file.extend([0u64, 64, 0].iter().flat_map(|number| number.to_le_bytes()));
    file.extend([0; 4]);
    file.extend([64u16, 56, 3, 64, 0, 0].iter().flat_map(|number| number.to_le_bytes()));
    // A segment that does not exist has the type of one that is ignored.
    let interpreter = if linker.is_empty() { 0 } else { 3u32 };
    for (kind, at, size) in [(1u32, 0, total), (interpreter, HEADERS, linker.len()), (2, dynamic, size)] {
        file.extend(kind.to_le_bytes());
        file.extend(5u32.to_le_bytes());
        for number in [at, at, at, size, size, 8] {
            file.extend((number as u64).to_le_bytes());
        }
    }
    file.extend(linker.bytes());
    file.resize(dynamic, 0);
    for (tag, value) in entries {
        file.extend(tag.to_le_bytes());
        file.extend(value.to_le_bytes());
    }
    file.extend(names);
    file.extend(ballast);
    file
}
