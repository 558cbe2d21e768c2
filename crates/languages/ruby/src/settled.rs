//! Which gems an image needs: as `Gemfile.lock` says, for its platform, with their hashes.

use crate::gemfile::Gemfile;
use crate::git_gems::Repository;
use crate::lock::{Lock, Source, SourceKind, Spec};
use crate::platforms::{ADD_PLATFORM, names_of};
use crate::specification::Specification;
use crate::{LOCKFILE, MANIFEST, WITHOUT, gem_file, resolve, stale};
use engine::package_archive::{PackageArchive, first_hash};
use engine::{Recipe, run_indexed};
use model::error::{PackageError, SurveyError};
use model::{BuildpackOptions, Ecosystem, Error, Place, Result};
use planning::{Context, Resolution, Resolving};
use remote::packages::gems;
use remote::{Address, Downloads, Integrity, RemoteError};
use source::is_commit;
use std::collections::{BTreeMap, BTreeSet};
use std::sync::{Mutex, PoisonError};

/// How many registries are asked at once.
const AT_ONCE: usize = 24;
/// How specifications are kept.
const SPECIFICATION: Recipe = Recipe::new("gem specification", 1);
/// Gems that are part of Ruby itself.
const PARTS_OF_RUBY: &str = include_str!("default-gems.txt");
/// The folder of gem files that a source may carry.
const CARRIED: &str = "vendor/cache";

/// What an image needs of gems.
#[derive(Debug, Clone, Default, PartialEq)]
pub(super) struct Needed {
    pub(super) gems: Vec<Gem>,
    pub(super) repositories: Vec<Repository>,
    /// The lockfile that the image needs, where the source has none.
    pub(super) lockfile: Option<String>,
}

/// A gem that is installed.
#[derive(Debug, Clone, PartialEq)]
pub(super) struct Gem {
    pub(super) name: String,
    pub(super) version: String,
    pub(super) platform: Option<String>,
    /// The names of gems that it needs.
    pub(super) needs: BTreeSet<String>,
    /// The registry that has it, and its file there.
    pub(super) registry: Address,
    pub(super) address: Address,
    pub(super) integrity: Integrity,
    /// What it says of itself, where that is known by now.
    pub(super) specification: Option<Specification>,
}

impl Gem {
    /// Its name with version and platform.
    pub(super) fn full_name(&self) -> String {
        let platform = self.platform.as_ref().map(|platform| format!("-{platform}")).unwrap_or_default();
        format!("{}-{}{platform}", self.name, self.version)
    }

    /// Name and version, for people.
    pub(super) fn label(&self) -> String {
        format!("{} {}", self.name, self.version)
    }

    /// Whether parts of it have to be compiled.
    pub(super) fn is_compiled(&self) -> bool {
        self.specification.as_ref().is_some_and(|said| !said.extensions.is_empty())
    }

    pub(super) fn archive<'a>(&'a self, label: &'a str) -> PackageArchive<'a> {
        PackageArchive { label, address: &self.address, integrity: &self.integrity }
    }
}

/// The groups that images do without.
pub(super) fn without(options: &BuildpackOptions) -> Vec<String> {
    match options.has(WITHOUT) {
        true => options.texts(WITHOUT).to_vec(),
        false => ["development", "test"].map(str::to_owned).to_vec(),
    }
}

