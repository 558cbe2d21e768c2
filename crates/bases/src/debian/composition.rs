//! Bases that were composed before are composed again, of the newest packages or of another suite.

use crate::debian::pins::{BASE_SET, EXTRA, Wanted, WantedRuntime, resolve};
use crate::debian::suites::Suite;
use crate::debian::{BuildRoot, DebianBase, version_of};
use config::addresses::Addresses;
use engine::Step;
use model::pins::{AskedSet, Composition, Sets};
use model::{Result, Role};
use remote::Address;
use remote::packages::debian::Index;
use std::collections::BTreeMap;

/// What stands for everything that packages depend on.
pub const EVERYTHING: &str = "*";

/// A base that was composed again.
pub struct Composed {
    /// How.
    pub composition: Composition,
    /// Its layers, bottom first.
    pub layers: Vec<ComposedLayer>,
}

/// A layer of it.
pub struct ComposedLayer {
    /// The step that wrote the layer before.
    pub in_place_of: String,
    /// The step that writes it now.
    pub step: Step,
    /// The runtime in it with its version, where it is one.
    pub runtime: Option<(String, String)>,
}

impl DebianBase {
    /// How it was composed; `without` are patterns of dependencies that were left out of the base itself.
    pub(crate) fn composed(&self, without: &[&str]) -> Composition {
        let asked = |(set, pinned): (&String, &model::pins::PinnedSet)| {
            let wanted = self.runtimes.iter().find(|wanted| wanted.set == *set);
            let own_without = wanted.map(|wanted| wanted.without.clone());
            let without = || without.iter().map(|pattern| (*pattern).to_owned()).collect();
            let asked = AskedSet {
                step: self.step_of(set).name,
                packages: pinned.asked.clone(),
                without: own_without.unwrap_or_else(without),
                runtime: wanted.filter(|wanted| wanted.own.is_some()).map(|wanted| wanted.name.clone()),
            };
            (set.clone(), asked)
        };
        Composition { suite: self.suite.name.to_owned(), sets: self.sets.iter().map(asked).collect() }
    }

    /// The step that writes a set.
    pub(super) fn step_of(&self, set: &str) -> Step {
        let of_suite = |what: &str| format!("debian {} {what}", self.suite.name);
        let is_runtime = |wanted: &&WantedRuntime| wanted.set == set && wanted.own.is_some();
        let (name, role) = match set {
            BASE_SET => (of_suite("base"), Role::Base),
            EXTRA => (of_suite("packages"), Role::Base),
            _ if self.runtimes.iter().any(|wanted| is_runtime(&wanted)) => {
                (format!("{set} runtime"), Role::Runtime)
            }
            _ => (format!("{set} libraries"), Role::Runtime),
        };
        self.step(set, name, role)
    }
}

/// What packages of `suite` make a base again, as `index` lists them for a processor (Debian's name).
pub fn choose_again(
    old: &Composition,
    suite: &'static Suite,
    (architecture, index): (&'static str, &Index),
) -> Result<Sets> {
    resolve(&wanted_again(old, suite, architecture), index)
}

/// What is wanted of a base that was composed before.
fn wanted_again<'a>(old: &'a Composition, suite: &'static Suite, architecture: &'static str) -> Wanted<'a> {
    let of = |set: &str| old.sets.get(set).map(|asked| &asked.packages[..]).unwrap_or_default();
    let names = |set: &str| of(set).iter().map(String::as_str).collect::<Vec<&'a str>>();
    let is_runtime = |(set, _): &(&String, &AskedSet)| !matches!(set.as_str(), BASE_SET | EXTRA);
    let runtimes: Vec<WantedRuntime> =
        old.sets.iter().filter(is_runtime).map(|(set, asked)| wanted(old, (set, asked), suite)).collect();
    let only_base =
        old.sets.get(BASE_SET).is_some_and(|base| base.without.iter().any(|one| one == EVERYTHING));
    Wanted { suite, architecture, base: names(BASE_SET), only_base, runtimes, packages: names(EXTRA) }
}

/// Composes a base again of packages that were chosen.
pub fn compose_again(
    old: &Composition,
    suite: &'static Suite,
    (architecture, sets): (&'static str, Sets),
    (archives, npm): (&[Option<Address>; 2], &Addresses),
) -> Composed {
    let wanted = wanted_again(old, suite, architecture);
    let only_base = wanted.only_base;
    let base = DebianBase {
        suite,
        sets,
        runtimes: wanted.runtimes,
        exact: BTreeMap::new(),
        archives: archives.clone(),
        npm: npm.clone(),
        architecture,
        build: BuildRoot::default(),
    };
    let mut composition = base.composed(if only_base { &[EVERYTHING] } else { &[] });
    let mut layers = Vec::new();
    for (set, old) in &old.sets {
        let mut step = base.step_of(set);
        if only_base {
            // The base that is empty otherwise has a name of its own for them.
            step.name.clone_from(&old.step);
            composition.sets.entry(set.clone()).and_modify(|asked| asked.step.clone_from(&old.step));
        }
        let own = base.runtimes.iter().find(|wanted| wanted.set == *set);
        let version = own.and_then(|wanted| Some((wanted.name.clone(), wanted.own?)));
        let runtime = version.map(|(name, own)| (name, version_of(own, base.sets.get(set))));
        layers.push(ComposedLayer { in_place_of: old.step.clone(), step, runtime });
    }
    layers.sort_by_key(|layer| layer.step.role);
    Composed { composition, layers }
}

/// A runtime as it was asked for; of another suite, what that has under its name.
fn wanted(old: &Composition, (set, asked): (&String, &AskedSet), suite: &Suite) -> WantedRuntime {
    let main = asked.packages.first().map(String::as_str);
    let is_same = old.suite == suite.name;
    let own = asked.runtime.as_ref().and_then(|name| {
        let same = suite
            .runtimes
            .iter()
            .find(|one| is_same && one.name == name && one.packages.first().copied() == main);
        same.or_else(|| suite.runtime(name, |_| true))
    });
    let of_suite = || own.map(|own| own.packages.iter().map(|name| (*name).to_owned()).collect());
    let packages = if is_same { None } else { of_suite() };
    WantedRuntime {
        name: asked.runtime.clone().unwrap_or_else(|| set.clone()),
        own,
        made_of: None,
        set: set.clone(),
        packages: packages.unwrap_or_else(|| asked.packages.clone()),
        without: asked.without.clone(),
    }
}
