//! Which versions to take where there is no lockfile: every requirement met, the newest where there is a choice.

use crate::gemfile::Gemfile;
use crate::lock::Lock;
use crate::platforms::names_of;
use crate::version::{GemVersion, Set, allowed};
use crate::{LOCKFILE, MANIFEST};
use config::pins::ResolvedPackage;
use content::digest::Sha256;
use model::error::{PackageError, SurveyError};
use model::{Ecosystem, Error, Place, Result};
use planning::solving::{APP, Carried, explained};
use planning::{Context, Resolution, ResolveTarget, Resolving, resolving};
use pubgrub::{Dependencies, DependencyProvider, PackageResolutionStatistics};
use remote::packages::gems::{self, Offer};
use remote::{Address, Downloads, RemoteError};
use std::cmp::Reverse;
use std::collections::BTreeMap;
use std::sync::{Arc, Mutex, PoisonError};

/// How many gems are asked for at once.
const AT_ONCE: usize = 16;

/// A lockfile for a Gemfile that has none, with its text; `None` if no gem is required or there is no network access.
pub(super) fn settle(
    gemfile: &Gemfile,
    context: &Context<'_>,
    resolving: &Resolving<'_>,
    resolution: &mut Resolution,
) -> Result<Option<(Lock, String)>> {
    if gemfile.gems.is_empty() && gemfile.unread.is_none() && !gemfile.has_own_specification {
        return Ok(None);
    }
    let unsupported = |line: u32, what: &str| {
        Err(Error::Survey(SurveyError::Unsupported {
            place: Place::new(MANIFEST, Some(line)),
            what: format!("{what} without a {LOCKFILE}"),
            instead: "run `bundle lock`, and commit the lockfile",
        }))
    };
    if let Some(line) = gemfile.unclear() {
        return unsupported(line, "a Gemfile that can be understood only by running it");
    }
    if gemfile.has_own_specification {
        return unsupported(1, "gems of a gem specification");
    }
    if let Some(gem) = gemfile.gems.iter().find(|gem| gem.is_elsewhere || gem.source.is_some()) {
        return unsupported(gem.line, &format!("{}, which is in no common registry,", gem.name));
    }
    let ruby = context.runtime()?.version.clone();
    let mut asked: Vec<String> =
        gemfile.gems.iter().map(|gem| format!("{} {}", gem.name, gem.requirements.join(","))).collect();
    asked.push(format!("ruby {ruby}"));
    let digest = format!("sha256:{}", Sha256::of(asked.join("\n").as_bytes()).hex());
    let target = ResolveTarget { language: "ruby", purpose: context.platform };
    let found = resolving.packages(target, &digest, |downloads, before| {
        let registry = registry(gemfile, context)?;
        resolve(gemfile, (&ruby, context.platform), &registry, downloads, before)
    })?;
    let Some((packages, new)) = found else { return Ok(None) };
    if new.is_some() {
        resolution.notes.push(resolving::advice(MANIFEST, "a lockfile (`bundle lock`)"));
    }
    resolution.resolved.extend(new);
    let registry = gemfile.sources.first().cloned().unwrap_or_default();
    let text = text(gemfile, &packages, &registry, context.platform);
    let mut lock = Lock::parse(&text)?;
    let checksum = |package: &ResolvedPackage| {
        let hex = package.integrity.strip_prefix("sha256:")?;
        Some((format!("{}-{}", package.name, package.version), hex.to_owned()))
    };
    lock.checksums.extend(packages.iter().filter_map(checksum));
    Ok(Some((lock, text)))
}

/// The registry that a Gemfile's gems are in.
fn registry(gemfile: &Gemfile, context: &Context<'_>) -> Result<Address> {
    let addresses = context.addresses;
    match (addresses.over_lockfile(Ecosystem::GEM), gemfile.sources.first()) {
        (Some(known), _) => Ok(known.address),
        (None, Some(source)) => {
            let text = addresses.filled(Ecosystem::GEM, source)?;
            Ok(Address::parse(&text, context.tree.root()))
        }
        (None, None) => Ok(addresses.in_force(Ecosystem::GEM)?.address),
    }
}