/// Settles what the image needs; `None` if something is unknown and there is no network access.
pub(super) fn settle(context: &Context<'_>, resolving: &Resolving<'_>) -> Result<Resolution> {
    let mut resolution = Resolution::default();
    let tree = context.tree;
    let gemfile = Gemfile::parse(&tree.read(MANIFEST)?.unwrap_or_default());
    let (lock, lockfile) = match tree.read(LOCKFILE)? {
        Some(text) => {
            let lock = Lock::parse(&text)?;
            stale::check(&gemfile, &lock)?;
            check_platforms(&lock, context.platform)?;
            (lock, None)
        }
        None => match resolve::settle(&gemfile, context, resolving, &mut resolution)? {
            Some((lock, text)) => (lock, Some(text)),
            None => return Ok(resolution),
        },
    };
    let left_out = gemfile.left_out(&without(context.options));
    let reached = lock.reached(lock.asked.keys().filter(|name| !left_out.contains(*name)).cloned());
    let default_source = gemfile.sources.first().map(String::as_str);
    let mut chosen = chosen(&lock, &reached, context.platform)?;
    let ruby = &context.runtime()?.version;
    chosen.retain(|(_, spec)| !is_part_of_ruby(ruby, &spec.full_name()));
    let answers = Mutex::new(BTreeMap::new());
    run_indexed(chosen.len(), AT_ONCE, |at| {
        let (source, spec) = chosen[at];
        let answer = gem((source, spec, default_source), &lock, context, resolving);
        answers.lock().unwrap_or_else(PoisonError::into_inner).insert(at, answer);
    });
    let repositories = repositories(&lock, &reached)?;
    let mut needed = Needed { gems: Vec::new(), repositories, lockfile };
    for answer in answers.into_inner().unwrap_or_else(PoisonError::into_inner).into_values() {
        let Some((gem, new)) = answer? else { return Ok(resolution) };
        resolution.hashes.extend(new);
        needed.gems.push(gem);
    }
    if needed.gems.iter().any(Gem::is_compiled) || !needed.repositories.is_empty() {
        context.base.tool("compilers")?;
        resolution.tools.extend(["compilers", "ruby-dev"]);
    }
    resolution.settle(needed);
    Ok(resolution)
}

/// The commits that have gems which are needed.
fn repositories(lock: &Lock, needed: &BTreeSet<String>) -> Result<Vec<Repository>> {
    let mut repositories = Vec::new();
    for source in lock.sources.iter().filter(|source| source.kind == SourceKind::Git) {
        let gems: Vec<_> = source
            .specs
            .iter()
            .filter(|spec| needed.contains(&spec.name))
            .map(|spec| (spec.name.clone(), spec.version.to_string()))
            .collect();
        let (Some(url), Some(first)) = (source.remotes.first(), source.specs.first()) else { continue };
        if gems.is_empty() {
            continue;
        }
        if !is_commit(&source.revision) {
            let place = Place::new(LOCKFILE, Some(first.line));
            let detail = format!("{:?} is not a commit of {url}", source.revision);
            return Err(Error::Survey(SurveyError::Malformed { place, detail }));
        }
        repositories.push(Repository { url: url.clone(), revision: source.revision.clone(), gems });
    }
    Ok(repositories)
}

/// The gems of registries that are needed, each for the platform of the image.
fn chosen<'l>(
    lock: &'l Lock,
    needed: &BTreeSet<String>,
    platform: &str,
) -> Result<Vec<(&'l Source, &'l Spec)>> {
    let mut by_name: BTreeMap<&str, Vec<(&Source, &Spec)>> = BTreeMap::new();
    for (source, spec) in lock.specs().filter(|(_, spec)| needed.contains(&spec.name)) {
        by_name.entry(&spec.name).or_default().push((source, spec));
    }
    let names = names_of(platform);
    let mut chosen = Vec::new();
    for (name, specs) in by_name {
        let (source, _) = specs[0];
        if source.kind != SourceKind::Registry {
            continue;
        }
        // What is compiled for the platform goes before what has to be compiled.
        let rank = |spec: &Spec| match &spec.platform {
            Some(platform) => names.iter().position(|name| name == platform),
            None => Some(names.len()),
        };
        let best =
            specs.iter().filter_map(|(_, spec)| Some((rank(spec)?, *spec))).min_by_key(|(rank, _)| *rank);
        let Some((_, best)) = best else {
            let has: Vec<_> = specs.iter().filter_map(|(_, spec)| spec.platform.clone()).collect();
            let detail =
                format!("{name} is locked only for {}, but the image is for {}", has.join(", "), names[1]);
            return Err(Error::Package(PackageError::LockMismatch {
                lockfile: LOCKFILE.to_owned(),
                detail,
                how: ADD_PLATFORM,
            }));
        };
        chosen.push((source, best));
    }
    Ok(chosen)
}

