//! Wiring and words of the built program: the answer first, the next command last, the right exit status.

mod support;

use support::{Bench, said};

#[test]
fn a_damaged_machine_goes_through_check_repair_check_and_undo() {
    let bench = Bench::damaged();
    let damaged = bench.tree();
    bench.say(&["check"]).expect(
        1,
        &[
            "DAMAGED  counter-07 (Foreshore 4.2): 3 problems in 2 packages, all can be repaired",
            "Can be repaired (3)",
            "quay",
            "pier",
            "Verified against the signed store (2 packages)",
            "Not checked: repositories, users' homes (veritum check all)",
            "Also: 1 configuration file modified",
            "Next:  veritum repair",
        ],
    );
    bench.say(&["repair", "--plan"]).expect(
        1,
        &["Repair plan: 3 problems", "quay", "pier", "Not touched:", "Nothing was changed.", "Next:  veritum repair"],
    );
    assert_eq!(damaged.differences(&bench.tree()), Vec::<String>::new());
    bench
        .say(&["repair", "--yes"])
        .expect(0, &["REPAIRED  3 problems; none left", "Change 1: backups and log in", "Undo: veritum undo 1"]);
    bench.say(&["check"]).expect(0, &["OK  counter-07 (Foreshore 4.2): no problems in 2 packages"]);
    bench.say(&["list", "changes"]).expect(0, &["1 change", "repaired files", "done"]);
    bench
        .say(&["explain", "1"])
        .expect(0, &["Change 1  repaired the system", "done", "/usr/share/quay/part-1", "backup: kept/1/1-"]);
    bench
        .say(&["undo", "--yes"])
        .expect(0, &["Undone: change 1, 1 file restored, 1 file and 1 folder set aside", "Next:  veritum check"]);
    assert_eq!(damaged.differences(&bench.tree()), Vec::<String>::new());
    bench.say(&["undo", "1", "--yes"]).expect_err(2, &["1 was undone by change 2", "veritum list changes"]);
    bench.say(&["status"]).expect(
        0,
        &[
            "NOT CHECKED  counter-07 (Foreshore 4.2, mounted at ",
            "changed since the last check",
            "mirela",
            "Changes",
            "2 (",
            "2 packages against the signed store",
            "Next:  veritum check",
        ],
    );
}

#[test]
fn nobody_to_ask_means_nothing_is_changed() {
    let bench = Bench::damaged();
    let before = bench.tree();
    let said = bench.say(&["repair"]);
    assert_eq!(said.status, 2);
    assert!(said.err.contains("--yes") && said.out.contains("Repair plan: 3 problems"), "{}{}", said.out, said.err);
    assert_eq!(before.differences(&bench.tree()), Vec::<String>::new());
}

#[test]
fn one_path_and_one_package_can_be_named() {
    let bench = Bench::damaged();
    bench
        .say(&["check", "/usr/share/quay/part-0"])
        .expect(0, &["OK  counter-07 (Foreshore 4.2), /usr/share/quay/part-0 only: no problems"]);
    bench
        .say(&["check", "package:pier"])
        .expect(1, &["1 problem in 1 package, it can be repaired", "missing", "/usr/share/pier/folder"]);
    bench.say(&["repair", "package:pier", "--yes"]).expect(0, &["REPAIRED  1 problem"]);
    bench.say(&["check"]).expect(1, &["2 problems"]);
    bench.say(&["explain", "/usr/share/quay/part-1"]).expect(
        1,
        &[
            "ALTERED  /usr/share/quay/part-1",
            "quay 1.0-1",
            "expected",
            "found",
            "First difference at byte 0, line 1",
            "Source",
            "key trusted by you",
            "Next:  veritum repair /usr/share/quay/part-1",
        ],
    );
    bench.say(&["explain", "/usr/share/quay/part-1", "--verbose"]).expect(1, &["Chain of trust", "key trusted by you"]);
    bench.say(&["explain", "/etc/hostname"]).expect(0, &["UNOWNED  /etc/hostname"]);
}

