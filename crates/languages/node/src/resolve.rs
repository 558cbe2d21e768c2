//! Which versions to take where no file says it: every range met, the newest where there is a choice.

use crate::graph::{Chooser, place};
use crate::need::Need;
use crate::overrides::Overrides;
use crate::package::{Fits, Origin};
use crate::tree::{Entry, PackageTree};
use crate::workspaces::{Part, Parts};
use crate::{Manifest, parse_manifest};
use config::addresses::Addresses;
use config::pins::ResolvedPackage;
use engine::run_indexed;
use model::error::PackageError;
use model::npm_range::Range;
use model::{Ecosystem, Error, Result};
use planning::{Context, NewlyResolved, ResolveTarget, Resolving};
use remote::packages::npm::{self, Offer, Offers};
use remote::{Downloads, Integrity};
use semver::Version;
use source::{SourceTree, checked_out};
use std::collections::{BTreeMap, BTreeSet};
use std::sync::{Arc, Mutex, PoisonError};

/// So many answers are waited for at once.
const WAITING: usize = 24;

/// What the manifest of an app asks for.
pub(super) struct Asked<'a> {
    pub(super) manifest: &'a Manifest,
    pub(super) overrides: Overrides,
    pub(super) parts: Parts,
}

/// What is asked, and where what was found is kept.
#[derive(Clone, Copy)]
pub(super) struct Sources<'a> {
    pub(super) downloads: Downloads<'a>,
    pub(super) addresses: &'a Addresses,
    pub(super) source: &'a SourceTree,
}

impl Asked<'_> {
    /// A text that stands for all of it.
    pub(super) fn digest(&self) -> String {
        let Manifest { dependencies, optional_dependencies, overrides, .. } = self.manifest;
        let overrides = serde_json::Value::Object(overrides.clone());
        let mut text = format!("{dependencies:?}\n{optional_dependencies:?}\n{overrides}");
        for part in self.parts.all() {
            let needs = (&part.manifest.dependencies, &part.manifest.optional_dependencies);
            text.push_str(&format!("\n{} {} {} {needs:?}", part.folder, part.name, part.version));
        }
        if !self.manifest.peer_dependencies.is_empty() {
            text.push_str(&format!("\n{:?} {:?}", self.manifest.peer_dependencies, self.manifest.peers()));
        }
        content::digest::Sha256::of(text.as_bytes()).hex()
    }

    /// The app as it stands among packages.
    fn root(&self) -> Entry {
        Entry {
            dependencies: self.manifest.dependencies.clone(),
            optional_dependencies: self.manifest.optional_dependencies.clone(),
            peers: self.manifest.peers(),
            ..Entry::default()
        }
    }
}

/// The tree for what is asked under `target`, as it is pinned or as it is resolved now; `text` stands for what is
/// asked. `None` if it is not pinned and there is no network access.
pub(super) fn settled(
    asked: &Asked<'_>,
    (purpose, text): (&str, &str),
    context: &Context<'_>,
    resolving: &Resolving<'_>,
) -> Result<Option<(PackageTree, Option<NewlyResolved>)>> {
    let node = &context.runtime()?.version;
    let target = ResolveTarget { language: "node", purpose };
    let found = resolving.packages(target, text, |downloads, known| {
        let sources = Sources { downloads, addresses: context.addresses, source: context.tree };
        Ok(to_pins(&resolve(asked, node, sources, known)?))
    })?;
    Ok(found.map(|(pins, new)| (of_pins(asked, &pins), new)))
}

/// Resolves what is asked for; `known` was chosen before, and is kept where it can be.
pub(super) fn resolve(
    asked: &Asked<'_>,
    node: &str,
    sources: Sources<'_>,
    known: &[ResolvedPackage],
) -> Result<PackageTree> {
    let mut needs = of_manifest(asked.manifest);
    needs.extend(asked.parts.all().map(Part::need));
    let mut kept: BTreeMap<String, BTreeSet<Version>> = BTreeMap::new();
    for package in known {
        if let Ok(version) = Version::parse(&package.version) {
            kept.entry(package.name.clone()).or_default().insert(version);
        }
    }
    let mut tree = PackageTree::made("package.json");
    let node = Version::parse(node).ok();
    let mut registry = Registry { sources, parts: &asked.parts, kept, node, asked: Mutex::default() };
    place(asked.root(), needs, &asked.overrides, &mut registry, &mut tree)?;
    Ok(tree)
}

