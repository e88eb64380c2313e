//! `reset`: sets an application's settings aside, each user's with that user's rights.

use std::io;

use super::own_watch::OwnWatch;
use super::session::Session;
use super::undo::recover_one;
use super::{Agreement, Engine, WorkError};
use crate::apps::{Card, Class};
use crate::areas::APPS;
use crate::areas::apps::{App, apps, called, card_of};
use crate::change::{ChangeContext, ChangeError, Verb, unfinished};
use crate::event::{Event, Observer, Phase};
use crate::homes::{HomeContext, OpenHome, left, running_apps, too_many};
use crate::model::{SystemPath, error_chain, error_words};
use crate::plan::{Operation, PlannedAction};
use crate::report::{ActionReport, Fate, HomeReset, RefusalReport, ResetPart, ResetReport};
use crate::scan::{AppDataItem, Choice};
use crate::store::NoContents;
use crate::system::System;

/// The maximum number of separate objects that are moved in one change.
const MAX_MOVED: usize = 50_000;

/// Which of an application's data is set aside.
#[derive(Debug, Clone, Default)]
pub struct ResetWanted {
    /// Only this user's; `None` for all login users.
    pub user: Option<String>,
    /// Only these parts.
    pub only: Option<Only>,
    /// Except these parts: classes, or the user's names for them.
    pub keep: Vec<String>,
    /// Whether contents of user data are read for the comparison, not only their status.
    pub prove: bool,
}

/// The only parts to set aside.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Only {
    /// Data that the application creates again.
    Cache,
    /// Settings, saved state and locks.
    Settings,
    /// Extensions by others.
    AddOns,
    /// Locks, if it is not running.
    Locks,
}

impl ResetWanted {
    /// The same as classes of a card.
    fn choice(&self, card: &Card) -> Result<Choice, WorkError> {
        let mut classes = match self.only {
            None => vec![Class::Settings, Class::State, Class::Cache, Class::Locks],
            Some(Only::Cache) => vec![Class::Cache],
            Some(Only::Settings) => vec![Class::Settings, Class::State, Class::Locks],
            Some(Only::AddOns) => vec![Class::AddOns],
            Some(Only::Locks) => vec![Class::Locks],
        };
        let mut known: Vec<String> = classes.iter().map(|class| class.word().to_owned()).collect();
        for what in card.parts().filter_map(|(_, what, _)| what) {
            if !known.iter().any(|known| known == what) {
                known.push(what.to_owned());
            }
        }
        for part in &self.keep {
            if !known.contains(part) {
                return Err(WorkError::Unknown { what: "part", name: part.clone(), known, listed_by: None });
            }
            classes.retain(|class| class.word() != part);
        }
        Ok(Choice { classes, keep: self.keep.clone() })
    }
}

/// One home with its plan.
struct Planned {
    context: HomeContext,
    actions: Vec<PlannedAction>,
    /// The position of its entry in the report.
    at: usize,
}

/// The input of a reset.
struct Case<'a> {
    app: &'a App,
    card: Card,
    choice: Choice,
}

