//! Users' files are copied to another disk: from homes as they are, from disks that are not mounted, and from images with gaps; nothing is
//! written to where they come from.

mod support;

use std::fs;
use std::os::unix::fs::{MetadataExt as _, PermissionsExt as _, symlink};
use std::path::{Path, PathBuf};
use std::sync::Arc;

use support::{Demo, folder, is_root};
use veritum_core::devices::ext4::FileSystem;
use veritum_core::devices::{Device, GapMap};
use veritum_core::event::{Event, Flow, NoObserver, Observer};
use veritum_core::machine::{Disk, LiveDisk};
use veritum_core::report::{Count, DataKind, RescueReport};
use veritum_core::rescue::RescueError;
use veritum_core::testkit::Tree;
use veritum_core::work::{
    RescueSource, RescueWanted, Settings, deleted_files, image_of_disk, rescue_files, verify_rescued,
};
use veritum_demo::old_disk;

fn live() -> Arc<dyn Disk> {
    Arc::new(LiveDisk)
}

fn wanted(to: &Path) -> RescueWanted {
    RescueWanted::new(to.to_owned(), RescueSource::default())
}

fn of_user(user: &str) -> RescueSource {
    RescueSource { users: vec![user.to_owned()], ..RescueSource::default() }
}

fn on_disk(disk: &Path) -> RescueSource {
    RescueSource { disks: vec![disk.to_owned()], ..RescueSource::default() }
}

fn rescue(settings: &Settings, wanted: &RescueWanted) -> RescueReport {
    rescue_files(settings, wanted, &live(), &NoObserver).unwrap().0
}

/// The copies of a home are what the home has, in every respect that this process can keep.
fn assert_same(home: &Path, copy: &Path, except: &[&str]) {
    let (own, copied) = (Tree::read(home, except), Tree::read(copy, except));
    assert!(!own.0.is_empty());
    assert_eq!(own.differences(&copied), [""; 0]);
}

#[test]
fn homes_are_copied_whole_and_the_machine_is_not_touched() {
    let demo = Demo::with(&[]);
    let home = demo.machine().join("home/mirela");
    fs::write(home.join("Letters/odd \n name?"), "x").unwrap();
    symlink("/etc/shadow", home.join("outside")).unwrap();
    fs::hard_link(home.join("Letters/odd \n name?"), home.join("again")).unwrap();
    fs::set_permissions(home.join("Letters"), fs::Permissions::from_mode(0o550)).unwrap();
    let before = demo.tree();
    let to = folder();
    let report = rescue(&demo.settings(), &RescueWanted { caches: true, ..wanted(to.path()) });
    assert!(report.is_complete(), "{report:?}");
    assert_eq!(demo.tree(), before);
    let copies = to.path().join("rescue-counter-03");
    for user in ["mirela", "oskar"] {
        assert_same(&demo.machine().join("home").join(user), &copies.join(user), &[]);
    }
    assert_eq!(fs::metadata(&copies).unwrap().permissions().mode() & 0o7777, 0o700, "others have no access");
    let again = rescue(&demo.settings(), &RescueWanted { caches: true, ..wanted(to.path()) });
    assert_eq!((again.copied, again.known), (Count::default(), report.copied));
}

#[test]
fn kinds_and_users_can_be_chosen_and_a_plan_writes_nothing() {
    let demo = Demo::with(&[]);
    let to = folder();
    let plan = rescue(&demo.settings(), &RescueWanted { plan_only: true, ..wanted(to.path()) });
    assert!(plan.wanted.files > 20 && plan.copied == Count::default(), "{plan:?}");
    assert_eq!(fs::read_dir(to.path()).unwrap().count(), 0);
    let kinds = vec![DataKind::Documents];
    let report = rescue(&demo.settings(), &RescueWanted { from: of_user("oskar"), kinds, ..wanted(to.path()) });
    let copies = to.path().join("rescue-counter-03");
    assert!(copies.join("oskar/Bookings/nights.csv").is_file(), "{report:?}");
    assert!(!copies.join("oskar/.gullmail").exists() && !copies.join("mirela").exists());
    let unknown = RescueWanted { from: of_user("oskarr"), ..wanted(to.path()) };
    assert!(rescue_files(&demo.settings(), &unknown, &live(), &NoObserver).is_err());
}

#[test]
fn a_destination_within_the_machine_is_refused() {
    let demo = Demo::with(&[]);
    fs::create_dir_all(demo.machine().join("mnt")).unwrap();
    let before = demo.tree();
    for place in ["home/mirela", "mnt", ""] {
        let to = demo.machine().join(place);
        let done = rescue_files(&demo.settings(), &wanted(&to), &live(), &NoObserver);
        assert!(matches!(done, Err(RescueError::SameDisk { .. })), "{place}");
    }
    assert_eq!(demo.tree(), before);
}