#[test]
fn errors_say_what_why_and_what_next_and_change_nothing() {
    let bench = Bench::damaged();
    let before = bench.tree();
    bench.say(&["check", "flies"]).expect_err(2, &["unknown area, path or package: flies", "did you mean 'files'?"]);
    bench
        .say(&["check", "package:quax"])
        .expect_err(2, &["no such installed package: quax", "did you mean quay?", "veritum list packages"]);
    bench.say(&["check", "all", "files"]).expect_err(2, &["`all` includes everything else"]);
    bench.say(&["check", "usr/bin"]).expect_err(2, &["a path begins with '/'", ": /usr/bin"]);
    // Without a command, symptoms lead to commands, whatever the environment sets.
    bench.say(&[]).expect(0, &["Updates do not work", "veritum check updates", "veritum help"]);
    let machine = bench.world.machine();
    let inside = machine.join("usr/bin").display().to_string();
    bench.say(&["check", &inside]).expect_err(2, &["includes the root folder", "type /usr/bin"]);
    bench.say(&["check", "--root", "/nowhere/at/all"]).expect_err(3, &["cannot open the folder"]);
    let empty = bench.folder().join("empty");
    std::fs::create_dir(&empty).unwrap();
    bench.say(&["check", "--root", empty.to_str().unwrap()]).expect_err(3, &["no installed system in", "--root DIR"]);
    bench.say(&["check", "--store", empty.to_str().unwrap()]).expect_err(3, &["is not a store"]);
    bench.say(&["check", "--disk", "none.img"]).expect_err(2, &["cannot read none.img", "No such file", "/dev/sda"]);
    bench.say(&["check", "--disk", "/dev/null"]).expect_err(2, &["is not a disk or a disk image: it is a character"]);
    bench
        .say(&["check", "files", "--disk", "disk.img"])
        .expect_err(2, &["only `volumes` and `bootchain` are examined", "--root"]);
    bench.say(&["check", "--disk", "disk.img", "--root", "/"]).expect_err(2, &["apply to `bootchain` only"]);
    bench.say(&["check", "--disk", "disk.img", "--quick"]).expect_err(2, &["--quick has no effect with --disk"]);
    bench.say(&["check", "--surface"]).expect_err(2, &["--surface needs the area `volumes`", "--disk DEVICE"]);
    bench.say(&["repair", "files", "--rescued", "x"]).expect_err(2, &["--rescued DIR applies to `repair volumes`"]);
    let both = ["repair", "volumes", "--disk", "disk.img", "--check-at-next-start"];
    bench.say(&both).expect_err(2, &["--check-at-next-start has no effect with --disk"]);
    bench
        .say(&["repair", "files", "--disk", "disk.img"])
        .expect_err(2, &["only `volumes` and `bootchain` are examined"]);
    bench.say(&["--used", "check", "--disk", "disk.img"]).expect_err(2, &["--used needs --surface"]);
    bench.say(&["check", "--ignore-disk-errors"]).expect_err(2, &["--ignore-disk-errors has no effect"]);
    bench.say(&["status", "--disk", "disk.img"]).expect_err(2, &["--disk has no effect in `veritum status`"]);
    bench.say(&["undo", "--yes"]).expect(0, &["No changes to undo."]);
    bench
        .say(&["check", "--from", "/nowhere"])
        .expect_err(2, &["--from: no such file or folder: /nowhere", "is the disk mounted?"]);
    bench
        .say(&["check", "--store", "/nowhere"])
        .expect_err(3, &["the folder is empty or missing: is the disk mounted?"]);
    bench.say(&["check", "--plan"]).expect_err(2, &["--plan has no effect in `veritum check`"]);
    bench.say(&["explain", "12"]).expect_err(2, &["no such change: 12"]);
    bench.say(&["explain", "what?"]).expect_err(2, &["unknown path, finding, application, savepoint or change: "]);
    assert!(bench.say(&["chekc"]).err.contains("check"));
    assert_eq!(bench.say(&["check", "--frobnicate"]).status, 2);
    assert_eq!(before.differences(&bench.tree()), Vec::<String>::new());
}

