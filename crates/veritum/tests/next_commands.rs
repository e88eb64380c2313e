//! What is suggested leads on: every command after `Next:` is typed as it is printed, until nothing is left to do.

mod support;

use std::collections::HashSet;
use std::path::Path;
use std::process::{Command, Stdio};

use support::{Said, said};

fn run(folder: &Path, words: &str) -> Said {
    let program = Path::new(env!("CARGO_BIN_EXE_veritum"));
    let path = format!("{}:{}", program.parent().unwrap().display(), std::env::var("PATH").unwrap_or_default());
    let mut shell = Command::new("sh");
    shell.args(["-c", words]).current_dir(folder).env("PATH", path).stdin(Stdio::null());
    said(shell.output().unwrap())
}

/// The commands after `Next:`.
fn next_of(said: &Said) -> Vec<String> {
    let lines = said.out.lines().skip_while(|line| !line.starts_with("Next:"));
    let lines = lines.map(|line| line.trim_start_matches("Next:").trim());
    let command = |line: &str| line.split("  ").next().unwrap_or_default().to_owned();
    lines.map(command).filter(|command| command.starts_with("veritum ")).collect()
}

/// A command that asks is answered with yes.
fn answered(command: &str) -> String {
    let asks = ["repair", "reset", "undo", "recover", "store trust"];
    let verb = command.trim_start_matches("veritum ");
    let is_plan = verb.contains("--plan");
    match asks.iter().any(|ask| verb.starts_with(ask)) && !is_plan {
        true => format!("{command} --yes"),
        false => command.to_owned(),
    }
}

/// Follows the first command that was not typed before in this way; the state of the machine changes between them.
fn follow(folder: &Path, first: &str) -> Vec<String> {
    let mut typed: Vec<String> = Vec::new();
    let mut seen: HashSet<(String, String)> = HashSet::new();
    let mut command = first.to_owned();
    loop {
        let said = run(folder, &answered(&command));
        assert!([0, 1, 4].contains(&said.status), "{command}: {}\n{}{}", said.status, said.out, said.err);
        assert!(seen.insert((command.clone(), said.out.clone())), "a loop: {typed:#?}\n{}", said.out);
        assert!(typed.len() < 20, "no end: {typed:#?}");
        typed.push(command);
        let next = next_of(&said);
        // The others must be accepted, too; they are tried where they change nothing.
        for other in next.iter().skip(1).filter(|other| answered(other) == **other) {
            let said = run(folder, other);
            assert!([0, 1].contains(&said.status), "{other}: {}\n{}{}", said.status, said.out, said.err);
        }
        match next.into_iter().next() {
            Some(first) => command = first,
            None => return typed,
        }
    }
}

#[test]
fn every_suggested_command_leads_on_until_nothing_is_left_to_do() {
    let folder = tempfile::tempdir().unwrap();
    let built = run(folder.path(), "veritum demo --build-only --fault all");
    assert_eq!(built.status, 0, "{}{}", built.out, built.err);
    let config = "--config veritum-demo/veritum.toml";
    let typed = follow(folder.path(), &format!("veritum check {config}"));
    assert!(typed.len() > 2, "{typed:#?}");
    let typed = follow(folder.path(), &format!("veritum check all {config}"));
    assert!(typed.len() > 2, "{typed:#?}");
    for first in ["status", "list apps", "list updates", "list changes", "check updates", "check app:gullmail"] {
        follow(folder.path(), &format!("veritum {first} {config}"));
    }
    // What is left is what only other programs, or a person, can do.
    let last = run(folder.path(), &format!("veritum check all {config} --json"));
    let report: serde_json::Value = serde_json::from_str(&last.out).unwrap();
    let findings = report["findings"].as_array().unwrap();
    for finding in findings {
        let is_own = finding["action"]["command"].as_str().is_some_and(|command| command.starts_with("veritum "));
        assert!(finding["remedy"].is_null() && !is_own, "{finding:#}");
    }
}