/// The needs of a manifest; `may_lack` is whether the package can do without a peer.
fn needs(
    dependencies: &BTreeMap<String, String>,
    optional: &BTreeMap<String, String>,
    peers: &BTreeMap<String, String>,
    may_lack: impl Fn(&str) -> bool,
) -> Vec<Need> {
    let need = |(name, wanted): (&String, &String), optional, peer| Need {
        name: name.clone(),
        wanted: wanted.clone(),
        optional,
        peer,
    };
    let plain = dependencies.iter().filter(|(name, _)| !optional.contains_key(*name));
    let peers = peers.iter().filter(|(name, _)| !dependencies.contains_key(*name));
    plain
        .map(|n| need(n, false, false))
        .chain(optional.iter().map(|n| need(n, true, false)))
        .chain(peers.map(|n| need(n, may_lack(n.0), true)))
        .collect()
}

/// Answers, with what went wrong told when it is needed.
type Answers = BTreeMap<String, Arc<Result<Offers, String>>>;

/// Registries, and what they were asked already.
struct Registry<'a> {
    sources: Sources<'a>,
    parts: &'a Parts,
    /// Versions that were chosen before.
    kept: BTreeMap<String, BTreeSet<Version>>,
    /// The version of Node in the image.
    node: Option<Version>,
    asked: Mutex<Answers>,
}

/// What a manifest needs.
fn of_manifest(manifest: &Manifest) -> Vec<Need> {
    let may_lack = manifest.peers();
    needs(&manifest.dependencies, &manifest.optional_dependencies, &manifest.peer_dependencies, |name| {
        may_lack.get(name) == Some(&true)
    })
}

/// Whether what is wanted is no version or tag of a registry's package.
fn is_elsewhere(wanted: &str) -> bool {
    wanted.contains(':') || wanted.contains('/')
}

/// The repository that is wanted, and what of it: `git+https://code.example/fog.git#v1`.
fn repository(wanted: &str) -> Option<(String, String)> {
    let (place, revision) = wanted.split_once('#').unwrap_or((wanted, "HEAD"));
    let revision = revision.trim_start_matches("commit=").to_owned();
    if let Some(url) = place.strip_prefix("git+") {
        return Some((url.to_owned(), revision));
    }
    let ends = place.starts_with("git://") || place.contains("://") && place.ends_with(".git");
    ends.then(|| (place.to_owned(), revision))
}

/// The name in the registry and what is wanted of it: an alias says both.
fn meaning(need: &Need) -> (String, String) {
    match need.wanted.strip_prefix("npm:") {
        Some(alias) => match alias.rfind('@').filter(|at| *at > 0) {
            Some(at) => (alias[..at].to_owned(), alias[at + 1..].to_owned()),
            None => (alias.to_owned(), "*".to_owned()),
        },
        None => (need.name.clone(), need.wanted.clone()),
    }
}

