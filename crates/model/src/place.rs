//! A place in a file of the source.

use schemars::JsonSchema;
use serde::{Deserialize, Serialize};
use std::fmt;

/// A place in a file of the source.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
pub struct Place {
    /// Path from the root of the source.
    pub file: String,
    /// Line, from 1.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub line: Option<u32>,
}

impl Place {
    /// A place in `file`, at `line` (from 1) when it is known.
    pub fn new(file: impl Into<String>, line: Option<u32>) -> Self {
        Self { file: file.into(), line }
    }

    /// The line (from 1) of the first occurrence of `needle` in `text`, as a place in `file`.
    pub fn find(file: &str, text: &str, needle: &str) -> Self {
        let line = text.lines().position(|l| l.contains(needle)).and_then(|n| u32::try_from(n + 1).ok());
        Self::new(file, line)
    }
}

impl fmt::Display for Place {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self.line {
            Some(line) => write!(f, "{} line {line}", self.file),
            None => f.write_str(&self.file),
        }
    }
}
