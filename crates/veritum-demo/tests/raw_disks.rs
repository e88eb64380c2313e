//! Disks and images by themselves: what is wrong with their file systems is found without mounting them, and nothing is invented.

mod support;

use std::collections::{BTreeMap, HashSet};
use std::fs;
use std::os::unix::fs::FileExt as _;
use std::path::{Path, PathBuf};
use std::process::Command;

use support::folder;
use veritum_core::areas::VOLUMES;
use veritum_core::devices::ext4::{FileSystem, Owner, Paths, owners};
use veritum_core::devices::{Device, RawVolume, identify};
use veritum_core::event::{Event, Flow, NoObserver, Observer};
use veritum_core::model::Verdict;
use veritum_core::report::{CheckReport, Outcome};
use veritum_core::work::{DisksWanted, SurfaceExtent, WorkError, check_disks};

/// An ext4 file system of 10 MiB with a letter, a chart in pieces and a folder of 400 names.
const QUAYSIDE: &[u8] = include_bytes!("../../veritum-base/src/devices/ext4/data/small.img.zst");
const MIB: u64 = 1 << 20;

fn quayside() -> Vec<u8> {
    zstd::decode_all(QUAYSIDE).unwrap()
}

fn check(disks: &[PathBuf]) -> CheckReport {
    look(&DisksWanted { disks: disks.to_vec(), ..DisksWanted::default() })
}

fn look(wanted: &DisksWanted) -> CheckReport {
    check_disks(wanted, 2, jiff::Timestamp::now(), &NoObserver).unwrap()
}

/// Subject and verdict of each problem, without the folder of the test.
fn told(report: &CheckReport, dir: &Path) -> Vec<(String, Verdict)> {
    let name = |name: &str| name.replace(&format!("{}/", dir.display()), "");
    report.findings.iter().map(|f| (name(f.subject.name().unwrap()), f.verdict)).collect()
}

/// A disk with an MBR and these partitions, one after the other from 1 MiB on.
fn disk(path: &Path, partitions: &[&[u8]]) {
    let file = fs::File::create(path).unwrap();
    let mut start = MIB;
    for (index, bytes) in (0u64..).zip(partitions) {
        file.write_all_at(bytes, start).unwrap();
        let numbers = [start / 512, bytes.len() as u64 / 512].map(|number| (number as u32).to_le_bytes()).concat();
        file.write_all_at(&[0x83], 446 + 16 * index + 4).unwrap();
        file.write_all_at(&numbers, 446 + 16 * index + 8).unwrap();
        start += bytes.len() as u64;
    }
    file.write_all_at(&[0x55, 0xaa], 510).unwrap();
    file.set_len(start + MIB).unwrap();
}

#[test]
fn each_partition_is_examined_and_damage_is_told_by_the_file_that_it_concerns() {
    let dir = folder();
    let path = dir.path().join("harbour.img");
    let mut damaged = quayside();
    damaged[1333 * 1024 + 30] ^= 4;
    damaged[1350 * 1024 + 44] ^= 4;
    disk(&path, &[&quayside(), &damaged]);
    let before = fs::read(&path).unwrap();
    let report = check(std::slice::from_ref(&path));
    assert_eq!((report.outcome, report.area(VOLUMES).unwrap().examined), (Outcome::Damaged, 2));
    assert_eq!(
        told(&report, dir.path()),
        [
            ("harbour.img partition 2: /home/mirela/chart.dat (where its content is)".to_owned(), Verdict::Corrupt),
            ("harbour.img partition 2: /many".to_owned(), Verdict::Corrupt),
        ]
    );
    assert!(report.left.iter().all(|left| left.action.as_ref().unwrap().to_string().contains("users' files")));
    assert!(fs::read(&path).unwrap() == before, "nothing was written");
}

