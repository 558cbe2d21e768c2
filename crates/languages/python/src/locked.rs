//! Packages with exact versions, whatever file says them, and which of them an image needs.

use crate::target::Target;
use config::pins::ResolvedPackage;
use pep440_rs::Version;
use pep508_rs::{ExtraName, MarkerTree};
use remote::Integrity;
use std::collections::{BTreeMap, BTreeSet, VecDeque};
use std::str::FromStr;

/// One package that goes into the image.
#[derive(Debug, Clone)]
pub(super) struct LockedPackage {
    /// Canonical name.
    pub(super) name: String,
    pub(super) version: Version,
    /// The hashes that its files may have; a folder has none.
    pub(super) integrity: Option<Integrity>,
    pub(super) origin: Origin,
    /// Files by their URLs with their hashes, where the lockfile says that.
    pub(super) files: Vec<(String, String)>,
    /// Whether it has to be built from its source first; nothing where that is not known.
    pub(super) source: Option<bool>,
    /// Why its index withdrew it, if it did and that is known.
    pub(super) withdrawn: Option<String>,
    /// The packages that led to it, the nearest first, where that is known.
    pub(super) wanted_by: Vec<String>,
    /// The names of the packages that it needs, where that is known.
    pub(super) needs: Vec<String>,
}

impl LockedPackage {
    /// Name and version, for people.
    pub(super) fn label(&self) -> String {
        format!("{} {}", self.name, self.version)
    }

    /// Name and version, and who wants it.
    pub(super) fn wanted(&self) -> String {
        planning::wanted(&self.label(), &self.wanted_by)
    }

    /// What tells its content, apart from its name.
    pub(super) fn identity(&self) -> String {
        match &self.integrity {
            Some(integrity) => format!("{} {}", self.version, integrity.canonical()),
            None => format!("{} {}", self.version, self.origin.pinned()),
        }
    }

    /// As it is pinned.
    pub(super) fn to_pin(&self) -> ResolvedPackage {
        let integrity = self.integrity.as_ref().map(Integrity::canonical).unwrap_or_default();
        let version = self.version.to_string();
        let origin = self.origin.pinned();
        ResolvedPackage {
            from: origin,
            name: self.name.clone(),
            version,
            integrity,
            source: self.source == Some(true),
            deprecated: self.withdrawn.clone(),
            ..ResolvedPackage::default()
        }
    }

    /// Packages as they were pinned, for an app that asks for those of the names in `asked`.
    pub(super) fn of_pins(pins: &[ResolvedPackage], asked: impl Iterator<Item = String>) -> Vec<Self> {
        let needs: BTreeMap<&str, &[String]> = pins.iter().map(|p| (&*p.name, &*p.needs)).collect();
        let mut found_from: BTreeMap<String, String> = asked.map(|name| (name, String::new())).collect();
        let mut pending: VecDeque<String> = found_from.keys().cloned().collect();
        while let Some(name) = pending.pop_front() {
            for need in needs.get(&*name).copied().unwrap_or_default() {
                if !found_from.contains_key(need) {
                    found_from.insert(need.clone(), name.clone());
                    pending.push_back(need.clone());
                }
            }
        }
        let package = |pin: &ResolvedPackage| {
            let wanted_by = chain(&pin.name, &found_from);
            Some(Self { wanted_by, ..Self::of_pin(pin)? })
        };
        pins.iter().filter_map(package).collect()
    }

    /// As it was pinned.
    fn of_pin(pin: &ResolvedPackage) -> Option<Self> {
        Some(Self {
            name: pin.name.clone(),
            version: Version::from_str(&pin.version).ok()?,
            integrity: Integrity::any_of(pin.integrity.split(' ')),
            origin: match pin.from.as_str() {
                "" => Origin::Index(None),
                from => Origin::of_text(from, "").ok()?,
            },
            files: Vec::new(),
            source: Some(pin.source),
            withdrawn: pin.deprecated.clone(),
            wanted_by: Vec::new(),
            needs: pin.needs.clone(),
        })
    }
}

/// The versions that were resolved before, by name.
pub(super) fn known_versions(known: &[ResolvedPackage]) -> BTreeMap<String, Version> {
    known.iter().filter_map(|p| Some((p.name.clone(), Version::from_str(&p.version).ok()?))).collect()
}

/// Where a package's files come from.
#[derive(Debug, Clone, PartialEq, Eq)]
pub(super) enum Origin {
    /// An index: the one that the file names, or the configured one.
    Index(Option<String>),
    /// One file, by its URL.
    Url(String),
    /// A file in the source.
    Path(String),
    /// A folder of the source.
    Folder(String),
    /// A commit, or what moves and is one at last, of a repository; and a folder in it.
    Commit { url: String, revision: String, folder: String },
}

