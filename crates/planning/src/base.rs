//! Bases: what lies under an app, to the rest.

use engine::Step;
use model::pins::Composition;
use model::{Result, RuntimeInUse};
use std::collections::BTreeMap;

/// What lies under an app; it does not change once it is chosen.
pub trait Base: Send + Sync {
    /// A runtime, with the steps that write it.
    fn runtime(&self, runtime: &str) -> Result<Provided>;

    /// Something that only builds.
    fn tool(&self, tool: &str) -> Result<RuntimeInUse>;

    /// Whether the root that things are built in was pinned with this tool.
    fn is_ready_for(&self, _tool: &str) -> bool {
        true
    }

    /// The steps that put a runtime with its headers on the root that things are built in, bottom first, and
    /// the folder with them; without steps, that root's own runtime is used.
    fn runtime_for_build(&self, _runtime: &str) -> (Vec<Step>, String) {
        (Vec::new(), "/usr".to_owned())
    }

    /// The steps of the root that things are built in, bottom first.
    fn build_root(&self) -> Result<Vec<Step>>;

    /// The steps of the base itself, bottom first, and what people should know.
    fn below(&self) -> Result<(Vec<Step>, Vec<String>)>;

    /// Major and minor version of the GNU C library that it has, where that is known.
    fn c_library(&self) -> Option<(u32, u32)> {
        None
    }

    /// Whether it has a POSIX shell at `/bin/sh`.
    fn has_shell(&self) -> bool {
        false
    }

    /// How it was composed of packages of a distribution, if it was.
    fn composition(&self) -> Option<Composition> {
        None
    }

    /// Environment that the base gives every process.
    fn env(&self) -> BTreeMap<String, String> {
        BTreeMap::new()
    }
}

/// A runtime that a base provides.
pub struct Provided {
    /// Which one.
    pub runtime: RuntimeInUse,
    /// Write its layers, bottom first.
    pub steps: Vec<Step>,
    /// What people should know.
    pub notes: Vec<String>,
}
