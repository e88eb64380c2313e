//! The lists of what is mounted and opened at the start: fstab(5) and crypttab(5).

/// Further lines are not read.
const MAX_LINES: usize = 1000;

/// A line of fstab(5).
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Mount {
    /// Its line, from 1.
    pub line: usize,
    /// The device, as it is written, without quotation marks.
    pub device: String,
    /// The mount point; `none` for swap.
    pub place: Vec<u8>,
    /// The type of the file system.
    pub kind: String,
    /// The options.
    pub options: Vec<String>,
    /// When it is checked at the start; 0 for never.
    pub pass: u32,
}

impl Mount {
    /// Whether it has an option.
    #[must_use]
    pub fn has(&self, option: &str) -> bool {
        self.options.iter().any(|own| own == option)
    }

    /// Whether the start goes on without it: it is not mounted then, or it may fail.
    #[must_use]
    pub fn is_optional(&self) -> bool {
        ["noauto", "nofail", "x-systemd.automount"].iter().any(|option| self.has(option))
    }
}

/// A line of crypttab(5).
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct CryptVolume {
    /// Its line, from 1.
    pub line: usize,
    /// The name that it gets below /dev/mapper.
    pub name: String,
    /// The encrypted device.
    pub device: String,
    /// The options.
    pub options: Vec<String>,
}

/// A line that cannot be read: its number.
pub type BadLine = usize;

/// The lines that are no comments, each with its number and its fields.
fn lines(text: &[u8]) -> impl Iterator<Item = (usize, Vec<&[u8]>)> {
    (1..).zip(text.split(|byte| *byte == b'\n')).take(MAX_LINES).filter_map(|(number, line)| {
        let fields: Vec<&[u8]> = line.split(u8::is_ascii_whitespace).filter(|field| !field.is_empty()).collect();
        let is_line = fields.first().is_some_and(|first| !first.starts_with(b"#"));
        is_line.then_some((number, fields))
    })
}

fn words(field: Option<&&[u8]>) -> Vec<String> {
    let text = field.map(|field| String::from_utf8_lossy(field)).unwrap_or_default();
    text.split(',').filter(|word| !word.is_empty()).map(str::to_owned).collect()
}

/// A device without quotation marks: `UUID="12ab"` is as good as `UUID=12ab`.
fn device(field: &[u8]) -> String {
    String::from_utf8_lossy(&unescape(field)).replace('"', "")
}

/// Decodes fstab's octal escapes (`\040` for a space).
pub(crate) fn unescape(field: &[u8]) -> Vec<u8> {
    let mut out = Vec::with_capacity(field.len());
    let mut rest = field;
    while let Some((first, after)) = rest.split_first() {
        let digits = after.get(..3).filter(|_| *first == b'\\').and_then(|digits| std::str::from_utf8(digits).ok());
        match digits.and_then(|digits| u8::from_str_radix(digits, 8).ok()) {
            Some(byte) => {
                out.push(byte);
                rest = &after[3..];
            }
            None => {
                out.push(*first);
                rest = after;
            }
        }
    }
    out
}

/// Reads fstab(5): its lines, and the numbers of those that cannot be read.
#[must_use]
pub fn fstab(text: &[u8]) -> (Vec<Mount>, Vec<BadLine>) {
    let (mut mounts, mut bad) = (Vec::new(), Vec::new());
    for (line, fields) in lines(text) {
        let [first, place, kind, ..] = fields[..] else {
            bad.push(line);
            continue;
        };
        if fields.iter().any(|field| field.contains(&0)) {
            bad.push(line);
            continue;
        }
        mounts.push(Mount {
            line,
            device: device(first),
            place: unescape(place),
            kind: String::from_utf8_lossy(kind).into_owned(),
            options: words(fields.get(3)),
            pass: fields.get(5).and_then(|pass| std::str::from_utf8(pass).ok()?.parse().ok()).unwrap_or_default(),
        });
    }
    (mounts, bad)
}

/// Reads crypttab(5): its lines, and the numbers of those that cannot be read.
#[must_use]
pub fn crypttab(text: &[u8]) -> (Vec<CryptVolume>, Vec<BadLine>) {
    let (mut volumes, mut bad) = (Vec::new(), Vec::new());
    for (line, fields) in lines(text) {
        let [name, encrypted, ..] = fields[..] else {
            bad.push(line);
            continue;
        };
        let name = String::from_utf8_lossy(name).into_owned();
        volumes.push(CryptVolume { line, name, device: device(encrypted), options: words(fields.get(3)) });
    }
    (volumes, bad)
}

#[cfg(test)]
mod tests {
    use super::*;

    const FSTAB: &[u8] = b"# comment\nUUID=\"12ab\" / ext4 errors=remount-ro 0 1\nUUID=3 /a\\040b vfat nofail,umask=0077 0 2\nshort line\n\n/dev/sdb1 none swap sw\n";

    #[test]
    fn lines_are_read_with_their_numbers() {
        let (mounts, bad) = fstab(FSTAB);
        assert_eq!(bad, [4]);
        let told: Vec<_> = mounts.iter().map(|m| (m.line, &*m.device, &m.place[..], &*m.kind, m.pass)).collect();
        let expected = [
            (2, "UUID=12ab", &b"/"[..], "ext4", 1),
            (3, "UUID=3", b"/a b", "vfat", 2),
            (6, "/dev/sdb1", b"none", "swap", 0),
        ];
        assert_eq!(told, expected);
        assert!(mounts[1].is_optional() && !mounts[0].is_optional() && mounts[0].has("errors=remount-ro"));
        let (volumes, bad) = crypttab(b"boat UUID=77 none luks,discard\nalone\n");
        assert_eq!(
            (&*volumes[0].name, &*volumes[0].device, volumes[0].options.len(), bad),
            ("boat", "UUID=77", 2, vec![2])
        );
    }

    proptest::proptest! {
        #[test]
        fn damaged_lists_are_read_without_harm(seed: u64) {
            let text = crate::testkit::mutated(FSTAB, seed);
            let (mounts, _) = fstab(&text);
            proptest::prop_assert!(mounts.len() <= MAX_LINES);
            let _ = crypttab(&text);
        }
    }
}