#[test]
fn status_tells_what_was_installed_lately() {
    let bench = Bench::damaged();
    let log = bench.world.at("/var/log/dpkg.log");
    std::fs::create_dir_all(log.parent().unwrap()).unwrap();
    std::fs::write(
        &log,
        "2026-03-02 17:42:10 upgrade quay:amd64 0.9-1 1.0-1\n2026-03-02 17:42:11 status installed quay:amd64 1.0-1\n",
    )
    .unwrap();
    bench.say(&["status"]).expect(0, &["Installed", "2026-03-02: 1 updated (quay)", "free"]);
    let json: serde_json::Value = serde_json::from_str(&bench.say(&["status", "--json"]).out).unwrap();
    assert_eq!(json["recent"][0]["to"], "1.0-1");
    assert!(json["free_bytes"].as_u64().is_some_and(|n| n > 0) && json["restart_due"].as_array().is_some());
}

#[test]
fn applications_are_listed_with_how_they_stand() {
    let bench = Bench::new();
    bench.say(&["check", "apps"]).expect(0, &["OK", "no problems", "no applications are installed"]);
    bench.say(&["list", "apps"]).expect(0, &["0 applications  not checked yet", "Next:  veritum check"]);
    let folder = bench.world.at("/usr/local/share/applications");
    std::fs::create_dir_all(&folder).unwrap();
    let entry = "[Desktop Entry]\nType=Application\nName=Own\u{202e} one\nExec=own\n";
    std::fs::write(folder.join("own.desktop"), entry).unwrap();
    std::fs::write(folder.join("cut.desktop"), "[Desktop En").unwrap();
    bench.say(&["list", "apps"]).expect(
        0,
        &["1 of 2 applications  with problems", "name", "state", "called", "invalid entry", "line 1:", "$'Own\\xe2"],
    );
    bench.say(&["check", "apps"]).expect(
        1,
        &[
            "DAMAGED  counter-07 (Foreshore 4.2), apps only: 2 problems, all need you",
            "Needs you",
            "corrupt",
            "cut",
            "missing",
            "own: its program is missing: own",
        ],
    );
    let json: serde_json::Value = serde_json::from_str(&bench.say(&["check", "apps", "--json"]).out).unwrap();
    let id = json["findings"][1]["id"].as_str().unwrap();
    bench.say(&["explain", &id[..4]]).expect(1, &["MISSING  own", "its program is missing: own"]);
    bench.say(&["check", "app:ownn"]).expect_err(2, &["no such application: ownn", "did you mean own?", "list apps"]);
    bench
        .say(&["repair", "app:own", "--plan"])
        .expect(1, &["NOT REPAIRED  Nothing can be repaired automatically", "own", "its program is missing: own"]);
    let json: serde_json::Value = serde_json::from_str(&bench.say(&["list", "apps", "--json"]).out).unwrap();
    assert_eq!((&json["format"], &json["apps"][1]["id"]), (&"veritum.apps/1".into(), &"own".into()));
}