impl Registry<'_> {
    /// The part of the app that a need means.
    fn part(&self, need: &Need) -> Option<&Part> {
        let fits = |part: &&Part| {
            let range = need.wanted.strip_prefix("workspace:");
            let version = || Version::parse(&part.version).ok();
            let in_range = || Some(Range::parse(&need.wanted)?.contains(&version()?));
            range.is_some() || in_range() == Some(true)
        };
        self.parts.meant(&need.wanted).or_else(|| self.parts.named(&need.name).filter(fits))
    }

    /// A package that is wanted from a folder of the source or from a repository.
    fn elsewhere(&self, need: &Need) -> Result<Option<(Entry, Manifest)>> {
        let (name, wanted) = meaning(need);
        let bad = |detail: String| Error::Package(PackageError::Damaged { package: name.clone(), detail });
        let remote = |source| Error::Package(PackageError::Remote { wanted_by: name.clone(), source });
        let Sources { downloads, source, .. } = self.sources;
        let folder = wanted.strip_prefix("file:").or(wanted.strip_prefix("link:"));
        let (origin, text) = if let Some(folder) = folder {
            let folder = folder.trim_start_matches("./").trim_end_matches('/').to_owned();
            let Some(text) = source.read(&format!("{folder}/package.json"))? else { return Ok(None) };
            (Origin::Link(folder), text)
        } else if let Some((url, revision)) = repository(&wanted) {
            let id = downloads.fetcher.commit_of(&url, &revision).map_err(remote)?.unwrap_or(revision);
            let folder = checked_out(&url, &id, downloads)?;
            let text = std::fs::read_to_string(folder.join("package.json"));
            (Origin::Commit { url, id }, text.map_err(|_| bad("there is no package.json in it".to_owned()))?)
        } else {
            return Ok(None);
        };
        let manifest = parse_manifest("package.json", &text)?;
        let entry = Entry {
            name: Some(name),
            version: manifest.version.clone().or_else(|| Some("0.0.0".to_owned())),
            origin,
            bin: manifest.commands(),
            has_install_script: manifest.runs_scripts(),
            dependencies: manifest.dependencies.clone(),
            optional_dependencies: manifest.optional_dependencies.clone(),
            peers: manifest.peers(),
            ..Entry::default()
        };
        Ok(Some((entry, manifest)))
    }

    fn offers(&self, name: &str) -> Result<Arc<Result<Offers, String>>> {
        let lock = || self.asked.lock().unwrap_or_else(PoisonError::into_inner);
        if let Some(known) = lock().get(name) {
            return Ok(Arc::clone(known));
        }
        let address = self.sources.addresses.of_package(Ecosystem::NPM, name)?.address;
        let found = match npm::offers(self.sources.downloads.fetcher, &address, name) {
            Ok(offers) => Ok(offers),
            Err(remote::RemoteError::NotFound { .. }) => Err(format!("{address} does not have it")),
            Err(source) => {
                return Err(Error::Package(PackageError::Remote { wanted_by: name.to_owned(), source }));
            }
        };
        let found = Arc::new(found);
        lock().insert(name.to_owned(), Arc::clone(&found));
        Ok(found)
    }

    /// The version that is taken: what was chosen before, what most people get, else the newest; versions
    /// that their authors stand for, and that this Node can run, before others.
    fn pick<'o>(&self, name: &str, wanted: &str, offers: &'o Offers) -> Option<(&'o Version, &'o Offer)> {
        if let Some(tagged) = offers.tags.get(wanted) {
            return offers.versions.get_key_value(tagged);
        }
        let range = Range::parse(wanted)?;
        let fitting: Vec<_> = offers.versions.iter().filter(|(version, _)| range.contains(version)).collect();
        let kept = self.kept.get(name);
        if let Some(one) = fitting.iter().rev().find(|(v, _)| kept.is_some_and(|kept| kept.contains(v))) {
            return Some(*one);
        }
        let runs = |offer: &Offer| match (&offer.node, &self.node) {
            (Some(range), Some(node)) => Range::parse(range).is_none_or(|range| range.contains(node)),
            _ => true,
        };
        let usual = offers.tags.get("latest").filter(|latest| range.contains(latest));
        let usual = usual.and_then(|latest| offers.versions.get_key_value(latest));
        if let Some(usual) = usual.filter(|(_, offer)| runs(offer) && offer.deprecated.is_none()) {
            return Some(usual);
        }
        fitting.into_iter().max_by_key(|(version, offer)| (runs(offer), offer.deprecated.is_none(), *version))
    }
}

impl Chooser for Registry<'_> {
    fn meets(&self, entry: &Entry, need: &Need) -> bool {
        if let Some(part) = self.part(need) {
            return entry.origin == part.entry().origin;
        }
        let (name, wanted) = meaning(need);
        if is_elsewhere(&wanted) {
            return entry.name.as_ref() == Some(&name) && !matches!(entry.origin, Origin::Registry(_));
        }
        let same = entry.name.as_ref().is_none_or(|known| *known == name);
        let version = entry.version.as_deref().and_then(|v| Version::parse(v).ok());
        let tagged = || {
            let offers = self.offers(&name).ok()?;
            offers.as_ref().as_ref().ok()?.tags.get(&wanted).cloned()
        };
        let fits = |version: &Version| match Range::parse(&wanted) {
            Some(range) => range.contains(version),
            None => tagged().as_ref() == Some(version),
        };
        same && version.as_ref().is_some_and(fits)
    }

    fn choose(&mut self, need: &Need, by: Option<&str>) -> Result<Option<(Entry, Vec<Need>)>> {
        if let Some(part) = self.part(need) {
            let entry = Entry { peers: part.manifest.peers(), ..part.entry() };
            return Ok(Some((entry, of_manifest(&part.manifest))));
        }
        if let Some((entry, manifest)) = self.elsewhere(need)? {
            return Ok(Some((entry, of_manifest(&manifest))));
        }
        let (name, wanted) = meaning(need);
        let who = by.unwrap_or("the app");
        let told = |what: String| {
            Error::Package(PackageError::NoSolution {
                facts: vec![format!("{who} requires {name} {wanted}"), what],
            })
        };
        if is_elsewhere(&wanted) {
            let what = format!("{name} is required as {wanted:?}, which is not a version from a registry");
            return Err(told(what));
        }
        let offers = self.offers(&name)?;
        let picked = match offers.as_ref() {
            Ok(offers) => self.pick(&name, &wanted, offers).ok_or_else(|| {
                let newest = offers.tags.get("latest").or_else(|| offers.versions.keys().max());
                let newest = newest.map_or(String::new(), |newest| format!("; the newest is {newest}"));
                format!("no version of {name} matches{newest}")
            }),
            Err(why) => Err(format!("{name}: {why}")),
        };
        let (version, offer) = match picked {
            Ok(picked) => picked,
            Err(_) if need.optional => return Ok(None),
            Err(what) => return Err(told(what)),
        };
        let needs = needs(&offer.dependencies, &offer.optional, &offer.peers, |name| {
            offer.peers_to_lack.contains(name)
        });
        let may_lack = |name: &String| offer.peers_to_lack.contains(name);
        let entry = Entry {
            name: Some(name),
            version: Some(version.to_string()),
            origin: Origin::Registry(None),
            integrity: offer.integrity.as_deref().and_then(Integrity::subresource),
            has_install_script: offer.script,
            bin: offer.bin.clone(),
            licence: offer.licence.clone(),
            deprecated: offer.deprecated.clone(),
            fits: Fits { os: offer.os.clone(), cpu: offer.cpu.clone(), libc: offer.libc.clone() },
            dependencies: offer.dependencies.clone(),
            optional_dependencies: offer.optional.clone(),
            peers: offer.peers.keys().map(|name| (name.clone(), may_lack(name))).collect(),
            ..Entry::default()
        };
        Ok(Some((entry, needs)))
    }

    fn expect(&mut self, needs: &[Need]) {
        let of_registry = |need: &&Need| self.part(need).is_none() && !is_elsewhere(&meaning(need).1);
        let names: BTreeSet<String> = needs.iter().filter(of_registry).map(|need| meaning(need).0).collect();
        let names: Vec<String> = {
            let known = self.asked.lock().unwrap_or_else(PoisonError::into_inner);
            names.into_iter().filter(|name| !known.contains_key(name)).collect()
        };
        // A failure here recurs, and is reported, when it is needed.
        run_indexed(names.len(), WAITING, |at| drop(self.offers(&names[at])));
    }
}

