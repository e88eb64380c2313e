//! Without any store: the vendor's repository as reference and source, available and over the network.

#[path = "support/stand.rs"]
mod stand;
mod support;

use std::fs;
use std::os::unix::fs::{PermissionsExt as _, symlink};
use std::sync::Arc;

use stand::{Stand, names};
use support::{check, open, repair, told, try_repair};
use veritum_core::areas::{FILES, UPDATES};
use veritum_core::event::NoObserver;
use veritum_core::machine::LiveDisk;
use veritum_core::model::{Authority, Scope, SystemPath};
use veritum_core::report::{CheckReport, Outcome, UnverifiedReport};
use veritum_core::testkit::Tree;
use veritum_core::work::{Settings, Supplier, WorkError};
use veritum_demo::repository::Suite;
use veritum_demo::signing::{KeyShape, VendorKey};
use veritum_demo::{EXPIRES, NOW};

const STATE: &str = "var/lib/veritum";

fn tree(stand: &Stand) -> Tree {
    Tree::read(&stand.world.machine(), &[STATE])
}

fn by(report: &CheckReport, authority: Authority) -> u64 {
    report.packages.get(&authority).copied().unwrap_or(0)
}

fn reasons(report: &CheckReport) -> Vec<String> {
    report.left.iter().map(|l| l.reason.clone()).collect()
}

#[test]
fn what_differs_is_compared_with_the_repository_and_the_rest_with_the_local_database() {
    let stand = Stand::new();
    stand.lists(".lz4");
    stand.cache();
    fs::remove_file(stand.at("/var/cache/apt/archives/pier_2.0_all.deb")).unwrap();
    let intact = check(&stand.offline());
    assert_eq!((intact.outcome, by(&intact, Authority::Local)), (Outcome::OkLimited, 1));
    fs::write(stand.at("/usr/share/quay/part-2"), "wrong\n").unwrap();
    let report = check(&stand.offline());
    assert_eq!(told(&report.findings), [("/usr/share/quay/part-2".into(), "altered")]);
    assert_eq!((by(&report, Authority::Repository), by(&report, Authority::Local)), (1, 1));
    assert_eq!(report.findings[0].verified_by, Some(Authority::Repository));
    assert_eq!(report.sources[0].standing.word(), "verified");
    assert!(stand.mirror.asked().is_empty(), "the network was not to be used");
}

#[test]
fn a_plain_check_sees_by_packages_available_what_the_local_database_cannot() {
    let stand = Stand::new();
    stand.lists("");
    stand.cache();
    let sound = check(&stand.offline());
    assert_eq!((sound.outcome, by(&sound, Authority::Repository)), (Outcome::Ok, 2));
    let stand = Stand::new();
    stand.lists("");
    fs::remove_file(stand.at("/usr/share/quay/link")).unwrap();
    symlink("/home/mirela", stand.at("/usr/share/quay/link")).unwrap();
    fs::remove_file(stand.at("/usr/share/quay/name")).unwrap();
    fs::write(stand.at("/usr/share/quay/name"), "right 1\n").unwrap();
    let unverified = check(&stand.offline());
    assert_eq!((unverified.findings.len(), unverified.outcome), (0, Outcome::OkLimited));
    stand.cache();
    let report = check(&stand.offline());
    let words: Vec<_> = told(&report.findings).into_iter().map(|(_, verdict)| verdict).collect();
    assert_eq!(words, ["wrong-target", "hardlink-split"]);
}

#[test]
fn a_repair_from_apts_cache_needs_no_network_and_leaves_the_machine_as_it_was() {
    let stand = Stand::new();
    stand.lists(".xz");
    stand.cache();
    let before = tree(&stand);
    fs::write(stand.at("/usr/bin/quay"), "x").unwrap();
    fs::remove_dir_all(stand.at("/usr/share/pier")).unwrap();
    fs::remove_file(stand.at("/usr/share/quay/part-1")).unwrap();
    let report = repair(&stand.offline());
    assert_eq!(report.area(FILES).unwrap().repaired, 3, "{:#?}", report.area(FILES).unwrap());
    assert_eq!(tree(&stand).without_folder_times().differences(&before.without_folder_times()), [""; 0]);
    assert!(stand.mirror.asked().is_empty() && names(&stand.downloads()).is_empty());
}