#[test]
fn an_application_is_explained_with_what_it_keeps_by_the_operators_card_first() {
    let bench = Bench::new();
    let folder = bench.world.at("/usr/share/applications");
    std::fs::create_dir_all(&folder).unwrap();
    let entry = "[Desktop Entry]\nType=Application\nName=Own one\nExec=quay\n";
    std::fs::write(folder.join("vlc.desktop"), entry).unwrap();
    std::fs::write(folder.join("own.desktop"), entry.replace("one", "two")).unwrap();
    let words = ["Own one  can be started", "not owned by a package", "from Veritum's application card", "playlists"];
    bench.say(&["explain", "app:vlc"]).expect(0, &words);
    let words = [
        "Own two  can be started",
        "no application card: standard XDG directories; unknown files count as user data",
        "~/.local/share/own",
        "settings",
        "~/.config/own",
    ];
    bench.say(&["explain", "app:Own two"]).expect(0, &words);
    let cards = bench.folder().join("world/cards");
    std::fs::create_dir(&cards).unwrap();
    let card = "format = \"veritum.card/1\"\nname = \"x\"\nentries = [\"vlc\"]\nprograms = [\"vlc\"]\n[[part]]\nis = \"own\"\nwhat = \"songs\"\nplaces = [\"{data}/vlc\"]\n";
    std::fs::write(cards.join("mine.toml"), card).unwrap();
    let config = std::fs::read_to_string(bench.config()).unwrap();
    std::fs::write(bench.config(), format!("{config}cards = \"cards\"\n")).unwrap();
    bench
        .say(&["explain", "app:vlc"])
        .expect(0, &["from your application card", "user data: songs", "~/.local/share/vlc"]);
    let json: serde_json::Value = serde_json::from_str(&bench.say(&["explain", "app:vlc", "--json"]).out).unwrap();
    assert_eq!((&json["format"], &json["card"]["from"]), (&"veritum.app/1".into(), &"administrator".into()));
    std::fs::write(cards.join("wide.toml"), card.replace("{data}/vlc", "~/Documents")).unwrap();
    bench.say(&["explain", "app:vlc"]).expect_err(
        2,
        &[
            "cannot use the application card",
            "wide.toml",
            "~/Documents",
            "correct it, or remove it from the folder of cards",
        ],
    );
    std::fs::remove_file(bench.world.at("/usr/bin/quay")).unwrap();
    std::fs::remove_file(cards.join("wide.toml")).unwrap();
    bench
        .say(&["explain", "app:vlc"])
        .expect(1, &["cannot be started from the desktop", "its program is missing: quay", "Next:  veritum repair"]);
}

#[test]
fn what_updates_rest_on_is_told_with_what_to_do() {
    let bench = Bench::damaged();
    std::fs::remove_file(bench.world.at("/etc/apt/sources.list")).unwrap();
    bench.say(&["check", "updates"]).expect(
        1,
        &[
            "UPDATES BLOCKED  counter-07 (Foreshore 4.2): 1 problem",
            "/etc/apt/sources.list: no repository is configured, so updates are not possible",
            "-> add the repositories of this system's release to it",
            "Next:  veritum explain",
        ],
    );
    let said = bench.say(&["check", "updates", "--json"]);
    let report: serde_json::Value = serde_json::from_str(&said.out).unwrap();
    let id = report["findings"][0]["id"].as_str().unwrap();
    bench
        .say(&["explain", &id[..4]])
        .expect(1, &["MISSING  /etc/apt/sources.list", "no repository is configured", "Action:  add the repositories"]);
    let words = [
        "Not tested whether updates work",
        "NOT REPAIRED",
        "no repository is configured, so updates are not possible",
        "Nothing was changed.",
    ];
    bench.say(&["repair", "updates", "--no-network"]).expect(1, &words);
    bench
        .say(&["repair", "--everything"])
        .expect_err(2, &["the area `updates` was not named", "repair updates --everything"]);
    bench.say(&["list", "updates", "--trouble", "2026-03-02"]).expect(0, &["Next:  veritum check"]);
    bench.say(&["list", "changes", "--since", "2026-03-02"]).expect_err(
        2,
        &["--since and --package apply to `list updates` only, --trouble also to `list savepoints`", "list updates"],
    );
    bench.say(&["list", "updates", "--since", "yesterday"]).expect_err(2, &["type a date like 2026-03-02"]);
}

