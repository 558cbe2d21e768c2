//! `--watch`: does something again whenever the source of an app changes.

use crate::surroundings::Surroundings;
use arguments::SourceOptions;
use content::store::Signature;
use model::files::CONFIG;
use source::{TreeFile, Watcher, folders_of};
use std::collections::{BTreeMap, BTreeSet};
use std::fs;
use std::path::{Path, PathBuf};
use std::time::Instant;
use wording::Failure;

/// What a source looks like, from outside.
#[derive(PartialEq, Eq)]
struct Seen {
    /// Its files; nothing while they cannot be taken in.
    files: Option<BTreeMap<String, TreeFile>>,
    /// Files that are no part of it and count all the same: its configuration, and what the command reads besides.
    others: Vec<Option<Signature>>,
}

/// Calls `act` now and after every change, with the moment when the change began, until it is cancelled. `more` are files
/// that count besides the source.
pub fn follow(
    source: &SourceOptions,
    more: &[PathBuf],
    surroundings: &Surroundings,
    mut act: impl FnMut(Option<Instant>) -> Result<(), Failure>,
) -> Result<(), Failure> {
    if !source.path.is_dir() || source.rev.is_some() {
        return Err(Failure::Usage {
            message: "--watch needs a folder".to_owned(),
            hint: "give the folder of the app, without --rev".to_owned(),
        });
    }
    let mut watcher = Watcher::new()?;
    let (mut last, mut since) = (None, None);
    while !surroundings.cancel.is_cancelled() {
        let (seen, folders) = look(source, more, surroundings);
        if last.as_ref() != Some(&seen) {
            // Watched before it is acted on: what changes meanwhile is seen.
            watcher.watch(folders)?;
            if since.is_none() && last.is_some() {
                // What changed while it was acted on may not be complete yet.
                since = Some(watcher.settle());
                continue;
            }
            last = Some(seen);
            act(since.take())?;
        } else if !watcher.watch(folders)? {
            since = watcher.wait(&surroundings.cancel);
        }
    }
    Ok(())
}

/// What the source looks like, and the folders in which that may change.
fn look(source: &SourceOptions, more: &[PathBuf], surroundings: &Surroundings) -> (Seen, BTreeSet<PathBuf>) {
    let root = source.path.canonicalize().unwrap_or_else(|_| source.path.clone());
    let others = std::iter::once(root.join(CONFIG)).chain(more.iter().cloned());
    let others: Vec<PathBuf> = others.chain(surroundings.rules.clone()).collect();
    let signature = |path: &PathBuf| fs::metadata(path).ok().map(|metadata| Signature::of(&metadata));
    let (files, mut folders) = match surroundings.take(source, Surroundings::now()) {
        Ok(taken) => {
            let tree = taken.source.tree;
            let folders = folders_of(tree.root(), tree.files().keys());
            (Some(tree.files().clone()), folders)
        }
        // Errors are reported by the action.
        Err(_) => (None, BTreeSet::from([root])),
    };
    folders.extend(others.iter().filter_map(|file| file.parent()?.canonicalize().ok()));
    (Seen { files, others: others.iter().map(signature).collect() }, folders)
}

/// A file that is read once, such as standard input, is not watched.
pub fn watchable(files: &[PathBuf]) -> Vec<PathBuf> {
    let absolute = |file: &PathBuf| std::path::absolute(file).ok();
    files.iter().filter(|file| *file != Path::new("-")).filter_map(absolute).collect()
}