#[test]
fn what_ends_too_early_is_told_once_and_what_is_not_known_is_not_sound() {
    let dir = folder();
    let path = dir.path().join("short.img");
    disk(&path, &[&quayside(), &quayside()]);
    fs::OpenOptions::new().write(true).open(&path).unwrap().set_len(17 * MIB).unwrap();
    let report = check(std::slice::from_ref(&path));
    assert_eq!(told(&report, dir.path()), [("short.img partition 2".to_owned(), Verdict::Truncated)]);
    fs::write(&path, &quayside()[..9 << 20]).unwrap();
    let report = check(std::slice::from_ref(&path));
    assert_eq!(told(&report, dir.path()), [("short.img".to_owned(), Verdict::Truncated)]);
    fs::write(&path, vec![0; 1 << 20]).unwrap();
    let report = check(std::slice::from_ref(&path));
    assert_eq!((report.outcome, report.unexamined.len()), (Outcome::Unchecked, 1));
    disk(&path, &[&quayside(), &[b"LUKS\xba\xbe".as_slice(), &[0; 4096]].concat()]);
    let report = check(&[path]);
    assert!(report.unexamined[0].reason.ends_with("partition 2 is encrypted"), "{:?}", report.unexamined);
    assert_eq!(report.outcome, Outcome::Ok, "of the rest");
}

/// Stops at the first event.
struct Stopping;

impl Observer for Stopping {
    fn on_event(&self, _: Event<'_>) -> Flow {
        Flow::Stop
    }
}

/// Stops when contents are read.
struct StoppingAtBytes;

impl Observer for StoppingAtBytes {
    fn on_event(&self, event: Event<'_>) -> Flow {
        if matches!(event, Event::Advance { bytes: 1.., .. }) { Flow::Stop } else { Flow::Continue }
    }
}

#[test]
fn what_is_no_disk_is_refused_and_an_interruption_is_told() {
    let dir = folder();
    for path in [dir.path().to_owned(), dir.path().join("none"), "/dev/null".into()] {
        let wanted = DisksWanted { disks: vec![path], ..DisksWanted::default() };
        let refused = check_disks(&wanted, 1, jiff::Timestamp::now(), &NoObserver);
        assert!(matches!(refused, Err(WorkError::Disk(_))), "{refused:?}");
    }
    let path = dir.path().join("quayside.img");
    fs::write(&path, quayside()).unwrap();
    let wanted = DisksWanted { disks: vec![path], ..DisksWanted::default() };
    let report = check_disks(&wanted, 1, jiff::Timestamp::now(), &Stopping).unwrap();
    assert!(report.stopped && report.outcome == Outcome::Unchecked, "{report:#?}");
}

fn has(tool: &str) -> bool {
    let there = Command::new(tool).arg("-V").output().is_ok();
    if !there {
        println!("SKIPPED: {tool} is not installed");
    }
    there
}

fn run(tool: &str, arguments: &[&str]) -> String {
    let output = Command::new(tool).args(arguments).output().unwrap();
    String::from_utf8_lossy(&output.stdout).into_owned()
}

/// A folder with small, large, sparse and many files.
fn tree(top: &Path) {
    fs::create_dir_all(top.join("deep/er")).unwrap();
    fs::create_dir_all(top.join("many")).unwrap();
    for number in 0..700 {
        fs::write(top.join(format!("many/a-rather-long-name-of-a-file-{number:05}")), vec![7; number % 90]).unwrap();
    }
    for number in 0..40u64 {
        let file = fs::File::create(top.join(format!("deep/er/piece-{number}"))).unwrap();
        for at in 0..=number % 12 {
            file.write_all_at(&[number as u8; 3000], at * 50_000).unwrap();
        }
    }
    std::os::unix::fs::symlink("x".repeat(90), top.join("far")).unwrap();
    std::os::unix::fs::symlink("near", top.join("short")).unwrap();
}