/// The lockfile that these packages make.
fn text(gemfile: &Gemfile, packages: &[ResolvedPackage], registry: &str, platform: &str) -> String {
    let mut text = format!("GEM\n  remote: {}/\n  specs:\n", registry.trim_end_matches('/'));
    for package in packages {
        text.push_str(&format!("    {} ({})\n", package.name, package.version));
        package.needs.iter().for_each(|need| text.push_str(&format!("      {need}\n")));
    }
    text.push_str(&format!("\nPLATFORMS\n  ruby\n  {}\n\nDEPENDENCIES\n", names_of(platform)[1]));
    let asked: BTreeMap<&str, &Vec<String>> =
        gemfile.gems.iter().map(|gem| (gem.name.as_str(), &gem.requirements)).collect();
    for (name, requirements) in asked {
        let spelled = requirements.iter().flat_map(|text| text.split(',')).map(|text| spelled(text.trim()));
        text.push_str(&format!("  {}\n", need(name, &spelled.collect::<Vec<_>>())));
    }
    text
}

/// `rack (~> 3.0)`
fn need(name: &str, requirements: &[String]) -> String {
    let said: Vec<&str> =
        requirements.iter().map(String::as_str).filter(|text| !matches!(*text, "" | ">= 0")).collect();
    if said.is_empty() { name.to_owned() } else { format!("{name} ({})", said.join(", ")) }
}

/// With its operator.
fn spelled(requirement: &str) -> String {
    match requirement.starts_with(|c: char| c.is_ascii_digit()) {
        true => format!("= {requirement}"),
        false => requirement.to_owned(),
    }
}

fn resolve(
    gemfile: &Gemfile,
    (ruby, platform): (&str, &str),
    registry: &Address,
    downloads: Downloads<'_>,
    before: &[ResolvedPackage],
) -> Result<Vec<ResolvedPackage>> {
    let known = |package: &ResolvedPackage| {
        let version = package.version.split('-').next().unwrap_or_default();
        Some((package.name.clone(), GemVersion::parse(version)?))
    };
    let solver = Solver {
        gemfile,
        ruby: GemVersion::parse(ruby),
        platforms: names_of(platform),
        registry,
        downloads,
        known: before.iter().filter_map(known).collect(),
        offers: Mutex::default(),
    };
    let zero = GemVersion::parse("0").unwrap_or_else(|| unreachable!("0 is a version"));
    let chosen =
        explained(pubgrub::resolve(&solver, APP.to_owned(), zero), |name, set| solver.lacking(name, set))?;
    let mut packages = Vec::new();
    for (name, version) in chosen.into_iter().collect::<BTreeMap<_, _>>() {
        if name == APP {
            continue;
        }
        let Some(offer) = solver.offer(&name, &version)? else { continue };
        let needs = offer.needs.iter().map(|(name, text)| {
            need(name, &text.split('&').map(|one| spelled(one.trim())).collect::<Vec<_>>())
        });
        let integrity = offer.sha256.as_ref().map(|hex| format!("sha256:{hex}")).unwrap_or_default();
        packages.push(ResolvedPackage {
            name,
            version: offer.number.clone(),
            integrity,
            needs: needs.collect(),
            ..ResolvedPackage::default()
        });
    }
    Ok(packages)
}

/// The suitable files of a gem, by version; the best of each.
type Offers = BTreeMap<GemVersion, Offer>;

struct Solver<'a> {
    gemfile: &'a Gemfile,
    ruby: Option<GemVersion>,
    platforms: [String; 2],
    registry: &'a Address,
    downloads: Downloads<'a>,
    known: BTreeMap<String, GemVersion>,
    offers: Mutex<BTreeMap<String, Arc<Offers>>>,
}

