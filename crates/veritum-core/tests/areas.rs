//! What the list of areas promises to everything that is made of it.

use std::path::Path;

use veritum_core::areas::{AREAS, About, find, position};
use veritum_core::model::AreaName;

fn about() -> impl Iterator<Item = &'static About> {
    AREAS.iter().map(|area| area.about())
}

#[test]
fn the_table_in_the_reference_is_the_list_of_areas() {
    let reference = Path::new(env!("CARGO_MANIFEST_DIR")).join("../../docs/reference.md");
    let text = std::fs::read_to_string(reference).unwrap();
    let row = |about: &About| {
        let selected = about.selector.map_or_else(String::new, |(selector, _)| format!(" (`{selector}:NAME`)"));
        let check = match about.only_when_named {
            [] => "yes".to_owned(),
            without => format!("without {}", without.join(", ")),
        };
        let repair = if about.by_default { "yes" } else { "reports" };
        format!("| `{}`{selected} | {check} | {repair} | {} |\n", about.name.word(), about.help)
    };
    let table: String = about().map(row).collect();
    assert!(text.contains(&table), "docs/reference.md should have these lines:\n{table}");
}

#[test]
fn names_and_selectors_are_words_and_each_means_one_area() {
    let mut words: Vec<&str> = about().map(|about| about.name.word()).collect();
    words.extend(about().filter_map(|about| Some(about.selector?.0)));
    let plain = |word: &&str| !word.is_empty() && word.bytes().all(|b| b.is_ascii_lowercase() || b == b'-');
    assert!(words.iter().all(plain), "{words:?}");
    let number = words.len();
    words.push("all");
    words.push("package");
    words.sort_unstable();
    words.dedup();
    assert_eq!(words.len(), number + 2, "{words:?}");
}

#[test]
fn an_area_of_tomorrow_has_no_place_here_and_comes_last() {
    let tomorrow = AreaName::new("tides");
    assert!(find(&tomorrow).is_none());
    assert!(about().all(|about| position(&about.name) < position(&tomorrow)));
}
