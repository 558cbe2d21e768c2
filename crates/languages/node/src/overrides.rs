//! What an app wants in place of what packages ask for: npm's `overrides`, in all their forms.
//!
//! A rule may hold for every package, for what is asked for in a range only (`"rope@^1"`), or for what one
//! package needs and whatever that leads to (a table in place of a version, whose `.` is the package itself).

use crate::need::Need;
use crate::{MANIFEST, Manifest};
use model::error::SurveyError;
use model::npm_range::Range;
use model::{Error, Place, Result};
use serde_json::{Map, Value};

/// The rules of an app; the first stands for the app itself.
#[derive(Debug, Clone, Default)]
pub(super) struct Overrides(Vec<Rule>);

/// Which rules hold for what a package needs.
#[derive(Debug, Clone, Copy, Default, PartialEq, Eq)]
pub(super) struct Scope(usize);

#[derive(Debug, Clone, Default)]
struct Rule {
    /// The package that it is for.
    name: String,
    /// The range in which the package has to be asked for; nothing means any.
    asked: Option<String>,
    /// What is taken in its place.
    instead: Option<String>,
    /// Rules that hold for what the package leads to.
    inner: Vec<usize>,
    outer: usize,
}

impl Overrides {
    /// The rules of a manifest.
    pub(super) fn of(manifest: &Manifest) -> Result<Self> {
        for (key, table) in
            [("resolutions", &manifest.resolutions), ("overrides", &manifest.pnpm["overrides"])]
        {
            if table.as_object().is_some_and(|table| !table.is_empty()) {
                return Err(Error::Survey(SurveyError::Unsupported {
                    place: Place::new(MANIFEST, None),
                    what: format!("{key:?}, which is specific to one tool, without that tool's lockfile,"),
                    instead: "commit the lockfile, or declare them as npm's \"overrides\"",
                }));
            }
        }
        let mut rules = Self(vec![Rule::default()]);
        rules.add(Scope::default(), &manifest.overrides, manifest)?;
        let conflict = manifest.dependencies.iter().find_map(|(name, wanted)| {
            let need = Need { name: name.clone(), wanted: wanted.clone(), optional: false, peer: false };
            let instead = rules.apply(Scope::default(), &need).0.wanted;
            (instead != *wanted)
                .then(|| format!("{name} is required as {wanted:?} but overridden by {instead:?}"))
        });
        conflict.map_or(Ok(rules), |detail| Err(malformed(detail)))
    }

    fn add(&mut self, outer: Scope, table: &Map<String, Value>, manifest: &Manifest) -> Result<()> {
        for (key, value) in table.iter().filter(|(key, _)| *key != ".") {
            let (name, asked) = match key.rfind('@').filter(|at| *at > 0) {
                Some(at) => (&key[..at], Some(&key[at + 1..]).filter(|asked| !matches!(*asked, "" | "*"))),
                None => (key.as_str(), None),
            };
            let (said, inner) = match value {
                Value::String(said) => (Some(said.as_str()), None),
                Value::Object(inner) => (inner.get(".").and_then(Value::as_str), Some(inner)),
                _ => return Err(malformed(format!("the override of {key} is neither a string nor a table"))),
            };
            let instead = said.or(asked).filter(|said| !matches!(*said, "" | "*"));
            let at = self.0.len();
            self.0.push(Rule {
                name: name.to_owned(),
                asked: asked.map(str::to_owned),
                instead: instead.map(|said| meant(said, manifest)).transpose()?,
                inner: Vec::new(),
                outer: outer.0,
            });
            self.0[outer.0].inner.push(at);
            if let Some(inner) = inner {
                self.add(Scope(at), inner, manifest)?;
            }
        }
        Ok(())
    }

    /// What is needed in place of `need`, and the rules for what the package that meets it needs.
    pub(super) fn apply(&self, scope: Scope, need: &Need) -> (Need, Scope) {
        let holds = |rule: &Rule| rule.name == need.name && rule.is_meant(&need.wanted);
        match self.ruling(scope).find(|at| holds(&self.0[*at])) {
            None => (need.clone(), scope),
            Some(at) => {
                let wanted = self.0[at].instead.as_ref().unwrap_or(&need.wanted).clone();
                (Need { wanted, ..need.clone() }, Scope(at))
            }
        }
    }

    /// Whether all rules of `outer` hold in `scope`, and others with them.
    pub(super) fn is_within(&self, scope: Scope, outer: Scope) -> bool {
        scope != outer && self.outwards(scope).any(|at| at == outer.0)
    }

    /// The rules that hold in a scope, those that are nearest first; a rule holds for itself, too.
    fn ruling(&self, scope: Scope) -> impl Iterator<Item = usize> {
        self.outwards(scope).flat_map(|at| self.0[at].inner.iter().copied().chain((at > 0).then_some(at)))
    }

    /// The scope, and those around it.
    fn outwards(&self, scope: Scope) -> impl Iterator<Item = usize> {
        let further = |at: &usize| (*at > 0).then(|| self.0[*at].outer);
        std::iter::successors((!self.0.is_empty()).then_some(scope.0), further)
    }
}

impl Rule {
    /// Whether the rule is for a package that is asked for like this.
    fn is_meant(&self, wanted: &str) -> bool {
        let Some(asked) = &self.asked else { return true };
        // An alias: `npm:rope@^1`.
        let wanted = match wanted.strip_prefix("npm:") {
            Some(alias) => alias.rfind('@').filter(|at| *at > 0).map_or("*", |at| &alias[at + 1..]),
            None => wanted,
        };
        match (Range::parse(asked), Range::parse(wanted)) {
            (Some(asked), Some(wanted)) => asked.meets(&wanted),
            // Tags and places cannot be compared: the rule is taken to be meant.
            _ => true,
        }
    }
}

/// What an override says; `$name` means what the app itself asks for.
fn meant(said: &str, manifest: &Manifest) -> Result<String> {
    let Some(name) = said.strip_prefix('$') else { return Ok(said.to_owned()) };
    let tables = [&manifest.dependencies, &manifest.dev_dependencies, &manifest.optional_dependencies];
    let own = tables.into_iter().find_map(|table| table.get(name));
    own.cloned()
        .ok_or_else(|| malformed(format!("an override says {said:?}, but the app does not require {name}")))
}

fn malformed(detail: String) -> Error {
    Error::Survey(SurveyError::Malformed { place: Place::new(MANIFEST, None), detail })
}
