//! On a small file system of 10,240 blocks of 1 KiB in two groups, made with the file system's own tools, and on damaged copies of it.

use std::collections::HashSet;
use std::io;
use std::sync::OnceLock;

use super::*;

/// The blocks of some of its files, by its own debugging tool.
const FERRY: u64 = 1362;
const CHART_NODE: u64 = 1333;
const MANY_INDEX: u64 = 1347;
const MANY_LEAF: u64 = 1350;

fn sound() -> &'static Vec<u8> {
    static IMAGE: OnceLock<Vec<u8>> = OnceLock::new();
    IMAGE.get_or_init(|| zstd::decode_all(&include_bytes!("data/small.img.zst")[..]).unwrap())
}

fn pool() -> &'static rayon::ThreadPool {
    static POOL: OnceLock<rayon::ThreadPool> = OnceLock::new();
    POOL.get_or_init(|| rayon::ThreadPoolBuilder::new().num_threads(2).build().unwrap())
}

fn checked(disk: &dyn ReadAt) -> Checked {
    FileSystem::open(disk).unwrap().check(pool(), &|_| true)
}

/// The problems of a copy with one byte changed.
fn flipped(at: u64) -> Vec<Problem> {
    let mut image = sound().to_vec();
    image[usize::try_from(at).unwrap()] ^= 4;
    checked(&image).problems
}

fn paths_of(fs: &FileSystem<'_>, inode: u32) -> Vec<String> {
    let paths = Paths::find(fs, &HashSet::from([inode])).of(inode);
    paths.into_iter().map(|path| String::from_utf8(path).unwrap()).collect()
}

fn path(disk: &dyn ReadAt, inode: Option<u32>) -> Vec<String> {
    paths_of(&FileSystem::open(disk).unwrap(), inode.unwrap())
}

/// The number of an inode, by its path.
fn number(path: &str) -> u32 {
    let fs = FileSystem::open(sound()).unwrap();
    let mut at = inode::ROOT;
    for name in path.split('/').skip(1) {
        let names = fs.names_in(&fs.inode(at).unwrap());
        at = names.into_iter().find(|found| found.name == name.as_bytes()).unwrap().inode;
    }
    at
}

#[test]
fn a_sound_file_system_has_no_problem_and_its_superblock_says_what_it_is() {
    let fs = FileSystem::open(sound()).unwrap();
    let superblock = &fs.superblock;
    assert_eq!((superblock.label.as_str(), superblock.block_size, superblock.groups()), ("quayside", 1024, 2));
    assert_eq!(superblock.uuid, "11111111-2222-3333-4444-555555555555");
    assert!(superblock.clean && !superblock.marked && superblock.errors == 0 && !superblock.needs_recovery());
    assert!(superblock.has_checksums() && superblock.sum_is_right == Some(true) && !fs.is_cut());
    let checked = checked(sound());
    assert_eq!((checked.problems.as_slice(), checked.inodes, checked.stopped), (&[][..], 424, false));
    assert!(fs.check(pool(), &|_| false).stopped);
}

#[test]
fn each_block_is_told_with_what_it_belongs_to() {
    let fs = FileSystem::open(sound()).unwrap();
    let (ferry, chart, many) = (number("/usr/bin/ferry"), number("/home/mirela/chart.dat"), number("/many"));
    let expected = [
        (0, Owner::Group(Part::Superblock, 0)),
        (1, Owner::Group(Part::Superblock, 0)),
        (2, Owner::Group(Part::Descriptor, 0)),
        (82, Owner::Group(Part::BlockBitmap, 0)),
        (85, Owner::Group(Part::InodeBitmap, 1)),
        (90, Owner::Group(Part::InodeTable, 0)),
        (1328, Owner::File(chart)),
        (CHART_NODE, Owner::Metadata(chart)),
        (MANY_LEAF, Owner::File(many)),
        (FERRY + 19, Owner::File(ferry)),
        (8193, Owner::Group(Part::Superblock, 1)),
        (9000, Owner::Free),
    ];
    let blocks = expected.each_ref().map(|(block, _)| *block);
    assert_eq!(owners(&fs, &blocks), expected.map(|(_, owner)| owner));
    assert_eq!(paths_of(&fs, ferry), ["/usr/bin/ferry"]);
    let mut both = paths_of(&fs, number("/etc/quay.conf"));
    both.sort();
    assert_eq!(both, ["/etc/also.conf", "/etc/quay.conf"]);
    assert_eq!(paths_of(&fs, inode::ROOT), ["/"]);
    let mut journal = 0;
    super::mapping::walk(&fs, &fs.inode(superblock_journal(&fs)).unwrap(), &mut |piece| match piece {
        super::mapping::Piece::Content(run) if journal == 0 => journal = run.block,
        _ => {}
    });
    assert_eq!(owners(&fs, &[journal]), [Owner::Journal]);
}

