//! Recognises user data in any place: documents, keys, source repositories.

/// File name extensions of what people create or keep. Images are not among them: caches are full of them.
const OWN: [&str; 51] = [
    "7z", "abw", "asc", "bak", "bib", "csv", "dic", "doc", "docm", "docx", "dot", "dotx", "eml", "epub", "gpg", "ics",
    "jks", "kdb", "kdbx", "key", "keystore", "mbox", "md", "odb", "odg", "odp", "ods", "odt", "org", "otp", "ots",
    "ott", "p12", "pages", "pdf", "pem", "pfx", "ppt", "pptx", "ps", "rtf", "tar", "tex", "tgz", "txt", "vcf",
    "wallet", "wpd", "xls", "xlsx", "zip",
];
/// Whole file names, in lower case.
const NAMES: [&str; 4] = ["wallet.dat", "id_rsa", "id_ed25519", "id_ecdsa"];
/// Signatures of such files, each with its offset.
const BEGINNINGS: [(usize, &[u8]); 6] = [
    (0, b"%PDF-"),
    (30, b"mimetypeapplication/vnd.oasis.opendocument"),
    (0, b"\xd0\xcf\x11\xe0\xa1\xb1\x1a\xe1"),
    (0, b"{\\rtf"),
    (0, b"-----BEGIN "),
    (0, b"\x03\xd9\xa2\x9a"),
];
/// Whether a file's name and first bytes suggest user data: then it counts as user data in any place. False positives are
/// harmless: the file stays where it is.
#[must_use]
pub fn looks_user_authored(name: &[u8], begins: &[u8]) -> bool {
    let name = String::from_utf8_lossy(name).to_lowercase();
    // LibreOffice names its autosaved files `letter.odt_0.odt`, other programs `letter.odt~` or `letter.odt.1`.
    let trimmed = name.trim_end_matches(|c: char| c == '~' || c == '.' || c.is_ascii_digit());
    let ends = |name: &str| name.rsplit_once('.').is_some_and(|(stem, end)| !stem.is_empty() && OWN.contains(&end));
    let by_name = ends(&name) || ends(trimmed) || NAMES.contains(&name.as_str());
    by_name || BEGINNINGS.iter().any(|(at, with)| begins.get(*at..).is_some_and(|rest| rest.starts_with(with)))
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn what_people_make_is_told_by_its_name_or_its_beginning() {
        for name in
            ["thesis.ODT", "the only copy.odt", "letter.odt_0.odt", "list.csv~", "old.pdf.1", "wallet.dat", "my.key"]
        {
            assert!(looks_user_authored(name.as_bytes(), b""), "{name}");
        }
        for name in ["cache2", "A0B1C2", "index.sqlite", "art.jpg", ".odt", "fonts.cache-8", "startupCache.8.little"] {
            assert!(!looks_user_authored(name.as_bytes(), b"\x7fELF"), "{name}");
        }
        let mut odt = b"PK\x03\x04".to_vec();
        odt.resize(30, 0);
        odt.extend(b"mimetypeapplication/vnd.oasis.opendocument.text");
        assert!(
            looks_user_authored(b"E1F2", &odt)
                && looks_user_authored(b"x", b"%PDF-1.7")
                && !looks_user_authored(b"x", &odt[..40])
        );
        assert!(OWN.is_sorted());
    }

    proptest::proptest! {
        #[test]
        fn what_people_make_is_theirs_however_damaged_it_is(seed: u64) {
            let begins = crate::testkit::mutated(b"PK\x03\x04mimetypeapplication/vnd.oasis.opendocument.text", seed);
            proptest::prop_assert!(looks_user_authored(b"thesis.odt", &begins));
            proptest::prop_assert!(looks_user_authored(b"x", &[b"%PDF-", &begins[..]].concat()));
        }
    }
}
