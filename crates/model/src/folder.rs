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
/// The paths of all plain files below a folder, from there, in order. Links are not followed, and not among them.
pub fn files_below(folder: &Path) -> Result<Vec<PathBuf>> {
    let mut files = Vec::new();
    let mut waiting = vec![folder.to_owned()];
    while let Some(next) = waiting.pop() {
        for path in entries(&next)? {
            let kind = fs::symlink_metadata(&path).facts(&path)?.file_type();
            if kind.is_dir() {
                waiting.push(path);
            } else if kind.is_file() {
                files.extend(path.strip_prefix(folder).map(Path::to_owned));
            }
        }
    }
    files.sort();
    Ok(files)
}
