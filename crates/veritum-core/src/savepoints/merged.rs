//! [`Merged`]: where packages' files really are on a system with a merged /usr.

use crate::machine::Machine;
use crate::model::SystemPath;
use crate::platform::debian::ALIASES;

/// The top-level folders that are symlinks, with what they point to.
#[derive(Debug, Clone, Default)]
pub(super) struct Merged(Vec<(&'static str, SystemPath)>);

impl Merged {
    pub(super) fn read(machine: &Machine) -> Self {
        let target = |alias: &'static str| {
            let path = SystemPath::root().child(alias.as_bytes()).ok()?;
            let real = machine.resolve(&path).ok()?;
            (real != path).then_some((alias, real))
        };
        Self(ALIASES.iter().filter_map(|alias| target(alias)).collect())
    }

    /// The real path of a listed one, as far as the top-level symlinks decide.
    pub(super) fn physical(&self, listed: SystemPath) -> SystemPath {
        let first = listed.names().next().unwrap_or_default();
        let Some((alias, target)) = self.0.iter().find(|(alias, _)| alias.as_bytes() == first) else { return listed };
        match listed.relative()[alias.len()..].strip_prefix(b"/") {
            Some(rest) => target.join(rest).unwrap_or(listed),
            // The symlink itself.
            None => listed,
        }
    }
}
