//! `return`: takes the system back to a savepoint, as one change.

use std::collections::{BTreeSet, HashMap, HashSet};
use std::io;

use super::programs::still_running;
use super::regenerate::{regenerate, triggers};
use super::session::Session;
use super::{Agreement, Engine, WorkError};
use crate::areas::FILES;
use crate::change::{ChangeContext, ChangeError, Locks, Verb, require_possible, unfinished};
use crate::event::Observer;
use crate::history;
use crate::model::{Digest, PackageId, SystemPath};
use crate::plan::{ItemKind, Operation};
use crate::platform::Platform as _;
use crate::platform::debian::Debian;
use crate::report::{
    ActionReport, LostFile, PackageChange, ReturnReport, RunningReport, StayReason, StayingPackage, StayingPlace,
};
use crate::savepoints::{Head, LostContent, Pools, ReturnCase, ReturnPlan, ReturnWanted, Savepoints, plan_return};
use crate::store::{Contents, StoreError};

impl Engine {
    /// Returns the system to a savepoint. `ask` shows the plan first.
    ///
    /// # Errors
    /// When there is no such savepoint, another program is changing the machine, or the return is not possible as a whole.
    pub fn return_to(
        &self,
        number: u64,
        wanted: &ReturnWanted,
        plan_only: bool,
        observer: &dyn Observer,
        ask: &mut dyn FnMut(&ReturnReport) -> Agreement,
    ) -> Result<ReturnReport, WorkError> {
        let unknown = || WorkError::Unknown {
            what: "savepoint",
            name: number.to_string(),
            known: Vec::new(),
            listed_by: Some("list savepoints"),
        };
        let state = self.system.state()?.ok_or_else(unknown)?;
        let savepoints = Savepoints::find(&state)?.ok_or_else(unknown)?;
        if !savepoints.numbers()?.contains(&number) {
            return Err(unknown());
        }
        if !plan_only {
            self.system.require_writable()?;
        }
        let context = self.context(&state, observer);
        let mut locks = if plan_only { Locks::default() } else { context.lock(&Debian.update_locks())? };
        if let Some(number) = unfinished(&state)?.first() {
            return Err(ChangeError::Earlier(*number).into());
        }
        let head = savepoints.head(number)?;
        self.require_packages(wanted, &savepoints, &head)?;
        let pools = Pools::open(context, &head.pools, &self.system.pool);
        let known = self.system.notes().as_ref().map(history::known_contents).unwrap_or_default();
        let case = ReturnCase {
            context: &context,
            installed: &self.system.installed,
            savepoints: &savepoints,
            pools: &pools,
            known: &known,
            threads: &self.system.pool,
            wanted,
        };
        let mut plan = plan_return(&case, &head)?;
        self.find_lost(&mut plan, observer)?;
        // Known before the question.
        require_possible(&context, &plan.actions)?;
        let mut report = self.return_report(&head, &plan, wanted);
        if plan_only || plan.is_empty() || !report.lost.is_empty() || ask(&report) == Agreement::No {
            return Ok(report);
        }
        report.plan_only = false;
        self.carry_out_return(context, &head, plan, &pools, (wanted, &mut locks), &mut report)?;
        Ok(report)
    }

    fn carry_out_return(
        &self,
        context: ChangeContext<'_>,
        head: &Head,
        plan: ReturnPlan,
        pools: &Pools<'_>,
        (wanted, locks): (&ReturnWanted, &mut Locks),
        report: &mut ReturnReport,
    ) -> Result<(), WorkError> {
        let contents =
            ReturnContents { made: &plan.made, elsewhere: &plan.elsewhere, pools, then: self.supply().contents() };
        let mut session =
            Session::new(context, &self.system.settings, Verb::Return, FILES).returning_to(head.savepoint);
        let places: Vec<SystemPath> = plan.actions.iter().map(|action| action.place.clone()).collect();
        session.whole_round(plan.actions, &contents, plan.times)?;
        if let Some(package) = wanted.packages.first() {
            report.regenerated = triggers(&self.system, &wanted.packages, &places);
            report.not_regenerated = regenerate(&self.system, &mut session, locks, package, &report.regenerated)?;
        }
        session.end(0)?;
        report.change = session.number;
        report.actions =
            session.receipts.iter().flat_map(|receipt| ActionReport::carried_out(receipt, false)).collect();
        let rounds = session.receipts.iter().map(|receipt| (session.number.unwrap_or_default(), receipt));
        report.running = still_running(&self.system, &context, rounds);
        report.running.restart_due |= self.system.machine.is_live() && !report.consequences.restart.is_empty();
        Ok(())
    }

    /// Refuses names of packages that were neither installed then nor are now.
    fn require_packages(&self, wanted: &ReturnWanted, savepoints: &Savepoints, head: &Head) -> Result<(), WorkError> {
        if wanted.packages.is_empty() {
            return Ok(());
        }
        let then = savepoints.packages(head)?;
        let now = &self.system.installed.packages;
        let is_known = |name: &String| then.iter().any(|p| p.name == *name) || now.iter().any(|p| p.id.name == *name);
        match wanted.packages.iter().find(|name| !is_known(name)) {
            Some(name) => Err(WorkError::Unknown {
                what: "package",
                name: name.clone(),
                known: then.into_iter().map(|package| package.name).collect(),
                listed_by: Some("list packages"),
            }),
            None => Ok(()),
        }
    }

