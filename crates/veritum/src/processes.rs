//! Processes of this computer, distinguished from later ones with the same id.

/// The start time of a process, in clock ticks since the boot (proc_pid_stat(5), field 22).
pub(crate) fn begun_at(process: &str) -> Option<u64> {
    let stat = std::fs::read_to_string(format!("/proc/{process}/stat")).ok()?;
    stat.rsplit_once(')')?.1.split_ascii_whitespace().nth(19)?.parse().ok()
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_process_that_got_an_ended_ones_number_began_at_another_time() {
        let mut child = std::process::Command::new("sleep").arg("60").spawn().unwrap();
        let (own, of_child) = (begun_at("self").unwrap(), begun_at(&child.id().to_string()).unwrap());
        assert!(own <= of_child, "{own} {of_child}");
        assert_eq!(begun_at(&std::process::id().to_string()), Some(own), "it does not change while it runs");
        child.kill().unwrap();
        child.wait().unwrap();
        assert_eq!(begun_at(&child.id().to_string()), None);
    }
}
