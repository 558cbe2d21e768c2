//! What is different between two images, and why.

mod files;
mod versions;

pub use files::{FileChange, FileFact};
pub use versions::compare as compare_versions;

use content::store::Store;
use content::{BlobDigest, InputDigest};
use model::{PackageFact, ProcessType, Result};
use serde::Serialize;
use std::cmp::Ordering;
use std::collections::{BTreeMap, BTreeSet};
use workshop::inspect::OpenImage;
use workshop::record::{LayerRecord, Record};

/// Two values of the same thing.
#[derive(Debug, Clone, PartialEq, Eq, Serialize)]
pub struct Pair<T> {
    /// In the first image.
    pub before: T,
    /// In the second one.
    pub after: T,
}

impl<T: PartialEq> Pair<T> {
    fn differing(before: T, after: T) -> Option<Self> {
        (before != after).then_some(Self { before, after })
    }
}

/// How a package changed.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Serialize)]
#[serde(rename_all = "kebab-case")]
pub enum Move {
    /// To a newer version.
    Up,
    /// To an older one.
    Down,
    /// It was not there.
    Added,
    /// It is not there any more.
    Removed,
    /// The version is the same, and what came is not.
    Rebuilt,
}

/// A package that changed.
#[derive(Debug, Clone, PartialEq, Eq, Serialize)]
pub struct PackageChange {
    /// How.
    pub change: Move,
    /// Its name.
    pub name: String,
    /// Its kind, as package URLs name it.
    pub kind: String,
    /// The versions that there were, and are no more.
    pub before: Vec<String>,
    /// The versions that there are now, and those with other contents.
    pub after: Vec<String>,
    /// Its licence, where that changed.
    pub licence: Option<Pair<Option<String>>>,
}

/// A layer that changed, by the step that wrote it.
#[derive(Debug, Clone, PartialEq, Eq, Serialize)]
pub struct LayerChange {
    /// The step.
    pub step: String,
    /// Bytes as packed; none where there is no such layer.
    pub size: Pair<Option<u64>>,
    /// The inputs of the step that changed, by name; none where only one image has the layer.
    pub because: Vec<String>,
    /// The files that changed; nothing where they were not looked at.
    pub files: Vec<FileChange>,
}

/// All that is different between two images.
#[derive(Debug, Clone, PartialEq, Eq, Serialize)]
pub struct Comparison {
    /// Digests of the indexes.
    pub digest: Pair<BlobDigest>,
    /// Bytes of all layers, packed.
    pub size: Pair<u64>,
    /// The source, where it changed: the commit where it is known, else the digest of the tree.
    pub source: Option<Pair<String>>,
    /// The base, where it changed.
    pub base: Option<Pair<String>>,
    /// The platform, where it changed.
    pub platform: Option<Pair<String>>,
    /// Runtimes whose version changed, by name.
    pub runtimes: BTreeMap<String, Pair<Option<String>>>,
    /// Packages.
    pub packages: Vec<PackageChange>,
    /// Process types that changed, by name.
    pub processes: BTreeMap<String, Pair<Option<ProcessType>>>,
    /// Settings whose rule changed, by name: whether they are there.
    pub settings: BTreeMap<String, Pair<bool>>,
    /// Layers that changed, in the order of the second image.
    pub layers: Vec<LayerChange>,
    /// How many layers are the same.
    pub same_layers: usize,
}

impl Comparison {
    /// Whether nothing is different.
    pub fn is_same(&self) -> bool {
        self.digest.before == self.digest.after
    }
}

/// Compares two images of the store, down to their files.
pub fn compare(store: &Store, before: &OpenImage, after: &OpenImage) -> Result<Comparison> {
    let (old, new) = (&before.record, &after.record);
    let total = |record: &Record| record.layers.iter().map(|layer| layer.size).sum::<u64>();
    let (layers, same_layers) = layers(store, old, new)?;
    Ok(Comparison {
        digest: Pair { before: before.digest, after: after.digest },
        size: Pair { before: total(old), after: total(new) },
        source: (old.source != new.source).then(|| Pair { before: source(old), after: source(new) }),
        base: Pair::differing(old.base.clone(), new.base.clone()),
        platform: Pair::differing(old.platform.clone(), new.platform.clone()),
        runtimes: differing(&versions_of(old), &versions_of(new)),
        packages: package_changes(&old.packages, &new.packages),
        processes: differing(&processes(old), &processes(new)),
        settings: old
            .settings
            .keys()
            .chain(new.settings.keys())
            .filter(|name| old.settings.get(*name) != new.settings.get(*name))
            .map(|name| {
                let pair =
                    Pair { before: old.settings.contains_key(name), after: new.settings.contains_key(name) };
                (name.clone(), pair)
            })
            .collect(),
        layers,
        same_layers,
    })
}

