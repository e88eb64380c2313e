//! A small ext4 file system, written at once: one group, without ext4's journal and checksums (Documentation/filesystems/ext4).

use std::collections::BTreeMap;

use super::Node;

const BLOCK: usize = 4096;
const INODE: usize = 256;
/// The first inode that is not reserved.
const FIRST: u32 = 11;
const ROOT: u32 = 2;
const MAGIC: u16 = 0xef53;
const EXTENT_MAGIC: u16 = 0xf30a;
const EXTENTS: u32 = 0x8_0000;
/// Blocks of one group.
const GROUP: u32 = 32_768;

/// An entry: its inode, its type in a folder, and its name.
type Entry = (u32, u8, Vec<u8>);

/// A file system while it is written.
struct Writer {
    image: Vec<u8>,
    next_block: u32,
    next_inode: u32,
    inodes: u32,
    table: u32,
    folders: u32,
    time: u32,
}

/// A file system of `bytes` bytes with these files, by their paths without a leading slash. Folders are made as they are needed.
#[must_use]
pub(super) fn file_system(
    nodes: &BTreeMap<String, Node>,
    bytes: usize,
    (uuid, label, time): ([u8; 16], &str, u32),
) -> Vec<u8> {
    let blocks = u32::try_from(bytes / BLOCK).unwrap_or(GROUP).min(GROUP);
    let inodes = u32::try_from(nodes.len() * 3 + 64).unwrap_or(4096).next_multiple_of(16);
    let table = 4;
    let next_block = table + inodes * INODE as u32 / BLOCK as u32;
    let image = vec![0; blocks as usize * BLOCK];
    let mut writer = Writer { image, next_block, next_inode: FIRST, inodes, table, folders: 0, time };
    let tree = Folder::of(nodes);
    writer.folder(&tree, ROOT, ROOT);
    writer.finish(uuid, label);
    writer.image
}

/// A folder with what is in it.
#[derive(Default)]
struct Folder<'a> {
    folders: BTreeMap<&'a str, Folder<'a>>,
    files: BTreeMap<&'a str, &'a Node>,
}

impl<'a> Folder<'a> {
    fn of(nodes: &'a BTreeMap<String, Node>) -> Self {
        let mut root = Self::default();
        for (path, node) in nodes {
            let mut at = &mut root;
            let (folders, name) = path.rsplit_once('/').unwrap_or(("", path));
            for folder in folders.split('/').filter(|name| !name.is_empty()) {
                at = at.folders.entry(folder).or_default();
            }
            match node {
                Node::Folder => {
                    at.folders.entry(name).or_default();
                }
                node => {
                    at.files.insert(name, node);
                }
            }
        }
        root
    }
}

impl Writer {
    fn folder(&mut self, folder: &Folder<'_>, number: u32, above: u32) {
        self.folders += 1;
        let mut entries: Vec<Entry> = vec![(number, 2, b".".to_vec()), (above, 2, b"..".to_vec())];
        for (name, below) in &folder.folders {
            let inode = self.take_inode();
            entries.push((inode, 2, name.as_bytes().to_vec()));
            self.folder(below, inode, number);
        }
        for (name, node) in &folder.files {
            let inode = self.take_inode();
            let kind = match node {
                Node::File { content, mode } => {
                    self.file(inode, 0o100_000 | mode, content);
                    1
                }
                Node::Link(target) => {
                    self.link(inode, target.as_bytes());
                    7
                }
                Node::Folder => continue,
            };
            entries.push((inode, kind, name.as_bytes().to_vec()));
        }
        let links = 2 + u16::try_from(folder.folders.len()).unwrap_or(u16::MAX);
        let content = names(&entries);
        let place = self.store(&content);
        self.inode(number, (0o040_755, links), content.len() as u64, place);
    }

    fn take_inode(&mut self) -> u32 {
        self.next_inode += 1;
        self.next_inode - 1
    }

    /// Stores a content in blocks: the first one, and their number.
    fn store(&mut self, content: &[u8]) -> (u32, u32) {
        let first = self.next_block;
        let count = u32::try_from(content.len().div_ceil(BLOCK)).unwrap_or_default();
        let at = first as usize * BLOCK;
        self.image[at..at + content.len()].copy_from_slice(content);
        self.next_block += count;
        (first, count)
    }

    fn file(&mut self, number: u32, mode: u32, content: &[u8]) {
        let place = self.store(content);
        self.inode(number, (u16::try_from(mode).unwrap_or_default(), 1), content.len() as u64, place);
    }

