//! What is pinned of bases and runtimes, as `shtetl.lock` holds it.

use serde::{Deserialize, Serialize};
use std::collections::BTreeMap;

/// A package, pinned.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct PackagePin {
    /// Its name.
    pub name: String,
    /// Its version.
    pub version: String,
    /// The processor it is for, or `all`.
    pub architecture: String,
    /// Path of its file in the archive.
    pub file: String,
    /// Length of the file in bytes.
    pub size: u64,
    /// Hexadecimal SHA-256 of the file.
    pub sha256: String,
    /// Whether the archive is that of security updates.
    #[serde(default)]
    pub security: bool,
}

/// The state of a suite that packages were chosen from.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct SuitePin {
    /// When it was released, as it says.
    pub date: String,
    /// SHA-256 of its signed release.
    pub sha256: String,
}

/// Packages that make one layer.
#[derive(Debug, Clone, Default, PartialEq, Eq, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct PinnedSet {
    /// What was asked for.
    pub asked: Vec<String>,
    /// What that comes to, by name.
    pub packages: Vec<PackagePin>,
}

/// Packages by the layer that they make: `base`, one for each runtime, and those of the configuration.
pub type Sets = BTreeMap<String, PinnedSet>;

/// How a base was composed of packages of a distribution: what it takes to compose it again.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, schemars::JsonSchema)]
pub struct Composition {
    /// The code name of the suite.
    pub suite: String,
    /// The sets, each of which made a layer.
    pub sets: BTreeMap<String, AskedSet>,
}

/// What was asked for to make a layer.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, schemars::JsonSchema)]
pub struct AskedSet {
    /// The step that wrote the layer.
    pub step: String,
    /// The packages that were asked for, the one whose version is the runtime's first.
    pub packages: Vec<String>,
    /// What was left out of that which they depend on.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub without: Vec<String>,
    /// The runtime, where the set is one.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub runtime: Option<String>,
}

/// A runtime from a registry, pinned.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct ExactRuntime {
    /// The package in the registry.
    pub package: String,
    /// Its version, which is also the runtime's.
    pub version: String,
    /// Its locked hash.
    pub integrity: String,
}

/// An image for one platform, pinned.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct ImagePin {
    /// Digest of its manifest.
    pub manifest: String,
    /// The runtimes that were found in it.
    #[serde(default)]
    pub runtimes: BTreeMap<String, Carried>,
}

/// A runtime in an image.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct Carried {
    /// Its version.
    pub version: String,
    /// Its program.
    pub program: String,
    /// What says the version: a file, a variable or a package of the image.
    pub said: String,
}

impl ExactRuntime {
    /// What is known before the registry was asked: some version that meets the constraint.
    pub fn unpinned(constraint: &str) -> Self {
        let least = constraint.split(|c: char| !c.is_ascii_digit() && c != '.').find(|w| !w.is_empty());
        let missing = |text: &str| 2_usize.saturating_sub(text.matches('.').count());
        let version = least.map(|text| format!("{text}{}", ".0".repeat(missing(text))));
        let version = version.unwrap_or_default();
        Self { package: "not pinned yet".to_owned(), version, integrity: String::new() }
    }
}