#[test]
fn a_file_system_of_homes_alone_is_enough() {
    let demo = Demo::with(&[]);
    let top = folder();
    fs::rename(demo.machine().join("home"), top.path().join("home")).unwrap_or_else(|_| {
        let copied =
            std::process::Command::new("cp").arg("-a").arg(demo.machine().join("home")).arg(top.path()).status();
        assert!(copied.unwrap().success());
    });
    let owner = fs::metadata(top.path().join("home/mirela")).unwrap().uid();
    if owner < 1000 {
        return;
    }
    let to = folder();
    let report = rescue(&Settings { root: top.path().to_owned(), ..demo.settings() }, &wanted(to.path()));
    let users: Vec<&str> = report.homes.iter().map(|home| home.user.as_str()).collect();
    assert_eq!(users, ["mirela", "oskar"]);
    assert!(report.is_complete() && to.path().join("rescue-machine/mirela").is_dir(), "{report:?}");
}

/// The demo's old disk: its image, with the map of its gaps if that is wanted.
fn old(dir: &Path, with_gaps: bool) -> PathBuf {
    old_disk::make(dir).unwrap();
    let image = dir.join(old_disk::NAME);
    if !with_gaps {
        fs::remove_file(GapMap::path_for(&image)).unwrap();
    }
    image
}

#[test]
fn an_image_is_read_without_mounting_it_and_its_gaps_are_named() {
    let demo = Demo::with(&[]);
    let dir = folder();
    let image = old(dir.path(), true);
    let before = fs::read(&image).unwrap();
    let to = folder();
    let report = rescue(&demo.settings(), &RescueWanted { from: on_disk(&image), ..wanted(to.path()) });
    let [letter] = report.incomplete.as_slice() else { panic!("{report:?}") };
    assert_eq!(letter.path.to_string(), "/home/mirela/Letters/harbour-office.txt");
    assert_eq!(letter.gaps, [(7168, 11264)]);
    assert!(report.missing.is_empty() && report.copied.files == 7, "{report:?}");
    let copies = to.path().join("rescue-pierhouse-01/mirela");
    let text = fs::read_to_string(copies.join("Bookings/season.csv")).unwrap();
    assert_eq!((text.lines().count(), text.lines().next()), (1200, Some("booking 1: berth 7, tide 13 cm")));
    let part = fs::read(copies.join("Letters/harbour-office.txt.incomplete")).unwrap();
    assert!(part[7168..11264].iter().all(|byte| *byte == 0) && part[..7168].starts_with(b"letter 1: berth 7"));
    assert_eq!(fs::read_link(copies.join("latest")).unwrap(), Path::new("Letters/insurance.txt"));
    assert!(!copies.join(".cache/berthbook/index").exists());
    assert_eq!(fs::read(&image).unwrap(), before, "the image is only read");
    if is_root() {
        let meta = fs::metadata(copies.join("Bookings/season.csv")).unwrap();
        assert_eq!((meta.uid(), meta.mtime()), (1000, 1_772_438_400));
    }
    let checked = verify_rescued(to.path(), 2, &live(), &NoObserver).unwrap();
    assert_eq!((checked.problems.len(), checked.incomplete.len(), checked.intact.files), (0, 1, 7), "{checked:?}");
}

#[test]
fn homes_are_found_where_the_folders_above_them_are_damaged() {
    let demo = Demo::with(&[]);
    let dir = folder();
    let image = old(dir.path(), false);
    let mut bytes = fs::read(&image).unwrap();
    // The root folder's names: no path leads anywhere.
    let entry = b"\x0a\x02lost+found";
    let at = bytes.windows(entry.len()).position(|part| part == entry).unwrap() / 1024 * 1024;
    bytes[at..at + 1024].fill(0);
    fs::write(&image, &bytes).unwrap();
    let to = folder();
    let report = rescue(&demo.settings(), &RescueWanted { from: on_disk(&image), ..wanted(to.path()) });
    assert_eq!(report.homes.len(), 1, "{report:?}");
    assert_eq!((report.homes[0].user.as_str(), report.copied.files), ("mirela", 8));
}

#[test]
fn a_path_on_a_disk_leads_through_symlinks_and_never_in_circles() {
    let dir = folder();
    let device = Device::open(&old(dir.path(), false)).unwrap();
    let fs = FileSystem::open(&device).unwrap();
    let letter = fs.find(b"home/mirela/Letters/insurance.txt").unwrap();
    for path in [&b"home/mirela/latest"[..], b"/home/../home/mirela/./latest", b"../../home/mirela/latest"] {
        assert_eq!(fs.find(path).map(|inode| inode.number), Some(letter.number));
    }
    assert!(fs.find(b"home/mirela/latest/x").is_none() && fs.find(b"home/oskar").is_none());
    drop(fs);
    drop(device);
    let image = dir.path().join(old_disk::NAME);
    let mut bytes = fs::read(&image).unwrap();
    let target = b"Letters/insurance.txt";
    let at = bytes.windows(target.len()).position(|part| part == target).unwrap();
    bytes[at..at + target.len()].copy_from_slice(b"./././././././/latest");
    bytes[1024 + 0x65] &= !4;
    fs::write(&image, &bytes).unwrap();
    let device = Device::open(&image).unwrap();
    assert!(FileSystem::open(&device).unwrap().find(b"home/mirela/latest").is_none());
}

