//! Events of a build, for display.

use crate::reason::MissReason;
use content::StepKey;
use model::Role;
use serde::{Deserialize, Serialize};

/// Something that happened. `app` is the app that a step is first needed for.
#[derive(Debug, Clone, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case", tag = "event")]
#[allow(missing_docs, reason = "the fields say what they are; each variant is documented")]
pub enum Event {
    /// A step's result is in the store.
    Found { app: String, step: String, role: Role, size: u64 },
    /// A step's result was in the shared store.
    Shared { app: String, step: String, role: Role, size: u64, milliseconds: u64 },
    /// These steps have to run.
    Planned { steps: Vec<PlannedStep> },
    /// A step begins.
    Started { app: String, step: String, role: Role, because: MissReason },
    /// A step has done a part of its work.
    Progress { app: String, step: String, done: usize, total: usize },
    /// A step is finished.
    Finished { app: String, step: String, role: Role, size: u64, milliseconds: u64 },
    /// A file of the store, by its path there, was damaged, and is as good as missing.
    Damaged { path: String },
    /// Something that people should know.
    Note { text: String },
}

/// A step that has to run.
#[derive(Debug, Clone, Serialize, Deserialize)]
pub struct PlannedStep {
    /// Its name.
    pub step: String,
    /// The steps that have to run before it.
    pub after: Vec<String>,
}

/// How a step fared.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct StepOutcome {
    /// Its name.
    pub step: String,
    /// What its layer is for.
    pub role: Role,
    /// The key of its result.
    pub key: StepKey,
    /// Why it ran; `None` when its result was found.
    pub because: Option<MissReason>,
    /// When it began, in milliseconds since the first step could.
    #[serde(default)]
    pub began: u64,
    /// How long it ran, in milliseconds, or how long its result travelled.
    pub milliseconds: u64,
    /// Whether its result came from the shared store.
    #[serde(default, skip_serializing_if = "std::ops::Not::not")]
    pub shared: bool,
}
