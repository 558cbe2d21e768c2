//! The worklist: every step of a build with its pinned inputs, before anything runs.

mod build_command;
mod key;
mod plan;
mod reason;

pub use key::{Form, Input, parts_digest};
pub use plan::{RuntimeInUse, Sources, Worklist, needed_runtimes, needed_tools, plan};
pub use reason::{Change, LastInputs, MissReason, compare};

use crate::error::Result;
use content::StepKey;
use content::layer::{LayerWriter, WrittenLayer};
use remote::Fetcher;
use serde::{Deserialize, Serialize};

/// What a layer is for. The order is from the bottom of an image to its top: by how seldom it changes.
#[derive(
    Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Hash, Serialize, Deserialize, schemars::JsonSchema,
)]
#[serde(rename_all = "kebab-case")]
pub enum Role {
    /// What every program needs: libraries, certificates, time zones, users.
    Base,
    /// A language's interpreter with its own library.
    Runtime,
    /// Locked packages.
    Dependencies,
    /// Files that a buildpack adds to the app.
    Support,
    /// The app's own files.
    App,
    /// What programs of the build made of them.
    Built,
}

impl Role {
    /// The name in texts and documents.
    pub fn name(self) -> &'static str {
        match self {
            Self::Base => "base",
            Self::Runtime => "runtime",
            Self::Dependencies => "dependencies",
            Self::Support => "support",
            Self::App => "app",
            Self::Built => "built",
        }
    }
}

/// A package that a step put into a layer.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, schemars::JsonSchema)]
pub struct PackageFact {
    /// Its name in its registry.
    pub name: String,
    /// Its version.
    pub version: String,
    /// Package URL (ECMA-427).
    pub purl: String,
    /// The licence that it declares.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub licence: Option<String>,
    /// The locked hash.
    pub integrity: String,
    /// Patches of the app that changed it, each with its digest.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub patched: Vec<String>,
}

/// What a finished step leaves behind.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct StepResult {
    /// The layer that it wrote.
    pub layer: WrittenLayer,
    /// The packages in it.
    pub packages: Vec<PackageFact>,
}

/// What a step has to do its work with.
pub struct Tools<'a> {
    /// Gets packages.
    pub fetcher: &'a Fetcher,
    /// How many things to do at once.
    pub jobs: usize,
    /// The layers of the root that programs run in, bottom first.
    pub root: &'a [StepResult],
    /// Told of what people should know.
    pub note: &'a (dyn Fn(String) + Sync),
    /// Told how many of how many parts are done.
    pub progress: &'a (dyn Fn(usize, usize) + Sync),
    /// Whether the user wants the build to end.
    pub interrupted: &'a (dyn Fn() -> bool + Sync),
}

/// The action of a step: writes one layer.
pub trait Work: Send + Sync {
    /// Writes the layer's parts; gives the packages that went in.
    fn write(&self, layer: &mut LayerWriter<'_>, tools: &Tools<'_>) -> Result<Vec<PackageFact>>;

    /// Packages that it needs and that their registry withdrew; what cannot be asked is left out.
    fn withdrawn(&self, _tools: &Tools<'_>) -> Vec<Withdrawn> {
        Vec::new()
    }
}

/// A locked package that its registry does not stand for any more.
#[derive(Debug, Clone, PartialEq, Eq, PartialOrd, Ord)]
pub struct Withdrawn {
    /// Name and version.
    pub package: String,
    /// The lockfile.
    pub lockfile: String,
    /// Whether it cannot be had at all.
    pub gone: bool,
    /// What the registry says.
    pub reason: String,
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
    pub work: Box<dyn Work>,
    /// Steps whose layers, bottom first, are the root of the programs that it runs.
    pub root: Vec<Step>,
    /// Whether its programs work on the source of the app.
    pub reads_source: bool,
}

impl Step {
    /// A step that runs no programs.
    pub fn new(name: impl Into<String>, role: Role, inputs: Vec<Input>, work: impl Work + 'static) -> Self {
        Self { name: name.into(), role, inputs, work: Box::new(work), root: Vec::new(), reads_source: false }
    }

    /// Makes the layers of these steps, bottom first, the root of the programs that it runs.
    pub fn work_in(&mut self, root: Vec<Self>) {
        let inputs = root.iter().flat_map(|step| &step.inputs).flat_map(|input| input.parts.clone());
        self.inputs.push(Input::of_parts("root", inputs.collect()));
        self.root = root;
    }

    /// The key that its result is kept under.
    pub fn key(&self, form: &Form) -> StepKey {
        key::step_key(&self.name, &self.inputs, form)
    }
}
