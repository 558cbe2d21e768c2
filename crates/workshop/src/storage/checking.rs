//! Whether everything in the store is what was put in.

use super::{blobs_of, digest_of, each_below};
use crate::inspect;
use content::store::Store;
use engine::Produced;
use model::Result;
use std::fs;

/// What a check found.
#[derive(Debug, Clone, Default, serde::Serialize, schemars::JsonSchema)]
pub struct Checked {
    /// How many blobs and documents were read.
    pub read: u64,
    /// Files that are not what was put in, from the root of the store.
    pub damaged: Vec<String>,
    /// Images that lack something, with what.
    pub incomplete: Vec<(String, String)>,
}

/// Reads every blob and document; with `repair`, removes what is damaged, which the next build makes again.
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
    each_below(&store.root().join("steps"), &mut |path, _| {
        checked.read += 1;
        if store.read_document::<Produced>(path).whole().is_none() {
            damaged.push(path.to_owned());
        }
    })?;
    for image in inspect::all(store) {
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
            let _ = fs::remove_file(&path);
        }
    }
    checked.damaged.sort();
    Ok(checked)
}