fn superblock_journal(fs: &FileSystem<'_>) -> u32 {
    fs.superblock.journal_inode
}

#[test]
fn one_changed_bit_is_told_once_and_where_it_is() {
    let only = |at: u64| {
        let problems = flipped(at);
        assert_eq!(problems.len(), 1, "{at}: {problems:#?}");
        problems.into_iter().next().unwrap()
    };
    // The first superblock: a copy is used, and everything else is still found to be right.
    let first = only(1024 + 0x30);
    assert_eq!((first.part, first.fault, first.group), (Part::Superblock, Fault::Checksum, 0));
    let copy = only(8193 * 1024 + 0x30);
    assert_eq!((copy.part, copy.fault, copy.group), (Part::Superblock, Fault::Checksum, 1));
    let bitmap = only(82 * 1024 + 5);
    assert_eq!((bitmap.part, bitmap.group, bitmap.block), (Part::BlockBitmap, 0, Some(82)));
    assert_eq!(only(85 * 1024 + 5).part, Part::InodeBitmap);
    let ferry = number("/usr/bin/ferry");
    let table = if ferry > 400 { 186 } else { 86 };
    let at = table * 1024 + u64::from((ferry - 1) % 400) * 256;
    let inode = only(at + 0x28 + 20);
    assert_eq!((inode.part, inode.fault, inode.inode), (Part::Inode, Fault::Checksum, Some(ferry)));
    let node = only(CHART_NODE * 1024 + 30);
    assert_eq!((node.part, node.fault.clone(), node.block), (Part::Places, Fault::Checksum, Some(CHART_NODE)));
    assert_eq!(path(sound(), node.inode), ["/home/mirela/chart.dat"]);
    for block in [MANY_INDEX, MANY_LEAF] {
        let folder = only(block * 1024 + 44);
        assert_eq!((folder.part, folder.fault.clone(), folder.block), (Part::Folder, Fault::Checksum, Some(block)));
        assert_eq!(path(sound(), folder.inode), ["/many"]);
    }
    assert_eq!(flipped(FERRY * 1024), [], "what a file contains has no checksum here");
    // Where a group's parts are is known from the copy of its descriptor.
    let descriptor = only(2 * 1024 + 64 + 0x10);
    assert_eq!((descriptor.part, descriptor.fault, descriptor.group), (Part::Descriptor, Fault::Checksum, 1));
    let mut image = sound().to_vec();
    image[2 * 1024 + 64 + 8] ^= 1;
    assert_eq!(checked(&image).inodes, 424);
}

#[test]
fn a_damaged_inode_is_still_named_by_its_folder() {
    let letters = number("/home/mirela/letters");
    let mut image = sound().to_vec();
    image[86 * 1024 + (letters as usize - 1) * 256 + 0x28 + 20] ^= 1;
    let problems = checked(&image).problems;
    assert_eq!(problems.iter().map(|p| p.inode).collect::<Vec<_>>(), [Some(letters)]);
    assert_eq!(path(&image, problems[0].inode), ["/home/mirela/letters"]);
}

/// A disk with an unreadable place.
struct Bad<'a>(&'a Vec<u8>, std::ops::Range<u64>);

impl ReadAt for Bad<'_> {
    fn size(&self) -> u64 {
        self.0.len() as u64
    }

    fn read_at(&self, at: u64, buffer: &mut [u8]) -> io::Result<()> {
        if at < self.1.end && at + buffer.len() as u64 > self.1.start {
            return Err(io::Error::from_raw_os_error(5));
        }
        self.0.read_at(at, buffer)
    }
}

#[test]
fn an_unreadable_place_is_told_and_the_rest_is_examined() {
    let of = |block: u64| checked(&Bad(sound(), block * 1024..block * 1024 + 1)).problems;
    for (block, part) in [
        (1, Part::Superblock),
        (8193, Part::Superblock),
        (82, Part::BlockBitmap),
        (90, Part::InodeTable),
        (CHART_NODE, Part::Places),
        (MANY_LEAF, Part::Folder),
    ] {
        let problems = of(block);
        assert_eq!(problems.len(), 1, "{block}: {problems:#?}");
        assert_eq!((problems[0].part, &problems[0].fault), (part, &Fault::Unreadable), "{block}");
    }
    assert_eq!(of(FERRY), [], "contents are not read");
}

#[test]
fn a_disk_that_ends_too_early_or_has_no_file_system_is_told() {
    let cut = sound()[..8 << 20].to_vec();
    let fs = FileSystem::open(&cut).unwrap();
    assert!(fs.is_cut());
    let problems = fs.check(pool(), &|_| true).problems;
    assert!(problems.iter().all(|p| matches!(p.fault, Fault::Structure("the disk ends before it"))), "{problems:#?}");
    for none in [0, 100, 5000] {
        assert!(FileSystem::open(&vec![0; none]).is_err());
    }
    // Both superblocks lost: the copy of a third group is not there.
    let mut image = sound().to_vec();
    image[1024..2048].fill(0);
    assert_eq!(FileSystem::open(&image).unwrap().copy_in, 1);
    image[8193 * 1024..8194 * 1024].fill(0);
    assert!(FileSystem::open(&image).is_err());
}

