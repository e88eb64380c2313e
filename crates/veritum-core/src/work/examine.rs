//! Examines the areas in working order.

use super::WorkError;
use crate::areas::{AREAS, About, Area, Checked, Cx, Examined, FILES};
use crate::change::{StateFolder, unfinished};
use crate::model::AreaName;
use crate::report::{CheckReport, UnexaminedReport};

/// Examines every area of the scope, in working order.
pub(super) fn check_all(cx: &Cx<'_>) -> Result<Checked, WorkError> {
    check_where(cx, &|_| true)
}

/// Examines those areas of the scope for which the condition is true, in working order.
pub(super) fn check_where(cx: &Cx<'_>, holds: &dyn Fn(&About) -> bool) -> Result<Checked, WorkError> {
    let mut checked = Checked::default();
    for area in AREAS.iter().filter(|area| cx.wants(&area.about().name) && holds(area.about()) && area.is_here(cx)) {
        let examined = match checked.stopped_short() {
            true => Examined::not_reached(area.about().name.clone()),
            false => examine(cx, *area, &checked)?,
        };
        checked.replace(examined);
    }
    Ok(checked)
}

/// Examines one area; after an interruption the area has no result.
fn examine(cx: &Cx<'_>, area: &dyn Area, earlier: &Checked) -> Result<Examined, WorkError> {
    let mut stopped = false;
    let examined = cx.so_far(check_area(cx, area, earlier), &mut stopped)?;
    Ok(examined.unwrap_or_else(|| Examined { stopped: true, ..Examined::not_reached(area.about().name.clone()) }))
}

/// Examines one area; commands in its findings are adapted to this system.
pub(super) fn check_area(cx: &Cx<'_>, area: &dyn Area, earlier: &Checked) -> Result<Examined, WorkError> {
    Ok(with_commands_by_hand(cx, area.check(cx, earlier)?))
}

/// Adapts commands of the system itself: a mounted system is entered first.
fn with_commands_by_hand(cx: &Cx<'_>, mut examined: Examined) -> Examined {
    let of_findings = examined.findings.iter_mut().filter_map(|finding| finding.action.as_mut());
    let of_left = examined.left.iter_mut().filter_map(|left| left.action.as_mut());
    for action in of_findings.chain(of_left) {
        let is_own = action.own_command().is_some();
        if let Some(command) = action.command.as_mut().filter(|_| !is_own) {
            *command = cx.system.by_hand(command);
        }
    }
    examined
}

/// Records that part of an area was not examined because the check was interrupted.
pub(super) fn not_reached(area: AreaName, why: &str) -> UnexaminedReport {
    UnexaminedReport { area, reason: why.into(), count: 1, example: None }
}

/// Reports unfinished changes. An unreadable change log may be damaged or on another stick: the results about
/// the machine are reported nevertheless.
pub(super) fn tell_unfinished(state: &StateFolder, report: &mut CheckReport) {
    match unfinished(state) {
        Ok(numbers) => report.unfinished_changes = numbers,
        Err(e) => {
            let why = format!("earlier changes: {}", crate::model::error_chain(&e));
            report.unexamined.push(not_reached(FILES, &why));
        }
    }
}