/// A lockfile as a graph: packages, and what each needs under which conditions.
#[derive(Debug, Default)]
pub(super) struct LockGraph {
    pub(super) roots: Vec<Edge>,
    pub(super) packages: Vec<Node>,
}

/// A need.
#[derive(Debug, Clone)]
pub(super) struct Edge {
    /// Canonical name.
    pub(super) name: String,
    pub(super) extras: Vec<ExtraName>,
    pub(super) marker: MarkerTree,
    /// Where the file has several versions of one package: which.
    pub(super) version: Option<Version>,
}

impl Edge {
    pub(super) fn to(name: impl Into<String>) -> Self {
        Self { name: name.into(), extras: Vec::new(), marker: MarkerTree::TRUE, version: None }
    }
}

/// A package of the graph.
#[derive(Debug)]
pub(super) struct Node {
    pub(super) name: String,
    pub(super) version: Version,
    /// Where it applies, if the file says so of the package itself.
    pub(super) marker: MarkerTree,
    pub(super) needs: Vec<Edge>,
    /// What each extra needs besides.
    pub(super) extras: BTreeMap<ExtraName, Vec<Edge>>,
    /// `sha256:<hex>` and the like.
    pub(super) hashes: Vec<String>,
    pub(super) origin: Origin,
    /// Files by their URLs with their hashes, where the file says that.
    pub(super) files: Vec<(String, String)>,
}

impl LockGraph {
    /// The packages that are reached on `target`; the names of those without a usable hash in `Err`.
    pub(super) fn select(&self, target: &Target) -> Result<Vec<LockedPackage>, Missing> {
        let mut chosen: BTreeMap<&str, &Node> = BTreeMap::new();
        let mut found_from: BTreeMap<String, String> = BTreeMap::new();
        let mut needed: BTreeMap<String, BTreeSet<String>> = BTreeMap::new();
        let mut done: BTreeSet<(String, Option<String>)> = BTreeSet::new();
        let here = self.roots.iter().filter(|edge| target.holds(&edge.marker, &[]));
        let mut pending: Vec<(Edge, String)> = here.map(|edge| (edge.clone(), String::new())).collect();
        while let Some((edge, wanted_by)) = pending.pop() {
            let wanted = |node: &&Node| {
                node.name == edge.name
                    && edge.version.as_ref().is_none_or(|v| *v == node.version)
                    && target.holds(&node.marker, &[])
            };
            let Some(node) = self.packages.iter().find(wanted) else {
                return Err(Missing::Package { name: edge.name, wanted_by });
            };
            chosen.insert(&node.name, node);
            found_from.entry(edge.name.clone()).or_insert(wanted_by);
            let whole = std::iter::once(None).chain(edge.extras.iter().map(Some));
            for extra in whole {
                if !done.insert((node.name.clone(), extra.map(ToString::to_string))) {
                    continue;
                }
                let needs = extra.map_or(Some(&node.needs), |extra| node.extras.get(extra));
                let holds = |need: &&Edge| target.holds(&need.marker, &edge.extras);
                let needs = needs.into_iter().flatten().filter(holds);
                for need in needs {
                    needed.entry(node.name.clone()).or_default().insert(need.name.clone());
                    pending.push((need.clone(), node.name.clone()));
                }
            }
        }
        let locked = |node: &&Node| {
            let integrity = Integrity::any_of(node.hashes.iter().map(String::as_str));
            Ok(LockedPackage {
                name: node.name.clone(),
                version: node.version.clone(),
                integrity: match integrity {
                    None if !node.origin.is_folder() => {
                        return Err(Missing::Hash(format!("{} {}", node.name, node.version)));
                    }
                    integrity => integrity,
                },
                origin: node.origin.clone(),
                files: node.files.clone(),
                source: None,
                withdrawn: None,
                wanted_by: chain(&node.name, &found_from),
                needs: needed.get(&node.name).into_iter().flatten().cloned().collect(),
            })
        };
        chosen.values().map(locked).collect()
    }
}

/// The packages that led to the one of this name, the nearest first.
fn chain(name: &str, found_from: &BTreeMap<String, String>) -> Vec<String> {
    let mut chain: Vec<String> = Vec::new();
    let mut here = name;
    while let Some(above) = found_from.get(here).filter(|above| !above.is_empty() && !chain.contains(above)) {
        chain.push(above.clone());
        here = above;
    }
    chain
}

/// What a lockfile does not say.
#[derive(Debug)]
pub(super) enum Missing {
    /// A package that is needed.
    Package { name: String, wanted_by: String },
    /// A hash of a package.
    Hash(String),
}