#[test]
fn an_account_whose_home_is_not_on_the_disk_is_named() {
    let demo = Demo::with(&[]);
    let dir = folder();
    let image = old(dir.path(), false);
    let mut bytes = fs::read(&image).unwrap();
    let account = b"mirela:x:1000:1000:Mirela:/home/mirela:";
    let at = bytes.windows(account.len()).position(|part| part == account).unwrap();
    bytes[at..at + account.len()].copy_from_slice(b"mirela:x:1000:1000:Mirela:/home/mirelo:");
    fs::write(&image, &bytes).unwrap();
    let to = folder();
    let report = rescue(&demo.settings(), &RescueWanted { from: on_disk(&image), ..wanted(to.path()) });
    let told = "the home of mirela, /home/mirelo, was not found on these disks";
    assert!(report.limits.iter().any(|limit| limit == told), "{report:?}");
    assert_eq!(report.copied.files, 8, "folders that belong to people are copied all the same");
}

/// Stops at the n-th event.
struct StopAt(std::sync::atomic::AtomicUsize);

impl Observer for StopAt {
    fn on_event(&self, _: Event<'_>) -> Flow {
        let left = self.0.fetch_update(std::sync::atomic::Ordering::SeqCst, std::sync::atomic::Ordering::SeqCst, |n| {
            n.checked_sub(1)
        });
        if left.is_err() { Flow::Stop } else { Flow::Continue }
    }
}

#[test]
fn an_interruption_anywhere_leaves_whole_files_only_and_is_resumed() {
    let demo = Demo::with(&[]);
    let dir = folder();
    let from = on_disk(&old(dir.path(), false));
    let whole = folder();
    let all = rescue(&demo.settings(), &RescueWanted { from: from.clone(), ..wanted(whole.path()) });
    assert!(all.is_complete() && all.copied.files == 8, "{all:?}");
    for events in 0..14 {
        let to = folder();
        let wanted = RescueWanted { from: from.clone(), ..wanted(to.path()) };
        let stop = StopAt(events.into());
        let first = rescue_files(&demo.settings(), &wanted, &live(), &stop);
        if let Ok((report, _)) = &first {
            assert!(report.stopped || report.is_complete(), "{events}: {report:?}");
            let checked = verify_rescued(to.path(), 1, &live(), &NoObserver).unwrap();
            assert_eq!((checked.problems.len(), checked.intact.files), (0, report.copied.files), "{events}");
        }
        let again = rescue(&demo.settings(), &wanted);
        assert!(again.is_complete() && again.copied.files + again.known.files == 8, "{events}: {again:?}");
        assert_same(
            &whole.path().join("rescue-pierhouse-01/mirela"),
            &to.path().join("rescue-pierhouse-01/mirela"),
            &[],
        );
    }
}

#[test]
fn an_image_of_a_disk_is_the_disk_and_one_of_something_else_is_not_written() {
    let dir = folder();
    let disk = old(dir.path(), false);
    let image = dir.path().join("copy.img");
    let report = image_of_disk(&disk, &image, &live(), &NoObserver).unwrap();
    assert!(report.unreadable.is_empty() && report.pending.is_empty(), "{report:?}");
    assert!(fs::read(&image).unwrap() == fs::read(&disk).unwrap());
    let blocks = |path: &Path| fs::metadata(path).unwrap().blocks();
    assert!(blocks(&image) <= blocks(&disk), "zeros take no space");
    let other = dir.path().join("other.img");
    fs::write(&other, vec![1; 8192]).unwrap();
    assert!(image_of_disk(&other, &image, &live(), &NoObserver).is_err());
    assert!(image_of_disk(&disk, &other, &live(), &NoObserver).is_err());
    assert_eq!(fs::read(&other).unwrap(), vec![1; 8192]);
}

#[test]
fn what_is_still_in_a_trash_folder_is_listed_with_where_it_was() {
    let demo = Demo::with(&[]);
    let home = demo.machine().join("home/oskar");
    fs::create_dir_all(home.join(".veritum-set-aside/2026-03-02-1/.config")).unwrap();
    fs::write(home.join(".veritum-set-aside/2026-03-02-1/.config/rc"), "1234").unwrap();
    let (report, _) = deleted_files(&demo.settings(), &of_user("oskar"), false, &live(), &NoObserver).unwrap();
    let told: Vec<(String, Option<String>, bool, u64)> = report
        .deleted
        .iter()
        .map(|item| {
            (item.place.to_string(), item.was.as_ref().map(ToString::to_string), item.set_aside, item.count.files)
        })
        .collect();
    let trash = "/home/oskar/.local/share/Trash/files/old draft.txt".to_owned();
    let aside = "/home/oskar/.veritum-set-aside/2026-03-02-1".to_owned();
    assert!(told.contains(&(aside, None, true, 1)), "{told:?}");
    assert!(told.iter().any(|(place, ..)| *place == trash), "{told:?}");
    let dir = folder();
    let image = old(dir.path(), true);
    let (report, _) = deleted_files(&demo.settings(), &on_disk(&image), false, &live(), &NoObserver).unwrap();
    assert_eq!(report.deleted.len(), 1, "{report:?}");
}