#[test]
fn a_store_of_ones_own_is_made_filled_signed_trusted_and_used() {
    let bench = Bench::damaged();
    let folder = bench.folder().display().to_string();
    let (store, keys) = (format!("{folder}/mine"), format!("{folder}/my-keys"));
    let pool = bench.world.pool().display().to_string();
    bench.say(&["store", "create", &store, "--keys", &keys]).expect(0, &["Created an empty store in", "store add"]);
    bench
        .say(&["check", "--store", &store])
        .expect_err(3, &["is not trusted yet", &format!("veritum store trust {store}")]);
    bench
        .say(&["store", "add", "/dev/null", "--store", &store])
        .expect_err(2, &["/dev/null is neither a .deb file nor a folder"]);
    bench
        .say(&["store", "add", &pool, "--store", &store])
        .expect(0, &["2 packages added, 0 were already in the store"]);
    bench
        .say(&["store", "add", &pool, "--store", &store])
        .expect(0, &["0 packages added, 2 were already in the store"]);
    // Where the keys are was recorded when the store was created.
    bench.say(&["store", "sign", "--store", &store]).expect(0, &["Signed 2 new of 2 packages", "store trust"]);
    bench
        .say(&["store", "sign", "--store", &bench.world.store().display().to_string()])
        .expect_err(2, &["no record of where its private keys are", "add --keys KEYDIR"]);
    bench.say(&["store", "sign", "--keys", &keys, "--store", &store]).expect(0, &["are already signed."]);
    assert_eq!(bench.say(&["store", "trust", &store]).status, 2, "cannot ask for confirmation");
    bench.say(&["store", "trust", &store, "--yes"]).expect(0, &["is signed with this key", "trusted:"]);
    bench.say(&["check", "--store", &store]).expect(1, &["3 problems in 2 packages, all can be repaired"]);
    bench.say(&["store", "show", "quay", "--store", &store]).expect(0, &["1 package in", "quay", "/usr/bin/quay"]);
}

#[test]
fn a_check_against_the_local_database_names_a_store_as_the_stronger_reference() {
    let bench = Bench::new();
    std::fs::write(bench.config(), "root = \"machine\"\n").unwrap();
    bench.say(&["check"]).expect(
        0,
        &[
            "OK (limited)",
            "the local package database (2 packages)",
            "Owners, permissions and links",
            "A signed store with these packages verifies them too: --store LOCATION",
        ],
    );
    bench
        .say(&["check", "--min-trust", "store"])
        .expect(1, &["DAMAGED", "verified less strongly than required", "were not verified"]);
    let json = bench.say(&["check", "--min-trust", "repository", "--json"]);
    json.expect(1, &["\"outcome\": \"damaged\"", "\"too_weak\": 2"]);
}

#[test]
fn a_closed_pipe_is_no_error() {
    let bench = Bench::new();
    let program = env!("CARGO_BIN_EXE_veritum");
    let shell = std::process::Command::new("sh")
        .arg("-c")
        .arg(format!("{program} list packages | head -n 1"))
        .env("VERITUM_CONFIG", bench.config())
        .output()
        .unwrap();
    let said = said(shell);
    assert_eq!((said.status, said.err.as_str()), (0, ""));
}

#[test]
fn colours_come_only_when_asked_for_and_names_never_reach_the_terminal_raw() {
    let bench = Bench::damaged();
    assert!(!bench.say(&["check"]).out.contains('\x1b'));
    assert!(bench.say(&["check", "--color", "always"]).out.contains('\x1b'));
    std::fs::write(bench.world.at("/usr/share/quay/a\n\x1b[31mname"), "").unwrap();
    let said = bench.say(&["check", "--verbose"]);
    assert!(!said.out.contains('\x1b') && said.out.contains("$'/usr/share/quay/a\\n\\x1b[31mname'"), "{}", said.out);
}

#[test]
fn every_command_has_a_manual_page() {
    let bench = Bench::new();
    let folder = bench.folder().join("manuals");
    assert_eq!(bench.say(&["manuals", folder.to_str().unwrap()]).status, 0);
    let read = |name: &str| std::fs::read_to_string(folder.join(name)).unwrap_or_default();
    for verb in ["status", "check", "repair", "explain", "list", "undo", "recover", "store-add", "demo"] {
        let page = read(&format!("man1/veritum-{verb}.1"));
        assert!(page.contains("config") && page.contains(".SH EXAMPLES"), "{verb}: {page}");
    }
    assert!(read("man1/veritum-check.1").contains("complete"));
    assert!(!folder.join("man1/veritum-schemas.1").exists(), "what is hidden has no page");
}

