//! A card for tests: mail inside a profile, an index inside the mail, settings in two places.

pub(crate) const QUAY: &str = r#"
format = "veritum.card/1"
name = "Quay"
entries = ["quay"]
programs = ["quay"]

[[part]]
is = "own"
places = ["~/.quay"]

[[part]]
is = "settings"
places = ["~/.quay/*/prefs", "~/.quay/*/look", "{config}/quay"]

[[part]]
is = "own"
what = "mail"
places = ["~/.quay/*/mail", "{config}/quay/letters"]

[[part]]
is = "cache"
places = ["{cache}/quay", "~/.quay/*/mail/index"]

[[part]]
is = "locks"
places = ["~/.quay/*/lock"]
"#;
