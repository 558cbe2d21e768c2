//! Documents in the OSV format (Open Source Vulnerability schema 1.7).

use model::folder::entries;
use serde::Deserialize;
use serde_json::Value;
use std::fs;
use std::path::{Path, PathBuf};

/// Files that are no advisories.
#[derive(Debug, thiserror::Error)]
pub enum AdvisoryFault {
    /// It cannot be read.
    #[error("{path}: {source}", path = path.display())]
    Unreadable {
        /// The file or folder.
        path: PathBuf,
        /// What the system says.
        source: std::io::Error,
    },
    /// It is no document of this format.
    #[error("{path}: {detail}", path = path.display())]
    Malformed {
        /// The file.
        path: PathBuf,
        /// What is wrong.
        detail: String,
    },
}

/// An advisory.
#[derive(Debug, Deserialize)]
pub struct Advisory {
    pub(crate) id: String,
    #[serde(default)]
    pub(crate) aliases: Vec<String>,
    #[serde(default)]
    pub(crate) summary: String,
    #[serde(default)]
    pub(crate) details: String,
    #[serde(default)]
    pub(crate) withdrawn: Option<String>,
    #[serde(default)]
    pub(crate) severity: Vec<Score>,
    #[serde(default)]
    pub(crate) affected: Vec<About>,
    #[serde(default)]
    pub(crate) database_specific: Value,
}

#[derive(Debug, Deserialize)]
pub(crate) struct Score {
    pub(crate) score: String,
}

#[derive(Debug, Deserialize)]
pub(crate) struct About {
    pub(crate) package: Option<Package>,
    #[serde(default)]
    pub(crate) severity: Vec<Score>,
    #[serde(default)]
    pub(crate) ranges: Vec<Range>,
    #[serde(default)]
    pub(crate) versions: Vec<String>,
}

#[derive(Debug, Deserialize)]
pub(crate) struct Package {
    pub(crate) ecosystem: String,
    pub(crate) name: String,
}

#[derive(Debug, Deserialize)]
pub(crate) struct Range {
    #[serde(rename = "type")]
    pub(crate) kind: String,
    #[serde(default)]
    pub(crate) events: Vec<Event>,
}

/// Only one of them is present.
#[derive(Debug, Default, Deserialize)]
#[serde(default)]
pub(crate) struct Event {
    pub(crate) introduced: Option<String>,
    pub(crate) fixed: Option<String>,
    pub(crate) last_affected: Option<String>,
}

/// Reads a document, or all documents in a folder and the folders in it.
pub fn read(path: &Path) -> Result<Vec<Advisory>, AdvisoryFault> {
    let unreadable = |source| AdvisoryFault::Unreadable { path: path.to_owned(), source };
    let mut all = Vec::new();
    if fs::metadata(path).map_err(unreadable)?.is_dir() {
        let inside = entries(path).map_err(|error| unreadable(std::io::Error::other(error)))?;
        for one in
            inside.iter().filter(|one| one.is_dir() || one.extension().is_some_and(|end| end == "json"))
        {
            all.extend(read(one)?);
        }
        return Ok(all);
    }
    let malformed = |error: serde_json::Error| AdvisoryFault::Malformed {
        path: path.to_owned(),
        detail: error.to_string(),
    };
    let document: Value = serde_json::from_slice(&fs::read(path).map_err(unreadable)?).map_err(malformed)?;
    let documents = if let Value::Array(all) = document { all } else { vec![document] };
    for document in documents {
        all.push(serde_json::from_value(document).map_err(malformed)?);
    }
    Ok(all)
}
