//! Packages that no file of the source locks: resolved once, and pinned in `shtetl.lock` from then on.

use crate::NewHash;
use config::pins::{KnownHashes, ResolvedPackage, ResolvedSet, ResolvedSets};
use content::store::Store;
use model::error::{PinError, SurveyError};
use model::{Ecosystem, Error, Place, Result, files};
use remote::{Fetcher, Integrity};

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
    /// The hashes that were pinned for packages that nothing locks a hash of.
    pub hashes: KnownHashes,
    /// How it is treated.
    pub pinning: Pinning,
    /// With what to ask; nothing while nobody may be asked.
    pub asking: Option<&'a Fetcher>,
    /// Where what was learned is kept.
    pub store: &'a Store,
}

/// What packages are resolved for; its text is a key in `shtetl.lock`.
#[derive(Debug, Clone, Copy)]
pub struct ResolveTarget<'a> {
    /// The language.
    pub language: &'static str,
    /// The purpose: an id, as the language names it.
    pub purpose: &'a str,
}

/// A set that was resolved just now, to be pinned.
#[derive(Debug, Clone)]
pub struct NewlyResolved {
    /// The language.
    pub language: &'static str,
    /// What it is for, as the language names it.
    pub purpose: String,
    /// The packages.
    pub set: ResolvedSet,
}

impl NewlyResolved {
    /// Several of them by language and purpose.
    pub fn sets(all: Vec<Self>) -> ResolvedSets {
        let mut sets = ResolvedSets::new();
        for Self { language, purpose, set } in all {
            sets.entry(language.to_owned()).or_default().insert(purpose, set);
        }
        sets
    }
}

/// Packages as they are pinned, and what of it is new.
pub type Settled = (Vec<ResolvedPackage>, Option<NewlyResolved>);

impl Resolving<'_> {
    /// The packages for what is `asked` (a text that stands for it): as they are pinned, or as `resolve`
    /// resolves them, which is given those that were pinned for something else. Nothing when nobody may be
    /// asked.
    pub fn packages(
        &self,
        target: ResolveTarget<'_>,
        asked: &str,
        resolve: impl FnOnce((&Fetcher, &Store), &[ResolvedPackage]) -> Result<Vec<ResolvedPackage>>,
    ) -> Result<Option<Settled>> {
        let ResolveTarget { language, purpose } = target;
        let known = self.known.get(language).and_then(|sets| sets.get(purpose));
        let pinned = known.filter(|set| set.asked == asked && self.pinning != Pinning::Update);
        if let Some(set) = pinned {
            return Ok(Some((set.packages.clone(), None)));
        }
        let Some(asking) = self.asking else {
            // What is pinned will do to plan offline a build that moves the pins.
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
        Ok(Some((packages, Some(NewlyResolved { language, purpose: purpose.to_owned(), set }))))
    }

    /// The hash of a package's file that nothing locks: the pinned one, or that of what `fetch` gets now. Nothing
    /// when nobody may be asked.
    pub fn hash(
        &self,
        ecosystem: Ecosystem,
        package: &str,
        fetch: impl FnOnce((&Fetcher, &Store)) -> Result<Integrity>,
    ) -> Result<Option<(Integrity, Option<NewHash>)>> {
        let known = self.hashes.get(ecosystem.name()).and_then(|of| of.get(package));
        if let Some(known) = known.filter(|_| self.pinning != Pinning::Update || self.asking.is_none()) {
            let read = Integrity::any_of([known.as_str()].into_iter());
            let malformed = || SurveyError::Malformed {
                place: Place::new(files::PINS, None),
                detail: format!("the hash of {package} is {known:?}"),
            };
            return Ok(Some((read.ok_or_else(malformed)?, None)));
        }
        let Some(asking) = self.asking else { return Ok(None) };
        if self.pinning == Pinning::Locked {
            let base = format!("the hash of {package}");
            return Err(Error::Pins(PinError::Missing { base, file_is_there: !self.hashes.is_empty() }));
        }
        let integrity = fetch((asking, self.store))?;
        let new = NewHash { ecosystem, package: package.to_owned(), integrity: integrity.canonical() };
        Ok(Some((integrity, Some(new))))
    }
}

/// The note that tells of it.
pub fn advice(manifest: &str, lockfile: &str) -> String {
    format!(
        "{manifest} locks no versions: they were resolved, and are kept in {}; other tools need {lockfile}",
        files::PINS
    )
}
