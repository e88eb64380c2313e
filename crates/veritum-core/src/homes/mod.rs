//! The homes of login users, each accessed with its owner's rights.

mod cards;
mod running;
mod seen;

pub use cards::cards_in;
pub use running::running_apps;
pub use seen::{HomesSeen, Seen};

use std::collections::HashSet;
use std::io;
use std::sync::{Arc, Mutex};

use crate::apps::{Bases, Card, RawCard};
use crate::change::{ChangeContext, HomeOf};
use crate::machine::{Account, Dir, Machine};
use crate::model::{SystemPath, error_words, readable};
use crate::platform::as_owner::Owner;
use crate::report::{HomeLeft, HomePart, HomeReport};
use crate::scan::{
    self, AppData, Choice, FolderEntry, HomeAgent, HomeGuard, HomeQuestion, HomeResponder, InventoryAnswer,
    InventoryQuestion, Profile, ProfileQuestion, Question, SmallFile,
};
use crate::system::{Settings, System, WorkError};

/// Homes with more names are not examined completely.
pub const MOST: u64 = 2_000_000;

/// An open home, accessed with its owner's rights.
#[derive(Debug)]
pub struct OpenHome {
    /// The user.
    pub user: String,
    /// Its path, without symlinks.
    pub place: SystemPath,
    /// The owner's id.
    pub owner: u32,
    named: SystemPath,
    dir: Dir,
    agent: Arc<dyn HomeAgent>,
    /// The machine as seen from it.
    machine: Machine,
}

impl OpenHome {
    /// An application's data in it; `choice` selects the parts to move.
    pub fn app_data(&self, card: &Card, sandbox: Option<&str>, choice: &Choice) -> io::Result<AppData> {
        let (home, choice, sandbox) = (self.named.clone(), choice.clone(), sandbox.map(str::to_owned));
        // A sandbox's own card gives its folder as it is in the home.
        let sandbox = sandbox.filter(|_| !is_of_sandbox(card));
        let question = HomeQuestion { card: card.raw(), home, owner: self.owner, most: MOST, choice, sandbox };
        scan::ask(&*self.agent, &self.dir, &Question::AppData(question))
    }

    /// The user data in it; compared with the previous inventory if `again`.
    pub fn inventory(
        &self,
        bases: &Bases,
        leave_out: Vec<Vec<u8>>,
        contents: bool,
        again: bool,
    ) -> io::Result<InventoryAnswer> {
        let question = InventoryQuestion { bases: bases.clone(), leave_out, contents, again, most: MOST };
        scan::ask(&*self.agent, &self.dir, &Question::Inventory(question))
    }

    /// Problems of an application's data in it.
    pub fn profile(&self, card: &Card, sandbox: Option<&str>, databases: bool) -> io::Result<Profile> {
        let sandbox = sandbox.filter(|_| !is_of_sandbox(card)).map(str::to_owned);
        let (card, home) = (card.raw(), self.named.clone());
        let question = ProfileQuestion { card, home, owner: self.owner, most: MOST, databases, sandbox };
        scan::ask(&*self.agent, &self.dir, &Question::Profile(question))
    }

    /// The user's base directories.
    pub fn bases(&self) -> io::Result<Bases> {
        scan::ask(&*self.agent, &self.dir, &Question::Bases(self.named.clone()))
    }

    /// The entries of one of its folders.
    pub fn entries(&self, folder: &Dir) -> io::Result<Vec<FolderEntry>> {
        scan::ask(&*self.agent, folder, &Question::Entries)
    }

    /// The contents of these small files of one of its folders, as far as they can be read.
    pub fn small_files(&self, folder: &Dir, names: Vec<Vec<u8>>) -> io::Result<Vec<Option<SmallFile>>> {
        scan::ask(&*self.agent, folder, &Question::SmallFiles(names))
    }

    /// The folder, accessed with its owner's rights.
    pub fn dir(&self) -> &Dir {
        &self.dir
    }