/// Features with which such file systems are made.
const KINDS: [&[&str]; 19] = [
    &[],
    &["-b", "1024"],
    &["-b", "2048", "-I", "512"],
    &["-O", "^metadata_csum"],
    &["-O", "^metadata_csum,uninit_bg"],
    &["-O", "^64bit"],
    &["-O", "inline_data"],
    &["-O", "meta_bg,^resize_inode"],
    &["-O", "bigalloc", "-C", "16384"],
    &["-O", "sparse_super2"],
    &["-O", "metadata_csum_seed,large_dir,ea_inode,encrypt"],
    &["-O", "^flex_bg,^dir_index", "-I", "128"],
    &["-O", "casefold,quota"],
    &["-O", "orphan_file"],
    &["-O", "project,quota"],
    &["-O", "mmp"],
    &["-G", "4", "-g", "8192"],
    &["-t", "ext3"],
    &["-t", "ext2"],
];

#[test]
fn of_sound_file_systems_of_every_kind_nothing_is_invented() {
    if !has("mkfs.ext4") || !has("e2fsck") {
        return;
    }
    let dir = folder();
    let files = dir.path().join("files");
    tree(&files);
    let mut made = 0;
    for kind in KINDS {
        let path = dir.path().join("kind.img");
        let (image, from) = (path.display().to_string(), files.display().to_string());
        let _ = fs::remove_file(&path);
        run("mkfs.ext4", &[kind, &["-q", "-d", &from, &image, "48M"]].concat());
        // Large folders get an index only by the file system's own check.
        run("e2fsck", &["-fyD", &image]);
        if !Command::new("e2fsck").args(["-fn", &image]).output().unwrap().status.success() {
            println!("SKIPPED: file systems are not made with {kind:?} here");
            continue;
        }
        made += 1;
        let report = check(std::slice::from_ref(&path));
        assert_eq!((report.outcome, report.findings.len()), (Outcome::Ok, 0), "{kind:?}: {:#?}", report.findings);
        let device = Device::open(&path).unwrap();
        let checked = FileSystem::open(&device).unwrap().check(&rayon_pool(), &|_| true);
        assert!(checked.inodes > 700 && checked.compared, "{kind:?}: {checked:?}");
    }
    assert!(made >= 8, "{made}");
}

fn rayon_pool() -> rayon::ThreadPool {
    rayon::ThreadPoolBuilder::new().num_threads(2).build().unwrap()
}

/// Requests to the file system's own debugger, each with what is to be found: a subject, and what is wrong with it.
type Contradiction = (&'static [&'static str], &'static [(&'static str, &'static str)]);
const CONTRADICTIONS: &[Contradiction] = &[
    (&["clri /letter"], &[("/letter", "a folder names it, and it was deleted"), ("group 0", "that was deleted")]),
    (&["sif /letter links_count 5"], &[("/letter", "the recorded number of its names is wrong")]),
    (&["ln /letter /second"], &[("/letter", "the recorded number of its names is wrong")]),
    (&["sif /letter blocks 98"], &[("/letter", "the recorded number of its blocks is wrong")]),
    (&["sif /folder blocks 98"], &[("/folder", "the recorded number of its blocks is wrong")]),
    (&["sif /letter mode 0644"], &[("/letter", "its type is not valid")]),
    (&["unlink /letter"], &[("which no readable folder names", "no folder names it")]),
    (&["unlink /folder"], &[("which no readable folder names", "no folder names it")]),
    (&["freeb BLOCK"], &[("/letter", "a block of it is marked as free"), ("group", "number of free blocks is wrong")]),
    (&["setb 8100"], &[("group", "blocks are marked as used that belong to nothing")]),
    (
        &["copy_inode /letter /other"],
        &[("/letter", "something else uses a block"), ("/other", "something else uses a block")],
    ),
    (&["sif / links_count 9"], &[("/", "the recorded number of its names is wrong")]),
];

