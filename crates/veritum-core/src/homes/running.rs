//! Whether an application runs for a user, and what of the user's own it has open.

use crate::apps::looks_user_authored;
use crate::machine::running;
use crate::model::{SystemPath, readable};
use crate::report::RunningApp;

/// So many open files of each process are named.
const MAX_OPEN: usize = 20;

/// The processes of these names, or of this sandbox, that belong to the user.
pub fn running_apps(programs: &[String], sandbox: Option<&str>, user: u32, home: &SystemPath) -> Vec<RunningApp> {
    let told = |process: crate::machine::Running| {
        let own = |path: &&Vec<u8>| {
            let name = path.rsplit(|byte| *byte == b'/').next().unwrap_or_default();
            path.starts_with(home.as_bytes()) && looks_user_authored(name, b"")
        };
        let mut open: Vec<String> = process.open.iter().filter(own).map(|path| readable(path)).collect();
        open.sort();
        open.dedup();
        open.truncate(MAX_OPEN);
        RunningApp { pid: process.pid, name: process.name, since: process.since.map(|at| at.to_string()), open }
    };
    running(programs, sandbox, user).into_iter().map(told).collect()
}