#[test]
fn only_what_is_damaged_is_downloaded_and_that_is_said_before() {
    let stand = Stand::new();
    let before = tree(&stand);
    fs::write(stand.at("/usr/share/quay/part-0"), "wrong\n").unwrap();
    let told = check(&stand.settings());
    let [download] = told.downloads.as_slice() else { panic!("{:?}", told.downloads) };
    assert_eq!(download.package.name, "quay");
    assert!(download.bytes > 100 && told.findings[0].remedy.as_ref().unwrap().download == Some(download.bytes));
    assert!(stand.fetched().is_empty(), "a check downloads no package");
    let report = repair(&stand.settings());
    assert_eq!((report.area(FILES).unwrap().repaired, report.before.downloads.len()), (1, 1));
    assert_eq!(stand.fetched(), ["pool/main/q/quay/quay_1.0-1_amd64.deb"]);
    assert_eq!(tree(&stand).without_folder_times().differences(&before.without_folder_times()), [""; 0]);
    // What is there already is not fetched again.
    fs::write(stand.at("/usr/share/quay/part-3"), "wrong\n").unwrap();
    assert_eq!(repair(&stand.settings()).area(FILES).unwrap().repaired, 1);
    assert_eq!(stand.fetched().len(), 1);
}

#[test]
fn the_full_chain_of_a_repair_downloads_what_it_is_to_hold_everything_against() {
    let stand = Stand::new();
    let look = |stand: &Stand| Tree::read(&stand.world.machine(), &[STATE, "var/lib/apt/lists"]).without_folder_times();
    let before = look(&stand);
    fs::set_permissions(stand.at("/usr/bin/quay"), fs::Permissions::from_mode(0o4777)).unwrap();
    fs::remove_file(stand.at("/usr/share/quay/link")).unwrap();
    symlink("/home/mirela", stand.at("/usr/share/quay/link")).unwrap();
    let full = || Settings { complete: true, ..stand.settings() };
    let plain = check(&stand.settings());
    let nothing = UnverifiedReport { packages: 2, fetchable: 0, bytes: 0 };
    assert_eq!((plain.outcome, plain.unverified), (Outcome::OkLimited, Some(nothing)), "no lists are on the machine");
    assert!(stand.fetched().is_empty());
    let offline = check(&Settings { complete: true, ..stand.offline() });
    assert!(offline.downloads.is_empty() && stand.fetched().is_empty());
    stand.lists("");
    let told = check(&stand.settings()).unverified.unwrap();
    assert!((told.packages, told.fetchable) == (2, 2) && told.bytes > 500, "{told:?}");
    let unasked = Settings { answerable: false, ..full() };
    assert!(matches!(try_repair(&unasked, Arc::new(LiveDisk)), Err(WorkError::CannotAsk)));
    assert!(stand.fetched().is_empty(), "nothing is downloaded for a question that no one can answer");
    let seen = check(&full());
    assert_eq!((seen.findings.len(), seen.downloads.len(), stand.fetched().len()), (2, 2, 2));
    let report = repair(&full());
    assert_eq!((report.area(FILES).unwrap().repaired, stand.fetched().len()), (2, 2));
    assert_eq!(report.after.unwrap().outcome, Outcome::Ok);
    assert_eq!(look(&stand).differences(&before), [""; 0]);
}

