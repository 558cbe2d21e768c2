//! What is in a folder.

use crate::error::{PathFacts, Result};
use std::fs;
use std::io::ErrorKind;
use std::path::{Path, PathBuf};

/// What is directly in a folder, in order; nothing where there is no such folder. A folder that cannot be read to its end is
/// an error: whatever is missing would be missed in silence.
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
