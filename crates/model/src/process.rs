//! Process types: the ways to run an app.

use crate::Place;
use schemars::JsonSchema;
use serde::{Deserialize, Serialize};
use std::collections::BTreeMap;

/// Whether a process goes on or ends by itself.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
#[serde(rename_all = "lowercase")]
pub enum ProcessKind {
    /// Goes on until it is told to end.
    Process,
    /// Does its work and ends.
    Task,
}

/// One way to run the app.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
pub struct ProcessType {
    /// For example `web`.
    pub name: String,
    /// Process or task.
    pub kind: ProcessKind,
    /// The program and its arguments; `$NAME` in them is the value of a variable.
    pub command: Vec<String>,
    /// The folder that it starts in, from that of the app; empty for that itself.
    #[serde(default, skip_serializing_if = "String::is_empty")]
    pub folder: String,
    /// Variables that only it has, with their values.
    #[serde(default, skip_serializing_if = "BTreeMap::is_empty")]
    pub env: BTreeMap<String, String>,
    /// Folders that it writes to, from that of the app.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub writable: Vec<String>,
    /// The port that it listens on.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub port: Option<u16>,
    /// A path that answers with success when the process is well.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub health: Option<String>,
    /// How often it is asked for its health, in seconds.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub health_every: Option<u32>,
    /// How long it may take until it answers for the first time, in seconds.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub start_within: Option<u32>,
    /// Memory that it may use, with all that it starts, in bytes.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub memory: Option<u64>,
    /// How many of it should run.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub instances: Option<u32>,
    /// The moment before which a task runs.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub before: Option<String>,
    /// Where its command comes from.
    pub said: Place,
}

impl ProcessType {
    /// A process type as a buildpack finds it, with nothing but its command.
    pub fn found(name: &str, kind: ProcessKind, command: &[&str], said: Place) -> Self {
        Self {
            name: name.to_owned(),
            kind,
            command: command.iter().map(|w| (*w).to_owned()).collect(),
            folder: String::new(),
            env: BTreeMap::new(),
            writable: Vec::new(),
            port: None,
            health: None,
            health_every: None,
            start_within: None,
            memory: None,
            instances: None,
            before: None,
            said,
        }
    }

    /// The path from the root of the source that a word of its command means, if it means one there.
    pub fn path_of(&self, word: &str) -> String {
        in_folder(&self.folder, word.trim_start_matches("./"))
    }
}

/// The moments before which a task can run, as they are written.
pub mod moments {
    /// Once before a new release takes over.
    pub const RELEASE: &str = "release";
    /// Before every start of the app.
    pub const START: &str = "start";
    /// All of them.
    pub const ALL: [&str; 2] = [RELEASE, START];
}

/// A path from `folder` as one from the root of the source; an empty folder is the root.
pub fn in_folder(folder: &str, path: &str) -> String {
    match (folder, path) {
        ("", path) => path.to_owned(),
        (folder, "") => folder.to_owned(),
        (folder, path) => format!("{folder}/{path}"),
    }
}