#[test]
fn indexes_are_taken_in_every_form_by_digest_or_by_name_and_signed_either_way() {
    for (form, by_hash, detached) in
        [("", true, false), (".gz", true, true), (".xz", false, false), (".lz4", false, true), (".zst", true, false)]
    {
        let stand = Stand::new();
        stand.publish(&Suite { forms: &[form], by_hash, detached, ..stand.suite() });
        fs::write(stand.at("/usr/share/quay/part-0"), "wrong\n").unwrap();
        let told = check(&stand.settings());
        assert_eq!(told.downloads.len(), 1, "{form} {by_hash} {detached}: {:?}", told.sources);
        assert_eq!(stand.mirror.asked().iter().any(|p| p.contains("by-hash")), by_hash);
    }
}

#[test]
fn deb822_sources_and_keys_written_into_them_count_as_well() {
    let stand = Stand::new();
    fs::remove_file(stand.at("/etc/apt/sources.list")).unwrap();
    let key: String =
        stand.key.armoured().unwrap().lines().map(|l| format!(" {}\n", if l.is_empty() { "." } else { l })).collect();
    let text =
        format!("Types: deb\nURIs: {}\nSuites: saltwort\nComponents: main\nSigned-By:\n{key}", stand.mirror.url());
    stand.write("/etc/apt/sources.list.d/foreshore.sources", text.as_bytes());
    fs::write(stand.at("/usr/share/quay/part-0"), "wrong\n").unwrap();
    assert_eq!(check(&stand.settings()).downloads.len(), 1);
}

#[test]
fn a_folder_of_packages_a_repository_in_a_folder_and_one_at_a_url_are_supplies() {
    let stand = Stand::new();
    stand.lists("");
    fs::write(stand.at("/usr/share/quay/part-0"), "wrong\n").unwrap();
    let plain = check(&stand.offline());
    assert!(reasons(&plain)[0].contains("its .deb file is not available"), "{:?}", reasons(&plain));
    let from = |supplier: Supplier| Settings { from: vec![supplier], ..stand.offline() };
    let pool = check(&from(Supplier::Place(stand.repositories().join("pool"))));
    assert_eq!((by(&pool, Authority::Repository), pool.left.len()), (2, 0));

    // A machine that knows no repository at all: the one that was named brings its own release file.
    let other = Stand::new();
    fs::remove_file(other.at("/etc/apt/sources.list")).unwrap();
    fs::write(other.at("/usr/share/quay/part-0"), "wrong\n").unwrap();
    let named = Settings { from: vec![Supplier::Place(other.repositories())], ..other.offline() };
    let report = check(&named);
    assert_eq!((by(&report, Authority::Repository), report.left.len()), (2, 0), "{:?}", report.sources);

    // The machine's own repository is gone; another one has the same suites.
    let stand = Stand::new();
    stand.write(
        "/etc/apt/sources.list",
        b"deb [signed-by=/usr/share/keyrings/foreshore.gpg] http://127.0.0.1:9/ saltwort main\n",
    );
    fs::write(stand.at("/usr/share/quay/part-0"), "wrong\n").unwrap();
    let url = Settings { from: vec![Supplier::Url(stand.mirror.url().to_owned())], ..stand.settings() };
    assert_eq!(repair(&url).area(FILES).unwrap().repaired, 1);
}

#[test]
fn a_release_file_without_its_indexes_is_no_reason_not_to_ask_the_network() {
    let stand = Stand::new();
    stand.lists("");
    let lists = stand.at("/var/lib/apt/lists");
    let index = names(&lists).into_iter().find(|n| n.ends_with("Packages")).unwrap();
    fs::remove_file(lists.join(index)).unwrap();
    fs::write(stand.at("/usr/share/quay/part-0"), "wrong\n").unwrap();
    assert_eq!(check(&stand.settings()).downloads.len(), 1);
}

#[test]
fn a_repository_in_a_folder_of_the_machine_needs_neither_lists_nor_cache_nor_network() {
    let stand = Stand::new();
    fs::rename(stand.repositories(), stand.at("/var/foreshore")).unwrap();
    stand.write(
        "/etc/apt/sources.list",
        b"deb [signed-by=/usr/share/keyrings/foreshore.gpg] file:/var/foreshore saltwort main\n",
    );
    fs::write(stand.at("/usr/share/quay/part-0"), "wrong\n").unwrap();
    let report = repair(&stand.offline());
    assert_eq!(
        report.area(FILES).unwrap().repaired,
        1,
        "{:?} {:?}",
        report.area(FILES).unwrap().remaining,
        report.before.sources
    );
}

