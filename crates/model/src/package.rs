//! Packages, as the record and the checks know them.

use schemars::JsonSchema;
use serde::{Deserialize, Serialize};

/// A package that a step put into a layer.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
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
    /// The package of sources that it was built from, where that has another name or version: advisories of distributions
    /// are about these.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub source: Option<SourcePackage>,
    /// The locked hash.
    pub integrity: String,
    /// The layer that it is in, counted from the bottom, which is 0.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub layer: Option<usize>,
    /// The packages that it needs, as places in the list of packages of the record (of a step: in its own list); nothing
    /// where that is not known.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub needs: Vec<usize>,
    /// Patches of the app that changed it, each with its digest.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub patched: Vec<String>,
}

/// A package of sources of a distribution.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
pub struct SourcePackage {
    /// Its name.
    pub name: String,
    /// Its version.
    pub version: String,
}

impl PackageFact {
    /// An unmodified package with an unknown licence.
    pub fn new(name: impl Into<String>, version: &str, purl: String, integrity: impl Into<String>) -> Self {
        Self {
            name: name.into(),
            version: version.to_owned(),
            purl,
            licence: None,
            source: None,
            integrity: integrity.into(),
            layer: None,
            needs: Vec::new(),
            patched: Vec::new(),
        }
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
