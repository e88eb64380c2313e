//! `repair`: look, show, ask; then area by area: change, look again until it is stable.

use std::collections::HashSet;

use super::check::{check_all, told_downloads};
use super::consent::{Ask, Consent, Preview, first_shown};
use super::repaired::Repaired;
use super::session::Session;
use super::{Engine, WorkError};
use crate::archive::Lacking;
use crate::areas::store::repair_store;
use crate::areas::{
    AREAS, After, Area, Checked, Cx, Evidence, FILES, Failed, FileWork, How, Step, ToolRun, Work, is_wanted,
};
use crate::change::{ChangeContext, ChangeError, Locks, RoundReceipt, StateFolder, Verb, unfinished};
use crate::event::{Event, Flow, Observer, Uninterruptible};
use crate::model::{ActionResult, AreaName, FindingId, Scope, SystemPath, error_words};
use crate::platform::Platform as _;
use crate::platform::debian::Debian;
use crate::report::{ActionReport, CheckReport, RepairReport, RunningReport};
use crate::supply::Made;

/// An area is repaired in so many rounds at most, even when findings still change.
const MAX_ROUNDS: usize = 3;

/// A repair under way.
struct Run<'a> {
    scope: &'a Scope,
    observer: &'a dyn Observer,
    consent: Consent<'a>,
    /// What is known now.
    now: Checked,
    /// What was gathered for that; none when the machine has changed since.
    evidence: Evidence,
    failed: Failed,
    /// The document of the last look at everything.
    whole: CheckReport,
    done: Repaired,
    /// What the rounds did on the machine, by change.
    receipts: Vec<(u64, RoundReceipt)>,
    /// Areas of the machine that were looked at before the machine was changed.
    stale: Vec<AreaName>,
    /// Whether somebody said stop after something was done.
    stopped: bool,
}

impl Run<'_> {
    /// Notes that an area was changed: what is made of the machine is not as it was looked at.
    fn changed(&mut self, area: &dyn Area) {
        let later = AREAS.iter().skip_while(|other| other.about().name != area.about().name).skip(1);
        let rests = later.filter(|_| area.about().is_of_machine).map(|other| &other.about().name);
        let rests: Vec<AreaName> = rests.filter(|name| self.now.get(name).is_some()).cloned().collect();
        self.stale.extend(rests);
    }
}

/// What a look at everything came to.
struct Look {
    checked: Checked,
    evidence: Evidence,
    failed: Failed,
    report: CheckReport,
}

/// What is held from the look to the end.
struct Held {
    state: StateFolder,
    _locks: Locks,
}

impl Engine {
    /// Shows what a repair would do, changes nothing.
    ///
    /// # Errors
    /// As [`Engine::check`].
    pub fn plan_repair(&mut self, scope: &Scope, observer: &dyn Observer) -> Result<RepairReport, WorkError> {
        self.require_store_sound(scope)?;
        let scope = &self.resolve(scope, observer)?;
        let state = self.system.state()?;
        let _lock = self.system.shared_lock(state.as_ref())?;
        let none = Failed::new();
        let checked = check_all(&self.cx(scope, How::plain(&none), observer))?;
        Ok(Repaired::new(self.report(scope, &checked), &checked).only_planned(true))
    }

    /// Repairs what is named, or everything, in working order; `ask` is shown the plan before anything is done, and what comes to
    /// light later.
    ///
    /// # Errors
    /// When nothing could be done, or the disk failed; what had been done by then is in the log of its change.
    pub fn repair(
        &mut self,
        scope: &Scope,
        observer: &dyn Observer,
        ask: &mut Ask<'_>,
    ) -> Result<RepairReport, WorkError> {
        self.require_store_sound(scope)?;
        let scope = &self.resolve(scope, observer)?;
        let mut held = self.hold(scope, observer)?;
        let Look { checked, evidence, failed, report } = self.look(scope, observer)?;
        let done = Repaired::new(report.clone(), &checked);
        let (shown, ahead) = first_shown(&checked);
        if shown.is_empty() {
            return Ok(done.only_planned(false));
        }
        let mut consent = Consent::new(ask);
        if !consent.to(&Preview { ahead, ..Preview::new(&report, shown) }) {
            return Ok(done.only_planned(true));
        }
        let receipts = Vec::new();
        let mut run = Run {
            scope,
            observer,
            consent,
            now: checked,
            evidence,
            failed,
            whole: report,
            done,
            receipts,
            stale: Vec::new(),
            stopped: false,
        };
        for area in AREAS.iter().filter(|area| is_wanted(**area, scope)) {
            self.repair_area(&mut run, *area, &mut held)?;
            if run.stopped {
                break;
            }
        }
        for area in AREAS.iter().filter(|area| run.stale.contains(&area.about().name)).collect::<Vec<_>>() {
            self.look_again(&mut run, *area, scope, &HashSet::new())?;
        }
        Ok(self.finished(run, held.as_ref()))
    }

