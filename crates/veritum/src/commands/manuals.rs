//! Writes manual pages and shell completions into a folder (hidden: for packaging the program).

use std::path::Path;

use clap::Command;
use clap_mangen::Man;
use roff::{Roff, bold, roman};

use crate::errors::Failure;
use crate::exit;
use crate::help::{self, TOPICS, Topic};

const FILES: &[(&str, &str)] = &[
    ("/etc/veritum/veritum.toml", "the configuration; see veritum.toml(5)"),
    ("/etc/veritum/trust/", "trusted keys, and the highest versions seen"),
    ("/var/lib/veritum/", "change logs, backups, and notes of the last check"),
    ("/var/cache/veritum/", "downloads and results of verifications; can be deleted at any time"),
    ("~/.veritum-set-aside/", "what a reset moved aside in a home"),
];
const ENVIRONMENT: &[(&str, &str)] = &[
    ("VERITUM_CONFIG", "as --config"),
    ("VERITUM_ROOT", "as --root"),
    ("VERITUM_STORE", "as --store"),
    ("VERITUM_NO_NETWORK", "as --no-network"),
    ("VERITUM_MIN_TRUST", "as --min-trust"),
    ("VERITUM_CACHE_DIR, VERITUM_STATE_DIR", "as --cache-dir, --state-dir"),
    ("VERITUM_JOBS, VERITUM_COLOR", "as --jobs, --color"),
    ("NO_COLOR", "no colours, if set"),
    ("http_proxy, https_proxy, all_proxy, no_proxy", "proxies, unless APT's configuration names one"),
];

pub(crate) fn run(dir: &Path) -> Result<u8, Failure> {
    write(dir).map_err(|e| Failure::not_done(format!("cannot write {}", dir.display()), e.to_string(), None))?;
    Ok(exit::FINE)
}

fn write(dir: &Path) -> std::io::Result<()> {
    let (commands, files, completions) = (dir.join("man1"), dir.join("man5"), dir.join("completions"));
    for folder in [&commands, &files, &completions] {
        std::fs::create_dir_all(folder)?;
    }
    let mut whole = help::command();
    whole.build();
    std::fs::write(commands.join("veritum.1"), overview(&whole)?)?;
    for topic in TOPICS {
        let mut command = &whole;
        for word in topic.verb.split(' ') {
            command = command.find_subcommand(word).unwrap_or(command);
        }
        let name = format!("veritum-{}", topic.verb.replace(' ', "-"));
        std::fs::write(commands.join(format!("{name}.1")), page(command.clone().name(name), topic)?)?;
    }
    std::fs::write(files.join("veritum.toml.5"), configuration(&whole))?;
    for (name, text) in [("veritum.bash", BASH), ("_veritum", ZSH), ("veritum.fish", FISH)] {
        std::fs::write(completions.join(name), text)?;
    }
    Ok(())
}

/// The page of one command.
fn page(command: Command, topic: &Topic) -> std::io::Result<Vec<u8>> {
    let man = Man::new(command);
    let mut text = Vec::new();
    man.render_title(&mut text)?;
    man.render_name_section(&mut text)?;
    man.render_synopsis_section(&mut text)?;
    man.render_description_section(&mut text)?;
    man.render_options_section(&mut text)?;
    if matches!(topic.verb, "check" | "repair") {
        let rows = help::what_rows();
        section("WHAT", rows.iter().map(|(word, what)| (word.as_str(), what.as_str())), &mut text)?;
    }
    section("EXAMPLES", topic.examples.iter().copied(), &mut text)?;
    section("EXIT STATUS", topic.statuses.iter().copied(), &mut text)?;
    section("FILES", FILES.iter().copied(), &mut text)?;
    section("ENVIRONMENT", ENVIRONMENT.iter().copied(), &mut text)?;
    see_also(&["veritum(1)", "veritum.toml(5)"], &mut text)?;
    Ok(text)
}

/// The page of the program.
fn overview(whole: &Command) -> std::io::Result<Vec<u8>> {
    let man = Man::new(whole.clone());
    let mut text = Vec::new();
    man.render_title(&mut text)?;
    man.render_name_section(&mut text)?;
    man.render_synopsis_section(&mut text)?;
    man.render_description_section(&mut text)?;
    section("FIRST STEPS", help::SYMPTOMS.iter().copied(), &mut text)?;
    let about = |topic: &Topic| -> String {
        let mut words = topic.verb.split(' ');
        let found = words.try_fold(whole, |at, word| at.find_subcommand(word));
        found.and_then(|command| command.get_about().map(ToString::to_string)).unwrap_or_default()
    };
    let verbs: Vec<(String, String)> = TOPICS.iter().map(|topic| (topic.verb.to_owned(), about(topic))).collect();
    section("COMMANDS", verbs.iter().map(|(verb, about)| (verb.as_str(), about.as_str())), &mut text)?;
    section("EXIT STATUS", help::STATUSES.iter().copied(), &mut text)?;
    section("FILES", FILES.iter().copied(), &mut text)?;
    section("ENVIRONMENT", ENVIRONMENT.iter().copied(), &mut text)?;
    let pages: Vec<String> =
        TOPICS.iter().map(|topic| format!("veritum-{}(1)", topic.verb.replace(' ', "-"))).collect();
    let pages: Vec<&str> = pages.iter().map(String::as_str).chain(["veritum.toml(5)"]).collect();
    see_also(&pages, &mut text)?;
    Ok(text)
}

