//! Checks the data of applications in their users' homes, each home with its owner's rights.

use std::io;

use super::{APPS, App, card_of};
use crate::apps::{Card, Class};
use crate::areas::{Cx, Examined};
use crate::event::{Event, Phase};
use crate::homes::{MOST, OpenHome, Seen, running_apps};
use crate::model::{Action, Finding, Subject, SystemPath, Verdict, error_words, quoted};
use crate::report::RunningApp;
use crate::scan::{Profile, ProfileFault};

/// One application in one home.
struct AppInHome<'a> {
    app: &'a str,
    user: &'a str,
    home: &'a SystemPath,
    runs: bool,
}

/// Checks the data of these applications in the homes of login users; returns the number of files and the running applications.
pub(super) fn profiles(cx: &Cx<'_>, apps: &[&App], examined: &mut Examined) -> (u64, Vec<Finding>) {
    let (mut looked, mut busy, mut faults) = (0, Vec::new(), Vec::new());
    // A card that cannot be used is reported if the application is named.
    let with_card = |app: &&App| Some((card_of(cx.system, app).ok()?.0, (*app).clone()));
    let apps: Vec<(Card, App)> = apps.iter().filter_map(with_card).collect();
    cx.observer.on_event(Event::Begin { phase: Phase::Homes, items: 0, bytes: 0 });
    for (user, open_home) in cx.homes.open(cx.system) {
        let each = open_home.as_ref().map_err(String::clone).and_then(|home| {
            apps.iter().try_for_each(|(card, app)| {
                let look = || profile_in(cx, home, (app, card));
                let (found, running) = cx.homes.seen(home, &app.entry.id, look).map_err(|e| error_words(&e))?;
                let here = AppInHome { app: &app.entry.id, user, home: &home.place, runs: !running.is_empty() };
                looked += found.looked;
                examined.coverage.bytes += found.bytes;
                let whose = |finding: Finding| Finding { package: app.package.clone(), ..finding };
                faults.extend(here.findings(&found).into_iter().map(whose));
                busy.extend(running.iter().map(|process| here.runs_as(process)));
                if found.too_many {
                    examined.leave_out(format!("more than {MOST} entries in {user}'s home"));
                } else if found.more > 0 {
                    let reason = format!("more problems with {} in {user}'s home", app.entry.id);
                    examined.leave_out_many(reason, found.more, None);
                }
                Ok(())
            })
        });
        if let Err(why) = each {
            examined.leave_out(format!("{user}'s home cannot be read: {why}"));
        }
    }
    cx.observer.on_event(Event::End);
    // Two applications that share a place have one finding for it.
    faults.sort_by(|a, b| a.id.cmp(&b.id));
    faults.dedup_by(|a, b| a.id == b.id);
    faults.sort_by_key(|finding| finding.verdict);
    examined.findings.extend(faults);
    (looked, busy)
}

fn profile_in(cx: &Cx<'_>, home: &OpenHome, (app, card): (&App, &Card)) -> io::Result<Seen> {
    let running = match cx.system.machine.is_live() {
        true => running_apps(&card.programs, app.sandbox(), home.owner, &home.place),
        false => Vec::new(),
    };
    let profile = home.profile(card, app.sandbox(), running.is_empty())?;
    cx.observer.on_event(Event::Advance { items: 1, bytes: profile.bytes });
    Ok((profile, running))
}

impl AppInHome<'_> {
    fn at(&self, below: &[u8]) -> Option<SystemPath> {
        if below.is_empty() { Some(self.home.clone()) } else { self.home.join(below).ok() }
    }

    /// Reports that it is running.
    fn runs_as(&self, process: &RunningApp) -> Finding {
        let since = process.since.as_deref().map_or_else(String::new, |since| format!(" since {since}"));
        let finding = Finding::on(APPS, Subject::App { name: self.app.to_owned() }, Verdict::Busy);
        let cause = format!("running for {}: process {}{since}", self.user, process.pid);
        Finding { cause: Some(cause), ..finding }
    }

    /// The command that would set a part of it aside.
    fn reset(&self, only: &str) -> Action {
        let [app, user] = [self.app, self.user].map(|word| quoted(word.as_bytes()));
        Action::command(format!("veritum reset {app} --user {user} --only {only}"))
    }

    fn findings(&self, found: &Profile) -> Vec<Finding> {
        let mut all: Vec<Finding> = found.faults.iter().filter_map(|fault| self.of_fault(fault)).collect();
        // While it runs, its locks are in use.
        if !self.runs {
            all.extend(found.locks.iter().filter_map(|lock| self.of_lock(lock)));
        }
        if let Some(free) = found.little_room {
            let finding = Finding::on_path(APPS, self.home, Verdict::DiskFull);
            let cause = format!("{free} bytes free: {} cannot save its settings", self.app);
            let action = "free some space there; no reset is needed".into();
            all.push(Finding { cause: Some(cause), action: Some(action), ..finding });
        }
        all
    }

    fn of_fault(&self, fault: &ProfileFault) -> Option<Finding> {
        let place = self.at(&fault.path)?;
        let typed = quoted(place.as_bytes());
        let user = quoted(self.user.as_bytes());
        let action = match (fault.verdict, fault.class, fault.needs) {
            (Verdict::WrongPermissions, _, Some(mode)) => Action::command(format!("chmod {mode:04o} {typed}")),
            (Verdict::WrongOwner, ..) => Action::command(format!("chown --no-dereference {user}: {typed}")),
            (Verdict::Unreadable, ..) => "back up the users' files first, then test the disk".into(),
            (_, Class::Own, _) => {
                format!("{}'s own data: copy it elsewhere first, then open it in the application", self.user).into()
            }
            _ => self.reset("settings"),
        };
        let finding = Finding::on_path(APPS, &place, fault.verdict);
        let cause = format!("{} ({}): {}", fault.class.word(), self.app, fault.why);
        Some(Finding { cause: Some(cause), action: Some(action), ..finding })
    }

    fn of_lock(&self, below: &[u8]) -> Option<Finding> {
        let finding = Finding::on_path(APPS, &self.at(below)?, Verdict::StaleLock);
        let cause = format!("a leftover lock: {} is not running for {}", self.app, self.user);
        Some(Finding { cause: Some(cause), action: Some(self.reset("locks")), ..finding })
    }
}