impl Solver<'_> {
    fn offers(&self, name: &str) -> Result<Arc<Offers>> {
        let cache = || self.offers.lock().unwrap_or_else(PoisonError::into_inner);
        if let Some(known) = cache().get(name) {
            return Ok(Arc::clone(known));
        }
        let listed = match gems::offers(self.downloads.fetcher, self.registry, name) {
            Err(RemoteError::NotFound { .. }) => Vec::new(),
            other => other.map_err(|source| {
                Error::Package(PackageError::Remote { wanted_by: name.to_owned(), source })
            })?,
        };
        let mut offers: BTreeMap<GemVersion, (usize, Offer)> = BTreeMap::new();
        for offer in listed.into_iter().filter(|offer| self.runs(offer)) {
            let (version, platform) =
                offer.number.split_once('-').map_or((offer.number.as_str(), None), |(v, p)| (v, Some(p)));
            let rank = match platform {
                Some(platform) => self.platforms.iter().position(|own| own == platform),
                None => Some(self.platforms.len()),
            };
            let (Some(version), Some(rank)) = (GemVersion::parse(version), rank) else { continue };
            if offers.get(&version).is_none_or(|(other, _)| rank < *other) {
                offers.insert(version, (rank, offer));
            }
        }
        let offers = Arc::new(offers.into_iter().map(|(version, (_, offer))| (version, offer)).collect());
        cache().insert(name.to_owned(), Arc::clone(&offers));
        Ok(offers)
    }

    /// Whether a gem is for the Ruby of the image.
    fn runs(&self, offer: &Offer) -> bool {
        let Some(ruby) = &self.ruby else { return true };
        offer.ruby.is_empty() || allowed([offer.ruby.as_str()]).is_none_or(|set| set.contains(ruby))
    }

    fn offer(&self, name: &str, version: &GemVersion) -> Result<Option<Offer>> {
        Ok(self.offers(name)?.get(version).cloned())
    }

    /// The version that is taken: the one from before, else the newest release, else the newest of all.
    fn newest(&self, name: &str, set: &Set) -> Result<Option<GemVersion>> {
        let offers = self.offers(name)?;
        let fitting: Vec<&GemVersion> = offers.keys().filter(|version| set.contains(version)).collect();
        let before = self.known.get(name).and_then(|known| fitting.iter().find(|version| **version == known));
        let released = fitting.iter().rev().find(|version| !version.is_early());
        Ok(before.or(released).or(fitting.last()).map(|version| (*version).clone()))
    }

    /// A dependency of the app or of a gem, with the accepted versions.
    fn needs(&self, name: &str, version: &GemVersion) -> Result<BTreeMap<String, Set>> {
        let mut needs = BTreeMap::new();
        let mut add = |name: &str, texts: Vec<&str>, of: &str| {
            let set =
                allowed(texts.iter().copied().filter(|text| !text.trim().is_empty())).ok_or_else(|| {
                    let detail =
                        format!("it requires {name} {}, which is not a valid requirement", texts.join(", "));
                    Error::Package(PackageError::Damaged { package: of.to_owned(), detail })
                })?;
            let all = needs.entry(name.to_owned()).or_insert_with(Set::full);
            *all = all.intersection(&set);
            Ok::<_, Error>(())
        };
        if name == APP {
            for gem in &self.gemfile.gems {
                add(&gem.name, gem.requirements.iter().map(String::as_str).collect(), MANIFEST)?;
            }
            return Ok(needs);
        }
        if let Some(offer) = self.offer(name, version)? {
            for (needed, text) in &offer.needs {
                // Bundler itself comes with Ruby.
                if needed != "bundler" {
                    add(needed, text.split('&').collect(), &format!("{name} {version}"))?;
                }
            }
        }
        Ok(needs)
    }

    /// Why no version of a gem that is wanted can be taken, if there is none.
    fn lacking(&self, name: &str, wanted: &Set) -> Option<String> {
        let offers = self.offers(name).ok()?;
        if offers.keys().any(|version| wanted.contains(version)) {
            return None;
        }
        let ruby = self.ruby.as_ref().map(|ruby| format!(" for Ruby {ruby}")).unwrap_or_default();
        Some(match (offers.keys().next(), offers.keys().next_back()) {
            (Some(first), Some(last)) if first != last => {
                format!("{name} is available{ruby} from {first} to {last}")
            }
            (Some(only), _) => format!("{name} is available{ruby} in {only}"),
            _ => format!("{} has no {name}{ruby}", self.registry),
        })
    }
}

impl DependencyProvider for Solver<'_> {
    type P = String;
    type V = GemVersion;
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
        let fitting = |offers: Arc<Offers>| offers.keys().filter(|version| set.contains(version)).count();
        let count = if name == APP { 0 } else { self.offers(name).map_or(0, fitting) };
        (statistics.conflict_count(), Reverse(count))
    }

    fn choose_version(&self, name: &String, set: &Set) -> Result<Option<GemVersion>, Carried> {
        if name == APP {
            return Ok(GemVersion::parse("0"));
        }
        self.newest(name, set).map_err(Carried::of)
    }

    fn get_dependencies(
        &self,
        name: &String,
        version: &GemVersion,
    ) -> Result<Dependencies<String, Set, String>, Carried> {
        let needs = self.needs(name, version).map_err(Carried::of)?;
        // Asked for together; errors are reported when the gem is looked at.
        let names: Vec<&String> = needs.keys().collect();
        engine::run_indexed(names.len(), AT_ONCE, |at| drop(self.offers(names[at])));
        Ok(Dependencies::Available(needs.into_iter().collect()))
    }
}
