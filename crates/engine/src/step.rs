//! Steps: what they need, what they do, what they leave behind.

use crate::key::{self, Input, LayerTarget};
use content::StepKey;
use content::layer::{LayerWriter, WrittenLayer};
use model::{PackageFact, Result, Role, Withdrawn};
use remote::Fetcher;
use serde::{Deserialize, Serialize};

/// What a finished step leaves behind.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct Produced {
    /// The layer that it wrote.
    pub layer: WrittenLayer,
    /// The packages in it.
    pub packages: Vec<PackageFact>,
}

/// What a step has to do its work with.
pub struct StepContext<'a> {
    /// Gets packages.
    pub fetcher: &'a Fetcher,
    /// How many things to do at once.
    pub jobs: usize,
    /// The layers of the root that programs run in, bottom first.
    pub root: &'a [Produced],
    /// Told of what people should know.
    pub note: &'a (dyn Fn(String) + Sync),
    /// Told how many of how many parts are done.
    pub progress: &'a (dyn Fn(usize, usize) + Sync),
    /// Whether the user wants the build to end.
    pub interrupted: &'a (dyn Fn() -> bool + Sync),
}

/// The action of a step: writes one layer.
pub trait Action: Send + Sync {
    /// Writes the layer's parts; gives the packages that went in.
    fn write(&self, layer: &mut LayerWriter<'_>, tools: &StepContext<'_>) -> Result<Vec<PackageFact>>;

    /// Packages that it needs and that their registry withdrew; what cannot be asked is left out.
    fn withdrawn(&self, _tools: &StepContext<'_>) -> Vec<Withdrawn> {
        Vec::new()
    }
}

/// One step.
pub struct Step {
    /// Its name, unique in the worklist.
    pub name: String,
    /// What its layer is for.
    pub role: Role,
    /// Everything that its result depends on.
    pub inputs: Vec<Input>,
    /// What it does.
    pub work: Box<dyn Action>,
    /// Steps whose layers, bottom first, are the root of the programs that it runs.
    pub root: Vec<Step>,
    /// Whether its programs work on the source of the app.
    pub reads_source: bool,
}

impl Step {
    /// A step that runs no programs.
    pub fn new(name: impl Into<String>, role: Role, inputs: Vec<Input>, work: impl Action + 'static) -> Self {
        Self { name: name.into(), role, inputs, work: Box::new(work), root: Vec::new(), reads_source: false }
    }

    /// Makes the layers of these steps, bottom first, the root of the programs that it runs.
    pub fn work_in(&mut self, root: Vec<Self>) {
        let inputs = root.iter().flat_map(|step| &step.inputs).flat_map(|input| input.parts.clone());
        self.inputs.push(Input::of_parts("root", inputs.collect()));
        self.root = root;
    }

    /// The key that its result is kept under.
    pub fn key(&self, form: &LayerTarget) -> StepKey {
        key::step_key(&self.name, &self.inputs, form)
    }
}
