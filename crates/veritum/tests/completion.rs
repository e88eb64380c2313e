//! The completions as the shells themselves ask for them. A shell that is not installed is skipped.

mod support;

use std::process::Command;

use support::Bench;

/// Bash: the function is called as a press of the tab key calls it.
const BASH: &str = r#"
source "$FOLDER/completions/veritum.bash"
compopt() { :; }
COMP_LINE=$LINE COMP_POINT=${#LINE} COMP_WORDBREAKS=$' \t\n"'"'"'><=;|&(:'
_veritum
printf '%s\n' "${COMPREPLY[@]}"
"#;
/// Zsh: what the file hands to the shell's own `compadd`.
const ZSH: &str = r#"
compadd() { while [[ $1 != -- ]]; do shift; done; shift; print -l -- "$@" }
_files() { print files }
complete_it() { local -a words; words=(${(z)LINE}); [[ $LINE == *' ' ]] && words+=(''); local CURRENT=$#words; source "$FOLDER/completions/_veritum" }
complete_it
"#;
/// Fish: its own builtin answers for a line.
const FISH: &str = r#"source "$FOLDER/completions/veritum.fish"; complete -C "$LINE" | string split -f1 \t"#;

/// What a shell offers at the end of a line; `None` where it is not installed.
fn offered(bench: &Bench, shell: &str, script: &str, line: &str) -> Option<Vec<String>> {
    let program = std::path::Path::new(env!("CARGO_BIN_EXE_veritum"));
    let path = format!("{}:{}", program.parent()?.display(), std::env::var("PATH").unwrap_or_default());
    let output = Command::new(shell)
        .args(["-c", script])
        .env("FOLDER", bench.folder().join("manuals"))
        .env("LINE", line)
        .env("PATH", path)
        .env("HOME", bench.folder())
        .env("VERITUM_CONFIG", bench.config())
        .output();
    match output {
        Ok(output) => {
            let text = String::from_utf8_lossy(&output.stdout);
            Some(text.lines().filter(|line| !line.is_empty()).map(str::to_owned).collect())
        }
        Err(_) => {
            println!("SKIPPED: {shell} is not installed");
            None
        }
    }
}

#[test]
fn shells_complete_what_the_machine_knows_and_hide_what_is_internal() {
    let bench = Bench::damaged();
    let manuals = bench.folder().join("manuals");
    assert_eq!(bench.say(&["manuals", manuals.to_str().unwrap()]).status, 0);
    let report: serde_json::Value = serde_json::from_str(&bench.say(&["check", "--json"]).out).unwrap();
    let id = report["findings"][0]["id"].as_str().unwrap();
    let shells = [("bash", BASH), ("zsh", ZSH), ("fish", FISH)];
    let shells: Vec<_> = shells.into_iter().filter(|(shell, _)| offered(&bench, shell, "true", "").is_some()).collect();
    for (shell, script) in &shells {
        let at = |line: &str| offered(&bench, shell, script, line).unwrap();
        let verbs = at("veritum ");
        assert!(["check", "repair", "undo"].iter().all(|verb| verbs.iter().any(|v| v == verb)), "{shell}: {verbs:?}");
        assert!(!verbs.iter().any(|v| ["guard", "complete", "as-owner"].contains(&v.as_str())), "{shell}: {verbs:?}");
        assert_eq!(at("veritum check upd"), ["updates"], "{shell}");
        // Bash has the part before the colon already.
        let whole = if *shell == "bash" { "quay" } else { "package:quay" };
        assert_eq!(at("veritum check package:qu"), [whole], "{shell}");
        assert_eq!(at(&format!("veritum explain {}", &id[..3])), [id], "{shell}");
        assert_eq!(at("veritum repair --ignore"), ["--ignore-disk-errors"], "{shell}");
        assert_eq!(at("veritum check --root x --min-trust sto"), ["store"], "{shell}");
    }
    assert_eq!(bench.say(&["repair", "--yes"]).status, 0);
    for (shell, script) in &shells {
        assert_eq!(offered(&bench, shell, script, "veritum undo ").unwrap(), ["1"], "{shell}");
    }
}
