//! Whether everything in the store is what was put in.

use super::{blobs_of, digest_of, each_below};
use crate::inspect;
use content::layer::Fragment;
use content::store::{Store, remove_tree};
use model::Result;
use model::folder::entries;
use std::fs::{self, File};
use std::io::Read;
use std::path::Path;

/// What a check found.
#[derive(Debug, Clone, Default, serde::Serialize, schemars::JsonSchema)]
pub struct Checked {
    /// How many files, and trees of files, were looked at.
    pub read: u64,
    /// Files that are not what was put in, from the root of the store.
    pub damaged: Vec<String>,
    /// Images that lack something, with what.
    pub incomplete: Vec<(String, String)>,
}

/// Reads everything that can be verified; with `repair`, removes what is damaged, which the next build makes again.
pub fn check(store: &Store, repair: bool) -> Result<Checked> {
    let mut checked = Checked::default();
    let mut damaged = Vec::new();
    each_below(&store.root().join("blobs/sha256"), &mut |path, _| {
        let name = path.file_name().and_then(|name| name.to_str()).unwrap_or_default();
        checked.read += 1;
        let is_whole = digest_of(name).is_some_and(|digest| store.verify_blob(digest).is_ok());
        if !is_whole {
            damaged.push(path.to_owned());
        }
    })?;
    for folder in ["steps", "ledger", "images", "fragments"] {
        each_below(&store.root().join(folder), &mut |path, metadata| {
            if metadata.is_dir() {
                return;
            }
            checked.read += 1;
            let is_whole = match Fragment::is_whole(path) {
                Some(is_whole) => is_whole,
                None => !is_document(path, folder) || store.is_whole_document(path),
            };
            if !is_whole {
                damaged.push(path.to_owned());
            }
        })?;
    }
    for tree in entries(&store.root().join("trees"))? {
        checked.read += 1;
        let name = tree.file_name().and_then(|name| name.to_str()).unwrap_or_default();
        if !(if tree.is_dir() { store.is_whole_tree(name) } else { store.is_whole_document(&tree) }) {
            damaged.push(tree);
        }
    }
    for image in inspect::all(store)? {
        match blobs_of(store, &image) {
            Some(held) => {
                let gone = held.into_iter().filter(|digest| !store.blob_path(*digest).exists());
                checked.incomplete.extend(gone.map(|digest| (image.clone(), digest.to_string())));
            }
            None => checked.incomplete.push((image, "its documents".to_owned())),
        }
    }
    for path in damaged {
        let shown = path.strip_prefix(store.root()).unwrap_or(&path).display().to_string();
        checked.damaged.push(shown);
        if repair {
            // Reading a damaged document may have removed it already.
            match path.is_dir() {
                true => remove_tree(&path),
                false => drop(fs::remove_file(&path)),
            }
        }
    }
    checked.damaged.sort();
    Ok(checked)
}

/// Whether the file is to be a document. Among the packages there are other files as well, archives of sources for example,
/// which are verified when they are read.
fn is_document(path: &Path, folder: &str) -> bool {
    let mut beginning = [0];
    let mut read = || File::open(path)?.read_exact(&mut beginning);
    folder != "fragments" || (read().is_ok() && beginning == *b"{")
}
