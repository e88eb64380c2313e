//! The lists by which modules are found: `modules.dep`, `modules.alias`, `modules.symbols` (modules.dep(5)), as text, and as the binary tries
//! that programs read (libkmod-index.c in the source of kmod).

use crate::formats::numbers::be32;

const MAGIC: u32 = 0xb007_f457;
const VERSION: u32 = 0x0002_0001;
const PREFIX: u32 = 0x8000_0000;
const VALUES: u32 = 0x4000_0000;
const CHILDREN: u32 = 0x2000_0000;
const PLACE: u32 = 0x0fff_ffff;
/// Longer keys are not valid.
const MAX_KEY: usize = 4096;
/// More values are not read.
const MAX_VALUES: usize = 1_000_000;

/// A key with its value.
pub type Pair = (String, String);

/// The lines of a text: comments are left out.
fn lines(text: &[u8]) -> impl Iterator<Item = String> {
    let lines = text.split(|byte| *byte == b'\n').filter(|line| !line.is_empty() && !line.starts_with(b"#"));
    lines.map(|line| String::from_utf8_lossy(line).into_owned())
}

/// `modules.dep` as text: each module's path, with the paths of the modules that it needs.
#[must_use]
pub fn dependencies(text: &[u8]) -> Vec<(String, Vec<String>)> {
    let one = |line: String| {
        let (path, needs) = line.split_once(':')?;
        Some((path.to_owned(), needs.split_whitespace().map(str::to_owned).collect()))
    };
    lines(text).filter_map(one).collect()
}

/// `modules.alias` or `modules.symbols` as text: what each module is loaded for.
#[must_use]
pub fn aliases(text: &[u8]) -> Vec<Pair> {
    let one = |line: String| {
        let mut words = line.strip_prefix("alias ")?.rsplitn(2, ' ');
        let (module, alias) = (words.next()?, words.next()?);
        Some((alias.to_owned(), module.to_owned()))
    };
    lines(text).filter_map(one).collect()
}

/// The pairs of a binary trie; `None` if it is not valid.
#[must_use]
pub fn trie(bytes: &[u8]) -> Option<Vec<Pair>> {
    if be32(bytes, 0) != MAGIC || be32(bytes, 4) != VERSION {
        return None;
    }
    let mut pairs = Vec::new();
    // Every node is read once: a place that is met again leads in a circle.
    let mut open = vec![(be32(bytes, 8), Vec::new())];
    let mut left = bytes.len();
    while let Some((node, mut key)) = open.pop() {
        left = left.checked_sub(1)?;
        let mut at = (node & PLACE) as usize;
        if node & PREFIX != 0 {
            let text = text_at(bytes, &mut at)?;
            key.extend(text);
        }
        if key.len() > MAX_KEY {
            return None;
        }
        if node & CHILDREN != 0 {
            let (first, last) = (*bytes.get(at)?, *bytes.get(at + 1)?);
            at += 2;
            for letter in first..=last {
                bytes.get(at..at + 4)?;
                let child = be32(bytes, at);
                at += 4;
                if child != 0 {
                    open.push((child, [&key[..], &[letter]].concat()));
                }
            }
        }
        if node & VALUES != 0 {
            bytes.get(at..at + 4)?;
            let count = be32(bytes, at);
            at += 4;
            for _ in 0..count {
                // In front of each is its place in the order.
                at += 4;
                let value = text_at(bytes, &mut at)?;
                pairs.push((String::from_utf8_lossy(&key).into_owned(), String::from_utf8_lossy(value).into_owned()));
                if pairs.len() > MAX_VALUES {
                    return None;
                }
            }
        }
    }
    Some(pairs)
}

/// Text up to a zero byte, which is skipped.
fn text_at<'a>(bytes: &'a [u8], at: &mut usize) -> Option<&'a [u8]> {
    let rest = bytes.get(*at..)?;
    let end = rest.iter().position(|byte| *byte == 0)?;
    *at += end + 1;
    Some(&rest[..end])
}

#[cfg(test)]
mod tests {
    use super::*;

    /// A trie with `oar` and `ox`: a root with two children behind the common letter.
    fn sample() -> Vec<u8> {
        let mut bytes = [MAGIC, VERSION].iter().flat_map(|n| n.to_be_bytes()).collect::<Vec<u8>>();
        bytes.extend([0; 4]);
        let node = |bytes: &mut Vec<u8>, prefix: &str, value: &str| {
            let at = bytes.len() as u32 | PREFIX | VALUES;
            bytes.extend(prefix.bytes());
            bytes.push(0);
            bytes.extend(1u32.to_be_bytes());
            bytes.extend(0u32.to_be_bytes());
            bytes.extend(value.bytes());
            bytes.push(0);
            at
        };
        let (oar, ox) = (node(&mut bytes, "r", "row"), node(&mut bytes, "", "plough"));
        let root = bytes.len() as u32 | PREFIX | CHILDREN;
        bytes.extend(b"o\0ax");
        for letter in b'a'..=b'x' {
            let child = match letter {
                b'a' => oar,
                b'x' => ox,
                _ => 0,
            };
            bytes.extend(child.to_be_bytes());
        }
        bytes[8..12].copy_from_slice(&root.to_be_bytes());
        bytes
    }

    #[test]
    fn text_and_trie_are_read() {
        let mut pairs = trie(&sample()).unwrap();
        pairs.sort();
        assert_eq!(pairs, [("oar".into(), "row".into()), ("ox".into(), "plough".into())]);
        assert_eq!(trie(b"x"), None);
        let text = b"# comment\nalias pci:v* with space boat\nalias symbol:row oar\n";
        assert_eq!(aliases(text)[0], ("pci:v* with space".into(), "boat".into()));
        let needs = dependencies(b"kernel/a.ko: kernel/b.ko kernel/c.ko\nkernel/b.ko:\n");
        assert_eq!(needs[0].1, ["kernel/b.ko", "kernel/c.ko"]);
        assert!(needs[1].1.is_empty());
    }

    proptest::proptest! {
        #[test]
        fn a_damaged_trie_is_read_without_harm(seed: u64) {
            let _ = trie(&crate::testkit::mutated(&sample(), seed));
        }
    }
}
