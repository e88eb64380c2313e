//! The homes of those who log in, each looked into with its owner's rights.

use std::io;

use super::Workshop;
use crate::apps::Card;
use crate::model::{SystemPath, readable};
use crate::platform::as_owner;
use crate::report::{HomeLeft, HomePart, HomeReport};
use crate::scan::{self, Belongings, HomeQuestion};
use crate::target::{Account, Dir};

/// More names than this in one home are not looked at.
const MOST: u64 = 2_000_000;

impl Workshop {
    /// What an application keeps in the homes of those who log in: those where there is something, or that could not be looked
    /// into.
    pub(super) fn homes_with(&self, card: &Card) -> Vec<HomeReport> {
        let logins = self.machine.users().accounts().iter().filter(|account| account.is_login());
        let reports = logins.filter_map(|account| self.home_with(account, card));
        reports.filter(|home| !home.parts.is_empty() || !home.left.is_empty() || home.trouble.is_some()).collect()
    }

    fn home_with(&self, account: &Account, card: &Card) -> Option<HomeReport> {
        let blank = HomeReport { user: account.name.clone(), parts: Vec::new(), left: Vec::new(), trouble: None };
        // Nobody has made it yet, or its file system is not mounted: nothing is in it.
        let dir = account.home.as_ref().and_then(|home| self.machine.resolve(home).ok());
        let dir = dir.and_then(|real| self.machine.dir(&real).ok())?;
        Some(match self.look_into(&dir, account, card) {
            Ok(found) => told(blank, found),
            Err(e) => HomeReport { trouble: Some(crate::model::error_words(&e)), ..blank },
        })
    }

    fn look_into(&self, dir: &Dir, account: &Account, card: &Card) -> io::Result<Belongings> {
        let stat = dir.look_self()?;
        // On a machine that an ordinary user built everything is that user's.
        if stat.uid != account.uid && self.settings.policy.owner_of_root.is_none() {
            return Err(io::Error::new(io::ErrorKind::PermissionDenied, "it does not belong to its user"));
        }
        let home = account.home.clone().unwrap_or_else(SystemPath::root);
        let question = HomeQuestion { card: card.raw(), home, owner: stat.uid, most: MOST };
        let question = serde_json::to_string(&question)?;
        let answer = match self.settings.helper.is_empty() {
            true => scan::answer(dir, &question).map_err(|e| io::Error::other(e.to_string()))?.into_bytes(),
            false => as_owner::ask(&self.settings.helper, (stat.uid, stat.gid), dir.handle()?, &question)?,
        };
        Ok(serde_json::from_slice(&answer)?)
    }
}

fn told(blank: HomeReport, found: Belongings) -> HomeReport {
    let part = |part: scan::Belonging| HomePart {
        class: part.class,
        what: part.what,
        files: part.tally.files,
        bytes: part.tally.bytes,
    };
    let left = |(path, why): (Vec<u8>, String)| HomeLeft { path: readable(&path), why };
    let trouble = found.too_many.then(|| format!("there are more than {MOST} names in it"));
    HomeReport {
        parts: found.parts.into_iter().map(part).collect(),
        left: found.left.into_iter().map(left).collect(),
        trouble,
        ..blank
    }
}
