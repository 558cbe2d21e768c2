//! Steps: what they need, what they do, what they leave behind.

use crate::budget::Budget;
use crate::failed_root::KeptRoot;
use crate::fingerprint::Fingerprint;
use cancel::Cancel;
use content::layer::{LayerWriter, WrittenLayer};
use gateway::{Gateway, Source};
use model::fetched::FetchedAnswer;
use model::{Error, PackageFact, Result, Role, Withdrawn};
use remote::Fetcher;
use sandbox::{AppLimits, Limits};
use serde::{Deserialize, Serialize};

/// What a finished step leaves behind.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct Produced {
    /// The layer that it wrote.
    pub layer: WrittenLayer,
    /// The packages in it.
    pub packages: Vec<PackageFact>,
}

/// What an action has to do its work with.
pub struct StepContext<'a> {
    /// The app that the step runs for.
    pub app: &'a str,
    /// The step's name.
    pub step: &'a str,
    /// Gets packages.
    pub fetcher: &'a Fetcher,
    /// How much to do at once.
    pub budget: &'a Budget,
    /// The layers of the root that programs run in, bottom first.
    pub root: &'a [Produced],
    /// The layers of the image that the step reads, bottom first.
    pub read: &'a [Produced],
    /// Told of what people should know.
    pub note: &'a (dyn Fn(String) + Sync),
    /// Told how many of how many parts are done.
    pub progress: &'a (dyn Fn(usize, usize) + Sync),
    /// How much the user lets the programs of the step use.
    pub limits: Limits,
    /// How much its app does.
    pub app_limits: AppLimits,
    /// What its programs fetch from, if they may fetch anything.
    pub gateway: Option<&'a Gateway<'a>>,
    /// Where the root of a program that fails is kept; without it, it is removed.
    pub failed_root: Option<&'a KeptRoot>,
    /// Ends the step early.
    pub cancel: &'a Cancel,
}

impl StepContext<'_> {
    /// An error when the step should end; asked between pieces of work.
    pub fn check_cancelled(&self) -> Result<()> {
        if self.cancel.is_cancelled() { Err(Error::Interrupted) } else { Ok(()) }
    }
}

/// What a step does: writes one layer.
pub trait Action: Send + Sync {
    /// Everything that shapes the result, besides the steps that are needed and the source that programs read.
    /// Take the action apart in full here, so that a new field does not compile until it is decided whether it
    /// shapes the result.
    fn fingerprint(&self) -> Fingerprint;

    /// Writes the layer's parts; gives the packages that went in.
    fn run(&self, layer: &mut LayerWriter<'_>, cx: &StepContext<'_>) -> Result<Vec<PackageFact>>;

    /// Packages that it needs and that their registry withdrew; what cannot be asked is left out.
    fn withdrawn(&self, _cx: &StepContext<'_>) -> Vec<Withdrawn> {
        Vec::new()
    }
}

/// One step, as bases and buildpacks contribute it.
pub struct Step {
    /// Its name, unique in a build.
    pub name: String,
    /// What its layer is for.
    pub role: Role,
    /// What it does.
    pub action: Box<dyn Action>,
    /// Steps whose layers, bottom first, are the root of the programs that it runs.
    pub root: Vec<Step>,
    /// Whether its programs work on the source of the app.
    pub reads_source: bool,
    /// Whether its layer is the same for every platform: what it runs is for this machine in any case.
    pub for_any_platform: bool,
    /// Steps of the same image whose layers it reads, by name and bottom first; one that the image does not have
    /// is passed over.
    pub reads: Vec<&'static str>,
    /// The package that it compiles, if it does.
    pub compiles: Option<String>,
    /// What its programs may fetch; nothing else of the network is there for them.
    pub fetches: Option<Fetches>,
}

/// What the programs of a step fetch through the gateway.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Fetches {
    /// Where each kind of files comes from.
    pub sources: Vec<Source>,
    /// Stands for what decides what is fetched.
    pub asked: String,
    /// Answers that are given as they were.
    pub pinned: Vec<FetchedAnswer>,
    /// Whether whatever else is asked for is fetched, too, and recorded. The result of such a step is only kept under
    /// the key of the step that has the record pinned.
    pub records: bool,
}

impl Step {
    /// A step that runs no programs.
    pub fn new(name: impl Into<String>, role: Role, action: impl Action + 'static) -> Self {
        Self {
            name: name.into(),
            role,
            action: Box::new(action),
            root: Vec::new(),
            reads_source: false,
            for_any_platform: false,
            reads: Vec::new(),
            compiles: None,
            fetches: None,
        }
    }

    /// Says that it compiles a package.
    pub fn compiling(self, package: &str) -> Self {
        Self { compiles: Some(package.to_owned()), ..self }
    }

    /// Lets its programs fetch.
    pub fn fetching(self, fetches: Fetches) -> Self {
        Self { fetches: Some(fetches), ..self }
    }

    /// Makes the layers of these steps, bottom first, the root of the programs that it runs.
    pub fn in_root(self, root: Vec<Self>) -> Self {
        Self { root, ..self }
    }
}
