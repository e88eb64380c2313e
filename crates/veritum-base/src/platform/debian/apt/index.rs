//! A package index (`Packages`): the packages of a repository, with size and SHA-256 of each.

/// One package of an index; texts are unchanged, and parsed only when needed.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Listed<'a> {
    /// Name.
    pub name: &'a str,
    /// Version.
    pub version: &'a str,
    /// Architecture.
    pub arch: &'a str,
    /// Path below the repository's URL.
    pub path: &'a str,
    /// Size of the package file in bytes, decimal.
    pub size: &'a str,
    /// SHA-256 of the package file, hexadecimal.
    pub sha256: &'a str,
    /// Whether it is essential (Debian Policy 3.8): every system has it.
    pub essential: bool,
    /// Whether it has the priority `required` (Debian Policy 2.5): nearly every system has it.
    pub required: bool,
}

#[derive(Default)]
struct Fields<'a> {
    name: Option<&'a str>,
    version: Option<&'a str>,
    arch: Option<&'a str>,
    path: Option<&'a str>,
    size: Option<&'a str>,
    sha256: Option<&'a str>,
    essential: Option<&'a str>,
    priority: Option<&'a str>,
}

impl<'a> Fields<'a> {
    fn whole(&self) -> Option<Listed<'a>> {
        let path = self.path?.trim_start_matches("./");
        let climbs = path.starts_with('/') || path.split('/').any(|name| name == "..");
        let (size, sha256) = (self.size?, self.sha256?);
        let digests = sha256.len() == 64 && size.bytes().all(|b| b.is_ascii_digit());
        let (name, version, arch) = (self.name?, self.version?, self.arch?);
        (digests && !climbs).then_some(Listed {
            name,
            version,
            arch,
            path,
            size,
            sha256,
            essential: self.essential == Some("yes"),
            required: self.priority == Some("required"),
        })
    }
}

/// Reports every package of an index that has all needed fields; the others are skipped.
///
/// An index of a large repository has fifty million bytes: each line is examined once, and nothing is copied.
pub fn for_each_listed<'a>(index: &'a [u8], mut each: impl FnMut(Listed<'a>)) {
    let mut fields = Fields::default();
    let mut from = 0;
    while from <= index.len() {
        let end = memchr::memchr(b'\n', &index[from..]).map_or(index.len(), |at| from + at);
        let line = &index[from..end];
        from = end + 1;
        let line = line.strip_suffix(b"\r").unwrap_or(line);
        if line.is_empty() {
            if let Some(listed) = fields.whole() {
                each(listed);
            }
            fields = Fields::default();
            continue;
        }
        // The first letter rules out nearly all lines.
        if b"PVAFSE".contains(&line[0]) {
            read_field(&mut fields, line);
        }
    }
    if let Some(listed) = fields.whole() {
        each(listed);
    }
}

fn read_field<'a>(fields: &mut Fields<'a>, line: &'a [u8]) {
    let place = match line {
        [b'P', b'a', b'c', ..] => ("Package:", &mut fields.name),
        [b'P', b'r', ..] => ("Priority:", &mut fields.priority),
        [b'V', ..] => ("Version:", &mut fields.version),
        [b'A', ..] => ("Architecture:", &mut fields.arch),
        [b'E', ..] => ("Essential:", &mut fields.essential),
        [b'F', ..] => ("Filename:", &mut fields.path),
        [b'S', b'i', ..] => ("Size:", &mut fields.size),
        [b'S', b'H', ..] => ("SHA256:", &mut fields.sha256),
        _ => return,
    };
    let (name, field) = place;
    if let Some(value) = line.strip_prefix(name.as_bytes())
        && let Ok(value) = std::str::from_utf8(value)
    {
        *field = Some(value.trim());
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    const SUM: &str = "e3b0c44298fc1c149afbf4c8996fb92427ae41e4649b934ca495991b7852b855";

    fn all(index: &str) -> Vec<String> {
        let mut found = Vec::new();
        for_each_listed(index.as_bytes(), |l| {
            found.push(format!("{} {} {} {} {}", l.name, l.version, l.arch, l.path, l.size))
        });
        found
    }

    #[test]
    fn whole_packages_are_told_and_others_passed_over() {
        let one = format!(
            "Package: quay\nVersion: 1:2\nArchitecture: all\nDescription: a\n Package: not me\nFilename: ./pool/q/quay.deb\nSize: 12\nSHA256: {SUM}\n"
        );
        let weak = "Package: weak\nVersion: 1\nArchitecture: all\nFilename: pool/w.deb\nSize: 1\nMD5sum: 0\n";
        let out = one.replace("./pool", "../pool");
        assert_eq!(all(&format!("{one}\n{weak}\n\n{out}\n{one}")), vec!["quay 1:2 all pool/q/quay.deb 12"; 2]);
    }

    proptest::proptest! {
        #[test]
        fn a_damaged_index_lists_only_whole_packages_below_the_repository(seed: u64) {
            let one = |name: &str| format!(
                "Package: {name}\nVersion: 1:2\nArchitecture: all\nFilename: ./pool/q/{name}.deb\nSize: 12\nSHA256: {SUM}\n\n"
            );
            let text = crate::testkit::mutated((one("quay") + &one("pier")).as_bytes(), seed);
            let mut told = 0;
            for_each_listed(&text, |l| {
                told += 1;
                assert!(l.sha256.len() == 64 && !l.path.starts_with('/') && l.path.split('/').all(|n| n != ".."), "{l:?}");
                assert!(l.size.bytes().all(|b| b.is_ascii_digit()));
            });
            proptest::prop_assert!(told <= 3, "a doubled piece makes no more than one of two");
        }
    }
}
