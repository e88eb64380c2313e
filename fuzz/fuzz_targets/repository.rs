//! Files of archives and of apt: sources (both styles), configuration, release file, package index, names.
#![no_main]

use libfuzzer_sys::fuzz_target;
use veritum_core::formats::deb::unpacked;
use veritum_core::model::SystemPath;
use veritum_core::platform::debian::apt::{
    AptConf, Release, Sources, file_name_of_uri, for_each_listed, split_deb_name,
};
use veritum_core::platform::debian::compare_versions;

fuzz_target!(|data: &[u8]| {
    let Some((first, rest)) = data.split_first() else { return };
    let text = String::from_utf8_lossy(rest);
    match first % 6 {
        0 => {
            let mut sources = Sources::default();
            sources.add(&text, &SystemPath::literal("/etc/apt/sources.list"));
            sources.add(&text, &SystemPath::literal("/etc/apt/sources.list.d/a.sources"));
            for source in &sources.all {
                let _ = (source.folder(), source.release_folder(), source.describe());
                assert!(!source.release_folder().split('/').any(|name| name == ".."));
            }
        }
        1 => {
            let mut conf = AptConf::default();
            conf.add(&text);
            let _ = conf.proxy("http", "quay.example");
        }
        2 => drop(Release::parse(&text)),
        3 => for_each_listed(rest, |listed| assert!(!listed.path.starts_with('/'))),
        4 => {
            let _ = split_deb_name(&text);
            assert!(!file_name_of_uri(&text).contains('/'));
            let (a, b) = text.split_at(text.char_indices().nth(text.chars().count() / 2).map_or(0, |(at, _)| at));
            assert_eq!(compare_versions(a, b), compare_versions(b, a).reverse());
        }
        _ => {
            for ending in ["", ".gz", ".xz", ".zst", ".lz4"] {
                if let Ok(plain) = unpacked(rest, ending) {
                    let _ = std::io::copy(&mut std::io::Read::take(plain, 1 << 20), &mut std::io::sink());
                }
            }
        }
    }
});
