//! What a build runs to make files of the app.

use crate::Place;
use schemars::JsonSchema;
use serde::Serialize;

/// A command of a build.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, JsonSchema)]
pub struct BuildCommand {
    /// The program and its arguments.
    pub run: Vec<String>,
    /// What it needs, by the names of the catalogue.
    pub tools: Vec<String>,
    /// Patterns of the files that go into the image.
    pub keep: Vec<String>,
    /// Kinds of files that it fetches while it runs, such as `npm` or `files:fonts`.
    #[serde(skip_serializing_if = "Vec::is_empty")]
    pub fetch: Vec<String>,
}

/// A command that makes files of the app.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, JsonSchema)]
pub struct AppBuild {
    /// The command.
    pub command: BuildCommand,
    /// The folder that it runs in, from the root of the source; empty for that itself.
    #[serde(skip_serializing_if = "String::is_empty")]
    pub folder: String,
    /// The line that people know it by.
    pub shown: String,
    /// Where it comes from.
    pub said: Place,
}

/// Pages that a build makes.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, JsonSchema)]
pub struct Pages {
    /// Their folder, from that of the app.
    pub folder: String,
    /// Whether every path that is no file is answered with the first page: the page finds its own way.
    pub single_page: bool,
    /// Where that comes from.
    pub said: Place,
}
