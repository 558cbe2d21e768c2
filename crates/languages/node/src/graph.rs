//! Packages as a graph of who uses which, and where each is put so that all of them find the right one.
//!
//! Lockfiles that say no places, and resolution, end here. A package is put as high as it can: below the
//! nearest folder where another version of the same name would be found by somebody else.

use crate::need::Need;
use crate::overrides::{Overrides, Scope};
use crate::package::Origin;
use crate::tree::{Entry, PackageTree};
use model::Result;
use std::collections::{BTreeMap, BTreeSet};

/// Says which packages there are.
pub(super) trait Chooser {
    /// Whether a package that is there already meets a need.
    fn meets(&self, entry: &Entry, need: &Need) -> bool;

    /// The package for a need of the package called `by`, or of the app, with what it needs itself; `None` when an optional one cannot be had.
    fn choose(&mut self, need: &Need, by: Option<&str>) -> Result<Option<(Entry, Vec<Need>)>>;

    /// Told what is going to be needed, before it is chosen one after the other.
    fn expect(&mut self, _needs: &[Need]) {}
}

/// Puts everything that `root` needs, and what that needs, into a tree: nearest to the app first, by name.
pub(super) fn place(
    root: Entry,
    needs: Vec<Need>,
    overrides: &Overrides,
    chooser: &mut dyn Chooser,
    tree: &mut PackageTree,
) -> Result<()> {
    tree.packages.insert(String::new(), root);
    let mut placing = Placing { chooser, tree, overrides, uses: BTreeMap::new(), placed: BTreeMap::new() };
    placing.chooser.expect(&needs);
    // Nearest to the app first, by name: a package that was put high comes before deeper ones.
    let mut waiting = BTreeMap::from([((0, String::new()), needs)]);
    while let Some(((_, path), mut needs)) = waiting.pop_first() {
        needs.sort_by(|a, b| (a.peer, &a.name).cmp(&(b.peer, &b.name)));
        let mut expected = Vec::new();
        let scope = placing.placed.get(&path).map_or(Scope::default(), |placed| placed.0);
        for need in &needs {
            let (need, scope) = overrides.apply(scope, need);
            if let Some((path, needs)) = placing.meet(&path, &need, scope)? {
                expected.extend(needs.iter().cloned());
                waiting.insert((depth(&path), path), needs);
            }
        }
        // What several packages need next is asked for at once.
        placing.chooser.expect(&expected);
    }
    Ok(())
}

fn depth(path: &str) -> usize {
    path.matches("node_modules/").count()
}

struct Placing<'a> {
    chooser: &'a mut dyn Chooser,
    tree: &'a mut PackageTree,
    overrides: &'a Overrides,
    /// What packages need, and under which rules.
    placed: BTreeMap<String, (Scope, Vec<Need>)>,
    /// For each folder, the names that packages in it look for above it.
    uses: BTreeMap<String, BTreeSet<String>>,
}

