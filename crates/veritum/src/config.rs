//! Settings from a file. An option takes precedence, then the variable, then the file; never read from the current folder or
//! the machine being examined.

use std::path::{Path, PathBuf};

use serde::Deserialize;

use crate::args::{Color, MinTrust};
use crate::errors::Failure;

/// The configuration file, unless `--config` names another.
const PLACE: &str = "/etc/veritum/veritum.toml";
/// Larger configuration files are refused.
const MAX: u64 = 1 << 20;

/// `veritum.toml`.
#[derive(Debug, Default, Deserialize)]
#[serde(rename_all = "kebab-case", deny_unknown_fields)]
pub(crate) struct Config {
    /// The system's root.
    pub(crate) root: Option<PathBuf>,
    /// The store.
    pub(crate) store: Option<String>,
    /// The state folder.
    pub(crate) state_dir: Option<PathBuf>,
    /// Further sources: folders, files, URLs.
    #[serde(default)]
    pub(crate) from: Vec<String>,
    /// Whether the network must not be used.
    #[serde(default)]
    pub(crate) no_network: bool,
    /// The folder of downloads.
    pub(crate) cache_dir: Option<PathBuf>,
    /// Whether every package is compared with its .deb file.
    #[serde(default)]
    pub(crate) complete: bool,
    /// The required strength of verification.
    pub(crate) min_trust: Option<MinTrust>,
    /// The number of threads.
    pub(crate) jobs: Option<usize>,
    /// When to use colours.
    pub(crate) color: Option<Color>,
    /// `UID:GID` that replaces every expected owner.
    pub(crate) owner_of_root: Option<String>,
    /// A folder that substitutes the service manager of a machine that is not running.
    pub(crate) services: Option<PathBuf>,
    /// A folder of application cards.
    pub(crate) cards: Option<PathBuf>,
    /// The folder of the configuration file.
    #[serde(skip)]
    pub(crate) folder: PathBuf,
}

impl Config {
    /// Reads the configuration file in use.
    pub(crate) fn load(named: Option<&Path>) -> Result<Self, Failure> {
        let path = named.unwrap_or(Path::new(PLACE));
        let folder = path.parent().filter(|p| !p.as_os_str().is_empty()).unwrap_or(Path::new("."));
        let fail =
            |why: String| Failure::usage(format!("cannot use the configuration file {}", path.display()), why, None);
        let text = match std::fs::metadata(path) {
            Err(e) if e.kind() == std::io::ErrorKind::NotFound && named.is_none() => {
                return Ok(Self { folder: folder.to_owned(), ..Self::default() });
            }
            Err(e) => return Err(fail(e.to_string())),
            Ok(m) if m.len() > MAX || !m.is_file() => return Err(fail("not a regular file, or too large".into())),
            Ok(_) => std::fs::read_to_string(path).map_err(|e| fail(e.to_string()))?,
        };
        let mut config: Self = toml::from_str(&text).map_err(|e| fail(e.message().to_owned()))?;
        config.folder = folder.canonicalize().map_err(|e| fail(e.to_string()))?;
        let Config { root, state_dir, cache_dir, services, cards, folder, .. } = &mut config;
        let places = [root, state_dir, cache_dir, services, cards];
        for place in places.into_iter().flatten() {
            *place = folder.join(&*place);
        }
        Ok(config)
    }

    /// Whether it is not the system's own file.
    pub(crate) fn is_own(&self) -> bool {
        Path::new(PLACE).parent() != Some(&self.folder)
    }

    /// The user and group of `owner-of-root`.
    pub(crate) fn owner_of_root(&self) -> Result<Option<(u32, u32)>, Failure> {
        let Some(text) = &self.owner_of_root else { return Ok(None) };
        let ids = text.split_once(':').and_then(|(u, g)| Some((u.parse().ok()?, g.parse().ok()?)));
        ids.map(Some).ok_or_else(|| {
            Failure::usage(
                "invalid owner-of-root in the configuration file".into(),
                format!("{text:?} is not UID:GID"),
                None,
            )
        })
    }
}
