//! Pins on their way into `shtetl.lock`.

use crate::app::App;
use config::pins::Pins;
use model::fetched::FetchedSets;
use model::files;
use model::{PathFacts, Result};
use planning::{NewHash, NewlyResolved};
use std::path::PathBuf;

/// Pins that are to be written when the build begins.
#[derive(Clone)]
pub struct NewPins {
    path: Option<PathBuf>,
    pins: Pins,
    old: Option<Pins>,
    platform: String,
    /// The base that was pinned before, if it was another one.
    other: Option<String>,
    first: bool,
    /// The platform, if others were pinned before and it was not.
    first_for: Option<String>,
    /// Whether no archive of security updates is configured.
    without_security: bool,
}

impl NewPins {
    /// The pins `new` in place of `old`; `without_security` if no archive of security
    /// updates.
    pub(super) fn new(
        app: &App,
        old: Option<&Pins>,
        new: &Pins,
        platform: &str,
        without_security: bool,
    ) -> Self {
        Self {
            path: app.opened.pins_path(),
            pins: new.clone(),
            old: old.cloned(),
            platform: platform.to_owned(),
            other: old.map(|pins| pins.base.clone()).filter(|base| *base != new.base),
            first: old.is_none(),
            first_for: old.filter(|old| !old.knows(platform)).map(|_| platform.to_owned()),
            without_security,
        }
    }

    /// The pins of `app` with these packages, on top of new pins of its base, if there are any.
    pub(crate) fn with_resolved(
        app: &App,
        of_base: Option<Self>,
        platform: &str,
        resolved: Vec<NewlyResolved>,
        hashes: Vec<NewHash>,
    ) -> Result<Option<Self>> {
        if resolved.is_empty() && hashes.is_empty() {
            return Ok(of_base);
        }
        let mut all = Self::on_top_of(app, of_base, platform)?;
        for (language, sets) in NewlyResolved::sets(resolved) {
            all.pins.resolved.entry(language).or_default().extend(sets);
        }
        for NewHash { ecosystem, package, integrity } in hashes {
            all.pins.hashes.entry(ecosystem.name().to_owned()).or_default().insert(package, integrity);
        }
        Ok(Some(all))
    }

    /// The pins of `app` with what its steps fetched just now, on top of other new pins, if there are any.
    pub(crate) fn with_fetched(
        app: &App,
        others: Option<&Self>,
        platform: &str,
        fetched: &FetchedSets,
    ) -> Result<Self> {
        let mut all = Self::on_top_of(app, others.cloned(), platform)?;
        all.pins.fetched.extend(fetched.clone());
        Ok(all)
    }

    fn on_top_of(app: &App, others: Option<Self>, platform: &str) -> Result<Self> {
        if let Some(others) = others {
            return Ok(others);
        }
        let old = Pins::read(&app.opened.config_folder())?;
        let new = Pins::without_base(old.as_ref(), app.survey.base.0.as_str());
        Ok(Self { first_for: None, ..Self::new(app, old.as_ref(), &new, platform, false) })
    }

    /// What people should know of them.
    pub fn notes(&self) -> Vec<String> {
        let mut notes = self.pinned();
        if self.without_security {
            let lacks = "no address is configured for debian-security: the base has no security updates";
            notes.push(lacks.to_owned());
        }
        notes
    }

    fn pinned(&self) -> Vec<String> {
        let file = files::PINS;
        let moved = self.pins.moved(self.old.as_ref(), &self.platform);
        vec![match (&self.path, &self.other) {
            (None, _) => format!("downloads are not pinned: this source cannot hold a {file}"),
            (Some(_), _) if self.first => format!("pinned in {file}; commit it"),
            (Some(_), Some(other)) => format!("pinned again in {file}, which was written for {other}"),
            (Some(_), None) if self.first_for.is_some() => {
                format!("pinned for {} in {file}", self.first_for.as_deref().unwrap_or_default())
            }
            (Some(_), None) if moved.is_empty() => format!("nothing to move in {file}"),
            (Some(_), None) => return moved.iter().map(|m| format!("moved in {file}: {m}")).collect(),
        }]
    }

    /// Writes the file, whole or not at all.
    pub fn write(&self) -> Result<()> {
        let Some(path) = &self.path else { return Ok(()) };
        let fresh = path.with_file_name(files::PINS_FRESH);
        std::fs::write(&fresh, self.pins.text()?).facts(&fresh)?;
        std::fs::rename(&fresh, path).facts(path)
    }
}
