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
use veritum_core::devices::ext4::{self, FileSystem, NotReplayed, Replayed};
use veritum_core::devices::{Device, ReadAt};
use veritum_core::event::NoObserver;
use veritum_core::machine::{Disk, LiveDisk};
use veritum_core::model::SystemPath;
use veritum_core::work::{DisksWanted, RescueSource, RescueWanted, check_disks, deleted_files, rescue_files};

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

/// A content that no other number has, in pieces if it is large.
fn content(number: usize) -> Vec<u8> {
    let line = format!("letter {number} of the harbour office\n");
    line.as_bytes().iter().copied().cycle().take(200 + number * 700).collect()
}

#[test]
fn what_was_deleted_is_found_by_the_journal_with_its_name_and_its_content() {
    if !root_or_skip("deleted files") {
        return;
    }
    let dir = folder();
    for kind in [&["-b", "4096"][..], &["-b", "1024"], &["-O", "^metadata_csum"], &["-t", "ext3"]] {
        let (image, at) = (dir.path().join("made.img"), dir.path().join("mounted"));
        let _ = fs::remove_file(&image);
        fs::create_dir_all(&at).unwrap();
        let name = image.to_str().unwrap();
        if !succeeds("mkfs.ext4", &[kind, &["-q", "-F", "-J", "size=8", name, "64M"]].concat())
            || !succeeds("mount", &["-o", "loop", name, at.to_str().unwrap()])
        {
            println!("SKIPPED: file systems of {kind:?}");
            continue;
        }
        let mounted = Mounted(at.clone());
        let home = at.join("home/mirela");
        fs::create_dir_all(home.join("letters/old")).unwrap();
        fs::create_dir_all(at.join("etc")).unwrap();
        fs::write(at.join("etc/passwd"), "mirela:x:1000:1000::/home/mirela:/bin/sh\n").unwrap();
        let commit = || succeeds("sync", &["-f", at.to_str().unwrap()]);
        for number in 0..100 {
            fs::write(home.join(path(number)), content(number)).unwrap();
        }
        succeeds("chown", &["-R", "1000:1000", home.to_str().unwrap()]);
        commit();
        (0..100).step_by(4).for_each(|number| fs::remove_file(home.join(path(number))).unwrap());
        fs::remove_file(home.join(path(51))).unwrap();
        commit();
        drop(mounted);
        assert!(!at.join("home").exists());
        let device = Device::open(&image).unwrap();
        let fs = FileSystem::open(&device).unwrap();
        let found = ext4::deleted_files(&fs).unwrap();
        let mut whole = 0;
        for file in &found {
            let found = String::from_utf8(file.path.clone().unwrap()).unwrap();
            let number: usize = found.rsplit('-').next().unwrap().parse().unwrap();
            assert!(number.is_multiple_of(4) || number == 51, "{kind:?}: {found} exists");
            assert_eq!(found, format!("/home/mirela/{}", path(number)), "{kind:?}");
            assert!(file.is_whole() && file.at.is_some(), "{kind:?}: {file:?}");
            let mut bytes = vec![0; file.inode.size as usize];
            fs.content_of_deleted(file).read_at(0, &mut bytes).unwrap();
            assert_eq!(bytes, content(number), "{kind:?}: {found}");
            whole += 1;
        }
        assert_eq!(whole, 26, "{kind:?}");
        copied_is_exact(dir.path(), &image);
        // Once everything is written over, the same files have nothing left.
        mounts::run("mount", &["-o", "loop", name, at.to_str().unwrap()]);
        let mounted = Mounted(at.clone());
        let mut fillers = (0..4000).map(|number| fs::write(home.join(format!("filler-{number}")), vec![b'x'; 20_000]));
        assert!(fillers.any(|written| written.is_err()), "it is full");
        commit();
        drop(mounted);
        let device = Device::open(&image).unwrap();
        let fs = FileSystem::open(&device).unwrap();
        let (mut whole, mut gone) = (0, 0);
        for file in ext4::deleted_files(&fs).unwrap() {
            let mut bytes = vec![0; file.inode.size as usize];
            let read = fs.content_of_deleted(&file).read_at(0, &mut bytes);
            assert_eq!(read.is_ok(), file.is_whole(), "{kind:?}: {file:?}");
            let (lost, all) = file.lost_blocks();
            gone += usize::from(lost == all);
            if file.is_whole() {
                let number = (0..100).find(|number| content(*number) == bytes);
                whole += usize::from(number.is_some_and(|number| number % 4 == 0 || number == 51));
                assert!(number.is_some(), "{kind:?}: {file:?}");
            }
        }
        assert!(gone > 0, "{kind:?}: {gone} gone, {whole} whole");
    }
}

/// Copies the deleted files of a disk, once all and once those of a folder.
fn copied_is_exact(dir: &Path, image: &Path) {
    let live: std::sync::Arc<dyn Disk> = std::sync::Arc::new(LiveDisk);
    let from = RescueSource { disks: vec![image.to_owned()], deleted: true, ..RescueSource::default() };
    let demo = support::Demo::with(&[]);
    let settings = demo.settings();
    let (listed, _) = deleted_files(&settings, &from, false, &live, &NoObserver).unwrap();
    assert!(
        listed.lost.len() == 26 && listed.lost.iter().all(|lost| lost.whole && lost.user == "mirela"),
        "{listed:?}"
    );
    for (chosen, expected) in [(&[][..], 26), (&["/home/mirela/letters/old"], 25)] {
        let to = dir.join(format!("copied-{expected}"));
        fs::create_dir_all(&to).unwrap();
        let chosen = chosen.iter().map(|path| SystemPath::literal(path)).collect();
        let wanted = RescueWanted { chosen, ..RescueWanted::new(to.clone(), from.clone()) };
        let (report, _) = rescue_files(&settings, &wanted, &live, &NoObserver).unwrap();
        assert!(report.is_complete() && report.copied.files == expected, "{report:?}");
        let copies = to.join("rescue-machine/mirela/Deleted-files");
        for number in (0..100).filter(|number| number % 4 == 0 || *number == 51 && expected == 26) {
            assert_eq!(fs::read(copies.join(path(number))).unwrap(), content(number));
        }
        fs::remove_dir_all(to).unwrap();
    }
    let chosen = vec![SystemPath::literal("/home/mirela/none")];
    let wanted = RescueWanted { chosen, ..RescueWanted::new(dir.to_owned(), from) };
    assert!(rescue_files(&settings, &wanted, &live, &NoObserver).is_err());
}

/// The path of a letter in the home.
fn path(number: usize) -> String {
    match number % 2 {
        0 => format!("letters/old/letter-{number}"),
        _ => format!("letters/letter-{number}"),
    }
}