    /// Holds others off from the look to the end, where what is looked at must not change meanwhile.
    fn hold(&self, scope: &Scope, observer: &dyn Observer) -> Result<Option<Held>, WorkError> {
        let holds = |area: &&&dyn Area| area.about().is_of_machine && area.about().by_reference;
        match AREAS.iter().filter(holds).any(|area| is_wanted(*area, scope)) {
            true => self.hold_machine(observer).map(Some),
            false => Ok(None),
        }
    }

    fn hold_machine(&self, observer: &dyn Observer) -> Result<Held, WorkError> {
        let state = self.system.make_state()?;
        let locks = self.locks(&self.context(&state, observer), &Debian.locks())?;
        if let Some(number) = unfinished(&state)?.first() {
            return Err(ChangeError::Earlier(*number).into());
        }
        Ok(Held { state, _locks: locks })
    }

    /// Looks at everything that is wanted; downloads what a repair would lack, and looks again with it. What is downloaded may show
    /// more that is wrong with the same components, not with others: once is enough.
    fn look(&self, scope: &Scope, observer: &dyn Observer) -> Result<Look, WorkError> {
        let none = Failed::new();
        let cx = self.cx(scope, How { fetch: true, ..How::plain(&none) }, observer);
        let checked = check_all(&cx)?;
        let report = self.report(scope, &checked);
        let lacking: Vec<Lacking> = checked.downloads().into_iter().map(|(lacking, _)| lacking).collect();
        if checked.doubt().is_some() || lacking.is_empty() {
            return Ok(Look { checked, evidence: cx.into_evidence(), failed: Failed::new(), report });
        }
        if !self.system.settings.answerable {
            return Err(WorkError::NobodyToAsk);
        }
        let failed = self.supply().download(&lacking, observer)?;
        let cx = self.cx(scope, How { fetch: true, ..How::plain(&failed) }, observer);
        let checked = check_all(&cx)?;
        let evidence = cx.into_evidence();
        let downloads = told_downloads(&report, &lacking, &failed);
        let report = CheckReport { downloads, ..self.report(scope, &checked) };
        Ok(Look { checked, evidence, failed, report })
    }

    /// Repairs one area, in rounds; what must be known anew after it is looked at again.
    fn repair_area(&mut self, run: &mut Run<'_>, area: &dyn Area, held: &mut Option<Held>) -> Result<(), WorkError> {
        for _ in 0..MAX_ROUNDS {
            if self.rounds(run, area, held)? == After::Known {
                return Ok(());
            }
            self.reload()?;
            let (look, stopped) = match self.look(run.scope, run.observer) {
                // What was done stands and is told; nothing else is begun.
                Err(WorkError::Stopped) => (self.look(run.scope, &Uninterruptible(run.observer))?, true),
                look => (look?, false),
            };
            let Look { checked, evidence, failed, report } = look;
            (run.now, run.evidence, run.failed, run.whole) = (checked, evidence, failed, report);
            run.stale.clear();
            run.stopped |= stopped;
            if run.stopped {
                return Ok(());
            }
        }
        Ok(())
    }