#[test]
fn what_contradicts_something_else_is_found_where_the_file_systems_own_check_finds_it_and_nowhere_else() {
    if !has("mkfs.ext4") || !has("debugfs") || !has("e2fsck") {
        return;
    }
    let dir = folder();
    let files = dir.path().join("files");
    fs::create_dir_all(files.join("folder/within")).unwrap();
    for name in ["letter", "other", "folder/more", "folder/within/last"] {
        fs::write(files.join(name), vec![b'x'; 5000]).unwrap();
    }
    for kind in [&[][..], &["-O", "^metadata_csum,^extents,^64bit"]] {
        let sound = dir.path().join("sound.img");
        let _ = fs::remove_file(&sound);
        let (image, from) = (sound.display().to_string(), files.display().to_string());
        run("mkfs.ext4", &[kind, &["-q", "-b", "1024", "-d", &from, &image, "40M"]].concat());
        let block = run("debugfs", &["-R", "bmap /letter 0", &image]);
        for (requests, expected) in CONTRADICTIONS {
            let path = dir.path().join("damaged.img");
            fs::copy(&sound, &path).unwrap();
            let damaged = path.display().to_string();
            for request in *requests {
                run("debugfs", &["-w", "-R", &request.replace("BLOCK", block.trim()), &damaged]);
            }
            let theirs = Command::new("e2fsck").args(["-fn", &damaged]).output().unwrap();
            assert!(!theirs.status.success(), "{kind:?} {requests:?}: {}", String::from_utf8_lossy(&theirs.stdout));
            let report = check(std::slice::from_ref(&path));
            let told: Vec<String> = report
                .findings
                .iter()
                .map(|f| format!("{}: {}", f.subject, f.cause.clone().unwrap_or_default()))
                .collect();
            for (subject, what) in *expected {
                let is_it = |line: &String| {
                    line.split_once(".img: ").is_some_and(|(_, rest)| rest.contains(subject) && rest.contains(what))
                };
                assert!(told.iter().any(is_it), "{kind:?} {requests:?}: {subject} {what}: {told:#?}");
            }
            assert!(told.len() <= expected.len() + 2, "{kind:?} {requests:?}: {told:#?}");
        }
    }
}

#[test]
fn blocks_belong_to_the_files_that_the_file_systems_own_tool_names() {
    if !has("mkfs.ext4") || !has("debugfs") {
        return;
    }
    let dir = folder();
    let files = dir.path().join("files");
    tree(&files);
    for kind in [&[][..], &["-b", "1024"], &["-t", "ext3"]] {
        let path = dir.path().join("kind.img");
        let (image, from) = (path.display().to_string(), files.display().to_string());
        let _ = fs::remove_file(&path);
        run("mkfs.ext4", &[kind, &["-q", "-d", &from, &image, "48M"]].concat());
        let device = Device::open(&path).unwrap();
        let fs = FileSystem::open(&device).unwrap();
        let blocks: Vec<u64> = (0..fs.superblock.blocks).step_by(37).collect();
        let request = format!("icheck {}", blocks.iter().map(u64::to_string).collect::<Vec<_>>().join(" "));
        let answer = run("debugfs", &["-R", &request, &image]);
        let theirs: BTreeMap<u64, Option<u32>> = answer
            .lines()
            .filter_map(|line| {
                let (block, inode) = line.split_once('\t')?;
                Some((block.parse().ok()?, inode.parse().ok()))
            })
            .collect();
        assert_eq!(theirs.len(), blocks.len());
        let journal = fs.superblock.journal_inode;
        let mut named = HashSet::new();
        for (block, owner) in blocks.iter().zip(owners(&fs, &blocks)) {
            let ours = match owner {
                Owner::File(inode) | Owner::Metadata(inode) => Some(inode),
                Owner::Journal => Some(journal),
                _ => None,
            };
            // Blocks that are kept for more group descriptors have an inode without a name.
            let theirs = theirs[block].filter(|inode| *inode != 7);
            assert_eq!(ours, theirs, "{kind:?}: block {block}");
            named.extend(ours.filter(|inode| *inode != journal));
        }
        assert!(named.len() > 10, "{kind:?}: {named:?}");
        let paths = Paths::find(&fs, &named);
        for inode in named {
            let answer = run("debugfs", &["-R", &format!("ncheck {inode}"), &image]);
            let theirs = answer.lines().nth(1).and_then(|line| line.split_once("\t"));
            let theirs = theirs.map(|(_, path)| path.trim().replace("//", "/"));
            let ours = paths.of(inode).into_iter().next().map(|path| String::from_utf8(path).unwrap());
            assert_eq!(ours, theirs, "{kind:?}: inode {inode}");
        }
    }
}

