//! [`HomeGuard`]: in a home, only one application's data may be moved; where a user's rescued files are restored, anything but
//! what was set aside.

use std::io;
use std::sync::Arc;

use super::question::{HomeAgent, Question, WholeQuestion, ask};
use crate::apps::{ASIDE, Bases, Card, CardError, Class, RawCard};
use crate::machine::{Dir, ProtectionPolicy};
use crate::model::SystemPath;

const OWN: &str = "user data";
const OWN_INSIDE: &str = "contains user data";

/// Protects a whole machine except one application's data in one user's home, or except one home, whatever was planned.
#[derive(Debug)]
pub struct HomeGuard {
    home: SystemPath,
    /// The application; `None` for all of the home.
    app: Option<OneApp>,
}

#[derive(Debug)]
struct OneApp {
    card: Card,
    raw: RawCard,
    bases: Bases,
    owner: u32,
    most: u64,
    agent: Arc<dyn HomeAgent>,
}

impl HomeGuard {
    /// Protects everything except the application's data in this home, by its card; `owner` is the user's id. Folders with more
    /// than `most` names are protected.
    ///
    /// # Errors
    /// When the card is invalid.
    pub fn new(
        home: SystemPath,
        raw: RawCard,
        bases: Bases,
        owner: u32,
        most: u64,
        agent: Arc<dyn HomeAgent>,
    ) -> Result<Self, CardError> {
        let app = OneApp { card: Card::of_raw(raw.clone())?, raw, bases, owner, most, agent };
        Ok(Self { home, app: Some(app) })
    }

    /// Protects everything except this home, and there what was set aside.
    #[must_use]
    pub fn of_whole_home(home: SystemPath) -> Self {
        Self { home, app: None }
    }
}

impl ProtectionPolicy for HomeGuard {
    fn reason(&self, physical: &SystemPath) -> Option<String> {
        let Some(below) = physical.below(&self.home).filter(|below| !below.is_empty()) else {
            return Some("outside the user's home".into());
        };
        let Some(app) = &self.app else {
            let top = below.split(|byte| *byte == b'/').next();
            return (top == Some(ASIDE.as_bytes())).then(|| "set aside earlier".into());
        };
        match app.card.class_of(&app.bases, below) {
            None | Some((Class::Own, _)) => Some(OWN.into()),
            Some(_) => None,
        }
    }

    /// Everything below is judged by what is on the disk.
    fn guards_below(&self, _: &SystemPath) -> bool {
        false
    }

    fn reason_at(&self, physical: &SystemPath, dir: &Dir, name: &[u8]) -> io::Result<Option<String>> {
        if let Some(why) = self.reason(physical) {
            return Ok(Some(why));
        }
        let Some(app) = &self.app else { return Ok(None) };
        let question = WholeQuestion {
            card: app.raw.clone(),
            bases: app.bases.clone(),
            owner: app.owner,
            most: app.most,
            path: physical.below(&self.home).unwrap_or_default().to_vec(),
            name: name.to_vec(),
        };
        let whole: bool = ask(&*app.agent, dir, &Question::Whole(question))?;
        Ok((!whole).then(|| OWN_INSIDE.to_owned()))
    }
}

#[cfg(test)]
mod tests {
    use std::fs;
    use std::sync::Mutex;

    use super::super::question::HomeResponder;
    use super::*;
    use crate::apps::example::QUAY;
    use crate::machine::{LiveDisk, Machine};

    #[test]
    fn all_of_a_home_may_be_written_but_not_what_was_set_aside() {
        let guard = HomeGuard::of_whole_home(SystemPath::literal("/home/mirela"));
        assert_eq!(guard.reason(&SystemPath::literal("/home/mirela/letters/a.odt")), None);
        for path in ["/home/mirela", "/home/mirela2/a", "/etc/passwd", "/home/mirela/.veritum-set-aside/1/a"] {
            assert!(guard.reason(&SystemPath::literal(path)).is_some(), "{path}");
        }
    }

    #[test]
    fn only_what_is_the_applications_with_all_that_is_in_it_may_be_moved() {
        let root = tempfile::tempdir().unwrap();
        let home = root.path().join("home/mirela");
        for (path, text) in [(".config/quay/rc", "1"), (".quay/a/look/x", "2"), (".quay/a/mail/inbox", "own")] {
            fs::create_dir_all(home.join(path).parent().unwrap()).unwrap();
            fs::write(home.join(path), text).unwrap();
        }
        let machine = Machine::open(root.path(), Arc::new(LiveDisk)).unwrap();
        let place = SystemPath::literal("/home/mirela");
        let owner = machine.look(&place).unwrap().unwrap().uid;
        let agent = Arc::new(Mutex::new(HomeResponder::default()));
        let raw = Card::parse(QUAY).unwrap().raw();
        let guard = HomeGuard::new(place, raw, Bases::default(), owner, 100, agent).unwrap();
        let reason = |path: &'static str| {
            let path = SystemPath::literal(path);
            let dir = machine.dir(&path.parent().unwrap()).unwrap();
            guard.reason_at(&path, &dir, path.name()).unwrap()
        };
        assert_eq!(reason("/home/mirela/.config/quay"), None);
        assert_eq!(reason("/home/mirela/.quay/a/look"), None);
        for (path, why) in [
            ("/home/mirela/.quay/a/mail", OWN),
            ("/home/mirela/.quay/a/mail/inbox", OWN),
            ("/home/mirela/.config", OWN),
            ("/home/mirela", "outside the user's home"),
            ("/home", "outside the user's home"),
        ] {
            assert_eq!(reason(path).as_deref(), Some(why), "{path}");
        }
        fs::write(home.join(".quay/a/look/letter.odt"), "own").unwrap();
        assert_eq!(reason("/home/mirela/.quay/a/look").as_deref(), Some(OWN_INSIDE));
    }
}
