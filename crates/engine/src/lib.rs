//! Steps with keys, and their execution.
//!
//! ```text
//! Step (an Action, and the steps of its root) ─► StepGraph (nodes by key) ─► decide: found, or why not
//!     ─► Queue (longest way first) ─► workers, within the Budget ─► layers in the store
//! ```
//!
//! | module | owns |
//! | --- | --- |
//! | `fingerprint`, `key` | what an action is as a value, and the keys made from it; one way to hash ([`digester`](self)) |
//! | `step`, `step_graph` | what bases and buildpacks contribute, and one graph of it |
//! | `graph`, `queue` | generic and pure: nodes that need each other, and the order in which they are done |
//! | `budget`, `session`, `parallel` | how much is done at once, and what all builds of a process share |
//! | `decide`, `reason` | what the store has, and why a step has to run |
//! | `execute`, `run_step`, `event` | the loop over all steps, one step, and its events |
//! | `program_step`, `collect` | programs of steps, isolated, and what they wrote |
//! | `asked_program` | programs that are asked something, isolated, and their answers |
//! | `download_buffer`, `package_archive`, `layer_shards`, `support_files`, `unpacked_layers` | what actions share |
#![forbid(unsafe_code)]

pub mod asked_program;
mod budget;
pub mod collect;
mod decide;
mod digester;
pub mod download_buffer;
mod event;
mod execute;
mod failed_root;
mod fingerprint;
mod fragments;
mod graph;
mod key;
pub mod layer_shards;
pub mod package_archive;
mod parallel;
pub mod program_step;
mod queue;
mod reason;
mod run_step;
pub mod sandbox_mode;
mod scratch;
mod session;
mod step;
mod step_graph;
pub mod support_files;
mod told_lines;
pub mod unpacked_layers;

pub use budget::{Budget, Gate};
pub use decide::{Decision, Decisions, Finished, decide, fetch_results, keep_as};
pub use event::{Event, PlannedStep, StepOutcome};
pub use execute::{OnFailure, execute, execute_groups};
pub use failed_root::{FailedRoot, KeptRoot};
pub use fingerprint::{Fingerprint, Input, Recipe, parts_digest};
pub use fragments::append_fragment;
pub use graph::Graph;
pub use key::LayerTarget;
pub use parallel::{each_fetched, each_in_parallel, find_in_parallel, run_indexed};
pub use queue::Queue;
pub use reason::{Change, MissReason};
pub use session::{Session, SharedResults};
pub use step::{Action, Fetches, Produced, Step, StepContext};
pub use step_graph::{BuildSteps, Node, StepGraph};
