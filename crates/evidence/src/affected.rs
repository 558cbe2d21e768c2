//! A package that an advisory is about.

use serde::Serialize;

/// How bad something is.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Serialize)]
#[serde(rename_all = "kebab-case")]
pub enum Severity {
    /// Unknown.
    Unknown,
    /// Below 4.0.
    Low,
    /// Below 7.0.
    Medium,
    /// Below 9.0.
    High,
    /// From 9.0.
    Critical,
}

/// A package that an advisory is about.
#[derive(Debug, Clone, PartialEq, Serialize)]
pub struct Affected {
    /// The advisory.
    pub id: String,
    /// Its other names.
    pub aliases: Vec<String>,
    /// What it says in a line.
    pub summary: String,
    /// How bad it is.
    pub severity: Severity,
    /// The package URL.
    pub purl: String,
    /// The package.
    pub name: String,
    /// Its version.
    pub version: String,
    /// Versions of this package that fix it.
    pub fixed: Vec<String>,
}
