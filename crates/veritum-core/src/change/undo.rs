//! Undoing a change: the inverse of its actions, as a change of its own.

use std::collections::{BTreeMap, HashMap, HashSet};
use std::io;

use super::ChangeError;
use super::context::ChangeContext;
use super::journal::{ChangeLog, JournalError, RoundLog};
use super::keep::Kept;
use super::merge::{Refusal, merge};
use super::round::FolderTimes;
use super::slot::{digest_of, placed};
use super::standing::{Standing, Standings};
use crate::machine::Dir;
use crate::model::{AreaName, Digest, FileKind, Stat, SystemPath};
use crate::plan::{ActionKey, ActionOutcome, Item, ItemKind, Operation, PlannedAction, ToolChange, inverse};

/// The plan to undo one round of a change.
#[derive(Debug, Clone, PartialEq)]
pub struct UndoRound {
    /// The round.
    pub of: u32,
    /// The actions that undo it.
    pub actions: Vec<PlannedAction>,
    /// The actions of the change that these revert completely.
    pub settles: Vec<ActionKey>,
    /// The times that folders had before, where the change set others.
    pub times: FolderTimes,
}

impl UndoRound {
    /// Skips actions, each with what it reverts.
    pub fn retain(&mut self, mut keep: impl FnMut(&PlannedAction) -> bool) {
        let mut left: HashSet<ActionKey> = HashSet::new();
        self.actions.retain(|action| {
            let kept = keep(action);
            left.extend(action.reverts.filter(|_| !kept));
            kept
        });
        self.settles.retain(|key| !left.contains(key));
    }
}

/// The plan to undo a change.
#[derive(Debug, Clone, PartialEq)]
pub struct UndoPlan {
    /// The change.
    pub of: u64,
    /// Its area.
    pub area: AreaName,
    /// Its rounds, the last first.
    pub rounds: Vec<UndoRound>,
    /// What the system's own tools changed and is in effect, the last first.
    pub tools: Vec<(ActionKey, ToolChange)>,
    /// What is not undone.
    pub refused: Vec<Refusal>,
}

/// Plans how to undo a change, or only one round of it when its later ones are undone already. Examines every
/// place, writes nothing. What an earlier undo reverted is skipped, what it refused is tried again.
///
/// # Errors
/// When a change log cannot be read.
pub fn plan_undo(context: ChangeContext<'_>, number: u64, only: Option<u32>) -> Result<Option<UndoPlan>, ChangeError> {
    let at = |source| ChangeError::Journal { change: number, source };
    let Some(log) = context.state.change(number).map_err(at)? else { return Ok(None) };
    let mut logs = later_logs(context, number)?;
    logs.push(log.clone());
    let standings = Standings::new(&logs);
    let later = later_places(&logs, &standings, number);
    let above = |(place, change): (&SystemPath, &u64)| {
        std::iter::successors(place.parent(), SystemPath::parent).map(|folder| (folder, *change)).collect::<Vec<_>>()
    };
    let later_above = later.iter().flat_map(above).collect();
    let mut planner =
        Planner { context, number, released: log.released(), standings, later, later_above, reached: HashMap::new() };
    let (area, in_effect) = (log.begin.area.clone(), Some(Standing::Stands(number)));
    let tools = log.tools().into_iter().rev().filter(|tool| planner.standings.get(number, tool.key) == in_effect);
    let tools = tools.filter(|_| only.is_none()).map(|tool| (tool.key, tool.changes)).collect();
    let mut plan = UndoPlan { of: number, area, rounds: Vec::new(), tools, refused: Vec::new() };
    for round in log.rounds().map_err(at)?.iter().rev().filter(|r| only.is_none_or(|n| n == r.round)) {
        let undo = planner.round(round, &mut plan.refused)?;
        if !undo.actions.is_empty() {
            plan.rounds.push(undo);
        }
    }
    Ok(Some(plan))
}

/// What undoing a later round of the same change leaves at a place; the reason when it is not undone.
type Reached = Result<Option<Stat>, String>;

struct Planner<'a> {
    context: ChangeContext<'a>,
    number: u64,
    /// When the change's backups were deleted.
    released: Option<jiff::Timestamp>,
    standings: Standings,
    /// Places that later changes touched.
    later: BTreeMap<SystemPath, u64>,
    /// All folders above these.
    later_above: HashMap<SystemPath, u64>,
    /// Places that later rounds of this change touched, including everything below them.
    reached: HashMap<SystemPath, Reached>,
}