impl Placing<'_> {
    /// Makes sure that the package at `path` finds what it needs; gives what had to be put down for that, or
    /// has to be looked at again, with what that needs under the rules of `scope`.
    fn meet(&mut self, path: &str, need: &Need, scope: Scope) -> Result<Option<(String, Vec<Need>)>> {
        if let Some(found) = self.tree.resolve(path, &need.name) {
            if self.chooser.meets(&self.tree.packages[&found], need) {
                self.note_use(path, &found, &need.name);
                return Ok(self.narrow(&self.seat(&found), scope));
            }
            if need.optional && need.peer {
                return Ok(None);
            }
        } else if need.optional && need.peer {
            return Ok(None);
        }
        let by = self.tree.packages.get(path).and_then(|entry| entry.name.as_deref());
        let Some((entry, needs)) = self.chooser.choose(need, by)? else {
            // What cannot be had, nobody else's version may stand for.
            self.uses.entry(path.to_owned()).or_default().insert(need.name.clone());
            return Ok(None);
        };
        let folder = self.folder_for(path, need);
        let target = match folder.is_empty() {
            true => format!("node_modules/{}", need.name),
            false => format!("{folder}/node_modules/{}", need.name),
        };
        // A peer that fits nobody else's version cannot be put anywhere: what is there has to do.
        if self.tree.packages.contains_key(&target) {
            return Ok(None);
        }
        if let Some(above) = self.same_above(&folder, &entry) {
            let (name, version, origin) = (entry.name, entry.version, Origin::Link(above));
            let link = Entry { name, version, origin, ..Entry::default() };
            self.tree.packages.insert(target.clone(), link);
            self.note_use(path, &target, &need.name);
            return Ok(None);
        }
        if let Origin::Link(folder) = &entry.origin {
            let own = Entry { origin: Origin::default(), ..entry.clone() };
            self.tree.packages.insert(folder.clone(), own);
        }
        self.tree.packages.insert(target.clone(), entry);
        self.note_use(path, &target, &need.name);
        let seat = self.seat(&target);
        self.placed.insert(seat.clone(), (scope, needs.clone()));
        Ok(Some((seat, needs)))
    }

    /// The package at `folder` or above it that is the same as `entry`: packages that need each other in a circle of
    /// several versions would be nested without end, and are linked to where they are already, as npm does.
    fn same_above(&self, folder: &str, entry: &Entry) -> Option<String> {
        let outwards = std::iter::successors(Some(folder), |here| Some(above(here)));
        let mut packages = outwards.take_while(|here| !here.is_empty());
        let is_same = |here: &&str| {
            let known = &self.tree.packages[*here];
            (&known.name, &known.version, &known.origin) == (&entry.name, &entry.version, &entry.origin)
        };
        packages.find(is_same).map(str::to_owned)
    }

    /// Where the package at `path` looks for others from: a linked folder from where it really is.
    fn seat(&self, path: &str) -> String {
        match &self.tree.packages[path].origin {
            Origin::Link(folder) => folder.clone(),
            _ => path.to_owned(),
        }
    }

    /// A package that is shared follows the narrowest rules of those who use it, and is looked at again.
    fn narrow(&mut self, seat: &str, scope: Scope) -> Option<(String, Vec<Need>)> {
        let placed = self.placed.get_mut(seat).filter(|placed| self.overrides.is_within(scope, placed.0))?;
        placed.0 = scope;
        Some((seat.to_owned(), placed.1.clone()))
    }

    /// The highest folder where the package for `need` can be put without being in anybody's way.
    fn folder_for(&self, path: &str, need: &Need) -> String {
        // A peer is put beside the package that wants it.
        let mut best = if need.peer { above(path).to_owned() } else { path.to_owned() };
        let mut here = best.clone();
        while !here.is_empty() {
            here = above(&here).to_owned();
            let child = if here.is_empty() { String::new() } else { format!("{here}/") };
            let taken = self.tree.packages.contains_key(&format!("{child}node_modules/{}", need.name));
            let seen_through = self.uses.get(&here).is_some_and(|names| names.contains(&need.name));
            if taken || seen_through {
                break;
            }
            best.clone_from(&here);
        }
        best
    }

    /// Remembers that `name` is looked for from `path` and found at `target`: nothing else of that name may
    /// be put between them.
    fn note_use(&mut self, path: &str, target: &str, name: &str) {
        let end = above(target);
        let mut here = path;
        while here.len() > end.len() {
            self.uses.entry(here.to_owned()).or_default().insert(name.to_owned());
            here = above(here);
        }
    }
}

/// The folder of the package, or of the app, that the package at `path` is put into.
fn above(path: &str) -> &str {
    path.rfind("node_modules/").map_or("", |at| path[..at].trim_end_matches('/'))
}

#[cfg(test)]
mod tests {
    use super::*;

    /// Packages by name and version, with what they need in exact versions.
    struct Shelf(Vec<Item>);
    type Item = (&'static str, &'static str, &'static [(&'static str, &'static str)]);

    impl Chooser for Shelf {
        fn meets(&self, entry: &Entry, need: &Need) -> bool {
            entry.version.as_deref() == Some(&need.wanted)
        }

        fn choose(&mut self, need: &Need, _by: Option<&str>) -> Result<Option<(Entry, Vec<Need>)>> {
            let (_, version, needs) = self
                .0
                .iter()
                .find(|(name, version, _)| *name == need.name && *version == need.wanted)
                .unwrap();
            let entry = Entry { version: Some((*version).to_owned()), ..Entry::default() };
            Ok(Some((entry, needs.iter().map(|(name, wanted)| needed(name, wanted)).collect())))
        }
    }

    fn needed(name: &str, wanted: &str) -> Need {
        Need { name: name.to_owned(), wanted: wanted.to_owned(), optional: false, peer: false }
    }

    #[test]
    fn everybody_finds_the_right_version_and_nothing_is_put_twice_without_need() {
        let mut shelf = Shelf(vec![
            ("bell", "1", &[("rope", "1"), ("wood", "1")]),
            ("horn", "1", &[("rope", "2"), ("tin", "1")]),
            ("tin", "1", &[("rope", "1")]),
            ("rope", "1", &[]),
            ("rope", "2", &[]),
            ("wood", "1", &[("horn", "1")]),
        ]);
        let mut tree = PackageTree::made("package.json");
        let needs = vec![needed("horn", "1"), needed("bell", "1")];
        place(Entry::default(), needs, &Overrides::default(), &mut shelf, &mut tree).unwrap();
        let placed: Vec<_> = tree
            .packages
            .iter()
            .filter(|(path, _)| !path.is_empty())
            .map(|(path, entry)| {
                format!("{} {}", path.replace("node_modules/", ""), entry.version.clone().unwrap())
            })
            .collect();
        assert_eq!(placed, ["bell 1", "horn 1", "horn/rope 2", "rope 1", "tin 1", "wood 1"]);
    }
}
