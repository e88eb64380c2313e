//! Programs that still use replaced files, and what to do about them.

use veritum_core::model::quoted;
use veritum_core::report::{ProgramReport, RunningReport};

use super::count;
use super::layout::{cell, labelled, lines};
use super::style::{Label, paint};

/// The command that restarts the services; `None` without services among the programs.
pub(crate) fn command(report: &RunningReport) -> Option<(String, &'static str)> {
    let services = services(&report.programs);
    let command = format!("systemctl restart {}", services.join(" "));
    (!services.is_empty()).then_some((command, "stops using the old files; save work in open programs first"))
}

/// The services, quoted for a shell.
fn services(programs: &[ProgramReport]) -> Vec<String> {
    let mut names: Vec<String> =
        programs.iter().filter_map(|p| p.service.as_deref()).map(|name| quoted(name.as_bytes())).collect();
    names.dedup();
    names
}

/// Programs that still use replaced files, and what to do about those that are not services.
pub(crate) fn describe(report: &RunningReport) -> String {
    let (programs, unseen) = (&report.programs, report.programs_unseen);
    if programs.is_empty() {
        return String::new();
    }
    let running: u64 = programs.iter().map(|p| p.pids.len() as u64).sum();
    let head = count(running, "program still uses", "programs still use");
    let mut text = format!("\n{} files that were replaced:\n", paint(Label::Bad, &head));
    let row = |program: &ProgramReport| {
        let pids = program.pids.iter().take(6).map(u32::to_string).collect::<Vec<_>>().join(", ");
        let more = if program.pids.len() > 6 { ", …" } else { "" };
        let noun = if program.pids.len() == 1 { "process" } else { "processes" };
        let what = program.service.clone().unwrap_or_else(|| "not a service: close it and start it again".into());
        vec![cell(quoted(program.name.as_bytes())), labelled(Label::Remark, format!("{noun} {pids}{more}")), cell(what)]
    };
    text.push_str(&lines("  ", &programs.iter().map(row).collect::<Vec<_>>()));
    if programs.iter().any(|p| p.pids.contains(&1)) {
        text.push_str("  The init process is one of them: reboot the machine.\n");
    }
    if unseen > 0 {
        let others = count(unseen, "other program", "other programs");
        text.push_str(&format!("  {others} could not be examined (other users, or a container).\n"));
    }
    text
}

#[cfg(test)]
mod tests {
    use super::*;

    fn program(service: Option<&str>, name: &str, pids: &[u32]) -> ProgramReport {
        ProgramReport { service: service.map(Into::into), name: name.into(), pids: pids.to_vec() }
    }

    #[test]
    fn programs_on_old_files_are_told_with_what_restarts_them() {
        let all = [
            program(None, "init", &[1]),
            program(None, "mail\u{7}", &[70, 71, 72, 73, 74, 75, 76]),
            program(Some("printing.service"), "spool", &[40]),
            program(Some("printing.service"), "worker", &[41, 42]),
        ];
        let report = RunningReport { restart_due: true, programs: all.to_vec(), programs_unseen: 2 };
        let text = describe(&report);
        assert!(text.contains("11 programs still use"), "{text}");
        assert!(text.contains("40") && text.contains("41, 42") && text.contains("70, 71, 72, 73, 74, 75, …"), "{text}");
        assert!(text.contains(r"$'mail\x07'") && text.contains("not a service: close it and start it again"), "{text}");
        assert!(
            text.contains("The init process is one of them: reboot the machine.")
                && text.contains("2 other programs could not be examined")
        );
        assert_eq!(services(&all), ["printing.service"]);
        assert_eq!(services(&[program(Some("a; b.service"), "b", &[9])]), ["$'a; b.service'"]);
        let none = RunningReport { programs_unseen: 5, ..RunningReport::default() };
        assert_eq!((describe(&none), command(&none)), (String::new(), None));
        assert_eq!(command(&report).unwrap().0, "systemctl restart printing.service");
    }
}
