//! What moved from old pins to new ones, for people.

use super::Pins;
use model::fetched::FetchedSet;
use std::collections::{BTreeMap, BTreeSet};

impl Pins {
    /// What moved from `old` to these pins of `platform`, for people.
    pub fn moved(&self, old: Option<&Self>, platform: &str) -> Vec<String> {
        let versions = |pins: &Self| -> BTreeMap<String, BTreeSet<String>> {
            let sets = pins.platforms.get(platform).into_iter().flat_map(BTreeMap::values);
            let sets = sets.chain(pins.build.values()).flat_map(|set| &set.packages);
            let exact = pins.runtimes.get(platform).into_iter().flat_map(BTreeMap::values);
            let image = pins.images.get(platform);
            let resolved = pins.resolved.values().flat_map(BTreeMap::values).flat_map(|set| &set.packages);
            let digest = image.map(|image| ("the base image", &image.manifest));
            let carried = image.into_iter().flat_map(|image| &image.runtimes);
            let all = sets.map(|package| (&*package.name, &package.version));
            let all = all.chain(resolved.map(|package| (&*package.name, &package.version)));
            let all = all.chain(digest).chain(carried.map(|(name, carried)| (&**name, &carried.version)));
            let mut versions: BTreeMap<String, BTreeSet<String>> = BTreeMap::new();
            for (name, version) in all.chain(exact.map(|runtime| (&*runtime.package, &runtime.version))) {
                versions.entry(name.to_owned()).or_default().insert(version.clone());
            }
            versions
        };
        let Some(old_pins) = old else { return Vec::new() };
        let (new, old) = (versions(self), versions(old_pins));
        if old.is_empty() {
            return [self.moved_hashes(old_pins), self.moved_files(old_pins)].concat();
        }
        let none = BTreeSet::new();
        let (mut moved, mut come, mut gone) = (Vec::new(), Vec::new(), Vec::new());
        for name in old.keys().chain(new.keys()).collect::<BTreeSet<_>>() {
            let (before, now) = (old.get(name).unwrap_or(&none), new.get(name).unwrap_or(&none));
            let (left, arrived) = (before.difference(now), now.difference(before));
            match (&left.collect::<Vec<_>>()[..], &arrived.collect::<Vec<_>>()[..]) {
                ([from], [to]) => moved.push(format!("{name} {from} to {to}")),
                (left, arrived) => {
                    gone.extend(left.iter().map(|version| format!("{name} {version}")));
                    come.extend(arrived.iter().map(|version| format!("{name} {version}")));
                }
            }
        }
        moved.extend(told(&come, "new"));
        moved.extend(told(&gone, "gone"));
        moved.extend(self.moved_hashes(old_pins));
        moved.extend(self.moved_files(old_pins));
        moved
    }

    /// Files that the programs of steps fetch now, and did not fetch before, or not with this content.
    fn moved_files(&self, old: &Self) -> Vec<String> {
        let none = FetchedSet::default();
        let (mut new, mut gone, mut changed) = (Vec::new(), Vec::new(), Vec::new());
        for step in self.fetched.keys().chain(old.fetched.keys()).collect::<BTreeSet<_>>() {
            let [now, before] = [self, old].map(|pins| by_path(pins.fetched.get(step).unwrap_or(&none)));
            new.extend(now.keys().filter(|path| !before.contains_key(*path)).cloned());
            gone.extend(before.keys().filter(|path| !now.contains_key(*path)).cloned());
            let is_other = |(path, hash): &(&String, &Option<String>)| {
                before.get(*path).is_some_and(|before| before != *hash)
            };
            changed.extend(now.iter().filter(is_other).map(|(path, _)| path.clone()));
        }
        [told(&new, "new"), told(&gone, "gone"), told(&changed, "changed")].concat()
    }

    /// Packages whose hash is new, or another one than it was.
    fn moved_hashes(&self, old: &Self) -> Vec<String> {
        let (mut new, mut changed) = (Vec::new(), Vec::new());
        for (kind, hashes) in &self.hashes {
            for (package, hash) in hashes {
                match old.hashes.get(kind).and_then(|of_kind| of_kind.get(package)) {
                    None => new.push(format!("the hash of {package}")),
                    Some(before) if before != hash => changed.push(package.clone()),
                    Some(_) => {}
                }
            }
        }
        let mut moved = told(&new, "new");
        moved.extend(
            changed.iter().map(|package| format!("{package} has different content under the same version")),
        );
        moved
    }
}

/// Hashes of the files of a set, by kind and path; what was not there is left out.
fn by_path(set: &FetchedSet) -> BTreeMap<String, Option<String>> {
    let there = set.answers.iter().filter(|answer| answer.sha256.is_some());
    there.map(|answer| (format!("{}/{}", answer.from, answer.path), answer.sha256.clone())).collect()
}

/// Describes what happened to packages; a few are named.
fn told(packages: &[String], what: &str) -> Vec<String> {
    const FEW: usize = 5;
    match packages {
        [first, second, rest @ ..] if packages.len() > FEW => {
            vec![format!("{first}, {second} and {} more are {what}", rest.len())]
        }
        few => few.iter().map(|package| format!("{package} is {what}")).collect(),
    }
}