fn source(record: &Record) -> String {
    record.revision.as_ref().map_or_else(|| record.source.to_string(), |revision| revision.commit.clone())
}

fn versions_of(record: &Record) -> BTreeMap<String, String> {
    record.runtimes.iter().map(|one| (one.name.clone(), one.version.clone())).collect()
}

fn processes(record: &Record) -> BTreeMap<String, ProcessType> {
    let without_place =
        |process: &ProcessType| ProcessType { said: model::Place::new("", None), ..process.clone() };
    record.processes.iter().map(|process| (process.name.clone(), without_place(process))).collect()
}

/// What is not the same in both, by name.
fn differing<T: Clone + PartialEq>(
    old: &BTreeMap<String, T>,
    new: &BTreeMap<String, T>,
) -> BTreeMap<String, Pair<Option<T>>> {
    let names: BTreeSet<&String> = old.keys().chain(new.keys()).collect();
    let pair = |name: &String| {
        let pair = Pair::differing(old.get(name).cloned(), new.get(name).cloned())?;
        Some((name.clone(), pair))
    };
    names.into_iter().filter_map(pair).collect()
}

/// The packages of one name.
type Versions<'a> = BTreeMap<&'a str, &'a PackageFact>;

/// The packages that are not the same in both.
pub(crate) fn package_changes(old: &[PackageFact], new: &[PackageFact]) -> Vec<PackageChange> {
    let mut all: BTreeMap<(String, &str), (Versions<'_>, Versions<'_>)> = BTreeMap::new();
    for package in old {
        all.entry(key(package)).or_default().0.insert(&package.version, package);
    }
    for package in new {
        all.entry(key(package)).or_default().1.insert(&package.version, package);
    }
    let mut changes: Vec<PackageChange> =
        all.iter().filter_map(|(key, versions)| package_change(key, versions)).collect();
    changes.sort_by(|a, b| (a.change, &a.kind, &a.name).cmp(&(b.change, &b.kind, &b.name)));
    changes
}

/// The kind of a package, and its name.
fn key(package: &PackageFact) -> (String, &str) {
    let kind = package.purl.strip_prefix("pkg:").and_then(|rest| rest.split('/').next()).unwrap_or_default();
    (kind.to_owned(), &package.name)
}

fn package_change(
    (kind, name): &(String, &str),
    (old, new): &(Versions<'_>, Versions<'_>),
) -> Option<PackageChange> {
    let only = |own: &Versions<'_>, other: &Versions<'_>| -> Vec<String> {
        own.keys()
            .filter(|version| !other.contains_key(*version))
            .map(|version| (*version).to_owned())
            .collect()
    };
    let (before, mut after) = (only(old, new), only(new, old));
    let newest = |versions: &[String]| versions.iter().max_by(|a, b| versions::compare(a, b)).cloned();
    let change = match (newest(&before), newest(&after)) {
        (None, Some(_)) => Move::Added,
        (Some(_), None) => Move::Removed,
        (Some(old), Some(new)) if versions::compare(&old, &new) == Ordering::Greater => Move::Down,
        (Some(_), Some(_)) => Move::Up,
        (None, None) => {
            let is_other = |(version, package): &(&&str, &&PackageFact)| {
                let before = old.get(*version).map(|before| (&before.integrity, &before.patched));
                before != Some((&package.integrity, &package.patched))
            };
            after.extend(new.iter().filter(is_other).map(|(version, _)| (*version).to_owned()));
            if after.is_empty() {
                return None;
            }
            Move::Rebuilt
        }
    };
    let licence =
        |versions: &Versions<'_>| versions.values().next_back().and_then(|package| package.licence.clone());
    let licence = match change {
        Move::Added | Move::Removed => None,
        _ => Pair::differing(licence(old), licence(new)),
    };
    Some(PackageChange { change, name: (*name).to_owned(), kind: kind.clone(), before, after, licence })
}