#[test]
fn a_pipe_in_a_packages_place_holds_nothing_up() {
    let stand = Stand::new();
    fs::write(stand.at("/usr/share/quay/part-0"), "wrong\n").unwrap();
    let package = stand.repositories().join("pool/main/q/quay/quay_1.0-1_amd64.deb");
    let digest = aws_lc_rs::digest::digest(&aws_lc_rs::digest::SHA256, &fs::read(package).unwrap());
    fs::create_dir_all(stand.downloads()).unwrap();
    let name: String = digest.as_ref().iter().map(|b| format!("{b:02x}")).collect();
    for ending in ["deb", "part"] {
        let pipe = stand.downloads().join(format!("{name}.{ending}"));
        rustix::fs::mknodat(rustix::fs::CWD, &pipe, rustix::fs::FileType::Fifo, rustix::fs::Mode::RUSR, 0).unwrap();
    }
    let report = repair(&stand.settings());
    assert_eq!((report.area(FILES).unwrap().repaired, report.area(FILES).unwrap().remaining.len()), (0, 1));
}

#[test]
fn a_package_that_is_not_the_signed_one_is_passed_over() {
    let stand = Stand::new();
    stand.lists("");
    stand.cache();
    let cached = stand.at("/var/cache/apt/archives/quay_1%3a1.0-1_amd64.deb");
    let mut bytes = fs::read(&cached).unwrap();
    let middle = bytes.len() / 2;
    bytes[middle] ^= 1;
    fs::write(&cached, bytes).unwrap();
    fs::write(stand.at("/usr/share/quay/part-0"), "wrong\n").unwrap();
    let report = check(&stand.offline());
    assert_eq!((by(&report, Authority::Repository), report.left.len()), (1, 1));
    assert_eq!(repair(&stand.settings()).area(FILES).unwrap().repaired, 1, "the archive has a good one");
}

#[test]
fn what_was_verified_once_verifies_again_without_its_package() {
    let stand = Stand::new();
    stand.lists("");
    stand.cache();
    let full = Settings { complete: true, ..stand.offline() };
    check(&full);
    for name in names(&stand.at("/var/cache/apt/archives")).iter().filter(|n| n.ends_with(".deb")) {
        fs::remove_file(stand.at("/var/cache/apt/archives").join(name)).unwrap();
    }
    fs::remove_file(stand.at("/usr/share/quay/link")).unwrap();
    symlink("part-3", stand.at("/usr/share/quay/link")).unwrap();
    let report = check(&stand.offline());
    assert_eq!(by(&report, Authority::Repository), 2);
    assert_eq!(told(&report.findings), [("/usr/share/quay/link".into(), "wrong-target")]);
    // A link needs no content, so it can be repaired even so.
    assert_eq!(repair(&stand.offline()).area(FILES).unwrap().repaired, 1);
}

#[test]
fn a_bad_signature_by_a_known_key_is_a_finding_and_nothing_of_it_is_used() {
    let stand = Stand::new();
    stand.lists("");
    stand.cache();
    let list = names(&stand.at("/var/lib/apt/lists")).into_iter().find(|n| n.ends_with("InRelease")).unwrap();
    let path = stand.at("/var/lib/apt/lists").join(list);
    let text = fs::read_to_string(&path).unwrap().replace("Origin: Foreshore", "Origin: Elsewhere");
    fs::write(&path, text).unwrap();
    let report = check(&stand.offline());
    let [finding] = report.findings.as_slice() else { panic!("{:?}", report.findings) };
    assert_eq!((finding.verdict.word(), report.outcome), ("bad-signature", Outcome::Damaged));
    assert!(finding.cause.as_ref().unwrap().contains(&stand.key.fingerprint()));
    assert_eq!(by(&report, Authority::Repository), 0);
    assert_eq!(check(&stand.offline()).findings[0].id, finding.id, "its name stays the same");
}

