//! Which card tells what an application keeps, and all about one application.

use std::path::Path;

use super::apps::App;
use super::{Engine, WorkError};
use crate::apps::{Card, Cards, Class, cautious, cautious_sandboxed};
use crate::areas::apps::Integration;
use crate::model::error_chain;
use crate::platform::debian::rests_on;
use crate::report::{AppReport, CardOrigin, CardReport, PartReport};

/// More cards than this in a folder are not read.
const MAX_CARDS: usize = 1000;
/// A larger file is no card.
const MAX_BYTES: u64 = 48 << 10;

impl Engine {
    /// All about one application: its component, what that rests on, what keeps it from being started, and what it keeps in a
    /// home.
    ///
    /// # Errors
    /// When nothing, or more than one thing, is called so; when a card of the operator's cannot be used.
    pub fn explain_app(&self, typed: &str) -> Result<AppReport, WorkError> {
        let apps = self.apps();
        let app = super::apps::called(&apps, typed)?;
        let integration = Integration::of(&self.machine);
        let last = self.last_check();
        let on = app.component.as_ref().map(|id| rests_on(&id.name, self.database.stanzas())).unwrap_or_default();
        let (card, from) = self.card_of(app)?;
        Ok(AppReport {
            format: AppReport::FORMAT.into(),
            app: self.app_line(app, last.as_ref(), &integration),
            program: app.program().map(str::to_owned),
            rests_on: on.into_iter().collect(),
            finding: self.finding_on(app, &integration),
            homes: self.homes_with(&card, app.sandbox()),
            card: told(&card, from),
        })
    }

    /// The card of an application, and whose it is.
    pub(super) fn card_of(&self, app: &App) -> Result<(Card, CardOrigin), WorkError> {
        let id = app.entry.id.as_str();
        if let Some(folder) = &self.settings.cards
            && let Some(card) = in_folder(folder)?.of(id)
        {
            return Ok((card.clone(), CardOrigin::Operator));
        }
        if let Some(card) = Cards::shipped().of(id) {
            return Ok((card.clone(), CardOrigin::Carried));
        }
        if let Some(id) = app.sandbox() {
            return Ok((cautious_sandboxed(app.name(), id), CardOrigin::Cautious));
        }
        let component = app.component.as_ref().map(|id| id.name.as_str());
        Ok((cautious(app.name(), id, app.program(), component), CardOrigin::Cautious))
    }
}

/// The cards of a folder, in the order of their files' names: the last one goes before the others.
fn in_folder(folder: &Path) -> Result<Cards, WorkError> {
    let fault = |path: &Path, why: String| WorkError::Card { path: path.to_owned(), why };
    let mut cards = Cards::default();
    let listed = std::fs::read_dir(folder).map_err(|e| fault(folder, e.to_string()))?;
    let mut paths: Vec<_> = listed.flatten().map(|entry| entry.path()).collect();
    paths.retain(|path| path.extension().is_some_and(|end| end == "toml"));
    paths.sort();
    for path in paths.into_iter().take(MAX_CARDS) {
        let meta = std::fs::metadata(&path).map_err(|e| fault(&path, e.to_string()))?;
        if !meta.is_file() || meta.len() > MAX_BYTES {
            return Err(fault(&path, "it is no file, or larger than any card".into()));
        }
        let text = std::fs::read_to_string(&path).map_err(|e| fault(&path, e.to_string()))?;
        cards.take(&text).map_err(|e| fault(&path, error_chain(&e)))?;
    }
    Ok(cards)
}

fn told(card: &Card, from: CardOrigin) -> CardReport {
    let mut parts: Vec<PartReport> = Vec::new();
    for (class, what, pattern) in card.parts() {
        let same = |part: &&mut PartReport| part.class == class && part.what.as_deref() == what;
        match parts.iter_mut().find(same) {
            Some(part) => part.places.push(pattern.to_string()),
            None => parts.push(PartReport { class, what: what.map(str::to_owned), places: vec![pattern.to_string()] }),
        }
    }
    // What nobody touches first, then what a reset is about.
    parts.sort_by_key(|part| (part.class != Class::Own, part.class));
    CardReport { from, programs: card.programs.clone(), parts }
}