/// The page of the configuration file.
fn configuration(whole: &Command) -> Vec<u8> {
    let of_option = |key: &str| {
        let found = whole.get_arguments().find(|arg| arg.get_long() == Some(key));
        found.and_then(|arg| arg.get_help().map(ToString::to_string)).unwrap_or_default()
    };
    let own = [
        ("from", "a list of further sources, after those of the command line"),
        ("cards", "a folder of application cards (*.toml) that override the built-in ones"),
        ("services", "a folder that replaces the service manager, for a demo machine"),
        ("owner-of-root", "\"UID:GID\": everything is expected to belong to this user; owners are not checked"),
    ];
    let keys = ["root", "store", "no-network", "cache-dir", "state-dir", "complete", "min-trust", "jobs", "color"];
    let mut rows: Vec<(String, String)> = keys.iter().map(|key| ((*key).to_owned(), of_option(key))).collect();
    rows.extend(own.iter().map(|(key, what)| ((*key).to_owned(), (*what).to_owned())));
    let mut page = Roff::new();
    page.control("TH", ["veritum.toml", "5"]);
    page.control("SH", ["NAME"]).text([roman("veritum.toml - configuration of veritum(1)")]);
    page.control("SH", ["DESCRIPTION"]).text([roman(
        "TOML: one KEY = VALUE per line. An option overrides the variable, the variable overrides the file. Relative paths start \
         at the file's own folder. An unknown key is an error.",
    )]);
    page.control("SH", ["KEYS"]);
    for (key, what) in &rows {
        page.control("TP", []).text([bold(key.clone())]).text([roman(what.clone())]);
    }
    page.control("SH", ["FILES"]);
    for (file, what) in FILES {
        page.control("TP", []).text([bold(*file)]).text([roman(*what)]);
    }
    page.control("SH", ["SEE ALSO"]).text([roman("veritum(1)")]);
    page.render().into_bytes()
}

/// A section of terms with their meanings.
fn section<'a>(name: &str, rows: impl Iterator<Item = (&'a str, &'a str)>, into: &mut Vec<u8>) -> std::io::Result<()> {
    let mut page = Roff::new();
    page.control("SH", [name]);
    for (term, what) in rows {
        page.control("TP", []).text([bold(term)]).text([roman(what)]);
    }
    page.to_writer(into)
}

fn see_also(pages: &[&str], into: &mut Vec<u8>) -> std::io::Result<()> {
    let mut page = Roff::new();
    page.control("SH", ["SEE ALSO"]).text([roman(pages.join(", "))]);
    page.to_writer(into)
}

/// Bash splits words at colons: the word is taken from the line instead, and the part before the colon is removed again.
const BASH: &str = r#"# Completion of veritum for bash.
_veritum() {
    local line=${COMP_LINE:0:COMP_POINT} IFS=$' \t\n' cut
    local -a words
    read -ra words <<<"$line"
    [[ $line == *[[:space:]] ]] && words+=("")
    local current=${words[${#words[@]}-1]}
    local IFS=$'\n'
    COMPREPLY=($(veritum complete -- "${words[@]:1}" 2>/dev/null))
    if [[ $current == *:* && $COMP_WORDBREAKS == *:* ]]; then
        cut=${current%"${current##*:}"}
        COMPREPLY=("${COMPREPLY[@]#"$cut"}")
    fi
    [[ ${#COMPREPLY[@]} -eq 1 && ${COMPREPLY[0]} == *: ]] && compopt -o nospace
}
complete -o default -F _veritum veritum
"#;

const ZSH: &str = r#"#compdef veritum
# Completion of veritum for zsh.
local -a candidates
candidates=(${(f)"$(veritum complete -- "${(@)words[2,CURRENT]}" 2>/dev/null)"})
local -a open=(${(M)candidates:#*:}) whole=(${candidates:#*:})
(( ${#open} )) && compadd -S '' -- $open
(( ${#whole} )) && compadd -- $whole
(( ${#candidates} )) || _files
"#;

const FISH: &str = r#"# Completion of veritum for fish.
function __veritum_candidates
    set -l words (commandline -opc) (commandline -ct)
    veritum complete -- $words[2..-1] 2>/dev/null
end
complete -c veritum -f -a '(__veritum_candidates)'
complete -c veritum -n 'test (count (__veritum_candidates)) -eq 0' -F
"#;
