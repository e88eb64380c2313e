//! ext4 file systems after a crash: what their journals have is applied in memory, as the file system's own tool applies it on the disk.

mod support;

#[path = "support/mounts.rs"]
mod mounts;

use std::fs;
use std::io::Write as _;
use std::os::unix::fs::FileExt as _;
use std::path::{Path, PathBuf};
use std::process::Command;

use mounts::{Mounted, root_or_skip};
use support::folder;
use veritum_core::devices::ext4::{FileSystem, NotReplayed, Replayed};
use veritum_core::devices::{Device, ReadAt};
use veritum_core::event::NoObserver;
use veritum_core::work::{DisksWanted, check_disks};

/// Features with which such file systems are made.
const KINDS: [&[&str]; 8] = [
    &["-b", "4096"],
    &["-b", "1024", "-O", "^64bit"],
    &["-O", "^metadata_csum"],
    &["-O", "^metadata_csum,^64bit", "-b", "2048"],
    &["-O", "orphan_file"],
    &["-O", "fast_commit"],
    &["-O", "inline_data", "-J", "size=4"],
    &["-t", "ext3"],
];

fn succeeds(tool: &str, words: &[&str]) -> bool {
    Command::new(tool).args(words).output().is_ok_and(|done| done.status.code().is_some_and(|code| code < 4))
}

/// Files that are created, grow, change and go, with commits between; `false` where the file system refuses it. One file stays open that is
/// deleted.
fn work(top: &Path) -> std::io::Result<fs::File> {
    let commit = |name: &str| fs::File::open(top.join(name))?.sync_all();
    for number in 0..120 {
        fs::write(top.join(format!("letter-{number}")), vec![b'a' + number as u8 % 26; 300 * number])?;
    }
    commit("letter-1")?;
    for number in (0..120).step_by(3) {
        fs::remove_file(top.join(format!("letter-{number}")))?;
    }
    fs::create_dir(top.join("folder"))?;
    commit("letter-1")?;
    // A folder that goes and a file in its blocks: the folder's blocks are revoked.
    for number in 0..400 {
        fs::write(top.join(format!("folder/name-{number}")), b"x")?;
    }
    commit("folder")?;
    fs::remove_dir_all(top.join("folder"))?;
    commit("letter-1")?;
    // Content that looks like a block of the journal itself.
    let mut magic = fs::File::create(top.join("magic"))?;
    for _ in 0..300 {
        magic.write_all(&[0xc0, 0x3b, 0x39, 0x98, 0, 0, 0, 2].repeat(128))?;
    }
    magic.sync_all()?;
    let open = fs::File::create(top.join("open"))?;
    open.write_all_at(&[7; 50_000], 0)?;
    open.sync_all()?;
    fs::remove_file(top.join("open"))?;
    fs::rename(top.join("letter-1"), top.join("renamed"))?;
    commit("renamed")?;
    fs::write(top.join("never"), b"not committed")?;
    Ok(open)
}

/// The image of a file system as a crash leaves it; `None` where such file systems are not made or mounted here.
fn crashed(dir: &Path, kind: &[&str], options: &str) -> Option<PathBuf> {
    let (image, at) = (dir.join("made.img"), dir.join("mounted"));
    let _ = fs::remove_file(&image);
    fs::create_dir_all(&at).unwrap();
    let name = image.to_str().unwrap();
    if !succeeds("mkfs.ext4", &[kind, &["-q", "-F", name, "48M"]].concat())
        || !succeeds("mount", &["-o", &format!("loop,{options}"), name, at.to_str().unwrap()])
    {
        println!("SKIPPED: file systems of {kind:?} with {options}");
        return None;
    }
    let mounted = Mounted(at.clone());
    let open = work(&at).unwrap();
    let copy = dir.join("crashed.img");
    fs::copy(&image, &copy).unwrap();
    drop(open);
    drop(mounted);
    Some(copy)
}

