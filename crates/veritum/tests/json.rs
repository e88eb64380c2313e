//! JSON of the built program: one document for each command, as its schema says.

mod support;

use support::Bench;

#[test]
fn json_is_one_document_with_its_format() {
    let bench = Bench::damaged();
    let said = bench.say(&["check", "--json"]);
    let json: serde_json::Value = serde_json::from_str(&said.out).unwrap();
    assert_eq!((said.status, &json["format"], &json["outcome"]), (1, &"veritum.check/1".into(), &"damaged".into()));
    let of =
        |area: &str| json["areas"].as_array().unwrap().iter().find(|a| a["area"] == area).unwrap()["problems"].clone();
    assert_eq!((of("store"), of("files")), (0.into(), 3.into()));
    let finding = &json["findings"][0];
    assert_eq!(
        (&finding["verdict"], &finding["verified_by"], &finding["remedy"]["action"]),
        (&"missing".into(), &"store".into(), &"restore".into())
    );
    for words in [
        &["status", "--json"][..],
        &["list", "packages", "--json"],
        &["list", "changes", "--json"],
        &["repair", "--plan", "--json"],
        &["store", "show", "--json"],
    ] {
        let json: serde_json::Value =
            serde_json::from_str(&bench.say(words).out).unwrap_or_else(|e| panic!("{words:?}: {e}"));
        assert!(json["format"].as_str().is_some_and(|f| f.starts_with("veritum.")), "{words:?}");
    }
}

#[test]
fn the_schemas_in_the_documents_are_those_of_the_program() {
    let bench = Bench::new();
    let docs = std::path::Path::new(env!("CARGO_MANIFEST_DIR")).join("../../docs/schema");
    let fresh = bench.folder().join("schema");
    std::fs::create_dir(&fresh).unwrap();
    assert_eq!(bench.say(&["schemas", fresh.to_str().unwrap()]).status, 0);
    for entry in std::fs::read_dir(&fresh).unwrap() {
        let path = entry.unwrap().path();
        let name = path.file_name().unwrap();
        let kept = std::fs::read_to_string(docs.join(name)).unwrap_or_default();
        assert!(
            kept == std::fs::read_to_string(&path).unwrap(),
            "{name:?} is out of date: cargo run -- schemas docs/schema"
        );
    }
    // Nor is one kept that the program no longer has.
    for entry in std::fs::read_dir(&docs).unwrap() {
        let name = entry.unwrap().file_name();
        assert!(fresh.join(&name).exists(), "{name:?} is of no format");
    }
}

#[test]
fn what_every_command_prints_is_as_its_schema_says() {
    let bench = Bench::damaged();
    let config = bench.config().display().to_string();
    let store = bench.world.store().display().to_string();
    let mut seen = std::collections::BTreeSet::new();
    let mut holds = |words: &[&str]| {
        let said = bench.say(&[words, &["--json"]].concat());
        let document: serde_json::Value =
            serde_json::from_str(&said.out).unwrap_or_else(|e| panic!("{words:?}: {e}\n{}{}", said.out, said.err));
        let format = document["format"].as_str().unwrap().split('/').next().unwrap().to_owned();
        let place = std::path::Path::new(env!("CARGO_MANIFEST_DIR")).join(format!("../../docs/schema/{format}.json"));
        let schema: serde_json::Value = serde_json::from_str(&std::fs::read_to_string(&place).unwrap()).unwrap();
        let schema = jsonschema::validator_for(&schema).unwrap();
        let wrong: Vec<String> = schema.iter_errors(&document).map(|e| format!("{}: {e}", e.instance_path)).collect();
        assert!(wrong.is_empty(), "{words:?} ({format}):\n{}", wrong.join("\n"));
        // A schema that takes anything in would say nothing.
        let mut other = document.clone();
        other.as_object_mut().unwrap().remove("format");
        assert!(!schema.is_valid(&other), "{format} takes in a document without a format");
        seen.insert(format);
    };
    holds(&["status"]);
    holds(&["check"]);
    holds(&["check", "updates", "--no-network"]);
    holds(&["check", "store"]);
    holds(&["explain", "/usr/bin/quay"]);
    for listing in ["components", "apps", "changes", "updates"] {
        holds(&["list", listing]);
    }
    holds(&["repair", "--plan"]);
    holds(&["repair", "--yes"]);
    holds(&["status"]);
    holds(&["list", "changes"]);
    holds(&["explain", "1"]);
    holds(&["undo", "--plan"]);
    holds(&["undo", "--yes"]);
    holds(&["undo", "--yes"]);
    holds(&["recover"]);
    holds(&["store", "show", "--store", &store, "--config", &config]);
    veritum_demo::old_disk::make(bench.folder()).unwrap();
    let place = |name: &str| bench.folder().join(name).to_str().unwrap().to_owned();
    let (image, copy, stick) = (place("old-disk.img"), place("copy.img"), place("stick"));
    std::fs::create_dir(&stick).unwrap();
    holds(&["rescue", "--to", &stick, "--disk", &image]);
    holds(&["rescue", "--verify", &stick]);
    holds(&["rescue", "--back", &stick, "--plan"]);
    holds(&["rescue", "--deleted", "--disk", &image]);
    holds(&["rescue", "--image", &copy, "--disk", &image]);
    let log = bench.world.at("/var/lib/veritum/changes/1/journal");
    let text = std::fs::read_to_string(&log).unwrap();
    std::fs::write(&log, text.replacen("repair", "repaid", 1)).unwrap();
    holds(&["explain", "1"]);
    holds(&["status"]);
    holds(&["check", "/no/such"]);
    let documents =
        ["check", "status", "repair", "undo", "explain", "change", "damaged-change", "changes", "recover", "error"];
    let of_rescue = ["rescue", "rescue-verify", "rescue-back", "rescue-deleted", "rescue-image"];
    for format in documents.into_iter().chain(of_rescue) {
        assert!(seen.contains(&format!("veritum.{format}")), "{format} was not seen: {seen:?}");
    }
}

#[test]
fn with_json_nothing_is_asked_and_nothing_is_changed_without_an_answer_beforehand() {
    let bench = Bench::damaged();
    let before = bench.tree();
    let refused = bench.say(&["repair", "--json"]);
    refused.expect(2, &["veritum.error/1", "\"exit_status\": 2", "--json never asks", "--yes", "--plan"]);
    assert_eq!(refused.err, "");
    bench.say(&["chekc", "--json"]).expect(2, &["veritum.error/1", "chekc", "\"command\": \"veritum help\""]);
    assert_eq!(before.differences(&bench.tree()), Vec::<String>::new());
    bench.say(&["repair", "--json", "--yes"]).expect(0, &["veritum.repair"]);
    bench.say(&["undo", "--json"]).expect(2, &["veritum.error/1", "--json never asks"]);
    bench.say(&["undo", "--json", "--plan"]).expect(0, &["veritum.undo"]);
}
