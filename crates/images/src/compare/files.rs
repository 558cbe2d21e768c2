//! The files of layers, and what changed in them.

use super::Pair;
use content::BlobDigest;
use content::digest::Hasher;
use content::store::Store;
use model::{PathFacts, Result};
use serde::Serialize;
use std::collections::{BTreeMap, BTreeSet};
use std::fs::File;
use std::io::BufReader;
use tar::EntryType;
use workshop::record::LayerRecord;

/// A file, link or folder of a layer.
#[derive(Debug, Clone, PartialEq, Eq, Serialize)]
pub struct FileFact {
    /// Permissions.
    pub mode: u32,
    /// Length in bytes.
    pub size: u64,
    /// Where a link leads to.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub link: Option<String>,
    /// Stands for the contents.
    #[serde(skip)]
    pub digest: Option<BlobDigest>,
}

/// A file that changed.
#[derive(Debug, Clone, PartialEq, Eq, Serialize)]
pub struct FileChange {
    /// Its path, from the root.
    pub path: String,
    /// What it was and is; nothing where it is not there.
    #[serde(flatten)]
    pub fact: Pair<Option<FileFact>>,
}

/// The files of which a layer has others than another one, in the order of their paths. Of folders, only
/// permissions count.
pub(super) fn changes(
    store: &Store,
    before: Option<&LayerRecord>,
    after: Option<&LayerRecord>,
) -> Result<Vec<FileChange>> {
    let listed = |layer: Option<&LayerRecord>| layer.map(|layer| listing(store, layer)).transpose();
    // Both are read at once: it is hashing that takes the time.
    let (before, after) = std::thread::scope(|scope| {
        let before = scope.spawn(|| listed(before));
        let after = listed(after);
        (before.join().unwrap_or_else(|panic| std::panic::resume_unwind(panic)), after)
    });
    let (mut before, mut after) = (before?.unwrap_or_default(), after?.unwrap_or_default());
    let paths: BTreeSet<String> = before.keys().chain(after.keys()).cloned().collect();
    let change = |path: String| {
        let (before, after) = (before.remove(&path), after.remove(&path));
        let fact = Pair::differing(before, after)?;
        let only = fact.before.as_ref().xor(fact.after.as_ref());
        only.is_none_or(|only| only.digest.is_some()).then_some(FileChange { path, fact })
    };
    Ok(paths.into_iter().filter_map(change).collect())
}

/// Version of what is kept of a layer.
const VERSION: u32 = 1;

/// The files of a layer, read once, and kept with it.
fn listing(store: &Store, layer: &LayerRecord) -> Result<BTreeMap<String, FileFact>> {
    type Kept = Vec<(String, u32, u64, Option<String>, Option<BlobDigest>)>;
    let memory = store.tree_path(&format!("files-{VERSION}-{}.json", layer.diff_id.hex()));
    if let Some(kept) = store.read_document::<Kept>(&memory).whole() {
        let fact = |(path, mode, size, link, digest)| (path, FileFact { mode, size, link, digest });
        return Ok(kept.into_iter().map(fact).collect());
    }
    let all = read_listing(store, layer)?;
    let kept = |(path, fact): (&String, &FileFact)| {
        let FileFact { mode, size, link, digest } = fact.clone();
        (path.clone(), mode, size, link, digest)
    };
    // Where nothing can be kept, it is read again the next time.
    let _ = store.write_document(&memory, &all.iter().map(kept).collect::<Kept>());
    Ok(all)
}

fn read_listing(store: &Store, layer: &LayerRecord) -> Result<BTreeMap<String, FileFact>> {
    let path = store.blob_path(layer.digest);
    let blob = BufReader::new(File::open(&path).facts(&path)?);
    let mut archive = tar::Archive::new(layer.codec.layer_reader(blob)?);
    let mut all = BTreeMap::new();
    for entry in archive.entries()? {
        let mut entry = entry?;
        let name = entry.path()?.to_string_lossy().trim_end_matches('/').to_owned();
        let link = entry.link_name()?.map(|link| link.to_string_lossy().into_owned());
        let (mode, size) = (entry.header().mode()?, entry.size());
        let digest = match entry.header().entry_type() {
            EntryType::Directory => None,
            // A long file is read once, and its contents are not kept.
            _ => Some(BlobDigest(Hasher::of_reader(&mut entry)?.0)),
        };
        all.insert(name, FileFact { mode, size, link, digest });
    }
    Ok(all)
}