/// An error where the lockfile was made for other platforms only: Bundler does not start with such a one.
fn check_platforms(lock: &Lock, platform: &str) -> Result<()> {
    let names = names_of(platform);
    let fits = |own: &String| own == "ruby" || names.contains(own);
    if lock.platforms.is_empty() || lock.platforms.iter().any(fits) {
        return Ok(());
    }
    Err(Error::Package(PackageError::LockMismatch {
        lockfile: LOCKFILE.to_owned(),
        detail: format!(
            "it is built only for {}, but the image is for {}",
            lock.platforms.join(", "),
            names[1]
        ),
        how: ADD_PLATFORM,
    }))
}

/// Whether Ruby in this exact version brings the gem itself.
fn is_part_of_ruby(version: &str, full_name: &str) -> bool {
    PARTS_OF_RUBY.lines().any(|line| line.split_once(' ') == Some((version, full_name)))
}

type Answer = Result<Option<(Gem, Option<planning::NewHash>)>>;

/// A gem with where it comes from, its hash and what it says of itself; `None` if its hash is unknown and there is no network access
/// be asked.
fn gem(
    (source, spec, default_source): (&Source, &Spec, Option<&str>),
    lock: &Lock,
    context: &Context<'_>,
    resolving: &Resolving<'_>,
) -> Answer {
    let full_name = spec.full_name();
    let registry = registry(source, &spec.name, default_source, context)?;
    let carried = format!("{CARRIED}/{full_name}.gem");
    let address = match context.tree.has(&carried) {
        true => Address::Folder(context.tree.root().join(carried)),
        false => gems::file(&registry, &full_name),
    };
    let locked = lock.checksums.get(&full_name).map(|hex| format!("sha256:{hex}"));
    let (integrity, new) = match locked.and_then(|hash| Integrity::any_of([hash.as_str()].into_iter())) {
        Some(integrity) => (integrity, None),
        None => {
            let named = full_name.strip_prefix(&format!("{}-", spec.name)).unwrap_or_default();
            let package = format!("{} {named}", spec.name);
            let hash = resolving.hash(Ecosystem::GEM, &package, |downloads| {
                hash_of(spec, named, (&registry, &address), downloads)
            })?;
            let Some(hash) = hash else { return Ok(None) };
            hash
        }
    };
    let mut gem = Gem {
        name: spec.name.clone(),
        version: spec.version.to_string(),
        platform: spec.platform.clone(),
        needs: spec.needs.keys().cloned().collect(),
        registry,
        address,
        integrity,
        specification: None,
    };
    gem.specification = specification(&gem, resolving)?;
    Ok(Some((gem, new)))
}

/// The registry that has a gem: the one that its name is bound to; for those of the usual source, the one that was said to
/// stand for all; else the source itself.
fn registry(
    source: &Source,
    name: &str,
    default_source: Option<&str>,
    context: &Context<'_>,
) -> Result<Address> {
    let addresses = context.addresses;
    if let Some(bound) = addresses.bound_to(Ecosystem::GEM, name) {
        return Ok(bound.address);
    }
    let remote = source.remotes.first().map(String::as_str);
    let plain = |url: &str| url.trim_end_matches('/').to_owned();
    let is_usual = match (remote, default_source) {
        (Some(remote), Some(usual)) => plain(remote) == plain(usual),
        _ => true,
    };
    match (addresses.over_lockfile(Ecosystem::GEM).filter(|_| is_usual), remote) {
        (Some(known), _) => Ok(known.address),
        (None, Some(remote)) => {
            let text = addresses.filled(Ecosystem::GEM, remote)?;
            Ok(Address::parse(&text, context.tree.root()))
        }
        (None, None) => Ok(addresses.in_force(Ecosystem::GEM)?.address),
    }
}

/// The hash of a gem that nothing locks: what the registry says of its file, else that of the file.
fn hash_of(
    spec: &Spec,
    number: &str,
    (registry, address): (&Address, &Address),
    downloads: Downloads<'_>,
) -> Result<Integrity> {
    let offers = match gems::offers(downloads.fetcher, registry, &spec.name) {
        // Folders of files have no list.
        Err(RemoteError::NotFound { .. }) => Vec::new(),
        offers => offers
            .map_err(|source| Error::Package(PackageError::Remote { wanted_by: spec.label(), source }))?,
    };
    let said = offers.into_iter().find(|offer| offer.number == number).and_then(|offer| offer.sha256);
    let said = said.and_then(|hex| Integrity::any_of([format!("sha256:{hex}").as_str()].into_iter()));
    said.map_or_else(|| first_hash(&spec.label(), address, downloads), Ok)
}

