//! Pins on their way into `shtetl.lock`.

use crate::error::{PathFacts, Result};
use crate::pins::{self, Pins};
use crate::pipeline::App;
use std::path::PathBuf;

/// Pins that are to be written when the build begins.
pub struct NewPins {
    path: Option<PathBuf>,
    text: String,
    moved: Vec<String>,
    /// The base that was pinned before, if it was another one.
    other: Option<String>,
    first: bool,
    /// The platform, if others were pinned before and it was not.
    first_for: Option<String>,
    /// Whether nobody knows an archive of security updates.
    without_security: bool,
}

impl NewPins {
    /// The pins `new` in place of `old`; `without_security` when nobody knows an archive of security
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
            text: new.text(),
            moved: new.moved(old, platform),
            other: old.map(|pins| pins.base.clone()).filter(|base| *base != new.base),
            first: old.is_none(),
            first_for: old.filter(|old| !old.knows(platform)).map(|_| platform.to_owned()),
            without_security,
        }
    }

    /// What people should know of them.
    pub fn notes(&self) -> Vec<String> {
        let mut notes = self.pinned();
        if self.without_security {
            let lacks = "nothing says where debian-security is: the base has no security updates";
            notes.push(lacks.to_owned());
        }
        notes
    }

    fn pinned(&self) -> Vec<String> {
        let file = pins::FILE_NAME;
        vec![match (&self.path, &self.other) {
            (None, _) => format!("what is taken from outside is not pinned: this source can keep no {file}"),
            (Some(_), _) if self.first => format!("pinned in {file}, which should be committed"),
            (Some(_), Some(other)) => format!("pinned anew in {file}, which was for {other}"),
            (Some(_), None) if self.first_for.is_some() => {
                format!("pinned for {} in {file}", self.first_for.as_deref().unwrap_or_default())
            }
            (Some(_), None) if self.moved.is_empty() => format!("nothing to move in {file}"),
            (Some(_), None) => return self.moved.iter().map(|m| format!("moved in {file}: {m}")).collect(),
        }]
    }

    /// Writes the file, whole or not at all.
    pub fn write(&self) -> Result<()> {
        let Some(path) = &self.path else { return Ok(()) };
        let fresh = path.with_file_name(pins::FRESH_NAME);
        std::fs::write(&fresh, &self.text).facts(&fresh)?;
        std::fs::rename(&fresh, path).facts(path)
    }
}
