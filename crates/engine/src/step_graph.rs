//! From the steps of builds to one graph: equal steps are one node.

use crate::fingerprint::Input;
use crate::graph::Graph;
use crate::key::{LayerTarget, step_key};
use crate::step::Step;
use content::StepKey;
use sandbox::AppLimits;
use std::collections::BTreeSet;

/// What stands in keys of steps for all platforms.
const ANY_PLATFORM: &str = "any";

/// A step in the graph.
pub struct Node<'s> {
    /// The step.
    pub step: &'s Step,
    /// What its layer is written for.
    pub target: &'s LayerTarget,
    /// Its inputs, to word the reason of a cache miss.
    pub inputs: Vec<Input>,
    /// The app that it was first needed for.
    pub app: &'s str,
    /// What that app allows its steps.
    pub limits: AppLimits,
}

/// The steps of one build.
pub struct BuildSteps<'s> {
    /// The app.
    pub app: &'s str,
    /// What it allows its steps.
    pub limits: AppLimits,
    /// The steps of the image, bottom first.
    pub steps: &'s [Step],
    /// What the image's layers are written for.
    pub image: &'s LayerTarget,
    /// What the layers of roots are written for: this machine.
    pub root: &'s LayerTarget,
    /// The app's own files, for steps whose programs read them.
    pub source: &'s Input,
}

/// All steps of one or several builds.
#[derive(Default)]
pub struct StepGraph<'s> {
    /// The steps by key.
    pub graph: Graph<StepKey, Node<'s>>,
}

impl<'s> StepGraph<'s> {
    /// Adds the steps of a build with those that they need; gives the keys of the image's own, in their order.
    pub fn add(&mut self, build: &BuildSteps<'s>) -> Vec<StepKey> {
        build.steps.iter().map(|step| self.add_step(build, step, build.image)).collect()
    }

    /// The steps of the image that `step` reads.
    fn read_by(&mut self, build: &BuildSteps<'s>, step: &Step) -> Vec<StepKey> {
        let named =
            |name: &&str| build.steps.iter().find(|other| other.name == **name && other.reads.is_empty());
        let read: Vec<&'s Step> = step.reads.iter().filter_map(named).collect();
        read.into_iter().map(|other| self.add_step(build, other, build.image)).collect()
    }

    /// The keys that lead to `wanted`, each once: what a step needs comes before it.
    pub fn in_order(&self, wanted: &[StepKey]) -> Vec<StepKey> {
        let mut order = Vec::new();
        let mut seen = BTreeSet::new();
        // The second time that a key comes up, all that it needs has gone before.
        let mut pending: Vec<(StepKey, bool)> = wanted.iter().rev().map(|key| (*key, false)).collect();
        while let Some((key, is_ready)) = pending.pop() {
            if is_ready {
                order.push(key);
            } else if seen.insert(key) {
                pending.push((key, true));
                pending.extend(self.graph.needs(key).iter().rev().map(|need| (*need, false)));
            }
        }
        order
    }

