//! Which signatures of repositories count, with keys made for it.

use pgp::crypto::hash::HashAlgorithm;
use pgp::packet::RevocationCode;
use veritum_core::trust::VendorKeys;
use veritum_core::trust::openpgp::{Keyring, SignatureError, Signed, open_clear, open_detached};
use veritum_demo::NOW;
use veritum_demo::signing::{KeyShape, Signing, VendorKey, sign_clear, sign_detached};

const DAY: i64 = 86_400;
const TEXT: &str = "Origin: Foreshore\nSuite: stable\n- a line with a dash\nSHA256:\n";

fn key(seed: u64, shape: &KeyShape) -> VendorKey {
    VendorKey::new(seed, shape).unwrap()
}

fn keyring(keys: &[&VendorKey]) -> Keyring {
    let mut all = Keyring::default();
    for key in keys {
        all.extend(Keyring::read(&key.keyring().unwrap()).unwrap());
    }
    all
}

fn now() -> jiff::Timestamp {
    jiff::Timestamp::from_second(NOW).unwrap()
}

fn how<'a>(keys: &'a [&'a VendorKey], at: i64) -> Signing<'a> {
    Signing { keys, hash: HashAlgorithm::Sha512, at }
}

/// Opens what a key of this shape signed a day ago; everybody knows the key.
fn opened(shape: &KeyShape, at: i64) -> Result<Signed, SignatureError> {
    let key = key(7, shape);
    let text = sign_clear(TEXT, how(&[&key], at)).unwrap();
    open_clear(text.as_bytes(), &keyring(&[&key]), &|_| true, now())
}

#[test]
fn a_text_comes_out_only_as_it_was_signed() {
    let key = key(7, &KeyShape::default());
    let ring = keyring(&[&key]);
    let text = sign_clear(TEXT, how(&[&key], NOW - DAY)).unwrap();
    let signed = open_clear(text.as_bytes(), &ring, &|_| true, now()).unwrap();
    assert_eq!(String::from_utf8_lossy(signed.text.get()).trim_end(), TEXT.trim_end());
    assert_eq!((signed.key, signed.at.as_second()), (key.fingerprint(), NOW - DAY));

    let opens = |text: &str| open_clear(text.as_bytes(), &ring, &|_| true, now());
    let bad = SignatureError::Bad { key: key.fingerprint() };
    assert_eq!(opens(&text.replace("stable", "stuble")).unwrap_err(), bad);
    let other = "Suite: forged\n";
    let around = [
        format!("{other}{text}"),
        format!("{text}\n{other}"),
        text.replace("-----BEGIN PGP SIGNATURE", &format!("{other}-----BEGIN PGP SIGNATURE")),
    ];
    for text in around {
        match opens(&text) {
            Err(SignatureError::Shape(_) | SignatureError::Bad { .. }) => {}
            other => panic!("{other:?}"),
        }
    }
    assert!(matches!(opens(TEXT), Err(SignatureError::Shape(_))));
    assert!(matches!(opens(""), Err(SignatureError::Shape(_))));
}

#[test]
fn a_signature_beside_the_text_counts_as_well() {
    let key = key(7, &KeyShape::default());
    let ring = keyring(&[&key]);
    let signature = sign_detached(TEXT.as_bytes(), how(&[&key], NOW - DAY)).unwrap();
    let open = |text: &str, signature: &[u8]| open_detached(text.into(), signature, &ring, &|_| true, now());
    assert_eq!(open(TEXT, &signature).unwrap().text.get(), TEXT.as_bytes());
    assert!(matches!(open("other", &signature), Err(SignatureError::Bad { .. })));
    assert!(open(TEXT, b"").is_err() && open(TEXT, &signature[..20]).is_err());
}

#[test]
fn the_key_must_be_in_the_keyring_and_known_beside_the_machine() {
    let (ours, theirs) = (key(7, &KeyShape::default()), key(8, &KeyShape::default()));
    let text = sign_clear(TEXT, how(&[&theirs], NOW - DAY)).unwrap();
    let unknown = open_clear(text.as_bytes(), &keyring(&[&ours]), &|_| true, now()).unwrap_err();
    assert!(matches!(unknown, SignatureError::UnknownKeys { keys } if keys.len() == 1));
    let here = open_clear(text.as_bytes(), &keyring(&[&ours, &theirs]), &|f| f == ours.fingerprint(), now());
    assert_eq!(here.unwrap_err(), SignatureError::OnlyHere { key: theirs.fingerprint() });
}

#[test]
fn a_key_counts_for_what_it_signed_while_it_was_good() {
    let lasts = KeyShape { made: NOW - 100 * DAY, lasts: 50 * 86_400, ..KeyShape::default() };
    assert!(opened(&lasts, NOW - 60 * DAY).is_ok(), "expired since, and good when it signed");
    assert!(matches!(opened(&lasts, NOW - 40 * DAY), Err(SignatureError::KeyExpired { .. })));
    assert!(matches!(opened(&lasts, NOW - 101 * DAY), Err(SignatureError::KeyExpired { .. })), "before it was made");

    let lost = KeyShape { revoked: Some((NOW - DAY, RevocationCode::KeyCompromised)), ..KeyShape::default() };
    assert!(matches!(opened(&lost, NOW - 90 * DAY), Err(SignatureError::Revoked { .. })), "a lost key takes all back");
    let retired = KeyShape { revoked: Some((NOW - 10 * DAY, RevocationCode::KeyRetired)), ..KeyShape::default() };
    assert!(opened(&retired, NOW - 20 * DAY).is_ok());
    assert!(matches!(opened(&retired, NOW - 5 * DAY), Err(SignatureError::Revoked { .. })));
    let subkey = KeyShape { subkey_revoked: Some(NOW - DAY), ..KeyShape::default() };
    assert!(matches!(opened(&subkey, NOW - 2 * DAY), Err(SignatureError::Revoked { .. })), "no reason given");
}

#[test]
fn a_clock_that_is_a_little_wrong_is_no_reason_and_the_future_is() {
    assert!(opened(&KeyShape::default(), NOW + DAY / 2).is_ok());
    match opened(&KeyShape::default(), NOW + 3 * DAY) {
        Err(SignatureError::Future { at }) => assert_eq!(at.as_second(), NOW + 3 * DAY),
        other => panic!("{other:?}"),
    }
}

#[test]
fn a_subkey_must_be_one_for_signing_and_agree_to_belong_to_the_key() {
    for subkey_signs in [[false, true], [true, false]] {
        let shape = KeyShape { subkey_signs, ..KeyShape::default() };
        assert!(matches!(opened(&shape, NOW - DAY), Err(SignatureError::NotForSigning { .. })), "{subkey_signs:?}");
    }
}

#[test]
fn forgeable_digests_do_not_count() {
    let rsa = KeyShape { rsa: Some(2048), ..KeyShape::default() };
    let key = key(7, &rsa);
    for (hash, counts) in [(HashAlgorithm::Sha1, false), (HashAlgorithm::Sha224, false), (HashAlgorithm::Sha256, true)]
    {
        let text = sign_clear(TEXT, Signing { keys: &[&key], hash, at: NOW - DAY }).unwrap();
        match open_clear(text.as_bytes(), &keyring(&[&key]), &|_| true, now()) {
            Ok(_) if counts => {}
            Err(SignatureError::WeakDigest { .. }) if !counts => {}
            other => panic!("{hash}: {other:?}"),
        }
    }
    let weak = KeyShape { hash: HashAlgorithm::Sha1, ..rsa };
    assert!(opened(&weak, NOW - DAY).is_err(), "what the key says of itself must hold as well");
}

#[test]
fn a_key_that_can_be_broken_does_not_count() {
    // RSA with 1024 bits, made once for this test: our library refuses to make such keys.
    let ring = Keyring::read(include_bytes!("data/short-key.asc")).unwrap();
    let signed = open_clear(include_bytes!("data/short-key-signed.txt"), &ring, &|_| true, now());
    assert!(matches!(signed, Err(SignatureError::NotForSigning { .. })), "{signed:?}");
}

#[test]
fn one_bad_signature_of_a_known_key_spoils_the_good_ones_and_an_unknown_one_does_not() {
    let (ours, new) = (key(7, &KeyShape::default()), key(8, &KeyShape::default()));
    let both = sign_clear(TEXT, how(&[&ours, &new], NOW - DAY)).unwrap();
    let opens = |ring: &Keyring, text: &str| open_clear(text.as_bytes(), ring, &|_| true, now());
    assert!(opens(&keyring(&[&ours]), &both).is_ok() && opens(&keyring(&[&new]), &both).is_ok());
    // Two signatures in one block, the first over another text.
    let mixed = mixed_signatures(&ours, &new);
    let ring = keyring(&[&ours, &new]);
    let error = open_detached(TEXT.into(), &mixed, &ring, &|_| true, now()).unwrap_err();
    assert_eq!(error, SignatureError::Bad { key: ours.fingerprint() });
    assert!(open_detached(TEXT.into(), &mixed, &keyring(&[&new]), &|_| true, now()).is_ok());
}

fn mixed_signatures(bad: &VendorKey, good: &VendorKey) -> Vec<u8> {
    let mut all = sign_detached(b"another text", how(&[bad], NOW - DAY)).unwrap();
    all.extend(sign_detached(TEXT.as_bytes(), how(&[good], NOW - DAY)).unwrap());
    all
}

#[test]
fn a_pinned_copy_that_knows_of_a_revocation_counts() {
    let dir = tempfile::tempdir().unwrap();
    let revoked = KeyShape { revoked: Some((NOW - DAY, RevocationCode::KeyCompromised)), ..KeyShape::default() };
    let (on_machine, with_operator) = (key(7, &KeyShape::default()), key(7, &revoked));
    assert_eq!(on_machine.fingerprint(), with_operator.fingerprint());
    let keys = VendorKeys::in_folder(dir.path());
    assert!(!keys.knows(&on_machine.fingerprint()));
    keys.pin(&keyring(&[&with_operator]).certificates()[0]).unwrap();
    let keys = VendorKeys::in_folder(dir.path());
    assert!(keys.knows(&on_machine.fingerprint()));

    let text = sign_clear(TEXT, how(&[&on_machine], NOW - 9 * DAY)).unwrap();
    let mut ring = keyring(&[&on_machine]);
    let opens = |ring: &Keyring| open_clear(text.as_bytes(), ring, &|f| keys.knows(f), now());
    assert!(opens(&ring).is_ok());
    ring.refresh(keys.keyring());
    assert!(matches!(opens(&ring), Err(SignatureError::Revoked { .. })));
}

#[test]
fn keyrings_are_read_in_every_form_and_narrowed_to_what_a_source_names() {
    let (one, two) = (key(7, &KeyShape::default()), key(8, &KeyShape::default()));
    let binary = [one.keyring().unwrap(), two.keyring().unwrap()].concat();
    let text = format!("# keys\n{}\n{}", one.armoured().unwrap(), two.armoured().unwrap());
    for bytes in [binary, text.into_bytes()] {
        let mut ring = Keyring::read(&bytes).unwrap();
        assert_eq!(ring.certificates().len(), 2);
        assert!(ring.certificates()[0].user().contains("Foreshore Archive"));
        ring.keep(&[two.fingerprint()]);
        assert_eq!(ring.certificates()[0].fingerprint(), two.fingerprint());
    }
    assert!(Keyring::read(b"").is_err() && Keyring::read(b"\0\0\0 \x01\x01\0\x02KBXf\0").is_err());
}