    /// The machine as seen from it.
    pub fn machine(&self) -> &Machine {
        &self.machine
    }
}

/// The input of changing one application's data in a home, or all of a user's files.
#[derive(Debug)]
pub struct HomeContext {
    /// The home, open.
    pub open_home: OpenHome,
    /// The change log's description of it.
    pub home: HomeOf,
    guard: HomeGuard,
}

impl HomeContext {
    /// The context of one application's data in a home.
    ///
    /// # Errors
    /// When its card cannot be used.
    pub fn new(open_home: OpenHome, app: &str, card: RawCard, bases: Bases) -> Result<Self, WorkError> {
        let guard = HomeGuard::new(
            open_home.place.clone(),
            card.clone(),
            bases.clone(),
            open_home.owner,
            MOST,
            open_home.agent.clone(),
        );
        let guard = guard.map_err(|e| WorkError::Home { user: open_home.user.clone(), source: io::Error::other(e) })?;
        let home = HomeOf {
            user: open_home.user.clone(),
            owner: open_home.owner,
            place: open_home.place.clone(),
            app: app.to_owned(),
            card: Some(card),
            bases,
        };
        Ok(Self { open_home, home, guard })
    }

    /// The context of all files of a home.
    #[must_use]
    pub fn of_all_files(open_home: OpenHome, bases: Bases) -> Self {
        let (user, owner, place) = (open_home.user.clone(), open_home.owner, open_home.place.clone());
        let guard = HomeGuard::of_whole_home(place.clone());
        let home = HomeOf { user, owner, place, app: String::new(), card: None, bases };
        Self { open_home, home, guard }
    }

    /// A context for this home, with access only to what it is about.
    pub fn context<'a>(&'a self, context: ChangeContext<'a>) -> ChangeContext<'a> {
        // Only root can clear locking attributes: not with the owner's rights.
        let machine = self.open_home.machine();
        ChangeContext { machine, protection: &self.guard, clear_immutable: false, home: Some(&self.home), ..context }
    }
}

impl System {
    /// The accounts whose homes are examined: all login users', or the one that is named.
    pub fn users_named(&self, user: Option<&str>) -> Result<Vec<&Account>, WorkError> {
        let accounts = self.machine.users().accounts();
        let Some(user) = user else { return Ok(accounts.iter().filter(|account| account.is_login()).collect()) };
        match accounts.iter().find(|account| account.name == user) {
            Some(account) => Ok(vec![account]),
            None => {
                let known = accounts.iter().filter(|a| a.is_login()).map(|a| a.name.clone()).collect();
                Err(WorkError::Unknown { what: "user", name: user.to_owned(), known, listed_by: None })
            }
        }
    }

    /// Opens homes, as [`open_homes`] does.
    pub fn open_homes(&self, accounts: &[&Account]) -> Vec<(String, io::Result<OpenHome>)> {
        open_homes(&self.machine, &self.settings, accounts)
    }

    /// Opens the home of a change.
    pub fn home_again(&self, home: &HomeOf) -> Result<HomeContext, WorkError> {
        let fail = |source| WorkError::Home { user: home.user.clone(), source };
        let accounts = self.users_named(Some(&home.user)).unwrap_or_default();
        let gone = || fail(io::Error::new(io::ErrorKind::NotFound, "no longer there"));
        let (_, open_home) = self.open_homes(&accounts).pop().ok_or_else(gone)?;
        let open_home = open_home.map_err(fail)?;
        if open_home.place != home.place {
            return Err(gone());
        }
        match &home.card {
            Some(card) => HomeContext::new(open_home, &home.app, card.clone(), home.bases.clone()),
            None => Ok(HomeContext::of_all_files(open_home, home.bases.clone())),
        }
    }

