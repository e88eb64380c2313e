//! Which files a change displaced: what running programs may still have open.

mod support;

use std::collections::HashSet;
use std::fs;
use std::os::unix::fs::MetadataExt as _;
use std::path::Path;
use std::sync::Arc;

use support::{change_context, folder};
use veritum_core::areas::FILES;
use veritum_core::change::{OpenChange, Purpose, StateFolder, Verb, displaced};
use veritum_core::machine::{LiveDisk, Machine, Protection};
use veritum_core::model::{Identity, SystemPath};
use veritum_core::plan::{Operation, PlannedAction};
use veritum_core::platform::efi_variables::FirmwareVariables;
use veritum_core::store::NoContents;
use veritum_core::system::LiveDisks;
use veritum_demo::world::{World, add_file, package};

fn identity(path: &Path) -> Identity {
    let stat = fs::metadata(path).unwrap();
    Identity { dev: stat.dev(), ino: stat.ino() }
}

fn action(machine: &Machine, index: u32, path: &'static str, operation: Operation) -> PlannedAction {
    let place = SystemPath::literal(path);
    let before = machine.look(&place).unwrap();
    PlannedAction { index, ..PlannedAction::new(place, before, operation) }
}

#[test]
fn files_and_all_that_displaced_folders_hold_are_told_but_nothing_that_only_got_another_mode() {
    let dir = folder();
    let mut quay = package("quay", "1.0");
    for name in ["alone", "other", "deep/one", "deep/below/two"] {
        add_file(&mut quay, &format!("/usr/share/quay/{name}"), name);
    }
    let world = World::new(&dir.path().join("world"), &[quay]);
    let of = |name: &str| identity(&world.at(&format!("/usr/share/quay/{name}")));
    let expected: HashSet<Identity> = ["alone", "deep/one", "deep/below/two"].map(of).into();
    let other = of("other");

    let machine = Machine::open(&world.machine(), Arc::new(LiveDisk)).unwrap();
    let state = StateFolder::make(&machine, None).unwrap();
    let protection = Protection::new(&machine);
    let disks = LiveDisks::new(Vec::new(), FirmwareVariables::new(None));
    let context = change_context(&machine, &state, &protection, &disks);
    let now = jiff::Timestamp::from_second(veritum_demo::NOW).unwrap();
    let mut change = OpenChange::begin(context, Purpose::new(Verb::Repair, FILES), "run", now).unwrap();
    let owner = fs::metadata(world.at("/usr/share/quay/other")).unwrap();
    let meta = Operation::SetMeta { mode: 0o600, uid: owner.uid(), gid: owner.gid() };
    let actions = vec![
        action(&machine, 1, "/usr/share/quay/alone", Operation::SetAside),
        action(&machine, 2, "/usr/share/quay/deep", Operation::SetAside),
        action(&machine, 3, "/usr/share/quay/other", meta),
    ];
    let number = change.number();
    let receipt = change.round(actions, &NoContents).unwrap();
    change.end(3, 0, now).unwrap();
    assert!(receipt.outcomes.iter().all(|o| o.failed.is_none()), "{:?}", receipt.outcomes);
    let told = displaced(&context, number, &receipt);
    assert_eq!(told, expected);
    assert!(!told.contains(&other));
}
