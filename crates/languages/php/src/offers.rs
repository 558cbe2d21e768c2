//! What repositories offer of each package, as far as it suits the image.

use crate::lock::Manifest;
use crate::version::{Set, Stability, Version, allowed, wanted_stability};
use model::error::PackageError;
use model::{Error, Result};
use remote::Fetcher;
use remote::packages::composer::Repository;
use serde_json::Value;
use std::collections::BTreeMap;
use std::sync::{Arc, Mutex, PoisonError};

/// A package in a version.
#[derive(Debug, Clone)]
pub(super) struct Offer {
    pub(super) name: String,
    pub(super) version: Version,
    /// What its repository says of it, as in manifests; the archive's place is whole.
    pub(super) entry: Value,
}

impl Offer {
    /// The version as its package spells it.
    pub(super) fn spelled(&self) -> &str {
        self.entry["version"].as_str().unwrap_or_default()
    }

    /// Name and version, for people.
    pub(super) fn label(&self) -> String {
        format!("{} {}", self.name, self.spelled())
    }

    /// Names of packages with requirements, of a kind; the package's own version is filled in.
    pub(super) fn links(&self, kind: &str) -> Vec<(String, String)> {
        let all = self.entry[kind].as_object().into_iter().flatten();
        let link = |(name, text): (&String, &Value)| {
            Some((name.to_lowercase(), text.as_str()?.replace("self.version", self.spelled())))
        };
        all.filter_map(link).collect()
    }

    /// Whether it stands for a version of another package.
    pub(super) fn stands_for(&self, name: &str, wanted: &Set) -> bool {
        let links = self.links("replace").into_iter().chain(self.links("provide"));
        let fits = |text: &str| allowed(text).is_none_or(|set| !set.is_disjoint(wanted));
        links.into_iter().any(|(own, text)| own == name && fits(&text))
    }
}

/// What was asked for so far.
pub(super) struct Offers<'a> {
    manifest: &'a Manifest,
    repositories: Vec<Repository>,
    fetcher: &'a Fetcher,
    php: String,
    /// Versions that were taken before, as packages spell them.
    before: BTreeMap<String, String>,
    known: Mutex<BTreeMap<String, Arc<Found>>>,
}

/// What is there of a package.
#[derive(Default)]
struct Found {
    offers: BTreeMap<Version, Offer>,
    /// Whether no repository has it in any version.
    is_nowhere: bool,
}

impl<'a> Offers<'a> {
    /// `php` is the version that the packages have to run with; `before` are the versions that were taken before.
    pub(super) fn new(
        manifest: &'a Manifest,
        repositories: Vec<Repository>,
        fetcher: &'a Fetcher,
        php: &str,
        before: BTreeMap<String, String>,
    ) -> Self {
        Self { manifest, repositories, fetcher, php: php.to_owned(), before, known: Mutex::default() }
    }

    /// The version of PHP.
    pub(super) fn php(&self) -> &str {
        &self.php
    }

    /// The suitable versions of a package.
    pub(super) fn of(&self, name: &str) -> Result<Listing> {
        Ok(Listing(self.found(name)?))
    }

    /// Whether nobody has a package of this name, so that another one has to stand for it.
    pub(super) fn is_virtual(&self, name: &str) -> Result<bool> {
        Ok(self.found(name)?.is_nowhere)
    }

    /// The version that is taken: the one from before, else the newest, a settled one first where that is preferred.
    pub(super) fn best(&self, name: &str, fitting: &[Version]) -> Result<Option<Version>> {
        let offers = self.of(name)?;
        let is_before = |version: &&Version| {
            let spelled = offers.get(version).map(Offer::spelled);
            spelled.is_some() && spelled == self.before.get(name).map(String::as_str)
        };
        let settled = |version: &&Version| version.stability >= Stability::Stable;
        let preferred = self.manifest.prefer_stable.then(|| fitting.iter().rev().find(settled)).flatten();
        Ok(fitting.iter().find(is_before).or(preferred).or(fitting.last()).cloned())
    }

    fn found(&self, name: &str) -> Result<Arc<Found>> {
        let known = || self.known.lock().unwrap_or_else(PoisonError::into_inner);
        if let Some(found) = known().get(name) {
            return Ok(Arc::clone(found));
        }
        let found = Arc::new(self.ask(name)?);
        known().insert(name.to_owned(), Arc::clone(&found));
        Ok(found)
    }

    fn ask(&self, name: &str) -> Result<Found> {
        let least = self.least_stability(name);
        let with_branches = least == Stability::Development;
        for repository in &self.repositories {
            let listed = repository.versions(self.fetcher, name, with_branches).map_err(|source| {
                Error::Package(PackageError::Remote { wanted_by: name.to_owned(), source })
            })?;
            if listed.is_empty() {
                continue;
            }
            let offers = listed.into_iter().filter_map(|entry| self.offer(name, entry, repository));
            let offers = offers.filter(|offer| offer.version.stability >= least && self.runs(offer));
            let offers = offers.map(|offer| (offer.version.clone(), offer)).collect();
            // The first that has a package has all of it.
            return Ok(Found { offers, is_nowhere: false });
        }
        Ok(Found { is_nowhere: true, ..Found::default() })
    }

    fn offer(&self, name: &str, mut entry: Value, repository: &Repository) -> Option<Offer> {
        let spelled = entry["version"].as_str()?;
        // The name of a branch may stand for a version.
        let alias = || entry["extra"]["branch-alias"][spelled].as_str().and_then(Version::parse);
        let version = Version::parse(spelled).or_else(alias)?;
        if let Some(url) = entry["dist"]["url"].as_str().and_then(|url| repository.follow(url)) {
            entry["dist"]["url"] = url.to_string().into();
        }
        // One licence may stand by itself.
        if let Value::String(licence) = &entry["license"] {
            entry["license"] = vec![licence.clone()].into();
        }
        Some(Offer { name: name.to_owned(), version, entry })
    }

    fn least_stability(&self, name: &str) -> Stability {
        let of_all = Stability::parse(&self.manifest.minimum_stability).unwrap_or(Stability::Stable);
        let own = self.manifest.require.get(name).and_then(|text| wanted_stability(text));
        own.map_or(of_all, |own| own.min(of_all))
    }

    /// Whether a package is for the PHP of the image.
    fn runs(&self, offer: &Offer) -> bool {
        let Some(php) = Version::parse(&self.php) else { return true };
        let wanted = offer.links("require").into_iter().find(|(name, _)| name == "php");
        wanted.and_then(|(_, text)| allowed(&text)).is_none_or(|set| set.contains(&php))
    }
}

/// The offers of one package.
pub(super) struct Listing(Arc<Found>);

impl std::ops::Deref for Listing {
    type Target = BTreeMap<Version, Offer>;

    fn deref(&self) -> &Self::Target {
        &self.0.offers
    }
}
