//! On a small file system as a crash left it: what its journal has of it is newer in places, and knows of files that were deleted.

use std::sync::OnceLock;

use super::*;

/// An image of 8 MiB in blocks of 1 KiB, copied while it was mounted by a real kernel: letters were deleted and renamed, one of them was still
/// open, and the last of this was committed and not yet written to its place.
fn crashed() -> &'static Vec<u8> {
    static IMAGE: OnceLock<Vec<u8>> = OnceLock::new();
    IMAGE.get_or_init(|| zstd::decode_all(&include_bytes!("data/crashed.img.zst")[..]).unwrap())
}

fn pool() -> &'static rayon::ThreadPool {
    static POOL: OnceLock<rayon::ThreadPool> = OnceLock::new();
    POOL.get_or_init(|| rayon::ThreadPoolBuilder::new().num_threads(2).build().unwrap())
}

#[test]
fn after_a_crash_the_journal_is_applied_and_what_it_makes_agrees() {
    let replayed = Replayed::new(crashed()).unwrap();
    assert_eq!((replayed.blocks(), replayed.is_all()), (15, true));
    let (before, after) =
        (FileSystem::open(crashed()).unwrap(), FileSystem::open_with(crashed(), Some(&replayed)).unwrap());
    let renamed = b"home/mirela/Letters/renamed";
    assert!(before.find(renamed).is_none() && after.find(renamed).is_some());
    assert!(after.find(b"home/mirela/Letters/letter-5").is_none() && after.find(b"home/mirela/never").is_none());
    let checked = after.check(pool(), &|_| true);
    assert!(checked.compared && checked.problems.is_empty(), "{checked:?}");
    assert!(!before.check(pool(), &|_| true).compared, "nothing is compared that is not up to date");
    // Reading does not depend on where it begins.
    let size = after.superblock.block_size;
    for block in 0..200 {
        let whole = replayed.bytes_at(block * size, size as usize).unwrap();
        let halves = [0, size / 2].map(|at| replayed.bytes_at(block * size + at, size as usize / 2).unwrap());
        assert_eq!(whole, halves.concat());
    }
}

#[test]
fn deleted_files_are_found_by_name_with_their_content() {
    let replayed = Replayed::new(crashed()).unwrap();
    let fs = FileSystem::open_with(crashed(), Some(&replayed)).unwrap();
    let found = deleted_files(&fs).unwrap();
    let mut told: Vec<(String, u64, bool)> = found
        .iter()
        .map(|file| {
            let path = String::from_utf8(file.path.clone().unwrap()).unwrap();
            let mut content = vec![0; usize::try_from(file.inode.size).unwrap()];
            fs.content_of_deleted(file).read_at(0, &mut content).unwrap();
            if let Some(number) = path.strip_prefix("/home/mirela/Letters/letter-") {
                let line = format!("letter {number} of the harbour office\n");
                assert!(content.chunks(line.len()).all(|chunk| chunk == line.as_bytes()), "{path}");
            }
            (path.rsplit('/').next().unwrap().to_owned(), file.inode.size, file.is_whole())
        })
        .collect();
    told.sort();
    // The last one was still open: its blocks are its own.
    let expected = [("chart.dat", 46_080, true), ("letter-3", 4_030, true), ("letter-6", 7_750, true)];
    assert_eq!(told, expected.map(|(name, size, whole)| (name.to_owned(), size, whole)));
}

#[test]
fn a_damaged_journal_is_told() {
    let told = |at: usize| {
        let mut image = crashed().clone();
        image[at] ^= 1;
        Replayed::new(&image).err()
    };
    let fs = FileSystem::open(crashed()).unwrap();
    let content = fs.content(&fs.inode(fs.superblock.journal_inode).unwrap());
    let place = |position: u64| usize::try_from(content.place_of(position * 1024).unwrap()).unwrap();
    assert_eq!(told(place(0) + 0x30), Some(NotReplayed::Unusable("its superblock is damaged: the checksum is wrong")));
    let journal = journal::Journal::open(&fs).unwrap();
    let copies = journal.copies();
    assert!(copies.len() > 30, "{}", copies.len());
    let newest = told(usize::try_from(copies[0].place).unwrap() + 100);
    assert_eq!(newest, Some(NotReplayed::Damaged(Fault::Checksum)));
    assert_eq!(Replayed::new(&vec![0; 4096]).err(), Some(NotReplayed::NotNeeded));
}

proptest::proptest! {
    #![proptest_config(proptest::prelude::ProptestConfig::with_cases(60))]
    #[test]
    fn whatever_is_damaged_nothing_is_led_astray(
        places in proptest::collection::vec((0usize..1_000_000, proptest::prelude::any::<u8>()), 1..40),
        without_sums in proptest::prelude::any::<bool>(),
    ) {
        static TELLING: OnceLock<Vec<usize>> = OnceLock::new();
        let telling = TELLING.get_or_init(|| (1024..crashed().len()).filter(|at| crashed()[*at] != 0).collect());
        let mut image = crashed().clone();
        // Without checksums every wrong number is believed: the feature of the file system, and that of its journal.
        if without_sums {
            image[1024 + 0x65] &= !4;
            let fs = FileSystem::open(&image).unwrap();
            let content = fs.content(&fs.inode(fs.superblock.journal_inode).unwrap());
            let place = usize::try_from(content.place_of(0).unwrap()).unwrap();
            image[place + 0x2b] &= !0x18;
        }
        for (place, byte) in places {
            image[telling[place % telling.len()]] = byte;
        }
        let replayed = Replayed::new(&image).ok();
        if let Ok(fs) = FileSystem::open_with(&image, replayed.as_ref()) {
            let _ = fs.check(pool(), &|_| true);
            for file in deleted_files(&fs).unwrap_or_default().iter().take(20) {
                let mut buffer = vec![0; 8192];
                let _ = fs.content_of_deleted(file).read_at(file.inode.size / 2, &mut buffer);
            }
        }
    }
}