#[test]
fn an_index_that_was_not_signed_is_not_used_and_that_is_told() {
    let stand = Stand::new();
    stand.lists("");
    stand.cache();
    let lists = stand.at("/var/lib/apt/lists");
    let index = names(&lists).into_iter().find(|n| n.ends_with("Packages")).unwrap();
    let text = fs::read_to_string(lists.join(&index)).unwrap().replace("Version: 1:1.0-1", "Version: 1:1.0-2");
    fs::write(lists.join(&index), text).unwrap();
    fs::write(stand.at("/usr/share/quay/part-0"), "wrong\n").unwrap();
    let report = check(&stand.offline());
    assert_eq!((by(&report, Authority::Repository), report.left.len()), (0, 1));
    assert!(report.sources[0].why.as_ref().unwrap().contains("checksum differs from the signed release file"));
}

#[test]
fn a_key_that_only_the_machine_knows_does_not_count_until_it_is_pinned() {
    let stand = Stand::new();
    stand.lists("");
    stand.cache();
    fs::write(stand.at("/usr/share/quay/part-0"), "wrong\n").unwrap();
    let stranger = Settings { trust: stand.dir.path().join("other"), ..stand.offline() };
    let report = check(&stranger);
    assert_eq!((by(&report, Authority::Repository), report.sources[0].standing.word()), (0, "refused"));
    assert!(report.sources[0].why.as_ref().unwrap().contains("not trusted yet"));
    assert_eq!(by(&check(&stand.offline()), Authority::Repository), 2);
}

#[test]
fn an_expired_release_is_still_valid_and_one_from_the_future_is_not() {
    let stand = Stand::new();
    let old = Suite { made: NOW - 90 * 86_400, valid_until: NOW - 80 * 86_400, ..stand.suite() };
    stand.publish(&old);
    stand.lists("");
    stand.cache();
    let full = Settings { complete: true, ..stand.offline() };
    let report = check(&full);
    assert_eq!((report.outcome, report.sources[0].expired), (Outcome::Ok, true));
    assert!(report.sources[0].dated.is_some());

    let stand = Stand::new();
    stand.publish_by(&stand.suite(), &[&stand.key], NOW + 9 * 86_400);
    stand.lists("");
    let report = check(&Settings { complete: true, ..stand.offline() });
    assert!(report.sources[0].why.as_ref().unwrap().contains("in the future"));
}

#[test]
fn a_repository_that_goes_back_in_time_is_refused() {
    let stand = Stand::new();
    fs::write(stand.at("/usr/share/quay/part-0"), "wrong\n").unwrap();
    assert_eq!(check(&stand.settings()).downloads.len(), 1);
    stand.publish(&Suite { made: NOW - 9 * 86_400, valid_until: EXPIRES, ..stand.suite() });
    let report = check(&stand.settings());
    assert_eq!(report.downloads.len(), 0);
    assert!(report.sources[0].why.as_ref().unwrap().contains("older than"), "{:?}", report.sources);
    // The lists that lie on a machine may be as old as the machine.
    stand.lists("");
    assert_eq!(check(&stand.settings()).downloads.len(), 1);
}

#[test]
fn a_newer_version_is_named_and_never_mixed_in() {
    let mut stand = Stand::new();
    stand.cache();
    stand.packages[0].version = "1:1.0-2".into();
    stand.publish(&stand.suite());
    stand.lists("");
    fs::write(stand.at("/usr/share/quay/part-0"), "wrong\n").unwrap();
    let report = repair(&stand.settings());
    let [left] = report.area(FILES).unwrap().remaining.as_slice() else { panic!("{:?}", report.area(FILES).unwrap()) };
    assert!(left.reason.contains("no longer has quay 1:1.0-1, only 1:1.0-2"), "{}", left.reason);
    assert!(left.action.as_ref().unwrap().contains("--from"));
    assert!(stand.fetched().is_empty());
    assert_eq!(fs::read_to_string(stand.at("/usr/share/quay/part-0")).unwrap(), "wrong\n");
}

