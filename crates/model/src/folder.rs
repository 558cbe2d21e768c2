//! What is in a folder.

use crate::error::{PathFacts, Result};
use std::fs;
use std::io::ErrorKind;
use std::path::{Path, PathBuf};

/// The entries of a folder, sorted; empty when the folder does not exist. An entry that cannot be read is an error: skipping
/// it would silently change what is built.
pub fn entries(folder: &Path) -> Result<Vec<PathBuf>> {
    let listed = match fs::read_dir(folder) {
        Err(error) if error.kind() == ErrorKind::NotFound => return Ok(Vec::new()),
        listed => listed.facts(folder)?,
    };
    let mut all = Vec::new();
    for entry in listed {
        all.push(entry.facts(folder)?.path());
    }
    all.sort();
    Ok(all)
}