/// The tree as it is pinned.
pub(super) fn to_pins(tree: &PackageTree) -> Vec<ResolvedPackage> {
    let pin = |(path, entry): (&String, &Entry)| {
        let needs = entry.dependencies.keys().filter(|name| !entry.optional_dependencies.contains_key(*name));
        let peers = entry.peers.iter();
        ResolvedPackage {
            name: entry.name.clone().unwrap_or_default(),
            path: path.clone(),
            version: entry.version.clone().unwrap_or_default(),
            integrity: entry.integrity.as_ref().map(Integrity::canonical).unwrap_or_default(),
            needs: needs.chain(peers.clone().filter(|(_, lack)| !**lack).map(|(n, _)| n)).cloned().collect(),
            may_use: entry
                .optional_dependencies
                .keys()
                .chain(peers.filter(|(_, l)| **l).map(|(n, _)| n))
                .cloned()
                .collect(),
            os: entry.fits.os.clone(),
            cpu: entry.fits.cpu.clone(),
            libc: entry.fits.libc.clone(),
            from: match &entry.origin {
                Origin::Link(folder) => format!("file:{folder}"),
                Origin::Commit { url, id } => format!("git+{url}#{id}"),
                _ => String::new(),
            },
            source: false,
            script: entry.has_install_script,
            deprecated: entry.deprecated.clone(),
            bin: entry.bin.clone(),
        }
    };
    tree.packages.iter().filter(|(path, _)| !path.is_empty()).map(pin).collect()
}

/// The tree as it was pinned.
pub(super) fn of_pins(asked: &Asked<'_>, pins: &[ResolvedPackage]) -> PackageTree {
    let mut tree = PackageTree::made(model::files::PINS);
    tree.packages.insert(String::new(), asked.root());
    for pin in pins {
        let named = |names: &[String]| names.iter().map(|name| (name.clone(), String::new())).collect();
        let entry = Entry {
            name: Some(pin.name.clone()),
            version: Some(pin.version.clone()),
            origin: match pin.from.strip_prefix("file:") {
                Some(folder) => Origin::Link(folder.to_owned()),
                None => super::lock::app::commit(&pin.from).unwrap_or_default(),
            },
            integrity: Integrity::any_of(pin.integrity.split(' ')),
            has_install_script: pin.script,
            deprecated: pin.deprecated.clone(),
            bin: pin.bin.clone(),
            fits: Fits { os: pin.os.clone(), cpu: pin.cpu.clone(), libc: pin.libc.clone() },
            dependencies: named(&pin.needs),
            optional_dependencies: named(&pin.may_use),
            ..Entry::default()
        };
        tree.packages.insert(pin.path.clone(), entry);
    }
    tree
}

#[cfg(test)]
mod tests;
