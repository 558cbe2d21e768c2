//! Packages that no file of the source locks: resolved once, and pinned in `shtetl.lock` from then on.

use config::pins::{ResolvedPackage, ResolvedSet, ResolvedSets};
use content::store::Store;
use model::error::PinError;
use model::{Error, Result};
use remote::Fetcher;

/// How the pins in `shtetl.lock` are treated.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Pinning {
    /// They hold; what is missing is pinned anew.
    Keep,
    /// They hold, and nothing may be missing.
    Locked,
    /// They are moved to what is newest.
    Update,
}

/// What resolving has to go by.
pub struct Resolving<'a> {
    /// What was resolved before.
    pub known: ResolvedSets,
    /// What was resolved just now, for this build.
    pub just: ResolvedSets,
    /// How it is treated.
    pub pinning: Pinning,
    /// With what to ask; nothing while nobody may be asked.
    pub asking: Option<&'a Fetcher>,
    /// Where what was learned is kept.
    pub store: &'a Store,
}

/// A set that was resolved just now, to be pinned.
pub struct NewlyResolved {
    /// The language.
    pub language: &'static str,
    /// What it is for, as the language names it.
    pub target: String,
    /// The packages.
    pub set: ResolvedSet,
}

impl NewlyResolved {
    /// Several of them by language and target.
    pub fn sets(all: Vec<Self>) -> ResolvedSets {
        let mut sets = ResolvedSets::new();
        for Self { language, target, set } in all {
            sets.entry(language.to_owned()).or_default().insert(target, set);
        }
        sets
    }
}

impl Resolving<'_> {
    /// The packages for what is `asked` (a text that stands for it): as they are pinned, or as `resolve`
    /// resolves them, which is given those that were pinned for something else. Nothing when nobody may be
    /// asked.
    pub fn packages(
        &self,
        (language, target): (&'static str, &str),
        asked: &str,
        resolve: impl FnOnce((&Fetcher, &Store), &[ResolvedPackage]) -> Result<Vec<ResolvedPackage>>,
    ) -> Result<Option<(Vec<ResolvedPackage>, Option<NewlyResolved>)>> {
        let of = |set: &ResolvedSet| NewlyResolved { language, target: target.to_owned(), set: set.clone() };
        let just = self.just.get(language).and_then(|sets| sets.get(target));
        if let Some(set) = just.filter(|set| set.asked == asked) {
            return Ok(Some((set.packages.clone(), Some(of(set)))));
        }
        let known = self.known.get(language).and_then(|sets| sets.get(target));
        let pinned = known.filter(|set| set.asked == asked && self.pinning != Pinning::Update);
        if let Some(set) = pinned {
            return Ok(Some((set.packages.clone(), None)));
        }
        let Some(asking) = self.asking else {
            // What is pinned will do to foresee a build that moves the pins.
            let same = known.filter(|set| set.asked == asked);
            return Ok(same.map(|set| (set.packages.clone(), None)));
        };
        if self.pinning == Pinning::Locked {
            let base = format!("what the app needs of {language}");
            return Err(Error::Pins(PinError::Missing { base, file_is_there: known.is_some() }));
        }
        let before = known.filter(|_| self.pinning != Pinning::Update).map_or(&[][..], |set| &set.packages);
        let packages = resolve((asking, self.store), before)?;
        let set = ResolvedSet { asked: asked.to_owned(), packages: packages.clone() };
        Ok(Some((packages, Some(of(&set)))))
    }
}

/// The note that tells of it.
pub fn advice(manifest: &str, lockfile: &str) -> String {
    format!(
        "{manifest} locks no versions: they were resolved, and are kept in {}; other tools need {lockfile}",
        model::files::PINS
    )
}