    /// Looks for contents that are no longer kept in the stores and packages; generated files without one stay as they are.
    fn find_lost(&self, plan: &mut ReturnPlan, observer: &dyn Observer) -> Result<(), WorkError> {
        if plan.lost.is_empty() {
            return Ok(());
        }
        let id = |lost: &LostContent| {
            let package = lost.package.as_ref()?;
            PackageId::new(&package.package, package.from.as_deref()?, &package.arch).ok()
        };
        let ids_of = |lost: &mut dyn Iterator<Item = &LostContent>| -> Vec<PackageId> {
            lost.filter_map(id).collect::<BTreeSet<_>>().into_iter().collect()
        };
        let supply = self.supply();
        supply.prepare(&ids_of(&mut plan.lost.iter()), observer)?;
        let needed: HashMap<Digest, u64> = plan.lost.iter().map(|lost| (lost.digest, lost.size)).collect();
        supply.unpack_contents(&needed);
        let missing = {
            let is_available = supply.available_contents();
            ids_of(&mut plan.lost.iter().filter(|lost| !is_available(&lost.digest)))
        };
        let lacking = supply.fetchable(&missing);
        if !lacking.is_empty() {
            // What cannot be downloaded is reported as lost.
            supply.download(&lacking, observer)?;
            supply.unpack_contents(&needed);
        }
        let is_available = supply.available_contents();
        let lost = std::mem::take(&mut plan.lost).into_iter();
        let (elsewhere, lost): (Vec<_>, Vec<_>) = lost.partition(|lost| is_available(&lost.digest));
        plan.elsewhere = elsewhere.into_iter().map(|lost| lost.digest).collect();
        let (of_packages, generated): (Vec<_>, Vec<_>) = lost.into_iter().partition(|lost| lost.package.is_some());
        generated.iter().for_each(|lost| leave(plan, &lost.digest));
        plan.lost = of_packages;
        Ok(())
    }

    fn return_report(&self, head: &Head, plan: &ReturnPlan, wanted: &ReturnWanted) -> ReturnReport {
        let staying = |(package, reason): &(PackageChange, StayReason)| StayingPackage {
            package: package.clone(),
            reason: *reason,
        };
        let place = |(path, reason): (&SystemPath, &StayReason)| StayingPlace { path: path.clone(), reason: *reason };
        let lost = |lost: &LostContent| LostFile {
            path: lost.path.clone(),
            package: lost.package.as_ref().map(|package| package.package.clone()),
        };
        ReturnReport {
            format: ReturnReport::FORMAT.into(),
            machine: self.system.machine_report(),
            savepoint: head.savepoint,
            made: head.made.to_string(),
            reason: head.reason.clone(),
            plan_only: true,
            change: None,
            packages: plan.packages.clone(),
            packages_staying: plan.packages_staying.iter().map(staying).collect(),
            actions: plan.actions.iter().map(ActionReport::planned).collect(),
            staying: plan.staying.iter().map(place).collect(),
            accounts: plan.accounts.clone(),
            with_accounts: wanted.accounts,
            consequences: plan.consequences.clone(),
            lost: plan.lost.iter().map(lost).collect(),
            regenerated: Vec::new(),
            not_regenerated: None,
            running: RunningReport::default(),
        }
    }
}

/// Leaves files of a content as they are.
fn leave(plan: &mut ReturnPlan, digest: &Digest) {
    let is_lost = |kind: &ItemKind| match kind {
        ItemKind::File { digest: of, .. }
        | ItemKind::NameOf { digest: of, .. }
        | ItemKind::NameOfAction { digest: of, .. } => of == digest,
        _ => false,
    };
    for action in &mut plan.actions {
        let Operation::Put(items) = &mut action.operation else { continue };
        let paths: Vec<SystemPath> = items
            .iter()
            .filter(|item| is_lost(&item.kind))
            .filter_map(|item| action.place.join(item.below.relative()).ok())
            .collect();
        items.retain(|item| !is_lost(&item.kind));
        plan.staying.extend(paths.into_iter().map(|path| (path, StayReason::NotKept)));
    }
    plan.actions.retain(|action| !matches!(&action.operation, Operation::Put(items) if items.is_empty()));
}

/// Contents composed for a return, those of the pools, and all other supplies after them.
struct ReturnContents<'a, T> {
    made: &'a HashMap<Digest, Vec<u8>>,
    /// What the pools do not have whole.
    elsewhere: &'a HashSet<Digest>,
    pools: &'a Pools<'a>,
    then: T,
}

impl<T: Contents> Contents for ReturnContents<'_, T> {
    fn copy(&self, digest: &Digest, size: u64, to: &mut dyn FnMut(&[u8]) -> io::Result<()>) -> Result<(), StoreError> {
        if let Some(bytes) = self.made.get(digest) {
            return to(bytes).map_err(|_| StoreError::Absent { digest: *digest });
        }
        match self.pools.has_content(digest) && !self.elsewhere.contains(digest) {
            true => self.pools.copy(digest, size, to),
            false => self.then.copy(digest, size, to),
        }
    }

    fn has_content(&self, digest: &Digest) -> bool {
        self.made.contains_key(digest) || self.pools.has_content(digest) || self.then.has_content(digest)
    }
}