impl Engine {
    /// Sets an application's settings, caches and state aside, in the homes of all login users or of one user. `ask` shows
    /// the list first. User data is not touched, and nothing at all while the application is running.
    ///
    /// # Errors
    /// When no application matches, a card cannot be used, another program is changing the machine, or a change stays
    /// unfinished.
    pub fn reset(
        &self,
        typed: &str,
        wanted: &ResetWanted,
        plan_only: bool,
        observer: &dyn Observer,
        ask: &mut dyn FnMut(&ResetReport) -> Agreement,
    ) -> Result<ResetReport, WorkError> {
        let apps = apps(&self.system);
        let app = called(&apps, typed)?;
        let (card, from) = card_of(&self.system, app)?;
        let case = Case { app, choice: wanted.choice(&card)?, card };
        let accounts = self.system.users_named(wanted.user.as_deref())?;
        let mut report = ResetReport {
            format: ResetReport::FORMAT.into(),
            name: app.name().to_owned(),
            id: app.entry.id.clone(),
            card: from,
            plan_only: true,
            homes: Vec::new(),
        };
        let mut homes = Vec::new();
        observer.on_event(Event::Begin { phase: Phase::Homes, items: accounts.len() as u64, bytes: 0 });
        for (user, open_home) in self.system.open_homes(&accounts) {
            homes.extend(home_planned(&self.system, &case, user, open_home, &mut report));
            observer.on_event(Event::Advance { items: 1, bytes: 0 });
        }
        observer.on_event(Event::End);
        if homes.is_empty() {
            return Ok(report);
        }
        if plan_only {
            return Ok(report);
        }
        self.system.require_writable()?;
        let state = self.system.make_state()?;
        let context = self.context(&state, observer);
        let _lock = context.lock_own()?;
        if let Some(number) = unfinished(&state)?.first() {
            return Err(ChangeError::Earlier(*number).into());
        }
        if ask(&report) == Agreement::No {
            return Ok(report);
        }
        report.plan_only = false;
        for home in homes {
            let at = home.at;
            let told = &mut report.homes[at];
            // It may have been started while the user read the list.
            told.running = running_in(&self.system, &case, &home.context.open_home);
            if !told.running.is_empty() {
                continue;
            }
            match reset_home(&self.system, context, home, wanted.prove, told) {
                // What was done in another home is reported.
                Err(WorkError::Change(ChangeError::Stopped)) if report.homes.iter().any(|h| h.change.is_some()) => {
                    for rest in report.homes.iter_mut().skip(at + 1).filter(|rest| rest.trouble.is_none()) {
                        rest.trouble = Some("not started: interrupted".into());
                    }
                    break;
                }
                Err(WorkError::Change(ChangeError::Unfinished { change, source })) => {
                    report.homes[at].trouble = Some(error_words(&source));
                    // By a new process: one home's owner must not be able to block the others'.
                    if let Err(e) = recover_one(self, &state, change, observer) {
                        let why = format!("not started: change {change} is unfinished ({})", error_chain(&e));
                        let rest = report.homes.iter_mut().skip(at + 1).filter(|rest| rest.trouble.is_none());
                        rest.for_each(|rest| rest.trouble = Some(why.clone()));
                        break;
                    }
                }
                other => other?,
            }
        }
        Ok(report)
    }
}

fn running_in(system: &System, case: &Case<'_>, home: &OpenHome) -> Vec<crate::report::RunningApp> {
    match system.machine.is_live() {
        true => running_apps(&case.card.programs, case.app.sandbox(), home.owner, &home.place),
        false => Vec::new(),
    }
}

fn home_planned(
    system: &System,
    case: &Case<'_>,
    user: String,
    open_home: io::Result<OpenHome>,
    report: &mut ResetReport,
) -> Option<Planned> {
    let mut told = HomeReset {
        user,
        home: open_home.as_ref().ok().map(|home| home.place.clone()),
        change: None,
        set_aside_in: None,
        parts: Vec::new(),
        actions: Vec::new(),
        blocked: Vec::new(),
        left: Vec::new(),
        running: Vec::new(),
        own: None,
        trouble: None,
    };
    let planned = open_home.map_err(|e| error_words(&e)).and_then(|home| planned_in(system, case, home, &mut told));
    let planned = planned.unwrap_or_else(|why| {
        told.trouble = Some(why);
        None
    });
    if told.parts.is_empty() && told.left.is_empty() && told.trouble.is_none() {
        return None;
    }
    report.homes.push(told);
    let at = report.homes.len() - 1;
    planned.map(|(context, actions)| Planned { context, actions, at })
}

