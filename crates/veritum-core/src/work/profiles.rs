//! What is wrong with what applications keep in their users' homes, each home looked into with its owner's rights.

use std::io;

use super::Engine;
use super::apps::App;
use super::homes::{MOST, OpenHome};
use super::running::running_apps;
use crate::apps::{Card, Class};
use crate::model::{Area, Finding, Subject, SystemPath, Verdict, error_words, quoted};
use crate::report::UnexaminedReport;
use crate::scan::{Profile, ProfileFault};

/// What came of a look at the profiles of some applications.
#[derive(Default)]
pub(super) struct Profiles {
    pub(super) findings: Vec<Finding>,
    pub(super) notes: Vec<Finding>,
    pub(super) unexamined: Vec<UnexaminedReport>,
    /// How many things were looked at.
    pub(super) looked: u64,
    pub(super) bytes: u64,
}

/// One application in one home.
struct Looked<'a> {
    app: &'a str,
    user: &'a str,
    home: &'a SystemPath,
    runs: bool,
}

impl Engine {
    /// Looks at what these applications keep in the homes of those who log in.
    pub(super) fn profiles<'a>(&self, apps: &[&'a App]) -> Profiles {
        let mut all = Profiles::default();
        // A card that cannot be used is told where one application is named.
        let with_card = |app: &&'a App| Some((*app, self.card_of(app).ok()?.0));
        let apps: Vec<(&App, Card)> = apps.iter().filter_map(with_card).collect();
        let accounts = self.users_named(None).unwrap_or_default();
        for (user, open_home) in self.open_homes(&accounts) {
            let looked = open_home.and_then(|home| {
                let mut each = apps.iter();
                each.try_for_each(|(app, card)| self.profile_in(&home, &user, (app, card), &mut all)).map(|()| home)
            });
            if let Err(e) = looked {
                let reason = format!("the home of {user} cannot be looked into: {}", error_words(&e));
                all.unexamined.push(UnexaminedReport { area: Area::Apps, reason, count: 1, example: None });
            }
        }
        // Two applications that share a place have one finding there.
        all.findings.sort_by(|a, b| a.id.cmp(&b.id));
        all.findings.dedup_by(|a, b| a.id == b.id);
        all.findings.sort_by_key(|finding| finding.verdict);
        all
    }

    fn profile_in(
        &self,
        home: &OpenHome,
        user: &str,
        (app, card): (&App, &Card),
        all: &mut Profiles,
    ) -> io::Result<()> {
        let running = match self.machine.is_live() {
            true => running_apps(&card.programs, app.sandbox(), home.owner, &home.place),
            false => Vec::new(),
        };
        let found = home.profile(card, app.sandbox(), running.is_empty())?;
        let looked = Looked { app: &app.entry.id, user, home: &home.place, runs: !running.is_empty() };
        all.looked += found.looked;
        all.bytes += found.bytes;
        let whose = |finding: Finding| Finding { component: app.component.clone(), ..finding };
        all.findings.extend(looked.findings(&found).into_iter().map(whose));
        for process in &running {
            let since = process.since.as_deref().map_or_else(String::new, |since| format!(" since {since}"));
            let finding = Finding::on(Area::Apps, Subject::App { name: app.entry.id.clone() }, Verdict::Busy);
            let cause = format!("it runs for {user}: process {}{since}", process.pid);
            all.notes.push(Finding { cause: Some(cause), ..finding });
        }
        if found.too_many || found.more > 0 {
            let reason = match found.too_many {
                true => format!("there are more than {MOST} names in the home of {user}"),
                false => format!("more faults of {} in the home of {user}", app.entry.id),
            };
            all.unexamined.push(UnexaminedReport { area: Area::Apps, reason, count: found.more.max(1), example: None });
        }
        Ok(())
    }
}

impl Looked<'_> {
    fn at(&self, below: &[u8]) -> Option<SystemPath> {
        if below.is_empty() { Some(self.home.clone()) } else { self.home.join(below).ok() }
    }

    /// What would set a part of it aside.
    fn reset(&self, only: &str) -> String {
        let [app, user] = [self.app, self.user].map(|word| quoted(word.as_bytes()));
        format!("veritum reset {app} --user {user} --only {only}")
    }

    fn findings(&self, found: &Profile) -> Vec<Finding> {
        let mut all: Vec<Finding> = found.faults.iter().filter_map(|fault| self.of_fault(fault)).collect();
        // While it runs its locks are its own.
        if !self.runs {
            all.extend(found.locks.iter().filter_map(|lock| self.of_lock(lock)));
        }
        if let Some(free) = found.little_room {
            let finding = Finding::on_path(Area::Apps, self.home, Verdict::NoRoom);
            let cause = format!("{free} bytes are free there: {} cannot write its settings", self.app);
            let advice = "make room there; nothing needs to be reset".to_owned();
            all.push(Finding { cause: Some(cause), advice: Some(advice), ..finding });
        }
        all
    }

    fn of_fault(&self, fault: &ProfileFault) -> Option<Finding> {
        let place = self.at(&fault.path)?;
        let typed = quoted(place.as_bytes());
        let user = quoted(self.user.as_bytes());
        let advice = match (fault.verdict, fault.class, fault.needs) {
            (Verdict::WrongMode, _, Some(mode)) => format!("chmod {mode:04o} {typed}"),
            (Verdict::WrongMode, _, None) => format!("chown --no-dereference {user}: {typed}"),
            (Verdict::Unreadable, ..) => "the disk gives errors there: users' files to safety first".into(),
            (_, Class::Own, _) => {
                format!("it is {}'s own: copy it elsewhere first, then let the application mend it", self.user)
            }
            _ => self.reset("settings"),
        };
        let finding = Finding::on_path(Area::Apps, &place, fault.verdict);
        let cause = format!("{} of {}: {}", fault.class.word(), self.app, fault.why);
        Some(Finding { cause: Some(cause), advice: Some(advice), ..finding })
    }

    fn of_lock(&self, below: &[u8]) -> Option<Finding> {
        let finding = Finding::on_path(Area::Apps, &self.at(below)?, Verdict::Abandoned);
        let cause = format!("it says that {} runs for {}, and that does not", self.app, self.user);
        Some(Finding { cause: Some(cause), advice: Some(self.reset("locks")), ..finding })
    }
}
