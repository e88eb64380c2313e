//! What a program needs to be started (System V ABI, chapter 5): the dynamic linker, and shared libraries.

use object::elf::{DT_NEEDED, DT_RPATH, DT_RUNPATH, DT_STRSZ, DT_STRTAB};
use object::read::elf::{Dyn as _, FileHeader, ProgramHeader as _};
use object::{Endianness, FileKind};

/// More entries are not read.
const MAX_ENTRIES: usize = 1000;

/// What a program or a library needs.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub struct ProgramNeeds {
    /// The path of the dynamic linker; a library names none.
    pub interpreter: Option<String>,
    /// The names of libraries.
    pub libraries: Vec<String>,
    /// The folders where it has them searched first; `$ORIGIN` is its own.
    pub search: Vec<String>,
}

/// Reads what a program or a library in the format ELF needs; `None` if it is none.
#[must_use]
pub fn program_needs(elf: &[u8]) -> Option<ProgramNeeds> {
    match FileKind::parse(elf).ok()? {
        FileKind::Elf64 => read::<object::elf::FileHeader64<Endianness>>(elf),
        FileKind::Elf32 => read::<object::elf::FileHeader32<Endianness>>(elf),
        _ => None,
    }
}

fn read<H: FileHeader<Endian = Endianness>>(elf: &[u8]) -> Option<ProgramNeeds> {
    let header = H::parse(elf).ok()?;
    let endian = header.endian().ok()?;
    let segments = header.program_headers(endian, elf).ok()?;
    let mut needs = ProgramNeeds::default();
    for segment in segments.iter().take(MAX_ENTRIES) {
        if let Some(path) = segment.interpreter(endian, elf).ok()? {
            needs.interpreter = Some(String::from_utf8_lossy(path).into_owned());
        }
        let Some(entries) = segment.dynamic(endian, elf).ok()? else { continue };
        let entries = &entries[..entries.len().min(MAX_ENTRIES)];
        let value = |tag| entries.iter().find(|entry| entry.tag(endian) == tag).map(|entry| entry.val(endian));
        let (Some(at), Some(size)) = (value(DT_STRTAB), value(DT_STRSZ)) else { continue };
        let in_segment = |segment: &H::ProgramHeader| segment.data_range(endian, elf, at, size).ok().flatten();
        let texts = segments.iter().take(MAX_ENTRIES).find_map(in_segment)?;
        for entry in entries {
            let text = || text_at(texts, entry.val(endian));
            match entry.tag(endian) {
                DT_NEEDED => needs.libraries.push(text()?),
                DT_RUNPATH | DT_RPATH => needs.search.extend(text()?.split(':').map(str::to_owned)),
                _ => {}
            }
        }
    }
    Some(needs)
}

fn text_at(texts: &[u8], at: u64) -> Option<String> {
    let rest = texts.get(usize::try_from(at).ok()?..)?;
    let end = rest.iter().position(|byte| *byte == 0)?;
    Some(String::from_utf8_lossy(&rest[..end]).into_owned())
}

#[cfg(test)]
mod tests {
    use proptest::prelude::*;

    use super::*;

    /// This test's own program.
    fn own() -> Vec<u8> {
        std::fs::read(std::env::current_exe().expect("its path")).expect("its bytes")
    }

    #[test]
    fn a_program_names_its_linker_and_its_libraries() {
        let needs = program_needs(&own()).expect("it is a program");
        assert!(needs.interpreter.is_some_and(|path| path.starts_with('/')), "a program has a dynamic linker");
        assert!(needs.libraries.iter().any(|name| name.starts_with("libc.so")), "{:?}", needs.libraries);
        assert!(program_needs(b"#!/bin/sh\n").is_none() && program_needs(b"").is_none());
    }

    #[test]
    fn a_program_that_is_cut_off_needs_nothing_or_less() {
        let own = own();
        let whole = program_needs(&own).expect("it is a program").libraries.len();
        for size in [0, 4, 16, 64, 100, 1000, 4096] {
            assert!(program_needs(&own[..size]).is_none_or(|needs| needs.libraries.len() <= whole), "{size}");
        }
    }

    proptest! {
        /// Altered headers never lead out of the file.
        #[test]
        fn altered_programs_are_read_without_a_panic(at in 0usize..1200, value: u8, cut in 64usize..8192) {
            let mut bytes = own();
            bytes.truncate(cut.max(at + 1));
            bytes[at] = value;
            let _ = program_needs(&bytes);
        }
    }
}
