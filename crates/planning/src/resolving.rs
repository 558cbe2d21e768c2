//! Packages that no file of the source locks: resolved once, and pinned in `shtetl.lock` from then on.

use crate::NewHash;
use config::pins::{KnownHashes, ResolvedPackage, ResolvedSet, ResolvedSets};
use content::store::Store;
use engine::Fetches;
use gateway::Source;
use model::error::{PinError, SurveyError};
use model::fetched::FetchedSets;
use model::{Ecosystem, Error, Place, Result, files};
use remote::{Downloads, Fetcher, Integrity};

/// How the pins in `shtetl.lock` are treated.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Pinning {
    /// They hold; what is missing is pinned.
    Keep,
    /// They hold, and nothing may be missing.
    Locked,
    /// They are moved to the newest versions.
    Update,
}

/// What resolving has to go by.
pub struct Resolving<'a> {
    /// What was resolved before.
    pub known: ResolvedSets,
    /// The hashes that were pinned for packages that nothing locks a hash of.
    pub hashes: KnownHashes,
    /// What the programs of steps fetched before.
    pub fetched: FetchedSets,
    /// What they fetched just now, which holds.
    pub recorded: FetchedSets,
    /// How it is treated.
    pub pinning: Pinning,
    /// The fetcher; `None` without network access.
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
    /// The fetcher; `None` without network access.
    pub fn downloads(&self) -> Option<Downloads<'_>> {
        self.asking.map(|fetcher| Downloads { fetcher, store: self.store })
    }

    /// The packages for what is `asked` (a text that stands for it): as they are pinned, or as `resolve`
    /// resolves them, which is given those that were pinned for something else. `None` without network access;
    /// asked.
    pub fn packages(
        &self,
        target: ResolveTarget<'_>,
        asked: &str,
        resolve: impl FnOnce(Downloads<'_>, &[ResolvedPackage]) -> Result<Vec<ResolvedPackage>>,
    ) -> Result<Option<Settled>> {
        let ResolveTarget { language, purpose } = target;
        let known = self.known.get(language).and_then(|sets| sets.get(purpose));
        let pinned = known.filter(|set| set.asked == asked && self.pinning != Pinning::Update);
        if let Some(set) = pinned {
            return Ok(Some((set.packages.clone(), None)));
        }
        let Some(downloads) = self.downloads() else {
            // What is pinned will do to plan offline a build that moves the pins.
            let same = known.filter(|set| set.asked == asked);
            return Ok(same.map(|set| (set.packages.clone(), None)));
        };
        if self.pinning == Pinning::Locked {
            let base = format!("the app's {language} packages");
            return Err(Error::Pins(PinError::Missing { base, file_is_there: known.is_some() }));
        }
        let before = known.filter(|_| self.pinning != Pinning::Update).map_or(&[][..], |set| &set.packages);
        let packages = resolve(downloads, before)?;
        let set = ResolvedSet { asked: asked.to_owned(), packages: packages.clone() };
        Ok(Some((packages, Some(NewlyResolved { language, purpose: purpose.to_owned(), set }))))
    }

    /// What the programs of a step may fetch from these sources: what is pinned for what is `asked`, or whatever they
    /// ask for, which is recorded; of that, what was pinned for something else stays as it was.
    pub fn fetches(&self, step: &str, asked: String, sources: Vec<Source>) -> Result<Fetches> {
        if let Some(set) = self.recorded.get(step).filter(|set| set.asked == asked) {
            return Ok(Fetches { sources, asked, pinned: set.answers.clone(), records: false });
        }
        let known = self.fetched.get(step);
        let moves = self.pinning == Pinning::Update && self.asking.is_some();
        let pinned = known.filter(|_| !moves).map(|set| set.answers.clone()).unwrap_or_default();
        let records = moves || known.is_none_or(|set| set.asked != asked);
        if records && self.pinning == Pinning::Locked {
            let base = format!("what {step:?} fetches");
            return Err(Error::Pins(PinError::Missing { base, file_is_there: known.is_some() }));
        }
        Ok(Fetches { sources, asked, pinned, records })
    }

    /// The hash of a package's file that nothing locks: the pinned one, or that of what `fetch` gets now. Nothing
    /// when nobody may be asked.
    pub fn hash(
        &self,
        ecosystem: Ecosystem,
        package: &str,
        fetch: impl FnOnce(Downloads<'_>) -> Result<Integrity>,
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
        let Some(downloads) = self.downloads() else { return Ok(None) };
        if self.pinning == Pinning::Locked {
            let base = format!("the hash of {package}");
            return Err(Error::Pins(PinError::Missing { base, file_is_there: !self.hashes.is_empty() }));
        }
        let integrity = fetch(downloads)?;
        let new = NewHash { ecosystem, package: package.to_owned(), integrity: integrity.canonical() };
        Ok(Some((integrity, Some(new))))
    }
}

/// The note about packages that were resolved since no lockfile names them.
pub fn advice(manifest: &str, lockfile: &str) -> String {
    format!(
        "{manifest} does not lock versions; the resolved ones are kept in {}; other tools need {lockfile}",
        files::PINS
    )
}

#[cfg(test)]
mod tests {
    use super::*;
    use model::fetched::{FetchedAnswer, FetchedSet};
    use remote::Network;
    use std::collections::BTreeMap;

    /// A store with a fetcher that never uses the network.
    struct World {
        _folder: tempfile::TempDir,
        store: Store,
        fetcher: Fetcher,
    }

    impl World {
        fn new() -> Self {
            let folder = tempfile::tempdir().unwrap();
            let store = Store::open(&folder.path().join("store")).unwrap();
            Self { _folder: folder, store, fetcher: Fetcher::new(Network::Forbidden) }
        }

        /// With the packages of `asked` pinned in this version, and with this hash of `buoy 1.0`.
        fn resolving(
            &self,
            pinning: Pinning,
            pinned: Option<(&str, &str)>,
            hash: Option<&str>,
        ) -> Resolving<'_> {
            let of = |(asked, version): (&str, &str)| {
                let set = ResolvedSet { asked: asked.to_owned(), packages: vec![buoy(version)] };
                BTreeMap::from([("app".to_owned(), set)])
            };
            let hashes = hash.map(|hash| {
                let of_kind = BTreeMap::from([("buoy 1.0".to_owned(), hash.to_owned())]);
                ("npm".to_owned(), of_kind)
            });
            Resolving {
                known: pinned.map(|set| ("swell".to_owned(), of(set))).into_iter().collect(),
                hashes: hashes.into_iter().collect(),
                fetched: FetchedSets::new(),
                recorded: FetchedSets::new(),
                pinning,
                asking: Some(&self.fetcher),
                store: &self.store,
            }
        }
    }

    fn buoy(version: &str) -> ResolvedPackage {
        ResolvedPackage { name: "buoy".to_owned(), version: version.to_owned(), ..ResolvedPackage::default() }
    }

    /// The version that is settled for `needs buoy`, whether it is new, and what was pinned for something else;
    /// newest is 2.
    fn settled(resolving: &Resolving<'_>) -> Result<Option<(String, bool, usize)>> {
        let target = ResolveTarget { language: "swell", purpose: "app" };
        let mut before = 0;
        let settled = resolving.packages(target, "needs buoy", |_, known| {
            before = known.len();
            Ok(vec![buoy("2")])
        })?;
        Ok(settled.map(|(packages, new)| (packages[0].version.clone(), new.is_some(), before)))
    }

    #[test]
    fn pins_hold_until_something_else_is_asked_for_or_they_are_moved() {
        let world = World::new();
        let same = Some(("needs buoy", "1"));
        let other = Some(("needs rope", "1"));
        let of = |pinning, pinned| settled(&world.resolving(pinning, pinned, None));
        assert_eq!(of(Pinning::Keep, same).unwrap(), Some(("1".to_owned(), false, 0)));
        assert_eq!(of(Pinning::Locked, same).unwrap(), Some(("1".to_owned(), false, 0)));
        assert_eq!(of(Pinning::Update, same).unwrap(), Some(("2".to_owned(), true, 0)));
        // What is asked for changed: the old versions are offered to the resolver.
        assert_eq!(of(Pinning::Keep, other).unwrap(), Some(("2".to_owned(), true, 1)));
        assert_eq!(of(Pinning::Keep, None).unwrap(), Some(("2".to_owned(), true, 0)));
        for pinned in [other, None] {
            assert!(matches!(of(Pinning::Locked, pinned), Err(Error::Pins(PinError::Missing { .. }))));
        }
    }

    #[test]
    fn where_nobody_may_be_asked_only_pins_count() {
        let world = World::new();
        let offline = |pinning, pinned| {
            settled(&Resolving { asking: None, ..world.resolving(pinning, pinned, None) }).unwrap()
        };
        let same = Some(("needs buoy", "1"));
        assert_eq!(offline(Pinning::Keep, same), Some(("1".to_owned(), false, 0)));
        assert_eq!(offline(Pinning::Update, same), Some(("1".to_owned(), false, 0)));
        assert_eq!(offline(Pinning::Keep, Some(("needs rope", "1"))), None);
        assert_eq!(offline(Pinning::Locked, None), None);
    }

    #[test]
    fn what_steps_fetch_is_recorded_until_it_is_pinned_for_what_is_asked() {
        let world = World::new();
        let set = |path: &str| {
            let answer = FetchedAnswer { path: path.to_owned(), ..FetchedAnswer::default() };
            FetchedSets::from([(
                "moulds".to_owned(),
                FetchedSet { asked: "one".to_owned(), answers: vec![answer] },
            )])
        };
        let of = |pinning, asked: &str, recorded: FetchedSets| {
            let resolving =
                Resolving { fetched: set("old"), recorded, ..world.resolving(pinning, None, None) };
            let fetches = resolving.fetches("moulds", asked.to_owned(), Vec::new())?;
            let paths: Vec<_> = fetches.pinned.into_iter().map(|answer| answer.path).collect();
            Ok((paths.concat(), fetches.records))
        };
        let none = FetchedSets::new;
        let old = |records| ("old".to_owned(), records);
        assert_eq!(of(Pinning::Keep, "one", none()).unwrap(), old(false));
        assert_eq!(of(Pinning::Keep, "two", none()).unwrap(), old(true));
        assert_eq!(of(Pinning::Update, "one", none()).unwrap(), (String::new(), true));
        assert_eq!(of(Pinning::Update, "one", set("new")).unwrap(), ("new".to_owned(), false));
        let missing: Result<_> = of(Pinning::Locked, "two", none());
        assert!(matches!(missing, Err(Error::Pins(PinError::Missing { .. }))));
    }

    #[test]
    fn a_pinned_hash_holds_and_one_that_is_none_is_an_error() {
        let world = World::new();
        let [old, new] = ["ab".repeat(32), "cd".repeat(32)].map(|hex| format!("sha256:{hex}"));
        let of = |pinning, pinned: Option<&str>| {
            let resolving = world.resolving(pinning, None, pinned);
            let fetched = Integrity::any_of([new.as_str()].into_iter()).unwrap();
            let hash = resolving.hash(Ecosystem::NPM, "buoy 1.0", |_| Ok(fetched))?;
            Ok(hash.map(|(integrity, new)| (integrity.canonical(), new.is_some())))
        };
        let held: Result<_> = of(Pinning::Keep, Some(&old));
        assert_eq!(held.unwrap(), Some((old.clone(), false)));
        assert_eq!(of(Pinning::Locked, Some(&old)).unwrap(), Some((old.clone(), false)));
        assert_eq!(of(Pinning::Update, Some(&old)).unwrap(), Some((new.clone(), true)));
        assert_eq!(of(Pinning::Keep, None).unwrap(), Some((new.clone(), true)));
        assert!(matches!(of(Pinning::Locked, None), Err(Error::Pins(PinError::Missing { .. }))));
        for damaged in ["", "whatever", "sha999:ab"] {
            assert!(matches!(of(Pinning::Keep, Some(damaged)), Err(Error::Survey(_))), "{damaged:?}");
        }
    }
}