/// What a gem says of itself: known from before, or read from its file, which may be fetched for that.
fn specification(gem: &Gem, resolving: &Resolving<'_>) -> Result<Option<Specification>> {
    let store = resolving.store;
    let kept =
        store.fragment_path("gem-specifications", SPECIFICATION.fact_key(&[&gem.integrity.canonical()]));
    if let Some(known) = store.read_document(&kept).whole() {
        return Ok(Some(known));
    }
    let label = gem.label();
    let archive = gem.archive(&label);
    let file = match (archive.kept(store), resolving.downloads()) {
        (Some(file), _) => file,
        (None, Some(downloads)) => {
            archive.fetched(downloads)?;
            match archive.kept(store) {
                Some(file) => file,
                None => return Ok(None),
            }
        }
        (None, None) => return Ok(None),
    };
    let specification = gem_file::specification(file).and_then(|said| is_of(said, gem));
    let specification = specification
        .map_err(|detail| Error::Package(PackageError::Damaged { package: label.clone(), detail }))?;
    store.write_cache(&kept, &specification)?;
    Ok(Some(specification))
}

/// An error where a file is that of another gem.
pub(super) fn is_of(said: Specification, gem: &Gem) -> Result<Specification, String> {
    match said.name == gem.name && said.version == gem.version {
        true => Ok(said),
        false => Err(format!("its own metadata says {} {}", said.name, said.version)),
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn only_the_very_version_that_ruby_brings_is_not_installed() {
        assert!(is_part_of_ruby("3.1.2", "digest-3.1.0"));
        for (ruby, gem) in
            [("3.1.3", "digest-3.1.0"), ("3.1.2", "digest-3.1.1"), ("3.1.2", "rack-3.1.8"), ("#", "Gems")]
        {
            assert!(!is_part_of_ruby(ruby, gem), "{ruby} {gem}");
        }
    }

    #[test]
    fn a_lockfile_for_other_platforms_only_is_refused() {
        let checked = |platforms: &str| {
            let lock = Lock::parse(&format!("PLATFORMS\n{platforms}")).unwrap();
            check_platforms(&lock, "linux/amd64").map_err(|error| error.to_string())
        };
        for fits in ["", "  ruby\n", "  arm64-darwin-23\n  x86_64-linux\n", "  x86_64-linux-gnu\n"] {
            assert_eq!(checked(fits), Ok(()), "{fits}");
        }
        let told = checked("  arm64-darwin-23\n  x86_64-linux-musl\n").unwrap_err();
        assert!(told.contains("it is built only for arm64-darwin-23, x86_64-linux-musl"), "{told}");
    }

    #[test]
    fn the_gem_for_the_platform_is_taken_before_the_one_that_has_to_be_compiled() {
        let lock = |specs: &str| Lock::parse(&format!("GEM\n  remote: x\n  specs:\n{specs}")).unwrap();
        let taken = |specs: &str, platform: &str| {
            let lock = lock(specs);
            let fog = BTreeSet::from(["fog".to_owned()]);
            chosen(&lock, &fog, platform).map(|all| all[0].1.full_name()).map_err(|error| error.to_string())
        };
        let all = "    fog (1.0)\n    fog (1.0-x86_64-linux)\n    fog (1.0-x86_64-linux-gnu)\n    fog (1.0-x86_64-linux-musl)\n";
        assert_eq!(taken(all, "linux/amd64").unwrap(), "fog-1.0-x86_64-linux-gnu");
        assert_eq!(taken(all, "linux/arm64").unwrap(), "fog-1.0");
        let told = taken("    fog (1.0-arm64-darwin)\n    fog (1.0-x86_64-linux-musl)\n", "linux/amd64")
            .unwrap_err();
        assert!(told.contains("fog is locked only for arm64-darwin, x86_64-linux-musl"), "{told}");
    }
}
