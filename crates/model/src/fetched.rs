//! What programs of steps fetched through the gateway, as `shtetl.lock` holds it.

use serde::{Deserialize, Serialize};
use std::collections::BTreeMap;

/// One answer that a program got.
#[derive(Debug, Clone, Default, PartialEq, Eq, PartialOrd, Ord, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct FetchedAnswer {
    /// The kind of address that it came from, for example `maven`.
    pub from: String,
    /// The path below that address.
    pub path: String,
    /// Length in bytes; 0 where nothing was there.
    #[serde(default)]
    pub size: u64,
    /// Hexadecimal SHA-256; nothing where nothing was there.
    #[serde(default)]
    pub sha256: Option<String>,
}

/// What the programs of one step fetched.
#[derive(Debug, Clone, Default, PartialEq, Eq, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct FetchedSet {
    /// Stands for what decides what they fetch; when it changes, they fetch again.
    pub asked: String,
    /// The answers, by address and path.
    pub answers: Vec<FetchedAnswer>,
}

/// By the name of the step.
pub type FetchedSets = BTreeMap<String, FetchedSet>;