    /// An application's data in the homes of login users: homes with data, or that could not be examined.
    pub fn homes_with(&self, card: &Card, sandbox: Option<&str>) -> Vec<HomeReport> {
        let accounts = self.users_named(None).unwrap_or_default();
        let told = |(user, open_home): (String, io::Result<OpenHome>)| {
            let running = match (&open_home, self.machine.is_live()) {
                (Ok(home), true) => running_apps(&card.programs, sandbox, home.owner, &home.place),
                _ => Vec::new(),
            };
            let (parts, unsaved, left) = (Vec::new(), Vec::new(), Vec::new());
            let blank = HomeReport { user, parts, unsaved, running, left, trouble: None };
            match open_home.and_then(|home| home.app_data(card, sandbox, &Choice::default())) {
                Ok(found) => told(blank, found),
                Err(e) => HomeReport { trouble: Some(error_words(&e)), ..blank },
            }
        };
        let reports = self.open_homes(&accounts).into_iter().map(told);
        reports.filter(|home| !home.parts.is_empty() || !home.left.is_empty() || home.trouble.is_some()).collect()
    }
}

/// Opens homes, each once; without those that do not exist yet, or whose file system is not mounted.
pub fn open_homes(
    machine: &Machine,
    settings: &Settings,
    accounts: &[&Account],
) -> Vec<(String, io::Result<OpenHome>)> {
    let mut seen = HashSet::new();
    let open = |account: &&Account| {
        let named = account.home.clone()?;
        let place = machine.resolve(&named).ok()?;
        let dir = machine.dir(&place).ok()?;
        if place.is_root() || !seen.insert(place.clone()) {
            return None;
        }
        Some((account.name.clone(), open_home(machine, settings, account, named, place, dir)))
    };
    accounts.iter().filter_map(open).collect()
}

fn open_home(
    machine: &Machine,
    settings: &Settings,
    account: &Account,
    named: SystemPath,
    place: SystemPath,
    dir: Dir,
) -> io::Result<OpenHome> {
    let stat = dir.look_self()?;
    // On a machine that an ordinary user built, everything belongs to that user.
    if stat.uid != account.uid && settings.policy.owner_of_root.is_none() {
        return Err(io::Error::new(io::ErrorKind::PermissionDenied, "not owned by its user"));
    }
    let (dir, agent): (Dir, Arc<dyn HomeAgent>) = match settings.helper.is_empty() {
        true => (dir, Arc::new(Mutex::new(HomeResponder::default()))),
        false => {
            let owner = Arc::new(Owner::start(&settings.helper, (stat.uid, stat.gid), settings.stop.clone())?);
            (Dir::handed_over(owner.clone(), dir.handle()?), owner)
        }
    };
    let machine = machine.seen_from(place.clone(), dir.clone())?;
    Ok(OpenHome { user: account.name.clone(), place, owner: stat.uid, named, dir, agent, machine })
}

/// Whether a card gives the folder of a sandbox as it is in the home, rather than its contents.
fn is_of_sandbox(card: &Card) -> bool {
    card.parts().any(|(_, _, place)| place.to_string().starts_with("~/.var/app/"))
}

/// What was left out of a home, for people.
pub fn left(found: Vec<(Vec<u8>, String)>) -> Vec<HomeLeft> {
    found.into_iter().map(|(path, why)| HomeLeft { path: readable(&path), why }).collect()
}

/// Why nothing is done where there is more than can be examined.
pub fn too_many(found: &AppData) -> Option<String> {
    found.too_many.then(|| format!("more than {MOST} entries"))
}

fn told(blank: HomeReport, found: AppData) -> HomeReport {
    let trouble = too_many(&found);
    let part = |part: scan::AppDataItem| HomePart {
        class: part.class,
        what: part.what,
        files: part.tally.files,
        bytes: part.tally.bytes,
    };
    let unsaved = found.unsaved.iter().map(|path| readable(path)).collect();
    let parts = found.parts.into_iter().map(part).collect();
    HomeReport { parts, unsaved, left: left(found.left), trouble, ..blank }
}
