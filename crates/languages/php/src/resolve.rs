//! Which versions to take where there is no lockfile: every requirement met, the newest where there is a choice.
//!
//! Packages that stand for others (`replace`, `provide`) and that cannot be beside others (`conflict`) are known only
//! when they are chosen. So what was chosen is looked at, and where it does not hold, it is chosen once more with what
//! was learned.

use crate::lock::{MANIFEST, Manifest};
use crate::offers::{Offer, Offers};
use crate::version::{Set, Version, allowed};
use model::error::PackageError;
use model::{Error, Result};
use planning::solving::{APP, Carried, explained};
use pubgrub::{Dependencies, DependencyProvider, PackageResolutionStatistics};
use std::cmp::Reverse;
use std::collections::{BTreeMap, BTreeSet};
use std::fmt;

/// How many packages are asked for at once.
const AT_ONCE: usize = 16;
/// How often it is chosen once more.
const ROUNDS: usize = 30;

/// The packages that an app needs, in the order of their names.
pub(super) fn resolve(manifest: &Manifest, offers: &Offers<'_>) -> Result<Vec<Offer>> {
    let own = manifest.replace.keys().chain(manifest.provide.keys());
    let mut solver = Solver {
        manifest,
        offers,
        stood_for: own.cloned().collect(),
        must_be_itself: BTreeSet::new(),
        banned: BTreeMap::new(),
    };
    let mut lacking = Vec::new();
    for _ in 0..ROUNDS {
        let chosen = match solver.solve() {
            // What was lacking first says more than what is left after trying older versions.
            Err(Error::Package(PackageError::NoSolution { .. })) if !lacking.is_empty() => break,
            chosen => chosen?,
        };
        let unmet = solver.unmet(&chosen);
        let has_learned = solver.learn(&chosen) | solver.learn_of_unmet(&unmet, &chosen);
        if !has_learned && unmet.is_empty() {
            return Ok(chosen.into_values().collect());
        }
        if lacking.is_empty() {
            lacking = unmet.iter().map(Unmet::to_string).collect();
        }
        if !has_learned {
            break;
        }
    }
    if lacking.is_empty() {
        lacking.push("required packages replace or conflict with each other".to_owned());
    }
    Err(Error::Package(PackageError::NoSolution { facts: lacking }))
}

/// Something that is needed, and that nothing chosen is or stands for.
struct Unmet {
    /// The package that needs it, or the app.
    by: String,
    label: String,
    name: String,
    requirement: String,
}

impl fmt::Display for Unmet {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        let Self { label, name, requirement, .. } = self;
        write!(f, "{label} requires {name} {requirement}, which no package of the app provides")
    }
}

/// What is chosen, by name.
type Chosen = BTreeMap<String, Offer>;

struct Solver<'a> {
    manifest: &'a Manifest,
    offers: &'a Offers<'a>,
    /// Names that need not be chosen, since another package stands for them.
    stood_for: BTreeSet<String>,
    /// Names of which it turned out that nothing else can stand for them.
    must_be_itself: BTreeSet<String>,
    /// Versions that something chosen excludes.
    banned: BTreeMap<String, Set>,
}