#[test]
fn unsigned_repositories_and_forgeable_digests_do_not_count() {
    let stand = Stand::new();
    stand.lists("");
    let list = names(&stand.at("/var/lib/apt/lists")).into_iter().find(|n| n.ends_with("InRelease")).unwrap();
    let path = stand.at("/var/lib/apt/lists").join(&list);
    fs::rename(&path, path.with_file_name(list.replace("InRelease", "Release"))).unwrap();
    let report = check(&Settings { complete: true, ..stand.offline() });
    assert!(report.sources[0].why.as_ref().unwrap().contains("not signed"));

    let weak = veritum_demo::signing::sign_clear(
        "Origin: Foreshore\nMD5Sum:\n 0 0 main/binary-amd64/Packages\n",
        veritum_demo::repository::signing(&[&stand.key], NOW - 86_400),
    );
    fs::write(&path, weak.unwrap()).unwrap();
    let report = check(&Settings { complete: true, ..stand.offline() });
    assert!(report.sources[0].why.as_ref().unwrap().contains("can be forged"));
}

#[test]
fn one_signature_of_two_is_enough_when_the_other_is_a_new_keys() {
    let stand = Stand::new();
    let new = VendorKey::new(8, &KeyShape::default()).unwrap();
    stand.publish_by(&stand.suite(), &[&stand.key, &new], NOW - 86_400);
    stand.lists("");
    stand.cache();
    assert_eq!(check(&Settings { complete: true, ..stand.offline() }).outcome, Outcome::Ok);
}

#[test]
fn a_path_is_explained_down_to_the_vendors_key() {
    let stand = Stand::new();
    stand.lists("");
    stand.cache();
    fs::write(stand.at("/usr/share/quay/part-0"), "right one\n").unwrap();
    let path = SystemPath::parse(b"/usr/share/quay/part-0").unwrap();
    let report = open(&stand.offline()).explain_path(&path, &NoObserver).unwrap();
    let what: Vec<_> = report.chain.iter().map(|l| l.what.as_str()).collect();
    assert_eq!(
        what,
        ["content", ".deb file with SHA-256", "index of the repository", "release file, signed", "vendor's key"]
    );
    assert_eq!(report.chain.last().unwrap().name, stand.key.fingerprint());
    assert_eq!(report.differs.unwrap().offset, 6);
    let named = Scope { packages: vec!["pier".into()], ..Scope::default() };
    let one = open(&stand.offline()).check(&named, &NoObserver).unwrap();
    assert_eq!((one.outcome, by(&one, Authority::Repository)), (Outcome::Ok, 1), "what is named is unpacked");
}

#[test]
fn another_suites_signed_lists_under_this_ones_names_are_not_used() {
    let stand = Stand::new();
    // The same maintainer signs another suite, in which an update is lacking.
    stand.publish(&Suite { name: "saltwort-old", ..stand.suite() });
    let dists = stand.repositories().join("dists");
    fs::rename(dists.join("saltwort-old"), dists.join("saltwort")).unwrap();
    stand.lists("");
    stand.cache();
    let report = check(&stand.offline());
    assert_eq!((by(&report, Authority::Repository), report.sources[0].standing.word()), (0, "unusable"));
    let why = report.sources[0].why.as_ref().unwrap();
    assert!(why.contains("release file is for stable (saltwort-old), not for saltwort"), "{why}");
    let scope = Scope::only(UPDATES);
    let updates = open(&stand.offline()).check(&scope, &NoObserver).unwrap();
    assert!(updates.findings.iter().any(|f| f.cause.as_ref().is_some_and(|cause| cause == why)), "{updates:#?}");
    // Over the network as well, and a repair gets nothing from it.
    let asked = open(&stand.settings()).check(&scope, &NoObserver).unwrap();
    assert!(
        asked.findings.iter().any(|f| f.cause.as_ref().is_some_and(|cause| cause.contains("asked now"))),
        "{asked:#?}"
    );
}