fn planned_in(
    system: &System,
    case: &Case<'_>,
    home: OpenHome,
    told: &mut HomeReset,
) -> Result<Option<(HomeContext, Vec<PlannedAction>)>, String> {
    let found = home.app_data(&case.card, case.app.sandbox(), &case.choice).map_err(|e| error_words(&e))?;
    if let Some(why) = too_many(&found) {
        return Err(why);
    }
    told.parts = found.parts.iter().map(|part| part_of(part, &case.choice)).collect();
    told.left = left(found.left);
    if found.tops.len() > MAX_MOVED {
        return Err(format!("more than {MAX_MOVED} separate files and folders would have to be moved"));
    }
    let actions = actions(&home, &found.tops).map_err(|e| error_words(&e))?;
    if actions.is_empty() {
        return Ok(None);
    }
    told.actions = actions.iter().map(ActionReport::planned).collect();
    told.running = running_in(system, case, &home);
    if !told.running.is_empty() {
        return Ok(None);
    }
    let context =
        HomeContext::new(home, &case.app.entry.id, case.card.raw(), found.bases).map_err(|e| error_chain(&e))?;
    Ok(Some((context, actions)))
}

fn reset_home(
    system: &System,
    context: ChangeContext<'_>,
    home: Planned,
    prove: bool,
    told: &mut HomeReset,
) -> Result<(), WorkError> {
    let mut watch = OwnWatch::begin(&home.context, &home.actions, prove, context.observer);
    let at = home.context.context(context);
    let mut session = Session::new(at, &system.settings, Verb::Reset, APPS);
    told.set_aside_in = session.change()?.aside().and_then(|name| aside(&home.context, name));
    let mut done = 0;
    match session.round(home.actions, &NoContents, 0) {
        Ok(receipt) => {
            told.actions = ActionReport::carried_out(receipt, false);
            told.blocked = receipt.blocked.iter().map(blocked).collect();
            done = receipt.outcomes.iter().filter(|outcome| outcome.failed.is_none()).count();
        }
        Err(e @ (ChangeError::Unfinished { .. } | ChangeError::Stopped)) => {
            if matches!(e, ChangeError::Stopped) {
                told.trouble = Some(error_chain(&e));
                told.set_aside_in = None;
            }
            return Err(e.into());
        }
        Err(e) => told.trouble = Some(error_chain(&e)),
    }
    session.end(told.blocked.len() as u64)?;
    match done {
        0 => told.set_aside_in = None,
        _ => told.change = session.number,
    }
    told.own = watch.end(&home.context, context.observer);
    Ok(())
}

fn blocked(blocked: &crate::change::Blocked) -> RefusalReport {
    RefusalReport { path: blocked.place.clone(), package: None, why: blocked.why.clone() }
}

fn part_of(part: &AppDataItem, choice: &Choice) -> ResetPart {
    let goes = choice.takes(part.class, part.what.as_deref());
    ResetPart {
        class: part.class,
        what: part.what.clone(),
        files: part.tally.files,
        bytes: part.tally.bytes,
        fate: if goes { Fate::SetAside } else { Fate::Stays },
    }
}

/// The folder of a home in which a change sets data aside.
fn aside(home: &HomeContext, name: &str) -> Option<SystemPath> {
    let all = home.open_home.place.child(crate::apps::ASIDE.as_bytes()).ok()?;
    all.child(name.as_bytes()).ok()
}

/// An action for each object that can be moved as one.
fn actions(home: &OpenHome, tops: &[(Class, Vec<u8>)]) -> io::Result<Vec<PlannedAction>> {
    let mut actions = Vec::new();
    for (_, below) in tops {
        let Ok(place) = home.place.join(below) else { continue };
        // It may have been deleted since.
        let Some(before) = home.machine().look(&place)? else { continue };
        let index = u32::try_from(actions.len() + 1).unwrap_or(u32::MAX);
        actions.push(PlannedAction { index, ..PlannedAction::new(place, Some(before), Operation::SetAside) });
    }
    Ok(actions)
}