impl Solver<'_> {
    fn solve(&self) -> Result<Chosen> {
        let zero = Version::parse("0").unwrap_or_else(|| unreachable!("0 is a version"));
        let chosen =
            explained(pubgrub::resolve(self, APP.to_owned(), zero), |name, set| self.lacking(name, set))?;
        let mut all = Chosen::new();
        for (name, version) in chosen.into_iter().filter(|(name, _)| name != APP) {
            all.extend(self.offers.of(&name)?.get(&version).map(|offer| (name, offer.clone())));
        }
        Ok(all)
    }

    /// Learns from what was chosen; whether there was something to learn.
    fn learn(&mut self, chosen: &Chosen) -> bool {
        let mut has_learned = false;
        for offer in chosen.values() {
            let replaced = offer.links("replace").into_iter().map(|(name, _)| name);
            for name in replaced.filter(|name| chosen.contains_key(name)) {
                has_learned = true;
                match self.must_be_itself.contains(&name) {
                    true => self.ban(&offer.name, &Set::singleton(offer.version.clone())),
                    false => drop(self.stood_for.insert(name)),
                }
            }
            for (name, text) in offer.links("conflict") {
                let Some(other) = chosen.get(&name) else { continue };
                if let Some(set) = allowed(&text).filter(|set| set.contains(&other.version)) {
                    self.ban(&name, &set);
                    has_learned = true;
                }
            }
        }
        has_learned
    }

    /// Learns from what is needed and not there: the package stands for itself, or what needs it is not chosen.
    fn learn_of_unmet(&mut self, unmet: &[Unmet], chosen: &Chosen) -> bool {
        let mut has_learned = false;
        for Unmet { by, name, .. } in unmet {
            if self.stood_for.remove(name) {
                self.must_be_itself.insert(name.clone());
                has_learned = true;
            } else if let Some(offer) = chosen.get(by) {
                self.ban(by, &Set::singleton(offer.version.clone()));
                has_learned = true;
            }
        }
        has_learned
    }

    fn ban(&mut self, name: &str, set: &Set) {
        let banned = self.banned.entry(name.to_owned()).or_insert_with(Set::empty);
        *banned = banned.union(set);
    }

    /// What the app and the packages need, and what nothing that is chosen is or stands for.
    fn unmet(&self, chosen: &Chosen) -> Vec<Unmet> {
        let unmet = |by: &str, label: String, links: Vec<(String, String)>| {
            let is_unmet = |(name, requirement): &(String, String)| {
                let set = allowed(requirement).unwrap_or_else(Set::full);
                let is_there = chosen.contains_key(name) || self.manifest.stands_for(name);
                !is_there && is_package(name) && !chosen.values().any(|offer| offer.stands_for(name, &set))
            };
            let all = links.into_iter().filter(is_unmet);
            let told =
                |(name, requirement)| Unmet { by: by.to_owned(), label: label.clone(), name, requirement };
            all.map(told).collect::<Vec<_>>()
        };
        let own = self.manifest.require.iter().map(|(name, text)| (name.clone(), text.clone())).collect();
        let of_packages =
            chosen.values().flat_map(|offer| unmet(&offer.name, offer.label(), offer.links("require")));
        unmet(APP, "the app".to_owned(), own).into_iter().chain(of_packages).collect()
    }

    /// A dependency of the app or of a package, with the accepted versions.
    fn needs(&self, name: &str, version: &Version) -> Result<BTreeMap<String, Set>> {
        let offers = (name != APP).then(|| self.offers.of(name)).transpose()?;
        let offer = offers.as_ref().and_then(|offers| offers.get(version));
        let (of, links) = match offer {
            Some(offer) => (offer.label(), offer.links("require")),
            None if name == APP => (MANIFEST.to_owned(), self.manifest.require.clone().into_iter().collect()),
            None => return Ok(BTreeMap::new()),
        };
        let mut needs = BTreeMap::new();
        for (need, text) in
            links.into_iter().filter(|(need, _)| is_package(need) && !self.stood_for.contains(need))
        {
            let set = allowed(&text).ok_or_else(|| {
                let detail = format!("it requires {need} {text:?}, which is not a valid requirement");
                Error::Package(PackageError::Damaged { package: of.clone(), detail })
            })?;
            if !offer.is_some_and(|offer| offer.stands_for(&need, &set)) {
                needs.insert(need, set);
            }
        }
        // Asked for together; errors are reported when the package is looked at.
        let names: Vec<&String> = needs.keys().collect();
        engine::run_indexed(names.len(), AT_ONCE, |at| drop(self.offers.of(names[at])));
        let mut there = BTreeMap::new();
        for (need, set) in needs {
            // Of what exists under another name only, it is checked at the end that something stands for it.
            if !self.offers.is_virtual(&need)? {
                there.insert(need, set);
            }
        }
        Ok(there)
    }

    /// The versions of a package that may be chosen.
    fn fitting(&self, name: &str, set: &Set) -> Result<Vec<Version>> {
        let offers = self.offers.of(name)?;
        let is_banned =
            |version: &Version| self.banned.get(name).is_some_and(|banned| banned.contains(version));
        Ok(offers.keys().filter(|version| set.contains(version) && !is_banned(version)).cloned().collect())
    }

    /// Why no version of a package that is wanted can be taken, if there is none.
    fn lacking(&self, name: &str, wanted: &Set) -> Option<String> {
        if !self.fitting(name, wanted).ok()?.is_empty() {
            return None;
        }
        let offers = self.offers.of(name).ok()?;
        let php = self.offers.php();
        Some(match (offers.keys().next(), offers.keys().next_back()) {
            (Some(first), Some(last)) if first != last => {
                format!("{name} is available for PHP {php} from {first} to {last}")
            }
            (Some(only), _) => format!("{name} is available for PHP {php} in {only}"),
            _ => format!("no repository has a version of {name} for PHP {php} that is stable enough"),
        })
    }
}

/// Whether it is a package, and not the runtime or a part of it.
fn is_package(name: &str) -> bool {
    name.contains('/')
}

impl DependencyProvider for Solver<'_> {
    type P = String;
    type V = Version;
    type VS = Set;
    type M = String;
    type Err = Carried;
    type Priority = (u32, Reverse<usize>);

    fn prioritize(
        &self,
        name: &String,
        set: &Set,
        statistics: &PackageResolutionStatistics,
    ) -> Self::Priority {
        let count = if name == APP { 0 } else { self.fitting(name, set).map_or(0, |fitting| fitting.len()) };
        (statistics.conflict_count(), Reverse(count))
    }

    fn choose_version(&self, name: &String, set: &Set) -> Result<Option<Version>, Carried> {
        if name == APP {
            return Ok(Version::parse("0"));
        }
        let carried = Carried::of;
        let fitting = self.fitting(name, set).map_err(carried)?;
        self.offers.best(name, &fitting).map_err(carried)
    }

    fn get_dependencies(
        &self,
        name: &String,
        version: &Version,
    ) -> Result<Dependencies<String, Set, String>, Carried> {
        let needs = self.needs(name, version).map_err(Carried::of)?;
        Ok(Dependencies::Available(needs.into_iter().collect()))
    }
}

#[cfg(test)]
mod tests;
