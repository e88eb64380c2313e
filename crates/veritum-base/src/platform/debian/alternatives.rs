//! update-alternatives' records (update-alternatives(1), "TERMINOLOGY"): which of several programs a name refers to.
//!
//! A record contains: `auto` or `manual`, the link; pairs of slave name and slave link until an empty line; then for each
//! choice its path, its priority and a path for each slave (empty where it has none), and an empty line at the end.

use crate::model::SystemPath;

/// Records with more slaves or choices are refused.
const MAX: usize = 10_000;

/// One record.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Alternatives {
    /// Whether the best choice is selected automatically.
    pub auto: bool,
    /// The public link: `/usr/bin/editor`.
    pub link: SystemPath,
    /// Slaves: names and public links.
    pub slaves: Vec<(String, SystemPath)>,
    /// The choices, in order.
    pub choices: Vec<Choice>,
}

/// One choice.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Choice {
    /// The path to which it points.
    pub path: SystemPath,
    /// Its priority: higher is better.
    pub priority: i64,
    /// The path of each slave, in the slaves' order.
    pub slaves: Vec<Option<SystemPath>>,
}

impl Alternatives {
    /// Parses a record.
    ///
    /// # Errors
    /// The error at which update-alternatives would stop.
    pub fn parse(bytes: &[u8]) -> Result<Self, String> {
        let text = std::str::from_utf8(bytes).map_err(|_| "not text".to_owned())?;
        if !text.ends_with('\n') {
            return Err(if text.is_empty() { "empty file" } else { "truncated in the middle of a line" }.into());
        }
        let mut lines = text.lines();
        let mut line = || lines.next().ok_or_else(|| "truncated".to_owned());
        let path = |line: &str| SystemPath::parse(line.as_bytes()).map_err(|e| format!("{line:.60}: {e}"));
        let auto = match line()? {
            "auto" => true,
            "manual" => false,
            _ => return Err("the first line is neither auto nor manual".into()),
        };
        let link = path(line()?)?;
        let mut slaves = Vec::new();
        loop {
            match line()? {
                "" => break,
                _ if slaves.len() >= MAX => return Err("too many slave links".into()),
                name => slaves.push((name.to_owned(), path(line()?)?)),
            }
        }
        let mut choices = Vec::new();
        loop {
            let first = match line() {
                Ok("") => break,
                Ok(_) if choices.len() >= MAX => return Err("too many alternatives".into()),
                other => path(other?)?,
            };
            let priority = line()?.trim().parse::<i64>().map_err(|_| "a priority is not a number".to_owned())?;
            let mut own = Vec::with_capacity(slaves.len());
            for _ in &slaves {
                let slave = line()?;
                own.push(if slave.is_empty() { None } else { Some(path(slave)?) });
            }
            choices.push(Choice { path: first, priority, slaves: own });
        }
        Ok(Self { auto, link, slaves, choices })
    }

    /// The best of the choices that match.
    #[must_use]
    pub fn best(&self, fits: &dyn Fn(&SystemPath) -> bool) -> Option<&Choice> {
        // Of equals, the first counts, as in update-alternatives.
        self.choices.iter().rev().filter(|c| fits(&c.path)).max_by_key(|c| c.priority)
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    const KNOT: &[u8] = b"auto\n/usr/bin/knot\nknot.1.gz\n/usr/share/man/man1/knot.1.gz\n\n/usr/bin/reef\n40\n/usr/share/man/man1/reef.1.gz\n/usr/bin/bowline\n60\n\n\n";

    #[test]
    fn choices_are_read_with_their_slaves() {
        let knot = Alternatives::parse(KNOT).unwrap();
        assert!(knot.auto && knot.slaves.len() == 1);
        assert_eq!((knot.choices[0].slaves[0].is_some(), knot.choices[1].slaves[0].is_some()), (true, false));
        assert_eq!(knot.best(&|_| true).unwrap().priority, 60);
        assert_eq!(knot.best(&|p| p.as_bytes() == b"/usr/bin/reef").unwrap().priority, 40);
    }

    #[test]
    fn a_cut_record_is_refused_wherever_it_is_cut() {
        for cut in 0..KNOT.len() - 1 {
            assert!(Alternatives::parse(&KNOT[..cut]).is_err(), "{cut}");
        }
    }

    proptest::proptest! {
        #[test]
        fn a_damaged_record_is_refused_or_each_choice_has_all_its_slaves(seed: u64) {
            if let Ok(knot) = Alternatives::parse(&crate::testkit::mutated(KNOT, seed)) {
                proptest::prop_assert!(knot.choices.iter().all(|choice| choice.slaves.len() == knot.slaves.len()));
            }
        }
    }
}
