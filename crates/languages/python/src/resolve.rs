//! Which versions to take where no file says it: every requirement met, the newest where there is a choice.

use crate::index::{Candidate, Index};
use crate::locked::{LockedPackage, Origin};
use crate::need::Need;
use crate::requirements::Asked;
use crate::target::Target;
use config::pins::ResolvedPackage;
use model::error::PackageError;
use model::{Error, Result};
use pep440_rs::{Version, VersionSpecifiers};
use pep508_rs::{ExtraName, VersionOrUrl};
use planning::solving::Carried;
use pubgrub::{
    Dependencies, DependencyProvider, DerivationTree, External, PackageResolutionStatistics, PubGrubError,
    Ranges,
};
use remote::packages::pypi;
use std::cell::RefCell;
use std::cmp::Reverse;
use std::collections::{BTreeMap, BTreeSet};
use std::fmt;
use std::sync::Arc;

type Set = Ranges<Version>;

/// What versions are chosen of.
#[derive(Debug, Clone, PartialEq, Eq, Hash, PartialOrd, Ord)]
enum Package {
    App,
    Plain(String),
    /// A package together with what one of its extras needs.
    Extra(String, ExtraName),
}

impl Package {
    /// The name in the index; the app has none.
    fn name(&self) -> Option<&str> {
        match self {
            Self::App => None,
            Self::Plain(name) | Self::Extra(name, _) => Some(name),
        }
    }
}

impl fmt::Display for Package {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self {
            Self::App => f.write_str("the app"),
            Self::Plain(name) => f.write_str(name),
            Self::Extra(name, extra) => write!(f, "{name}[{extra}]"),
        }
    }
}

/// Resolves what is asked for; `known` are versions that were chosen before, and are kept where they can be.
pub(super) fn resolve(
    asked: &Asked,
    target: &Target,
    index: &Index<'_>,
    known: &BTreeMap<String, Version>,
) -> Result<Vec<ResolvedPackage>> {
    let solver = Solver { asked, target, index, known, said: RefCell::default() };
    index.fetch_ahead(&asked.names().collect::<Vec<_>>(), |_| None);
    let root = Version::new([0]);
    let chosen = pubgrub::resolve(&solver, Package::App, root).map_err(|error| solver.told(error))?;
    let chosen: BTreeSet<(Package, Version)> = chosen.into_iter().collect();
    let mut needs = solver.needs_of(&chosen);
    let mut packages = Vec::new();
    for (package, version) in chosen {
        let Package::Plain(name) = package else { continue };
        if let Some(direct) = index.direct(&name) {
            let (origin, source) = (direct.origin.clone(), Some(direct.is_source));
            let (integrity, files) = (direct.integrity.clone(), Vec::new());
            let wanted_by = Vec::new();
            let withdrawn = None;
            packages.push(LockedPackage {
                name,
                version,
                integrity,
                origin,
                files,
                source,
                withdrawn,
                wanted_by,
                needs: Vec::new(),
            });
            continue;
        }
        let candidate = index.candidate(&name, &version)?;
        let source = candidate.as_ref().map(|c| c.is_source());
        let withdrawn = candidate.as_ref().and_then(|c| c.withdrawn.clone());
        let integrity = candidate.map(|c| index.integrity(&c, &name)).transpose()?.flatten();
        packages.push(LockedPackage {
            name,
            version,
            integrity,
            origin: Origin::Index(None),
            files: Vec::new(),
            source,
            withdrawn,
            wanted_by: Vec::new(),
            needs: Vec::new(),
        });
    }
    packages.sort_by(|a, b| a.name.cmp(&b.name));
    let pin = |package: &LockedPackage| {
        let needs = needs.remove(&package.name).unwrap_or_default().into_iter().collect();
        ResolvedPackage { needs, ..package.to_pin() }
    };
    Ok(packages.iter().map(pin).collect())
}