#[test]
fn a_journal_is_applied_in_memory_as_the_file_systems_own_tool_applies_it_on_the_disk() {
    if !root_or_skip("a crash") {
        return;
    }
    let dir = folder();
    let mut replayed_somewhere = 0;
    for (kind, options) in KINDS.iter().flat_map(|kind| [(kind, "data=ordered"), (kind, "data=journal")]) {
        let Some(copy) = crashed(dir.path(), kind, options) else { continue };
        let theirs = dir.path().join("theirs.img");
        fs::copy(&copy, &theirs).unwrap();
        assert!(succeeds("debugfs", &["-w", "-R", "journal_run", theirs.to_str().unwrap()]), "{kind:?}");
        let (device, theirs) = (Device::open(&copy).unwrap(), Device::open(&theirs).unwrap());
        let replayed = Replayed::new(&device).map_err(|why| format!("{kind:?} {options}: {why:?}")).unwrap();
        replayed_somewhere += replayed.blocks();
        if !replayed.is_all() {
            println!("fast commits, which are not read: {kind:?}");
            continue;
        }
        let fs = FileSystem::open_with(&device, Some(&replayed)).unwrap();
        let size = fs.superblock.block_size;
        let mut own = Vec::new();
        for block in 0..fs.superblock.blocks {
            let both =
                [&replayed as &dyn ReadAt, &theirs].map(|disk| disk.bytes_at(block * size, size as usize).unwrap());
            if both[0] != both[1] {
                own.push(block);
            }
        }
        // That tool says in both superblocks that it is done.
        let owners = veritum_core::devices::ext4::owners(&fs, &own);
        let others: Vec<_> = own.iter().zip(&owners).filter(|(_, owner)| !is_superblock(owner)).collect();
        assert!(others.is_empty(), "{kind:?} {options}: {others:?}");
        let wanted = DisksWanted { disks: vec![copy.clone()], ..DisksWanted::default() };
        let report = check_disks(&wanted, 2, jiff::Timestamp::now(), &NoObserver).unwrap();
        let problems: Vec<_> = report.findings.iter().filter(|f| f.verdict.is_problem()).collect();
        assert!(problems.is_empty(), "{kind:?} {options}: {problems:#?}");
        let checked = fs.check(&rayon::ThreadPoolBuilder::new().build().unwrap(), &|_| true);
        assert!(checked.compared && checked.problems.is_empty(), "{kind:?} {options}: {checked:?}");
        assert!(fs.find(b"renamed").is_some() && fs.find(b"letter-1").is_none(), "{kind:?} {options}");
    }
    assert!(replayed_somewhere > 50, "{replayed_somewhere}");
}

fn is_superblock(owner: &veritum_core::devices::ext4::Owner) -> bool {
    use veritum_core::devices::ext4::{Owner, Part};
    matches!(owner, Owner::Group(Part::Superblock, 0) | Owner::Journal)
}

#[test]
fn a_journal_that_is_damaged_is_told_and_not_applied() {
    if !root_or_skip("a crash") {
        return;
    }
    let dir = folder();
    let Some(copy) = crashed(dir.path(), &["-b", "4096"], "data=ordered") else { return };
    let sound = fs::read(&copy).unwrap();
    let whole = Replayed::new(&sound).unwrap().blocks();
    let fs = FileSystem::open(&sound).unwrap();
    let content = fs.content(&fs.inode(fs.superblock.journal_inode).unwrap());
    let mut first = vec![0; 4096];
    content.read_at(4096, &mut first).unwrap();
    let place = sound.windows(4096).step_by(4096).position(|block| block == first).unwrap() * 4096;
    let mut told = Vec::new();
    // Its superblock, the first descriptor, many copies.
    let copies: Vec<usize> = (1..60).map(|block| place + block * 4096 + 200).collect();
    for places in [vec![place - 4096 + 0x20], vec![place + 20], copies] {
        let mut damaged = sound.clone();
        places.iter().for_each(|at| damaged[*at] ^= 4);
        told.push(match Replayed::new(&damaged) {
            Ok(replayed) => format!("{} of {whole}", replayed.blocks()),
            Err(NotReplayed::NotNeeded) => "not needed".into(),
            Err(NotReplayed::Unusable(why)) => why.into(),
            Err(NotReplayed::Damaged(fault)) => format!("{fault:?}"),
        });
    }
    assert_eq!(told, ["its superblock is damaged: the checksum is wrong", "Checksum", "Checksum"]);
}