#[test]
fn a_part_of_the_system_that_is_not_mounted_is_told_and_left_alone() {
    let bench = Bench::damaged();
    std::fs::write(
        bench.world.at("/etc/fstab"),
        "UUID=1 / ext4 defaults 0 1\nUUID=2 /usr/share/quay ext4 defaults 0 2\n",
    )
    .unwrap();
    bench
        .say(&["check"])
        .expect(1, &["3 problems", "Not checked: /usr/share/quay was checked as it is, although fstab"]);
    bench
        .say(&["repair", "--yes"])
        .expect(1, &["PARTLY REPAIRED  2 problems", "on a file system of fstab that is not mounted"]);
    assert_eq!(std::fs::read(bench.world.at("/usr/share/quay/part-1")).unwrap(), b"changed\n");
    std::fs::write(bench.world.at("/etc/fstab"), "UUID=3 /var ext4 defaults 0 2\n").unwrap();
    bench
        .say(&["repair", "--yes"])
        .expect_err(3, &["this machine cannot be changed now", "/var is part of this system and not mounted"]);
}

#[test]
fn a_package_tool_at_work_is_named_and_not_fought() {
    use veritum_core::machine::{LiveDisk, Machine, lock_exclusive};
    use veritum_core::model::SystemPath;
    let bench = Bench::damaged();
    let before = bench.tree();
    let machine = Machine::open(&bench.world.machine(), std::sync::Arc::new(LiveDisk)).unwrap();
    let dir = machine.dir(&SystemPath::literal("/var/lib/dpkg")).unwrap();
    let held = lock_exclusive(&dir, b"lock-frontend").unwrap();
    bench
        .say(&["repair", "--yes"])
        .expect_err(3, &["a package manager is running on this machine (/var/lib/dpkg/lock-frontend is locked)"]);
    assert_eq!(before.differences(&bench.tree()), Vec::<String>::new());
    bench.say(&["check"]).expect(1, &["3 problems"]);
    drop(held);
    bench.say(&["repair", "--yes"]).expect(0, &["REPAIRED  3 problems"]);
}

#[test]
fn a_state_folder_that_others_may_write_is_refused() {
    use std::os::unix::fs::PermissionsExt as _;
    let bench = Bench::damaged();
    let open = bench.folder().join("open");
    std::fs::create_dir(&open).unwrap();
    std::fs::set_permissions(&open, std::fs::Permissions::from_mode(0o777)).unwrap();
    let said = bench.say(&["repair", "--yes", "--state-dir", open.to_str().unwrap()]);
    said.expect_err(3, &["is not a private folder", "--state-dir DIR"]);
    let apart = bench.folder().join("apart");
    bench
        .say(&["repair", "--yes", "--state-dir", apart.to_str().unwrap()])
        .expect(0, &["REPAIRED  3 problems", "apart/changes/1", "undo 1 --config"]);
    assert!(!bench.world.at("/var/lib/veritum").exists());
    bench.say(&["undo", "--yes", "--state-dir", apart.to_str().unwrap()]).expect(0, &["Undone: change 1"]);
}

#[test]
fn arguments_are_bytes_and_are_restored_as_a_shell_reads_them() {
    use std::os::unix::ffi::OsStrExt as _;
    let bench = Bench::damaged();
    let path = std::ffi::OsStr::from_bytes(b"/usr/share/quay/\xff");
    let check = |words: &[&std::ffi::OsStr]| said(bench.command(&["check"]).args(words).output().unwrap());
    check(&[path]).expect_err(2, &["No such file: /usr/share/quay/\\xff"]);
    std::fs::write(bench.world.machine().join("usr/share/quay").join(std::ffi::OsStr::from_bytes(b"\xff")), "")
        .unwrap();
    check(&[path]).expect(1, &["NOT CHECKED", "nothing could be checked"]);
    let both = check(&[path, "/usr/bin/quay".as_ref()]);
    both.expect(1, &["1 problem", "Next:  veritum repair $'/usr/share/quay/\\xff' /usr/bin/quay"]);
    assert_eq!(both.err, "");
}