    fn add_step(&mut self, build: &BuildSteps<'s>, step: &'s Step, target: &'s LayerTarget) -> StepKey {
        let mut needs: Vec<StepKey> =
            step.root.iter().map(|needed| self.add_step(build, needed, build.root)).collect();
        needs.extend(self.read_by(build, step));
        let fingerprint = step.action.fingerprint();
        let source = step.reads_source.then_some(build.source);
        let own = LayerTarget { codec: target.codec, platform: ANY_PLATFORM.to_owned() };
        let written_for = if step.for_any_platform { &own } else { target };
        let key = step_key(&fingerprint, source, step.fetches.as_ref(), written_for, &needs);
        let (app, limits) = (build.app, build.limits);
        self.graph.add(key, &needs, || {
            let inputs = fingerprint.into_inputs().into_iter().chain(source.cloned()).collect();
            Node { step, target, inputs, app, limits }
        });
        key
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::fingerprint::{Fingerprint, Recipe};
    use crate::step::{Action, StepContext};
    use content::layer::{Codec, LayerWriter};
    use model::{PackageFact, Result, Role};
    use std::collections::BTreeMap;

    /// Packages of some kind, by name and version.
    struct Packages(&'static str, &'static [(&'static str, &'static str)]);

    impl Action for Packages {
        fn fingerprint(&self) -> Fingerprint {
            let Self(kind, packages) = self;
            let parts = packages.iter().map(|(name, version)| ((*name).to_owned(), (*version).to_owned()));
            Fingerprint::of(Recipe::new(kind, 1)).input("packages", parts.collect())
        }

        fn run(&self, _layer: &mut LayerWriter<'_>, _cx: &StepContext<'_>) -> Result<Vec<PackageFact>> {
            Ok(Vec::new())
        }
    }

    fn packages(kind: &'static str, packages: &'static [(&'static str, &'static str)]) -> Step {
        Step::new("packages", Role::Dependencies, Packages(kind, packages))
    }

    fn compile(root: Vec<Step>) -> Step {
        Step { reads_source: true, ..packages("compile", &[]).in_root(root) }
    }

    /// The keys of builds of these apps, each with these steps and this source, and the number of nodes.
    fn keys(builds: &[(&str, &[Step], &str)]) -> (Vec<Vec<StepKey>>, usize) {
        let target = LayerTarget { codec: Codec::Zstd, platform: "linux/amd64".to_owned() };
        let source = |(_, _, content): &(&str, &[Step], &str)| {
            Input::of_parts("source", BTreeMap::from([("app".to_owned(), (*content).to_owned())]))
        };
        let sources: Vec<Input> = builds.iter().map(source).collect();
        let mut graph = StepGraph::default();
        let of_builds = builds.iter().zip(&sources).map(|((app, steps, _), source)| {
            graph.add(&BuildSteps {
                app,
                limits: AppLimits::default(),
                steps,
                image: &target,
                root: &target,
                source,
            })
        });
        let keys: Vec<_> = of_builds.collect();
        let wanted: Vec<StepKey> = keys.iter().flatten().copied().collect();
        let nodes = graph.in_order(&wanted).len();
        (keys, nodes)
    }

    #[test]
    fn packages_of_one_name_in_two_sets_stay_apart() {
        let root = |debian, python| vec![packages("debian", debian), packages("wheels", python)];
        let variants = [
            root(&[("cmake", "3")], &[("cmake", "4")]),
            root(&[("cmake", "4")], &[("cmake", "4")]),
            root(&[("cmake", "3")], &[("cmake", "3")]),
            root(&[("cmake", "3"), ("cmake", "4")], &[]),
            root(&[], &[("cmake", "4")]),
        ];
        let keys: BTreeSet<StepKey> =
            variants.into_iter().map(|root| keys(&[("ferry", &[compile(root)], "1")]).0[0][0]).collect();
        assert_eq!(keys.len(), 5);
    }

    #[test]
    fn a_step_that_reads_a_layer_of_the_image_needs_that_layer_itself() {
        let (zstd, gzip) = (Codec::Zstd, Codec::Gzip);
        let [root, image] =
            [zstd, gzip].map(|codec| LayerTarget { codec, platform: "linux/amd64".to_owned() });
        let source = Input::of_parts("source", BTreeMap::new());
        let reading = Step { name: "tags".to_owned(), reads: vec!["pages", "none"], ..packages("tags", &[]) };
        let steps = [reading, Step { name: "pages".to_owned(), ..compile(Vec::new()) }];
        let mut graph = StepGraph::default();
        let build = BuildSteps {
            app: "ferry",
            limits: AppLimits::default(),
            steps: &steps,
            image: &image,
            root: &root,
            source: &source,
        };
        let keys = graph.add(&build);
        assert_eq!(graph.graph.needs(keys[0]), &[keys[1]][..], "not one of its own for this machine");
        assert_eq!(graph.in_order(&keys), [keys[1], keys[0]]);
    }

    #[test]
    fn builds_share_what_is_the_same_for_them() {
        let steps =
            || [packages("wheels", &[("fog", "1")]), compile(vec![packages("debian", &[("gcc", "14")])])];
        let (keys, nodes) = keys(&[("ferry", &steps(), "1"), ("pier", &steps(), "2")]);
        assert_eq!(keys[0][0], keys[1][0], "packages do not depend on the app");
        assert_ne!(keys[0][1], keys[1][1], "what is compiled does");
        assert_eq!(nodes, 4, "the root is there once");
    }
}
