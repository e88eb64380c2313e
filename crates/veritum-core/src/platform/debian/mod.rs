//! Debian-family systems: dpkg's database (dpkg(1), deb-*(5)) and `.deb` packages (deb(5)).

pub mod apt;
mod config;
mod control;
pub mod deb;
mod info;
mod log;
mod member;
mod scripts;
mod status;
mod tree;
mod version;

pub use control::{Paragraph, paragraphs};
pub use deb::{DebError, DebSink, Package, RawEntry, RawKind};
pub use member::unpacked;
pub use scripts::Scripts;
pub use tree::{ALIASES, alias_target, explained_links};
pub use version::compare_versions;

use super::{Happening, Installed, Platform, RecordProblem, Records};
use crate::model::{SystemPath, error_chain};
use crate::target::{Machine, TargetError};

const DATABASE: &str = "/var/lib/dpkg";
/// A status file over this size is refused: the largest desktops have a tenth of it.
const MAX_STATUS: u64 = 64 << 20;

/// A Debian-family system.
#[derive(Debug, Clone, Copy, Default)]
pub struct Debian;

fn in_database(name: &str) -> SystemPath {
    SystemPath::literal(DATABASE).join(name.as_bytes()).expect("BUG: a name of the database is a path")
}

impl Platform for Debian {
    fn is_here(&self, machine: &Machine) -> bool {
        machine.resolve(&in_database("status")).is_ok()
    }

    fn installed(&self, machine: &Machine) -> Result<Installed, TargetError> {
        let path = in_database("status");
        let Some(text) = machine.read_up_to(&path, MAX_STATUS)? else {
            return Err(TargetError::NoSystem { path: machine.path().to_owned() });
        };
        let (components, mut problems) = status::read(&text, &path);
        if components.is_empty() {
            let what = "it lists no installed component; /var/lib/dpkg/status-old may be an earlier copy".into();
            problems.push(RecordProblem { path: path.clone(), what });
        }
        let mut config = |name: &str| {
            let path = in_database(name);
            let read = machine.read_config(&path);
            read.unwrap_or_else(|e| {
                problems.push(RecordProblem { path, what: error_chain(&e) });
                None
            })
        };
        let (diversions, overrides) =
            (config("diversions").unwrap_or_default(), config("statoverride").unwrap_or_default());
        let (diversions, bad) = config::diversions(&diversions, &in_database("diversions"));
        problems.extend(bad);
        let (overrides, bad) = config::overrides(&overrides, &in_database("statoverride"));
        problems.extend(bad);
        Ok(Installed {
            components,
            diversions: diversions.into_iter().map(|d| (d.from.clone(), d)).collect(),
            overrides: overrides.into_iter().map(|o| (o.path.clone(), o)).collect(),
            left_out: config::left_out(machine),
            problems,
        })
    }

    fn records<'a>(&self, machine: &'a Machine) -> Box<dyn Records + 'a> {
        Box::new(info::InfoFolder::open(machine, in_database("info")))
    }

    fn recent(&self, machine: &Machine, most: usize) -> Vec<Happening> {
        log::recent(machine, most)
    }

    fn locks(&self) -> Vec<SystemPath> {
        vec![in_database("lock-frontend"), in_database("lock")]
    }
}
