//! Which keys may sign for a source, when the machine's own keyrings are whole, damaged or gone.

#[path = "support/stand.rs"]
mod stand;
mod support;

use std::fs;

use stand::Stand;
use support::check;
use veritum_core::report::CheckReport;
use veritum_core::trust::VendorKeys;
use veritum_core::trust::openpgp::Keyring;
use veritum_core::work::Settings;
use veritum_demo::signing::{KeyShape, VendorKey};

const KEYRING: &str = "/usr/share/keyrings/foreshore.gpg";

/// A machine with lists available, and what becomes of its one source.
fn stand() -> Stand {
    let stand = Stand::new();
    stand.lists("");
    stand
}

fn standing(stand: &Stand) -> (&'static str, CheckReport) {
    let report = check(&Settings { complete: true, ..stand.offline() });
    (report.sources[0].standing.word(), report)
}

fn other_key() -> Vec<u8> {
    VendorKey::new(99, &KeyShape::default()).unwrap().keyring().unwrap()
}

#[test]
fn where_the_named_keyring_is_gone_or_damaged_the_operators_own_keys_stand_in() {
    let whole = stand().key.keyring().unwrap();
    let mut flipped = whole.clone();
    let middle = flipped.len() / 2;
    flipped[middle] ^= 0x55;
    // A key that can be read, and one that cannot.
    let half = [other_key(), whole[..whole.len() / 2].to_vec()].concat();
    for (what, bytes) in [("gone", None), ("empty", Some(vec![])), ("flipped", Some(flipped)), ("cut", Some(half))] {
        let stand = stand();
        match bytes {
            Some(bytes) => stand.write(KEYRING, &bytes),
            None => fs::remove_file(stand.at(KEYRING)).unwrap(),
        }
        assert_eq!(standing(&stand).0, "verified", "{what}");
        let stranger = Settings { trust: stand.dir.path().join("other"), complete: true, ..stand.offline() };
        assert_ne!(check(&stranger).sources[0].standing.word(), "verified", "{what}: no other source has the key");
    }
}

#[test]
fn a_whole_keyring_that_lacks_the_key_keeps_it_out() {
    let stand = stand();
    stand.write(KEYRING, &other_key());
    let (standing, report) = standing(&stand);
    assert_eq!(standing, "refused");
    assert!(report.sources[0].why.as_ref().unwrap().contains("not in the keyring"));
}

#[test]
fn a_source_that_names_a_fingerprint_is_signed_by_that_key_only() {
    let stand = stand();
    let other = VendorKey::new(99, &KeyShape::default()).unwrap();
    let keyring = Keyring::read(&other.keyring().unwrap()).unwrap();
    VendorKeys::in_folder(&stand.trust()).pin(&keyring.certificates()[0]).unwrap();
    stand.write("/etc/apt/trusted.gpg.d/both.gpg", &[stand.key.keyring().unwrap(), other_key()].concat());
    for (fingerprint, expected) in [(stand.key.fingerprint(), "verified"), (other.fingerprint(), "refused")] {
        let line = format!("deb [signed-by={fingerprint}] {} {} main\n", stand.mirror.url(), stand::SUITE);
        stand.write("/etc/apt/sources.list", line.as_bytes());
        assert_eq!(standing(&stand).0, expected);
    }
}

#[test]
fn a_source_without_a_keyring_of_its_own_takes_the_systems_and_the_operators() {
    let stand = stand();
    let line = format!("deb {} {} main\n", stand.mirror.url(), stand::SUITE);
    stand.write("/etc/apt/sources.list", line.as_bytes());
    assert_eq!(standing(&stand).0, "verified", "the system has no common keyring; the operator knows the key");
    stand.write("/etc/apt/trusted.gpg.d/foreshore.asc", stand.key.armoured().unwrap().as_bytes());
    assert_eq!(standing(&stand).0, "verified");
    let stranger = Settings { trust: stand.dir.path().join("other"), complete: true, ..stand.offline() };
    assert_eq!(check(&stranger).sources[0].standing.word(), "refused");
}
