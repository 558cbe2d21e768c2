//! From the steps of builds to one graph: equal steps are one node, whoever needs them.

use crate::fingerprint::Input;
use crate::graph::Graph;
use crate::key::{LayerTarget, step_key};
use crate::step::Step;
use content::StepKey;
use std::collections::BTreeSet;

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
}

/// The steps of one build.
pub struct BuildSteps<'s> {
    /// The app.
    pub app: &'s str,
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
        let needs: Vec<StepKey> =
            step.root.iter().map(|needed| self.add_step(build, needed, build.root)).collect();
        let fingerprint = step.action.fingerprint();
        let source = step.reads_source.then_some(build.source);
        let key = step_key(&fingerprint, source, target, &needs);
        let app = build.app;
        self.graph.add(key, &needs, || {
            let inputs = fingerprint.into_inputs().into_iter().chain(source.cloned()).collect();
            Node { step, target, inputs, app }
        });
        key
    }
}
