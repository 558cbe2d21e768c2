//! Files that a program of a step wrote: which there are, and their way into a layer.

use content::layer::{Entry, LayerWriter, TarWriter};
use model::error::SourceError;
use model::{Error, PathFacts, Result};
use std::collections::BTreeSet;
use std::fs::{self, File};
use std::io::Write;
use std::os::unix::fs::PermissionsExt;
use std::path::Path;

/// The regular files and links below `root`, by their paths from there.
pub fn files(root: &Path) -> Result<BTreeSet<String>> {
    let mut found = BTreeSet::new();
    list(root, "", &mut found)?;
    Ok(found)
}

fn list(root: &Path, folder: &str, found: &mut BTreeSet<String>) -> Result<()> {
    let full = root.join(folder);
    for entry in fs::read_dir(&full).facts(&full)? {
        let entry = entry.facts(&full)?;
        let name = entry
            .file_name()
            .into_string()
            .map_err(|name| Error::Source(SourceError::FileName { path: full.join(name) }))?;
        let path = if folder.is_empty() { name } else { format!("{folder}/{name}") };
        match entry.file_type().facts(&full)? {
            kind if kind.is_dir() => list(root, &path, found)?,
            kind if kind.is_file() || kind.is_symlink() => drop(found.insert(path)),
            _ => {}
        }
    }
    Ok(())
}

/// Puts files and links below `root` into a layer, each at the path from the root of the image that comes with
/// it, with the folders above it.
pub fn put(layer: &mut LayerWriter<'_>, root: &Path, files: &[(&str, String)]) -> Result<()> {
    layer.part::<Error>(|tar| write(tar, root, files, &BTreeSet::new()))
}

/// The same for an archive that is written, without the folders that are `there` already.
pub fn write(
    tar: &mut TarWriter<impl Write>,
    root: &Path,
    files: &[(&str, String)],
    there: &BTreeSet<String>,
) -> Result<()> {
    let mut folders: BTreeSet<&str> = there.iter().map(String::as_str).collect();
    for (path, target) in files {
        for (at, _) in target.match_indices('/') {
            if folders.insert(&target[..at]) {
                tar.entry(&Entry::folder(&target[..at]))?;
            }
        }
        let full = root.join(path);
        let metadata = full.symlink_metadata().facts(&full)?;
        if metadata.is_symlink() {
            let to = fs::read_link(&full).facts(&full)?;
            tar.entry(&Entry::link(target, to.to_string_lossy()))?;
            continue;
        }
        let executable = metadata.permissions().mode() & 0o100 != 0;
        let mut file = File::open(&full).facts(&full)?;
        tar.file(&Entry::file(target, metadata.len(), executable), &mut file)?;
    }
    Ok(())
}