#[test]
fn another_origins_lists_signed_by_the_same_key_are_not_used_where_the_origin_is_known() {
    let stand = Stand::new();
    fs::write(stand.at("/usr/share/quay/part-0"), "wrong\n").unwrap();
    assert_eq!(check(&stand.settings()).downloads.len(), 1);
    stand.publish(&Suite { origin: "Saltmarsh", made: stand.suite().made + 60, ..stand.suite() });
    let of_sources = |report: &CheckReport| report.sources[0].why.clone().unwrap_or_default();
    let why = "the origin in its release file changed from Foreshore to Saltmarsh";
    let report = check(&stand.settings());
    assert_eq!((report.downloads.len(), of_sources(&report).as_str()), (0, why));
    // At hand as well; and one that names none is not another one.
    stand.lists("");
    assert_eq!(of_sources(&check(&stand.offline())), why);
    stand.publish(&Suite { origin: "", made: stand.suite().made + 60, ..stand.suite() });
    stand.lists("");
    assert_eq!(of_sources(&check(&stand.offline())), "");
}

#[test]
fn a_bad_signature_of_a_repository_is_no_answer_about_a_path_that_was_named() {
    let stand = Stand::available();
    let release = stand.list("InRelease");
    let text = fs::read_to_string(&release).unwrap();
    fs::write(&release, text.replace("saltwort", "saltworm")).unwrap();
    assert!(check(&stand.offline()).findings.iter().any(|f| f.verdict.word() == "bad-signature"));
    let scope = Scope { paths: vec![SystemPath::literal("/usr/share/quay/part-0")], ..Scope::default() };
    let named = open(&stand.offline()).check(&scope, &NoObserver).unwrap();
    assert_eq!((named.findings.len(), named.outcome), (0, Outcome::OkLimited), "{named:#?}");
}

#[test]
fn a_stale_part_of_a_download_is_no_fault_of_the_repositories_and_all_of_it_is_got_in_the_same_run() {
    let stand = Stand::new();
    fs::write(stand.at("/usr/share/quay/part-0"), "wrong\n").unwrap();
    let told = check(&stand.settings());
    let size = told.downloads[0].bytes;
    // What is there from an earlier run: another beginning, or another whole, or more than there is.
    for length in [10, size, size + 5] {
        let stand = Stand::new();
        fs::write(stand.at("/usr/share/quay/part-0"), "wrong\n").unwrap();
        fs::create_dir_all(stand.downloads()).unwrap();
        let mut tried = stand.settings();
        tried.repositories.downloads = stand.downloads();
        check(&tried);
        let package = stand.repositories().join("pool/main/q/quay/quay_1.0-1_amd64.deb");
        let sum = std::process::Command::new("sha256sum").arg(package).output().unwrap();
        let sum = String::from_utf8(sum.stdout).unwrap().split_whitespace().next().unwrap().to_owned();
        let part = stand.downloads().join(format!("{sum}.part"));
        fs::write(&part, vec![b'x'; usize::try_from(length).unwrap()]).unwrap();
        let repaired = repair(&tried);
        assert_eq!(
            repaired.area(FILES).unwrap().repaired,
            1,
            "{length}: {:?}",
            repaired.area(FILES).unwrap().remaining
        );
    }
}

#[test]
fn that_what_was_seen_before_cannot_be_read_here_is_no_fault_of_the_repositories() {
    let stand = Stand::new();
    stand.lists("");
    let scope = Scope::only(UPDATES);
    let before = open(&stand.settings()).check(&scope, &NoObserver).unwrap();
    fs::write(stand.trust().join("repositories.json"), "[").unwrap();
    let report = open(&stand.settings()).check(&scope, &NoObserver).unwrap();
    assert_eq!(report.findings, before.findings);
    assert!(report.unexamined.iter().any(|u| u.reason.contains("rolled back")), "{:?}", report.unexamined);
}