#[test]
fn other_file_systems_are_known_and_their_marks_are_read() {
    let dir = folder();
    let path = dir.path().join("other.img");
    let image = path.display().to_string();
    let fresh = |size: u64| {
        let _ = fs::remove_file(&path);
        fs::File::create(&path).unwrap().set_len(size).unwrap();
    };
    let known = || -> RawVolume { identify(&Device::open(&path).unwrap()).unwrap() };
    let flip = |at: u64, bit: u8| {
        let file = fs::OpenOptions::new().read(true).write(true).open(&path).unwrap();
        let mut byte = [0];
        file.read_exact_at(&mut byte, at).unwrap();
        file.write_all_at(&[byte[0] ^ bit], at).unwrap();
    };
    let problems = || check(std::slice::from_ref(&path)).findings.iter().map(|f| f.verdict).collect::<Vec<_>>();
    if has("mkfs.vfat") {
        fresh(40 * MIB);
        run("mkfs.vfat", &["-F", "32", "-n", "QUAY", &image]);
        assert_eq!((known().kind.name(), known().label.as_str()), ("vfat", "QUAY"));
        assert_eq!(problems(), []);
        flip(6 * 512 + 100, 4);
        assert_eq!(problems(), [Verdict::Inconsistent], "the copy of the boot sector");
        flip(6 * 512 + 100, 4);
        flip(32 * 512 + 7, 8);
        assert_eq!(problems(), [Verdict::Inconsistent], "one of the tables");
        assert_eq!(check(std::slice::from_ref(&path)).notes[0].verdict, Verdict::NotUnmounted);
    }
    if has("mkfs.btrfs") {
        fresh(200 * MIB);
        run("mkfs.btrfs", &["-q", "-L", "quay", &image]);
        assert_eq!((known().kind.name(), known().label.as_str()), ("btrfs", "quay"));
        assert_eq!(problems(), []);
        flip(64 * MIB + 200, 1);
        assert_eq!(problems(), [Verdict::Corrupt], "the second superblock");
        flip((64 << 10) + 200, 1);
        assert_eq!(problems().len(), 2);
    }
    if has("mkfs.xfs") {
        fresh(320 * MIB);
        run("mkfs.xfs", &["-q", "-f", "-L", "quay", &image]);
        assert_eq!((known().kind.name(), known().label.as_str()), ("xfs", "quay"));
        assert_eq!(problems(), []);
        flip(200, 1);
        assert_eq!(problems(), [Verdict::Corrupt]);
    }
    if has("mkswap") {
        fresh(MIB);
        run("mkswap", &["-L", "berth", &image]);
        assert_eq!((known().kind.name(), known().label.as_str(), problems().len()), ("swap", "berth", 0));
        assert_eq!(check(std::slice::from_ref(&path)).outcome, Outcome::Unchecked, "nothing in it was examined");
    }
}