/// The layers that changed, and how many did not.
fn layers(store: &Store, old: &Record, new: &Record) -> Result<(Vec<LayerChange>, usize)> {
    let known: BTreeSet<BlobDigest> = old.layers.iter().map(|layer| layer.digest).collect();
    let by_step: BTreeMap<&str, &LayerRecord> =
        old.layers.iter().map(|layer| (layer.step.as_str(), layer)).collect();
    let (mut changes, mut same) = (Vec::new(), 0);
    let mut matched = BTreeSet::new();
    for layer in &new.layers {
        let before = by_step.get(layer.step.as_str()).copied();
        matched.extend(before.map(|before| before.step.as_str()));
        if known.contains(&layer.digest) {
            same += 1;
        } else {
            changes.push(layer_change(store, (old, before), (new, Some(layer)))?);
        }
    }
    let kept: BTreeSet<BlobDigest> = new.layers.iter().map(|layer| layer.digest).collect();
    for layer in &old.layers {
        if !matched.contains(layer.step.as_str()) && !kept.contains(&layer.digest) {
            changes.push(layer_change(store, (old, Some(layer)), (new, None))?);
        }
    }
    Ok((changes, same))
}

fn layer_change(
    store: &Store,
    (old, before): (&Record, Option<&LayerRecord>),
    (new, after): (&Record, Option<&LayerRecord>),
) -> Result<LayerChange> {
    let step = after.or(before).map(|layer| layer.step.clone()).unwrap_or_default();
    let inputs =
        |record: &Record| record.steps.iter().find(|one| one.name == step).map(|one| one.inputs.clone());
    let because = match (inputs(old), inputs(new)) {
        (Some(old), Some(new)) => changed_inputs(&old, &new),
        _ => Vec::new(),
    };
    Ok(LayerChange {
        size: Pair { before: before.map(|layer| layer.size), after: after.map(|layer| layer.size) },
        because,
        files: files::changes(store, before, after)?,
        step,
    })
}

fn changed_inputs(old: &BTreeMap<String, InputDigest>, new: &BTreeMap<String, InputDigest>) -> Vec<String> {
    differing(old, new).into_keys().collect()
}

#[cfg(test)]
mod tests {
    use super::*;

    fn package(name: &str, version: &str, integrity: &str) -> PackageFact {
        PackageFact::new(name, version, format!("pkg:npm/{name}@{version}"), integrity)
    }

    #[test]
    fn packages_move_also_where_there_are_several_versions() {
        let old = [
            package("knots", "1.4.0", "a"),
            package("knots", "2.0.1", "b"),
            package("kelp", "0.9.2", "a"),
            package("berth", "2.1.0", "a"),
            package("tide", "1.10.0", "a"),
            package("words", "1.0.0", "a"),
            package("fog", "1.0.0", "a"),
        ];
        let new = [
            package("knots", "2.0.1", "b"),
            package("kelp", "0.10.0", "a"),
            package("berth", "2.1.0", "other"),
            package("tide", "1.9.0", "a"),
            package("lamp", "1.0.0", "a"),
            package("fog", "1.0.0", "a"),
            package("fog", "2.0.0", "a"),
        ];
        let told = |change: &PackageChange| {
            let versions = format!("{} → {}", change.before.join(" "), change.after.join(" "));
            format!("{:?} {} {}", change.change, change.name, versions.trim())
        };
        let changes: Vec<String> = package_changes(&old, &new).iter().map(told).collect();
        assert_eq!(
            changes,
            [
                "Up kelp 0.9.2 → 0.10.0",
                "Down tide 1.10.0 → 1.9.0",
                "Added fog → 2.0.0",
                "Added lamp → 1.0.0",
                "Removed knots 1.4.0 →",
                "Removed words 1.0.0 →",
                "Rebuilt berth → 2.1.0",
            ]
        );
    }
}