    /// The rounds of one area, as one change; answers how much of the rest is known after them.
    fn rounds(&self, run: &mut Run<'_>, area: &dyn Area, held: &mut Option<Held>) -> Result<After, WorkError> {
        let name = &area.about().name;
        if allowed(self, run, name).is_empty() {
            return Ok(After::Known);
        }
        if held.is_none() && on_machine(&run.now, name) {
            *held = Some(self.hold_machine(run.observer)?);
        }
        let context = held.as_ref().map(|held| self.context(&held.state, run.observer));
        let mut session =
            context.map(|context| Session::new(context, &self.system.settings, Verb::Repair, name.clone()));
        let after = self.rounds_in(run, area, session.as_mut());
        if let Some(session) = &mut session {
            let remaining = run.now.get(name).map_or(0, |examined| examined.problems().count() as u64);
            let ended = session.end(remaining);
            let number = session.number.unwrap_or_default();
            run.receipts.extend(session.receipts.drain(..).map(|receipt| (number, receipt)));
            ended?;
        }
        after
    }

    fn rounds_in(
        &self,
        run: &mut Run<'_>,
        area: &dyn Area,
        mut session: Option<&mut Session<'_>>,
    ) -> Result<After, WorkError> {
        let name = &area.about().name;
        let mut written: HashSet<SystemPath> = HashSet::new();
        let narrow = narrowed(run.scope, &run.now);
        let mut known: HashSet<FindingId> = ids(&run.now, name);
        for _ in 0..MAX_ROUNDS {
            let steps = allowed(self, run, name);
            let problems = ids(&run.now, name).len();
            let mut went_on = false;
            let mut after = After::Known;
            for step in &steps {
                went_on |= self.carry_out(run, name, step, session.as_deref_mut(), &mut written)?;
                after = if step.after == After::Known { after } else { step.after };
            }
            if steps.is_empty() {
                break;
            }
            run.stopped |= run.observer.on_event(Event::Advance { items: 0, bytes: 0 }) == Flow::Stop;
            if after != After::Known {
                return Ok(after);
            }
            run.changed(area);
            self.look_again(run, area, &narrow, &written)?;
            let now = ids(&run.now, name);
            let new = now.iter().any(|id| known.insert(id.clone()));
            if run.stopped || !went_on || !(now.len() < problems || new) {
                break;
            }
        }
        Ok(After::Known)
    }

    /// Carries out one step; answers whether anything was done.
    fn carry_out(
        &self,
        run: &mut Run<'_>,
        area: &AreaName,
        step: &Step,
        session: Option<&mut Session<'_>>,
        written: &mut HashSet<SystemPath>,
    ) -> Result<bool, WorkError> {
        match (&step.work, session) {
            (Work::Store(work), _) => {
                let none = Failed::new();
                let cx = self.cx(run.scope, How::plain(&none), run.observer);
                let actions = repair_store(&cx, work, step.shows.clone())?;
                let done = actions.iter().any(|action| action.result == ActionResult::Done);
                run.done.did(area, actions);
                Ok(done)
            }
            (Work::Files(FileWork { plan, made }), Some(session)) => {
                self.supply().unpack_for(&plan.actions);
                written.extend(plan.actions.iter().map(|action| action.place.clone()));
                let contents = Made { made, then: self.supply().contents() };
                let remaining = ids(&run.now, area).len() as u64;
                let receipt = session.round(plan.actions.clone(), &contents, remaining)?.clone();
                run.done.changed(area, session.number.unwrap_or_default(), &receipt);
                run.done.blocked(area, &receipt.blocked, &plan.actions);
                Ok(receipt.outcomes.iter().any(|outcome| outcome.failed.is_none()))
            }
            (Work::Tool(tool), Some(session)) => {
                let why = self.run_tool(tool, &step.shows, session)?;
                let done = why.is_none();
                run.done.did(area, step.shows.iter().map(|action| action.clone().settled(why.clone())).collect());
                Ok(done)
            }
            (_, None) => Ok(false),
        }
    }

