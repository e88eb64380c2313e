//! Whether an application is running for a user, and which user data it has open.

use crate::apps::looks_user_authored;
use crate::machine::running;
use crate::model::{SystemPath, readable};
use crate::report::RunningApp;

/// The number of open files of each process that are named.
const MAX_OPEN: usize = 20;

/// The user's processes with one of these names, or in this sandbox.
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