    fn link(&mut self, number: u32, target: &[u8]) {
        self.inode(number, (0o120_777, 1), target.len() as u64, (0, 0));
        let at = self.place_of(number);
        self.put(at + 0x20, &0u32.to_le_bytes());
        self.image[at + 0x28..at + 0x64].fill(0);
        self.put(at + 0x28, target);
    }

    fn place_of(&self, number: u32) -> usize {
        self.table as usize * BLOCK + (number as usize - 1) * INODE
    }

    fn put(&mut self, at: usize, bytes: &[u8]) {
        self.image[at..at + bytes.len()].copy_from_slice(bytes);
    }

    fn inode(&mut self, number: u32, (mode, links): (u16, u16), size: u64, (first, count): (u32, u32)) {
        let at = self.place_of(number);
        self.put(at, &mode.to_le_bytes());
        self.put(at + 4, &(size as u32).to_le_bytes());
        for time in [8, 12, 16] {
            self.put(at + time, &self.time.to_le_bytes());
        }
        self.put(at + 0x1a, &links.to_le_bytes());
        self.put(at + 0x1c, &(count * (BLOCK / 512) as u32).to_le_bytes());
        self.put(at + 0x20, &EXTENTS.to_le_bytes());
        self.put(at + 0x28, &EXTENT_MAGIC.to_le_bytes());
        self.put(at + 0x2a, &u16::from(count > 0).to_le_bytes());
        self.put(at + 0x2c, &4u16.to_le_bytes());
        self.put(at + 0x38, &(count as u16).to_le_bytes());
        self.put(at + 0x3c, &first.to_le_bytes());
        self.put(at + 0x80, &32u16.to_le_bytes());
    }

    /// Writes superblock, group and bitmaps.
    fn finish(&mut self, uuid: [u8; 16], label: &str) {
        let blocks = (self.image.len() / BLOCK) as u32;
        let (free_blocks, free_inodes) = (blocks - self.next_block, self.inodes - (self.next_inode - 1));
        let at = 1024;
        let fields: [(usize, u32); 16] = [
            (0, self.inodes),
            (4, blocks),
            (12, free_blocks),
            (16, free_inodes),
            (24, 2),
            (28, 2),
            (32, GROUP),
            (36, GROUP),
            (40, self.inodes),
            (48, self.time),
            (64, self.time),
            (76, 1),
            (84, FIRST),
            (96, 0x42),
            (100, 0x3),
            (264, self.time),
        ];
        for (field, value) in fields {
            self.put(at + field, &value.to_le_bytes());
        }
        let halves: [(usize, u16); 5] = [(54, u16::MAX), (56, MAGIC), (58, 1), (60, 1), (88, INODE as u16)];
        for (field, value) in halves {
            self.put(at + field, &value.to_le_bytes());
        }
        self.put(at + 104, &uuid);
        self.put(at + 120, label.as_bytes());
        for (field, value) in [(0, 2), (4, 3), (8, self.table)] {
            self.put(BLOCK + field, &u32::to_le_bytes(value));
        }
        for (field, value) in [(12, free_blocks), (14, free_inodes), (16, self.folders)] {
            self.put(BLOCK + field, &(value as u16).to_le_bytes());
        }
        self.bitmap(2, self.next_block, blocks);
        self.bitmap(3, self.next_inode - 1, self.inodes);
    }

    /// A bitmap of which the first `used` bits are set, and those behind the end.
    fn bitmap(&mut self, block: usize, used: u32, all: u32) {
        let at = block * BLOCK;
        for bit in (0..used).chain(all..(BLOCK * 8) as u32) {
            self.image[at + bit as usize / 8] |= 1 << (bit % 8);
        }
    }
}

/// The blocks of a folder.
fn names(entries: &[Entry]) -> Vec<u8> {
    let size = |name: &[u8]| (8 + name.len()).next_multiple_of(4);
    let mut blocks: Vec<Vec<&Entry>> = vec![Vec::new()];
    let mut filled = 0;
    for entry in entries {
        if filled + size(&entry.2) > BLOCK {
            blocks.push(Vec::new());
            filled = 0;
        }
        filled += size(&entry.2);
        if let Some(last) = blocks.last_mut() {
            last.push(entry);
        }
    }
    let mut content = Vec::new();
    for block in &blocks {
        let start = content.len();
        for (at, (inode, kind, name)) in block.iter().enumerate() {
            let is_last = at + 1 == block.len();
            let length = if is_last { BLOCK - (content.len() - start) } else { size(name) };
            let begin = content.len();
            content.extend(inode.to_le_bytes());
            content.extend((length as u16).to_le_bytes());
            content.extend([name.len() as u8, *kind]);
            content.extend(name);
            content.resize(begin + length, 0);
        }
    }
    content
}