#[test]
fn a_suggested_command_names_the_settings_file_that_was_typed() {
    let bench = Bench::damaged();
    std::fs::remove_dir_all(bench.folder().join("world/trust")).unwrap();
    let config = bench.config().display().to_string();
    let store = bench.world.store().display().to_string();
    let say = |words: &[&str]| said(bench.command(words).env_remove("VERITUM_CONFIG").output().unwrap());
    // What is trusted is next to that file: without it the trusted key would go elsewhere.
    say(&["check", "--config", &config])
        .expect_err(3, &[&format!("Next: veritum store trust {store} --config {config}\n")]);
    say(&["store", "trust", &store, "--config", &config, "--yes"])
        .expect(0, &[&format!("veritum check --store {store} --config {config}")]);
    say(&["check", "--config", &config]).expect(1, &[&format!("veritum repair --config {config}")]);
    let hint = format!("Next: veritum list changes --config {config}\n");
    say(&["undo", "--config", &config]).expect(0, &["No changes to undo."]);
    say(&["undo", "7", "--config", &config, "--plan"]).expect_err(2, &["no such change: 7", &hint]);
}

#[test]
fn an_output_that_cannot_be_written_is_no_success_and_a_reader_that_goes_away_is_no_failure() {
    let bench = Bench::new();
    for words in [&["check"][..], &["check", "--json"], &["status"]] {
        let full = std::fs::OpenOptions::new().write(true).open("/dev/full").unwrap();
        let said = said(bench.command(words).stdout(full).output().unwrap());
        assert_eq!(said.status, 3, "{}", said.err);
        assert!(said.err.contains("cannot write the output"), "{}", said.err);
    }
    let (reader, writer) = std::io::pipe().unwrap();
    drop(reader);
    let quiet = said(bench.command(&["check"]).stdout(writer.try_clone().unwrap()).output().unwrap());
    assert_eq!((quiet.status, quiet.err.as_str()), (0, ""));
    // No one reads what goes to stderr: the answer is the same.
    let mut unheard = bench.command(&["undo", "7", "--yes"]);
    assert_eq!(unheard.stderr(writer).output().unwrap().status.code(), Some(2));
}

#[test]
fn what_the_environment_names_is_named_in_what_to_type_next() {
    let bench = Bench::damaged();
    let (machine, store) = (bench.world.machine(), bench.world.store());
    let apart = bench.folder().join("apart").display().to_string();
    let mut command = bench.command(&["check", "-Nq", "--state-dir", &apart]);
    let said = said(command.env("VERITUM_ROOT", &machine).env("VERITUM_STORE", &store).output().unwrap());
    let next = format!(
        "veritum repair --config {} --root {} --store {} --state-dir {apart} --no-network",
        bench.config().display(),
        machine.display(),
        store.display()
    );
    said.expect(1, &[&next]);
    let explain = format!("--config {} --root {}", bench.config().display(), machine.display());
    assert!(said.out.lines().any(|line| line.contains("veritum explain ") && line.contains(&explain)), "{}", said.out);
}

#[test]
fn a_disk_is_checked_by_itself_and_each_damaged_file_of_it_is_named() {
    let bench = Bench::new();
    let mut image =
        zstd::decode_all(&include_bytes!("../../veritum-base/src/devices/ext4/data/small.img.zst")[..]).unwrap();
    let path = bench.folder().join("quayside.img");
    std::fs::write(&path, &image).unwrap();
    let disk = path.to_str().unwrap();
    bench.say(&["check", "volumes", "--disk", disk]).expect(0, &["OK  ", "no problems in 1 file system"]);
    image[1333 * 1024 + 30] ^= 4;
    std::fs::write(&path, &image).unwrap();
    let said = bench.say(&["check", "--disk", disk]);
    said.expect(
        1,
        &[
            "DAMAGED  ",
            "1 problem, it needs you",
            "/home/mirela/chart.dat",
            "users' files to another disk first",
            "424 inodes",
        ],
    );
    // It leads on to what can be done about a disk, with the disk; and to nothing that is about a machine.
    let next: Vec<&str> = said.out.lines().skip_while(|line| !line.starts_with("Next:")).collect();
    let leads = |to: &str| next.iter().any(|line| line.contains(to) && line.contains(&format!("--disk {disk}")));
    assert!(leads("veritum rescue --to DIR") && leads("veritum repair volumes"), "{}", said.out);
    assert!(!said.out.contains("veritum explain") && !said.out.contains("check all"), "{}", said.out);
}