impl Planner<'_> {
    fn round(&mut self, round: &RoundLog<'_>, refused: &mut Vec<Refusal>) -> Result<UndoRound, ChangeError> {
        let times = round.parents.iter().filter(|parent| parent.after.is_some());
        let times = times.map(|parent| (parent.place.clone(), parent.mtime)).collect();
        let mut undo = UndoRound { of: round.round, actions: Vec::new(), settles: Vec::new(), times };
        for action in round.actions.iter().rev() {
            let outcome = round.outcomes.unwrap_or_default().iter().find(|o| o.index == action.index);
            let Some(outcome) = outcome else { continue };
            let mut refuse = |why: String| {
                refused.push(Refusal { place: action.place.clone(), package: action.package.clone(), why });
            };
            if action.operation == Operation::Free && outcome.failed.is_none() {
                refuse("deleted to free space; it can be downloaded again".to_owned());
                continue;
            }
            let key = ActionKey { round: round.round, index: action.index };
            match self.standings.get(self.number, key) {
                None | Some(Standing::Reverted(_)) => continue,
                Some(Standing::Stands(by)) if by != self.number => {
                    refuse(format!("change {by} redid it; undo that one instead"));
                    continue;
                }
                Some(Standing::Stands(_)) => {}
            }
            let parent = action.place.parent().unwrap_or_else(SystemPath::root);
            let folder = super::record::keeps_of(round.parents, &parent);
            let index = u32::try_from(undo.actions.len() + 1).unwrap_or(u32::MAX);
            let back = inverse(action, outcome, self.number, round.round, &folder, index);
            let Some(mut back) = back else { continue };
            if self.context.home.is_some_and(|home| home.card.is_some()) {
                if self.in_a_home(back, &mut undo.actions, refused)? {
                    undo.settles.push(key);
                }
                continue;
            }
            let why = self.reason(action, outcome, &mut back)?;
            self.reached.insert(action.place.clone(), why.clone().map_or(Ok(action.before), Err));
            match why {
                None => {
                    undo.actions.push(back);
                    undo.settles.push(key);
                }
                Some(why) => refuse(why),
            }
        }
        Ok(undo)
    }

    /// Plans how one action in a home is undone; returns whether nothing of it remains then.
    fn in_a_home(
        &self,
        back: PlannedAction,
        actions: &mut Vec<PlannedAction>,
        refused: &mut Vec<Refusal>,
    ) -> Result<bool, ChangeError> {
        let place = back.place.clone();
        // A later change may have changed the folder, or one above.
        let above = std::iter::successors(Some(place.clone()), SystemPath::parent);
        let touched = above.into_iter().find_map(|at| self.later.get(&at)).or_else(|| self.later_above.get(&place));
        if let Some(change) = touched {
            let why = format!("change {change} changed it later; undo that one first");
            refused.push(Refusal { place, package: None, why });
            return Ok(false);
        }
        let merged = merge(self.context, back).map_err(|source| ChangeError::TakenBack { place, source })?;
        for action in merged.actions {
            let index = u32::try_from(actions.len() + 1).unwrap_or(u32::MAX);
            actions.push(PlannedAction { index, ..action });
        }
        let whole = merged.refused.is_empty();
        refused.extend(merged.refused);
        Ok(whole)
    }

    fn reason(
        &self,
        action: &PlannedAction,
        outcome: &ActionOutcome,
        back: &mut PlannedAction,
    ) -> Result<Option<String>, ChangeError> {
        if let Some(change) = self.later.get(&action.place) {
            return Ok(Some(format!("change {change} changed it later; undo that one first")));
        }
        let mut way = std::iter::successors(Some(action.place.clone()), SystemPath::parent);
        match way.find_map(|place| self.reached.get(&place).map(|reached| (place, reached))) {
            // Examined again after the later round was undone: only then is the state there that this one left.
            Some((place, Ok(then))) => {
                if place == action.place {
                    back.before = *then;
                }
                Ok(None)
            }
            Some((_, Err(why))) => Ok(Some(why.clone())),
            None => refusal(self.context, action, outcome, back, self.released, &|place| self.will_be_gone(place))
                .map_err(|source| ChangeError::TakenBack { place: action.place.clone(), source }),
        }
    }

    /// Whether undoing later rounds leaves nothing at a place.
    fn will_be_gone(&self, place: &SystemPath) -> bool {
        matches!(self.reached.get(place), Some(Ok(None)))
    }
}

/// The later changes' logs. Damaged ones are skipped: whether each file is as this change left it is examined anyway.
fn later_logs(context: ChangeContext<'_>, number: u64) -> Result<Vec<ChangeLog>, ChangeError> {
    let mut logs: Vec<ChangeLog> = Vec::new();
    for later in context.state.changes()?.into_iter().filter(|n| *n > number) {
        match context.state.change(later) {
            Ok(log) => logs.extend(log),
            Err(JournalError::Damaged(_)) => {}
            Err(source) => return Err(ChangeError::Journal { change: later, source }),
        }
    }
    Ok(logs)
}