struct Solver<'a> {
    asked: &'a Asked,
    target: &'a Target,
    index: &'a Index<'a>,
    known: &'a BTreeMap<String, Version>,
    /// Requirements as they were written, for messages: by package, version and need.
    said: RefCell<BTreeMap<(Package, Version, Package), String>>,
}

impl Solver<'_> {
    /// The versions that a requirement allows, and how it is written.
    fn set_of(need: &Need) -> Result<(Set, String)> {
        match &need.version_or_url {
            None => Ok((Set::full(), String::new())),
            Some(VersionOrUrl::VersionSpecifier(specifiers)) => {
                Ok((allowed(specifiers), specifiers.to_string()))
            }
            Some(VersionOrUrl::Url(url)) => Err(Error::Package(PackageError::Damaged {
                package: need.name.to_string(),
                detail: format!("it comes from {url}: put its version and hash into a lockfile"),
            })),
        }
    }

    /// What a package needs, in the form of the algorithm.
    fn needs<'n>(
        &self,
        of: (&Package, &Version),
        needs: impl Iterator<Item = &'n Need>,
        extras: &[ExtraName],
    ) -> Result<BTreeMap<Package, Set>> {
        let mut found: BTreeMap<Package, (Set, Vec<String>)> = BTreeMap::new();
        for need in needs.filter(|need| self.target.holds(&need.marker, extras)) {
            let name = pypi::canonical_name(need.name.as_ref());
            let (set, text) = Self::set_of(need)?;
            let named = std::iter::once(Package::Plain(name.clone()));
            for package in
                named.chain(need.extras.iter().map(|extra| Package::Extra(name.clone(), extra.clone())))
            {
                let (all, texts) = found.entry(package).or_insert_with(|| (Set::full(), Vec::new()));
                *all = all.intersection(&set);
                if !text.is_empty() {
                    texts.push(text.clone());
                }
            }
        }
        let names: BTreeMap<&str, &Set> = found
            .iter()
            .filter_map(|(package, (set, _))| match package {
                Package::Plain(name) => Some((name.as_str(), set)),
                _ => None,
            })
            .collect();
        let wanted: Vec<String> = names.keys().map(|name| (*name).to_owned()).collect();
        self.index.fetch_ahead(&wanted, |name| {
            let set = names.get(name)?;
            self.newest(name, set).ok()?
        });
        let mut said = self.said.borrow_mut();
        let (package, version) = of;
        for (need, (_, texts)) in &found {
            said.insert((package.clone(), version.clone(), need.clone()), texts.join(","));
        }
        Ok(found.into_iter().map(|(package, (set, _))| (package, set)).collect())
    }

    /// The names of what each package that was chosen needs, its extras included.
    fn needs_of(&self, chosen: &BTreeSet<(Package, Version)>) -> BTreeMap<String, BTreeSet<String>> {
        let mut needs: BTreeMap<String, BTreeSet<String>> = BTreeMap::new();
        let said = self.said.borrow();
        for (package, version) in chosen {
            let from = (package.clone(), version.clone(), Package::App);
            let own = said.range(from..).take_while(|((p, v, _), _)| (p, v) == (package, version));
            for need in own.filter_map(|((_, _, need), _)| need.name()) {
                if let Some(name) = package.name().filter(|name| *name != need) {
                    needs.entry(name.to_owned()).or_default().insert(need.to_owned());
                }
            }
        }
        needs
    }

    /// The version of `name` in `set` that is taken.
    fn newest(&self, name: &str, set: &Set) -> Result<Option<Version>> {
        let limits =
            self.asked.constraints.iter().filter(|w| pypi::canonical_name(w.need.name.as_ref()) == name);
        let mut set = set.clone();
        for limit in limits.filter(|w| self.target.holds(&w.need.marker, &[])) {
            set = set.intersection(&Self::set_of(&limit.need)?.0);
        }
        let candidates = self.index.candidates(name)?;
        let fits = |c: &&&Candidate| set.contains(&c.version);
        if let Some(known) = self.known.get(name).filter(|v| set.contains(v))
            && candidates.iter().any(|c| c.version == *known && c.is_usable())
        {
            return Ok(Some(known.clone()));
        }
        // What was withdrawn is taken only when exactly that is asked for (PEP 592).
        let usable: Vec<&Candidate> = candidates
            .iter()
            .filter(|c| c.is_usable())
            .collect::<Vec<_>>()
            .iter()
            .filter(fits)
            .copied()
            .collect();
        // Where wheels are preferred, a source is taken when no version has one.
        let prefers = self.asked.terms.prefer_wheels && usable.iter().any(|c| !c.is_source());
        let usable: Vec<&Candidate> = usable.into_iter().filter(|c| !prefers || !c.is_source()).collect();
        let one = set.as_singleton().is_some();
        let offered = |c: &&&Candidate| one || c.withdrawn.is_none();
        let released = |c: &&&Candidate| self.asked.early || one || !c.version.any_prerelease();
        let best = |early: bool| {
            let fitting = usable.iter().filter(offered).filter(|c| early || released(c));
            fitting.map(|c| c.version.clone()).max()
        };
        // Versions before a release are taken when there is nothing else, or they are named (PEP 440).
        let named_early = set.iter().any(|(low, high)| {
            let early = |bound: &std::ops::Bound<Version>| match bound {
                std::ops::Bound::Included(v) | std::ops::Bound::Excluded(v) => {
                    v.is_pre() || v.is_dev() && v.min().is_none()
                }
                std::ops::Bound::Unbounded => false,
            };
            early(low) || early(high)
        });
        Ok(best(named_early).or_else(|| best(true)))
    }

    /// What a version needs. That only running its build would tell ends the search: older versions would
    /// all have to be fetched to find that they say no more.
    fn known_needs(&self, name: &str, version: &Version) -> Result<Arc<Vec<Need>>, Carried> {
        let needs = self.index.needs(name, version).map_err(Carried::of)?;
        let silent = "has no wheel, and its source archive does not declare its dependencies: use a lockfile";
        let fact =
            || Error::Package(PackageError::NoSolution { facts: vec![format!("{name} {version} {silent}")] });
        needs.ok_or_else(|| Carried::of(fact()))
    }

    /// What went wrong, as facts for people.
    fn told(&self, error: PubGrubError<Self>) -> Error {
        match error {
            PubGrubError::NoSolution(tree) => {
                let mut facts = BTreeSet::new();
                self.facts(&tree, &mut facts);
                Error::Package(PackageError::NoSolution {
                    facts: facts.into_iter().map(|(_, fact)| fact).collect(),
                })
            }
            PubGrubError::ErrorRetrievingDependencies { source, .. }
            | PubGrubError::ErrorChoosingVersion { source, .. }
            | PubGrubError::ErrorInShouldCancel(source) => source.into_error(),
        }
    }

    /// Why no version of a package that is wanted can be taken, if there is none.
    fn lacking(&self, name: &str, wanted: &Set) -> Option<String> {
        let candidates = self.index.candidates(name).ok()?;
        let (usable, others): (Vec<_>, Vec<_>) = candidates.iter().partition(|c| c.is_usable());
        if usable.iter().any(|c| wanted.contains(&c.version)) {
            return None;
        }
        let python = self.target.name();
        let unfit = others.iter().map(|c| &c.version).filter(|version| wanted.contains(version)).max();
        Some(match (unfit, &several(usable.iter().map(|c| &c.version).collect())[..]) {
            (_, "") if others.is_empty() => format!("no configured index has {name}"),
            (_, "") => format!("no version of {name} has a wheel for Python {python}"),
            (None, some) => format!("for Python {python}, {name} is available in {some}"),
            (Some(unfit), some) => {
                format!("{name} {unfit} has no wheel for Python {python}; available for it: {some}")
            }
        })
    }

    /// Gathers what is at the ends of a derivation; what the app wants comes first.
    fn facts(&self, tree: &DerivationTree<Package, Set, String>, facts: &mut BTreeSet<(u8, String)>) {
        match tree {
            DerivationTree::Derived(derived) => {
                self.facts(&derived.cause1, facts);
                self.facts(&derived.cause2, facts);
            }
            DerivationTree::External(External::FromDependencyOf(package, versions, need, wanted)) => {
                // An extra needs its own package: nobody has to be told.
                if matches!((package, need), (Package::Extra(name, _), Package::Plain(other)) if name == other)
                {
                    return;
                }
                let said = self.said.borrow();
                let all =
                    said.iter().filter(|((p, v, n), _)| p == package && n == need && versions.contains(v));
                let all: Vec<_> = all.map(|((_, version, _), text)| (version, text)).collect();
                let text = all.last().map_or_else(|| wanted.to_string(), |(_, text)| (*text).clone());
                let who = match (package, &all[..]) {
                    (Package::App, _) => package.to_string(),
                    (_, [(one, _)]) => format!("{package} {one}"),
                    _ => format!("{package} ({versions})"),
                };
                let fact = format!("{who} requires {need} {text}");
                facts.insert((u8::from(*package != Package::App), fact.trim_end().to_owned()));
                if let Package::Plain(name) = need {
                    facts.extend(self.lacking(name, wanted).map(|fact| (2, fact)));
                }
            }
            DerivationTree::External(External::NoVersions(..)) => {}
            DerivationTree::External(External::Custom(package, set, why)) => {
                facts.insert((2, format!("{package} {set}: {why}")));
            }
            DerivationTree::External(External::NotRoot(..)) => {}
        }
    }
}