    /// Has one of the system's own tools do something; answers why it failed.
    fn run_tool(
        &self,
        tool: &ToolRun,
        shows: &[ActionReport],
        session: &mut Session<'_>,
    ) -> Result<Option<String>, WorkError> {
        let names: Vec<String> = shows.iter().map(|action| action.subject.to_string()).collect();
        let words: Vec<&str> = tool.words.iter().map(String::as_str).collect();
        let failed = session.delegate(tool.action, (&names.join(" "), tool.before), &mut |_| {
            let runner = self.system.tool_runner().map_err(str::to_owned)?;
            let stop = &self.system.settings.stop;
            let ran = runner.run(tool.program, &words, &[], stop).map_err(|e| error_words(&e))?;
            if ran.is_fine() { Ok(()) } else { Err(format!("{} failed: {}", tool.called, ran.last_line())) }
        })?;
        Ok(failed)
    }

    /// Looks again at what a round can have changed: after one on the machine, at that area; after one on the store, at whatever
    /// rests on what can be had.
    fn look_again(
        &self,
        run: &mut Run<'_>,
        area: &dyn Area,
        narrow: &Scope,
        written: &HashSet<SystemPath>,
    ) -> Result<(), WorkError> {
        let observer = &Uninterruptible(run.observer);
        run.stale.retain(|stale| *stale != area.about().name);
        if area.about().is_of_machine {
            run.evidence = Evidence::default();
            let scope = if area.about().name == FILES { narrow } else { run.scope };
            let how = How { written: Some(written), ..How::plain(&run.failed) };
            let cx = Cx::new(self.supply(), scope, vec![area.about().name.clone()], how, observer);
            let examined = area.check(&cx, &run.now)?;
            run.now.replace(examined);
            return Ok(());
        }
        let how = How { fresh: true, ..How::plain(&run.failed) };
        let cx = self.cx(run.scope, how, observer).with_evidence(std::mem::take(&mut run.evidence));
        for area in AREAS.iter().filter(|area| area.about().by_reference) {
            if run.now.get(&area.about().name).is_none() {
                continue;
            }
            let examined = area.check(&cx, &run.now)?;
            run.now.replace(examined);
        }
        run.evidence = cx.into_evidence();
        Ok(())
    }

    /// The document of a repair that has come to its end.
    fn finished(&self, run: Run<'_>, held: Option<&Held>) -> RepairReport {
        if !run.done.did_something() {
            return run.done.only_planned(false);
        }
        let after = self.report(run.scope, &run.now);
        let running = held.map_or_else(RunningReport::default, |held| {
            let context: ChangeContext<'_> = self.context(&held.state, run.observer);
            self.still_running(&context, run.receipts.iter().map(|(change, receipt)| (*change, receipt)))
        });
        if run.scope.is_whole() {
            self.system.note_last_check(&run.whole.put_right_to(&after));
        }
        run.done.finish(after, running)
    }
}

/// The steps of an area that may be carried out: nothing on a machine whose disk is in doubt, and nothing that nobody agreed to.
fn allowed(engine: &Engine, run: &mut Run<'_>, area: &AreaName) -> Vec<Step> {
    let Some(examined) = run.now.get(area) else { return Vec::new() };
    let doubt = run.now.doubt().is_some();
    let steps = examined.steps.iter().filter(|step| !(doubt && step.work.is_on_machine()));
    let report = || engine.report(run.scope, &run.now);
    steps.filter_map(|step| run.consent.allowed(&report, step)).collect()
}

fn on_machine(checked: &Checked, area: &AreaName) -> bool {
    checked.get(area).is_some_and(|examined| examined.steps.iter().any(|step| step.work.is_on_machine()))
}

/// The problems of an area.
fn ids(checked: &Checked, area: &AreaName) -> HashSet<FindingId> {
    checked.get(area).into_iter().flat_map(|examined| examined.problems()).map(|finding| finding.id.clone()).collect()
}

/// After a round only the components that were touched are looked at again; what was written, on the medium.
fn narrowed(scope: &Scope, checked: &Checked) -> Scope {
    if !scope.is_all() {
        return scope.clone();
    }
    let problems = checked.areas().flat_map(|examined| examined.problems());
    let mut components: Vec<String> =
        problems.filter_map(|f| f.component.as_ref()).map(|component| component.name.clone()).collect();
    components.sort();
    components.dedup();
    Scope { areas: vec![FILES], components, ..Scope::default() }
}