/// Places that later changes touched and that were not restored since, with the change to undo first.
fn later_places(logs: &[ChangeLog], standings: &Standings, number: u64) -> BTreeMap<SystemPath, u64> {
    let mut touched = BTreeMap::new();
    // An undo of a later change restores its places; one of this change reverted what is not tried again.
    let counts = |log: &&ChangeLog| log.begin.change > number && log.begin.of.is_none_or(|of| of < number);
    let mut logs: Vec<&ChangeLog> = logs.iter().filter(counts).collect();
    logs.sort_by_key(|log| log.begin.change);
    for log in logs {
        for round in log.rounds().unwrap_or_default() {
            for action in round.actions {
                let key = ActionKey { round: round.round, index: action.index };
                if let Some(Standing::Stands(by)) = standings.get(log.begin.change, key) {
                    touched.insert(action.place.clone(), by);
                }
            }
        }
    }
    touched
}

/// Why an action cannot be undone; otherwise its inverse gets the present state.
fn refusal(
    context: ChangeContext<'_>,
    action: &PlannedAction,
    outcome: &ActionOutcome,
    back: &mut PlannedAction,
    released: Option<jiff::Timestamp>,
    will_be_gone: &dyn Fn(&SystemPath) -> bool,
) -> io::Result<Option<String>> {
    if let Operation::Return { change, round, index, kept, folder } = &mut back.operation {
        let at = Kept::to_return(folder, (*change, *round, *index), kept, &action.place);
        if let Some(at) = released {
            return Ok(Some(format!("the backup was deleted on {}", day(at))));
        }
        let Ok(slot) = at.open(&context) else { return Ok(Some(LOST.into())) };
        match slot.placed()? {
            Some(now) if kept.is_still(&now) && kept.stat.mtime == now.stat.mtime => *kept = now,
            _ => return Ok(Some(LOST.into())),
        }
    }
    let parent = action.place.parent().unwrap_or_else(SystemPath::root);
    let dir = match context.machine.dir(&parent) {
        Ok(dir) => dir,
        Err(_) => return Ok(Some("its folder no longer exists".into())),
    };
    let now = placed(&dir, action.place.entry())?;
    let same = match (&outcome.placed, &now) {
        (None, None) => true,
        (Some(placed), Some(now)) if now.stat.kind == FileKind::Folder => {
            placed.is_still(now) && tree_as_put(&dir, action, will_be_gone)?
        }
        (Some(placed), Some(now)) => placed.is_still(now),
        _ => false,
    };
    if !same {
        return Ok(Some(CHANGED.into()));
    }
    if let (Operation::Return { kept, .. }, Some(now)) = (&back.operation, &now)
        && kept.stat.id == now.stat.id
    {
        return Ok(Some("already restored under this name".into()));
    }
    back.before = now.map(|n| n.stat);
    Ok(None)
}

const CHANGED: &str = "changed since";
const LOST: &str = "the backup is missing or damaged";

/// A day, for people.
fn day(at: jiff::Timestamp) -> String {
    at.strftime("%Y-%m-%d").to_string()
}

/// Whether a tree contains exactly what was written, and what later rounds wrote into it.
fn tree_as_put(dir: &Dir, action: &PlannedAction, will_be_gone: &dyn Fn(&SystemPath) -> bool) -> io::Result<bool> {
    let Operation::Put(items) = &action.operation else { return Ok(true) };
    let top = dir.beside(dir.disk().open_dir(dir.fd(), action.place.name())?);
    let mut expected: HashMap<&SystemPath, &Item> =
        items.iter().filter(|i| !i.below.is_root()).map(|i| (&i.below, i)).collect();
    let mut folders = vec![SystemPath::root()];
    while let Some(folder) = folders.pop() {
        let inner = top.beside(top.disk().open_dir(top.fd(), folder.relative())?);
        for (name, _) in inner.disk().list(inner.fd())? {
            let Ok(below) = folder.child(&name) else { return Ok(false) };
            let Some(item) = expected.remove(&below) else {
                match action.place.join(below.relative()) {
                    Ok(place) if will_be_gone(&place) => continue,
                    _ => return Ok(false),
                }
            };
            if !item_as_put(&inner, &name, item)? {
                return Ok(false);
            }
            if item.kind == ItemKind::Folder {
                folders.push(below);
            }
        }
    }
    Ok(expected.is_empty())
}

fn item_as_put(dir: &Dir, name: &[u8], item: &Item) -> io::Result<bool> {
    let digest = |wanted: &Digest| Ok::<bool, io::Error>(digest_of(dir, name)? == Some(*wanted));
    match &item.kind {
        ItemKind::File { digest: wanted, .. }
        | ItemKind::NameOf { digest: wanted, .. }
        | ItemKind::NameOfAction { digest: wanted, .. } => digest(wanted),
        ItemKind::Link(target) => Ok(dir.disk().read_link(dir.fd(), name).is_ok_and(|t| t == target.0)),
        _ => Ok(true),
    }
}