#[test]
fn what_is_still_wrong_at_the_second_look_stays_a_problem_and_the_rest_does_not() {
    let mut image = sound().to_vec();
    for at in [1024 + 0x30, 82 * 1024 + 5, CHART_NODE as usize * 1024 + 30, MANY_LEAF as usize * 1024 + 44] {
        image[at] ^= 4;
    }
    let problems = checked(&image).problems;
    assert_eq!(problems.len(), 4);
    let damaged = FileSystem::open(&image).unwrap();
    assert!(problems.iter().all(|problem| damaged.is_still_there(problem)));
    let now = FileSystem::open(sound()).unwrap();
    assert!(!problems.iter().any(|problem| now.is_still_there(problem)));
}

/// The places of all bytes that say something.
fn telling() -> &'static [usize] {
    static PLACES: OnceLock<Vec<usize>> = OnceLock::new();
    PLACES.get_or_init(|| {
        let content = (1328..1385).map(|block| block * 1024..(block + 1) * 1024);
        let nodes = [CHART_NODE, MANY_INDEX, MANY_LEAF].map(|block| block as usize * 1024);
        let is_content =
            |at: usize| content.clone().any(|r| r.contains(&at)) && !nodes.iter().any(|n| (*n..n + 1024).contains(&at));
        (1024..sound().len()).filter(|at| sound()[*at] != 0 && !is_content(*at)).collect()
    })
}

/// Reads the first pieces of a file, each from where something was written: they follow each other, and end.
fn read_pieces(content: &super::FileContent<'_>) {
    let (mut at, mut buffer) = (0, vec![0; 8192]);
    for _ in 0..20 {
        let Some(next) = content.written_after(at) else { return };
        assert!(at <= next.start && next.start < next.end && next.end <= content.size(), "{at}: {next:?}");
        let _ = content.read_at(next.start, &mut buffer);
        let _ = content.read_at(next.end - 1, &mut buffer);
        at = next.end;
    }
}

proptest::proptest! {
    #![proptest_config(proptest::prelude::ProptestConfig::with_cases(60))]
    #[test]
    fn whatever_is_damaged_the_rest_is_read_and_no_reader_is_led_astray(
        places in proptest::collection::vec((0usize..1_000_000, proptest::prelude::any::<u8>()), 1..40),
        without_sums in proptest::prelude::any::<bool>(),
    ) {
        let mut image = sound().to_vec();
        // Without checksums every wrong number is believed.
        if without_sums { image[1024 + 0x65] &= !4; }
        for (place, byte) in places {
            image[telling()[place % telling().len()]] = byte;
        }
        if let Ok(fs) = FileSystem::open(&image) {
            let checked = fs.check(pool(), &|_| true);
            let inodes: HashSet<u32> = checked.problems.iter().filter_map(|p| p.inode).collect();
            let paths = Paths::find(&fs, &inodes);
            inodes.iter().for_each(|inode| drop(paths.of(*inode)));
            let _ = owners(&fs, &[0, 1, 82, FERRY, CHART_NODE, MANY_LEAF, 9000]);
            let mut folders = Vec::new();
            fs.each_folder(&mut |inode| folders.push(inode.clone()));
            for folder in folders {
                let _ = fs.above(&folder);
                for name in fs.entries_of(&folder).0.iter().take(50) {
                    if let Ok(inode) = fs.inode(name.inode) { read_pieces(&fs.content(&inode)); }
                }
            }
        }
    }
}

#[test]
fn what_the_kernel_does_not_mount_is_known_beside_the_superblock() {
    let faults = |image: &Vec<u8>| FileSystem::open(image).unwrap().mount_faults();
    assert_eq!(faults(sound()), []);
    let (descriptors, journal, root) = {
        let fs = FileSystem::open(sound()).unwrap();
        let first = |inode: u32| fs.content(&fs.inode(inode).unwrap()).place_of(0).unwrap();
        (2048, first(8), first(inode::ROOT))
    };
    let zeroed = |at: u64| {
        let mut image = sound().to_vec();
        let at = usize::try_from(at).unwrap();
        image[at..at + 1024].fill(0);
        faults(&image)
    };
    assert_eq!(zeroed(descriptors), [MountFault::Descriptors(2)]);
    assert_eq!(zeroed(journal), [MountFault::Journal("its superblock is not valid")]);
    assert_eq!(zeroed(root), [MountFault::Root]);
}