/// Some versions by name, many by their ends.
fn several(mut versions: Vec<&Version>) -> String {
    versions.sort();
    match &versions[..] {
        [first, .., last] if versions.len() > 5 => format!("{} versions, {first} to {last}", versions.len()),
        few => few.iter().map(ToString::to_string).collect::<Vec<_>>().join(", "),
    }
}

/// The versions that specifiers allow (PEP 440). `==1.0` means those with a local label, too.
fn allowed(specifiers: &VersionSpecifiers) -> Set {
    Set::from(specifiers.clone())
}

impl DependencyProvider for Solver<'_> {
    type P = Package;
    type V = Version;
    type VS = Set;
    type M = String;
    type Err = Carried;
    type Priority = (u32, Reverse<usize>);

    fn prioritize(
        &self,
        package: &Package,
        set: &Set,
        statistics: &PackageResolutionStatistics,
    ) -> Self::Priority {
        let count = match package {
            Package::App | Package::Extra(..) => 0,
            Package::Plain(name) => self
                .index
                .candidates(name)
                .map_or(0, |all| all.iter().filter(|c| set.contains(&c.version)).count()),
        };
        (statistics.conflict_count(), Reverse(count))
    }

    fn choose_version(&self, package: &Package, set: &Set) -> Result<Option<Version>, Carried> {
        match package {
            Package::App => Ok(Some(Version::new([0]))),
            Package::Plain(name) | Package::Extra(name, _) => self.newest(name, set).map_err(Carried::of),
        }
    }

    fn get_dependencies(
        &self,
        package: &Package,
        version: &Version,
    ) -> Result<Dependencies<Package, Set, String>, Carried> {
        let of = (package, version);
        let needs = match package {
            Package::App => self.needs(of, self.asked.wanted.iter().map(|w| &w.need), &[]),
            Package::Plain(name) => {
                let needs = self.known_needs(name, version)?;
                self.needs(of, needs.iter(), &[])
            }
            Package::Extra(name, extra) => {
                let needs = self.known_needs(name, version)?;
                self.needs(of, needs.iter(), std::slice::from_ref(extra)).map(|mut found| {
                    // The package itself, in the same version.
                    found.insert(Package::Plain(name.clone()), Set::singleton(version.clone()));
                    found
                })
            }
        };
        Ok(Dependencies::Available(needs.map_err(Carried::of)?.into_iter().collect()))
    }
}

#[cfg(test)]
mod tests;