#[test]
fn the_whole_surface_is_read_or_what_is_in_use_and_not_where_errors_are_recorded() {
    let dir = folder();
    let path = dir.path().join("quayside.img");
    fs::write(&path, quayside()).unwrap();
    let notes = dir.path().join("notes");
    let wanted = |surface, ignore_disk_errors| DisksWanted {
        disks: vec![path.clone()],
        surface: Some(surface),
        ignore_disk_errors,
        notes: Some(notes.clone()),
        now: 1000,
    };
    let bytes = |report: &CheckReport| report.area(VOLUMES).unwrap().bytes;
    let stopped = check_disks(&wanted(SurfaceExtent::All, false), 1, jiff::Timestamp::now(), &StoppingAtBytes).unwrap();
    let extent = stopped.area(VOLUMES).unwrap().extent.clone().unwrap();
    assert!(stopped.stopped && extent.contains("a part of") && !extent.contains("every block"), "{extent}");
    assert!(stopped.unexamined[0].reason.contains("the same command continues there"), "{:?}", stopped.unexamined);
    let all = look(&wanted(SurfaceExtent::All, false));
    assert_eq!((all.outcome, bytes(&all)), (Outcome::Ok, 10 * MIB), "what was read before counts");
    assert!(all.area(VOLUMES).unwrap().extent.as_ref().unwrap().contains("was continued"));
    let again = look(&wanted(SurfaceExtent::All, false));
    assert!(!again.area(VOLUMES).unwrap().extent.as_ref().unwrap().contains("was continued"), "that run was complete");
    let used = look(&wanted(SurfaceExtent::Used, false));
    // 1,466 of its 10,240 blocks are in use, by its own tool.
    assert_eq!((used.outcome, bytes(&used)), (Outcome::Ok, 1466 * 1024), "{used:#?}");
    if has("debugfs") {
        run("debugfs", &["-w", "-R", "ssv error_count 2", &path.display().to_string()]);
        let report = look(&wanted(SurfaceExtent::Used, false));
        assert!(report.unexamined[0].reason.contains("--ignore-disk-errors"), "{:?}", report.unexamined);
        assert_eq!(bytes(&report), 0);
        assert_eq!(bytes(&look(&wanted(SurfaceExtent::Used, true))), 1466 * 1024);
    }
}

#[test]
fn a_damaged_file_of_a_package_is_told_with_its_package_also_where_it_is_not_mounted() {
    if !has("mkfs.ext4") || !has("debugfs") {
        return;
    }
    let dir = folder();
    let files = dir.path().join("files");
    fs::create_dir_all(files.join("var/lib/dpkg/info")).unwrap();
    fs::create_dir_all(files.join("usr/bin")).unwrap();
    for name in ["ferry", "tender", "own"] {
        fs::write(files.join("usr/bin").join(name), vec![b'x'; 9000]).unwrap();
    }
    // One is listed as before the folders were merged.
    let lists =
        [("quay-tools", "/.\n/usr\n/bin/ferry\n"), ("libtender:amd64", "/usr/bin/tender\n"), ("third", "/usr\n")];
    for (package, list) in lists {
        fs::write(files.join(format!("var/lib/dpkg/info/{package}.list")), list).unwrap();
    }
    let image = dir.path().join("system.img");
    let (name, from) = (image.display().to_string(), files.display().to_string());
    run("mkfs.ext4", &["-q", "-b", "1024", "-d", &from, &name, "16M"]);
    let gaps: Vec<[u64; 2]> = ["ferry", "tender", "own"]
        .into_iter()
        .map(|file| {
            let block = run("debugfs", &["-R", &format!("bmap /usr/bin/{file} 3"), &name]);
            let block: u64 = block.trim().parse().unwrap();
            [block * 1024, block * 1024 + 1024]
        })
        .collect();
    let (size, mut unreadable) = (fs::metadata(&image).unwrap().len(), gaps);
    unreadable.sort_unstable();
    let map = format!(
        r#"{{"format":"veritum.image-gaps/1","source":"/dev/sda","size":{size},"pending":[],"unreadable":{unreadable:?}}}"#
    );
    fs::write(dir.path().join("system.img.gaps"), map).unwrap();
    let report = check(std::slice::from_ref(&image));
    let cause = |file: &str| {
        let is_it = |f: &&veritum_core::model::Finding| f.subject.to_string().ends_with(file);
        report.findings.iter().find(is_it).map(|f| f.cause.clone().unwrap_or_default())
    };
    assert!(cause("/usr/bin/ferry").unwrap().ends_with("it belongs to the package quay-tools"), "{report:#?}");
    assert!(cause("/usr/bin/tender").unwrap().ends_with("it belongs to the package libtender:amd64"), "{report:#?}");
    assert!(!cause("/usr/bin/own").unwrap().contains("package"), "{report:#?}");
}
