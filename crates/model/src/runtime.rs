//! Runtimes: wished for, and chosen.

use crate::Place;
use schemars::JsonSchema;
use serde::{Deserialize, Serialize};

/// A runtime that a buildpack needs.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, JsonSchema)]
pub struct RuntimeWish {
    /// For example `node`.
    pub runtime: String,
    /// The accepted versions, and where they come from.
    pub constraint: Option<(String, Place)>,
    /// Further places that say something of the version.
    pub also_said: Vec<(String, Place)>,
    /// Versions that locked packages want, with a package that wants them.
    #[serde(skip)]
    pub of_packages: Vec<(String, String)>,
    /// Required parts besides its core (extensions of PHP), with their origins.
    pub parts: Vec<(String, Place)>,
    /// Whether it only builds, and no image has it.
    pub for_build: bool,
    /// Whether the app itself is written for it; otherwise it only serves, and any version is suitable.
    pub for_app: bool,
    /// Another runtime that does the same, for bases other than Debian's.
    #[serde(skip)]
    pub elsewhere: Option<&'static str>,
}

impl RuntimeWish {
    /// A wish from what the configuration and the source say, strongest first.
    pub fn of(runtime: &str, configured: Option<(String, Place)>, said: Vec<(String, Place)>) -> Self {
        let mut all = configured.into_iter().chain(said);
        let constraint = all.next();
        Self {
            runtime: runtime.to_owned(),
            constraint,
            also_said: all.collect(),
            of_packages: Vec::new(),
            parts: Vec::new(),
            for_build: false,
            for_app: true,
            elsewhere: None,
        }
    }
}

/// A runtime that was chosen for a build.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
pub struct RuntimeInUse {
    /// For example `node`.
    pub name: String,
    /// Its exact version.
    pub version: String,
    /// Where it comes from: the base.
    pub origin: String,
    /// The folder with its program in the image.
    #[serde(skip)]
    pub bin_folder: String,
}
