//! What the documents say of cuts is what happens.

mod support;

use std::path::Path;
use std::process::Command;
use std::sync::Arc;
use std::sync::atomic::{AtomicUsize, Ordering};

use support::{STATE, folder, open};
use veritum_core::event::{Event, Flow, NoObserver, Observer};
use veritum_core::model::Scope;
use veritum_core::testkit::{Accident, TestDisk, Tree};
use veritum_core::work::{Agreement, Engine};
use veritum_demo::world::{World, add_file, package};

/// Cuts everything off right after the n-th record.
struct Cutter {
    disk: Arc<TestDisk>,
    left: AtomicUsize,
    last: std::sync::Mutex<String>,
}

impl Observer for Cutter {
    fn on_event(&self, event: Event<'_>) -> Flow {
        if let Event::Recorded(kind) = event {
            let left = self.left.load(Ordering::Relaxed);
            if left > 0 {
                *self.last.lock().unwrap() = kind.to_owned();
                self.left.store(left - 1, Ordering::Relaxed);
                if left == 1 {
                    self.disk.stop();
                }
            }
        }
        Flow::Continue
    }
}

fn old_and_new(world: &World, count: usize) -> String {
    let new = (0..count)
        .filter(|n| std::fs::read(world.at(&format!("/usr/share/quay/part-{n}"))).unwrap() == b"right\n")
        .count();
    match new {
        0 => "all old".into(),
        n if n == count => "all new".into(),
        n => format!("{n} new, {} old", count - n),
    }
}

fn row(records: usize) -> Option<String> {
    const COUNT: usize = 4;
    let dir = folder();
    let mut quay = package("quay", "1.0-1");
    for n in 0..COUNT {
        add_file(&mut quay, &format!("/usr/share/quay/part-{n}"), "right\n");
    }
    let world = World::new(&dir.path().join("world"), &[quay]);
    for n in 0..COUNT {
        std::fs::write(world.at(&format!("/usr/share/quay/part-{n}")), "wrong\n").unwrap();
    }
    let disk = Arc::new(TestDisk::new(Accident::None));
    let cutter = Cutter { disk: disk.clone(), left: AtomicUsize::new(records), last: std::sync::Mutex::default() };
    let mut engine = Engine::open(world.settings(), disk).unwrap();
    let _ = engine.repair(&Scope::default(), &cutter, &mut |_| Agreement::Yes);
    if cutter.left.load(Ordering::Relaxed) > 0 {
        return None;
    }
    let before = old_and_new(&world, COUNT);
    let recovered = open(&world.settings()).recover(&NoObserver).unwrap();
    let did = recovered.changes.first().map_or("has nothing to do", |done| match done.result.word() {
        "finished" => "finishes it",
        "taken-back" => "rolls it back",
        _ => "writes the last record",
    });
    let left: Vec<_> = Tree::read(&world.machine(), &[STATE])
        .0
        .into_keys()
        .filter(|p| p.windows(9).any(|w| w == b".veritum-"))
        .collect();
    assert!(left.is_empty(), "{left:?}");
    let last = cutter.last.lock().unwrap().clone();
    Some(format!("| `{last}` | {before} | {did} | {} |\n", old_and_new(&world, COUNT)))
}

#[test]
fn the_table_of_cuts_is_what_happens() {
    let mut table =
        String::from("| cut after | the files then | `recover` | the files afterwards |\n|---|---|---|---|\n");
    for records in 1.. {
        match row(records) {
            Some(row) => table.push_str(&row),
            None => break,
        }
    }
    assert_eq!(table.lines().count(), 2 + 5, "{table}");
    let path = Path::new(env!("CARGO_MANIFEST_DIR")).join("../../docs/change.md");
    let text = std::fs::read_to_string(&path).unwrap();
    let (head, rest) = text.split_once("--test documents -->\n").unwrap();
    let (kept, tail) = rest.split_once("<!-- end -->").unwrap();
    if std::env::var_os("UPDATE_DOCS").is_some() {
        std::fs::write(&path, format!("{head}--test documents -->\n{table}<!-- end -->{tail}")).unwrap();
    } else {
        assert_eq!(
            kept, table,
            "docs/change.md is out of date: UPDATE_DOCS=1 cargo test -p veritum-demo --test documents"
        );
    }
}

#[test]
fn the_way_back_by_hand_works_as_it_is_written() {
    let dir = folder();
    let mut quay = package("quay", "1.0-1");
    add_file(&mut quay, "/usr/share/quay/part-0", "right\n");
    let world = World::new(&dir.path().join("world"), &[quay]);
    let place = world.at("/usr/share/quay/part-0");
    std::fs::write(&place, "wrong\n").unwrap();
    support::repair(&world.settings());
    let state = world.at("/var/lib/veritum");
    let shell = "cut -c27- changes/1/journal | grep -o '\"record\":\"[a-z-]*\"'; mv \"$1\" \"$1.aside\" && mv kept/1/1-1 \"$1\"";
    let said = Command::new("sh").args(["-c", shell, "sh"]).arg(&place).current_dir(&state).output().unwrap();
    assert!(said.status.success(), "{}", String::from_utf8_lossy(&said.stderr));
    let kinds = String::from_utf8_lossy(&said.stdout).matches("record").count();
    assert_eq!((kinds, std::fs::read(&place).unwrap().as_slice()), (5, &b"wrong\n"[..]));
}
