//! What the store holds, and its upkeep: how much there is, what can go, whether no damage found.

mod checking;
mod pruning;

pub use checking::{Checked, check};
pub use pruning::{Limit, Pruned, prune};

use crate::inspect;
use content::BlobDigest;
use content::StepKey;
use content::image::{Index, Manifest};
use content::store::Store;
use engine::Produced;
use model::folder::entries;
use model::{PathFacts, Result};
use std::collections::BTreeSet;
use std::fs::{self, Metadata};
use std::os::unix::fs::MetadataExt;
use std::path::{Path, PathBuf};

/// A kind of content: its folder in the store, and what it is.
pub const KINDS: [(&str, &str); 7] = [
    ("blobs", "layers and documents of images"),
    ("fragments", "packages, prepared for layers"),
    ("trees", "unpacked layers and sources"),
    ("caches", "caches of build programs"),
    ("steps", "step results"),
    ("ledger", "past builds"),
    ("images", "names of images"),
];

/// How much there is of a kind.
#[derive(Debug, Clone, serde::Serialize, schemars::JsonSchema)]
pub struct KindUsage {
    /// The folder.
    pub kind: &'static str,
    /// What it is.
    pub about: &'static str,
    /// How many files.
    pub files: u64,
    /// How many bytes on the disk.
    pub bytes: u64,
}

/// How much an image holds.
#[derive(Debug, Clone, serde::Serialize, schemars::JsonSchema)]
pub struct ImageUsage {
    /// Name and tag.
    pub image: String,
    /// Bytes of its blobs.
    pub bytes: u64,
    /// Those that no other image has.
    pub own: u64,
    /// When it was last built, in seconds since 1970.
    pub last_built: i64,
}

/// The step results that the store has, with their keys; those whose layer is not there are left out.
pub fn results(store: &Store) -> Result<Vec<(StepKey, Produced)>> {
    let folder = store.root().join("steps");
    if !folder.is_dir() {
        return Ok(Vec::new());
    }
    let result = |path: PathBuf| {
        let key = format!("sha256:{}", path.file_stem()?.to_str()?).parse().ok()?;
        let produced = store.read_document::<Produced>(&path).whole()?;
        let layer = &produced.layer;
        store.has_verified(layer.digest, layer.size).then_some((key, produced))
    };
    Ok(entries(&folder)?.into_iter().filter_map(result).collect())
}

/// How much the store holds, by kind and by image.
pub fn usage(store: &Store) -> Result<(Vec<KindUsage>, Vec<ImageUsage>)> {
    let mut kinds = Vec::new();
    for (kind, about) in KINDS {
        let (files, bytes) = size_of(&store.root().join(kind))?;
        kinds.push(KindUsage { kind, about, files, bytes });
    }
    let names = inspect::all(store)?;
    let held: Vec<BTreeSet<BlobDigest>> =
        names.iter().map(|name| blobs_of(store, name).unwrap_or_default()).collect();
    let bytes = |digests: &mut dyn Iterator<Item = &BlobDigest>| -> u64 {
        digests.filter_map(|digest| store.blob_size(*digest)).sum()
    };
    let image = |(number, name): (usize, &String)| {
        let is_own = |digest: &&BlobDigest| {
            held.iter().enumerate().all(|(other, blobs)| other == number || !blobs.contains(*digest))
        };
        let (app, tag) = name.split_once(':').unwrap_or((name, inspect::DEFAULT_TAG));
        ImageUsage {
            image: name.clone(),
            bytes: bytes(&mut held[number].iter()),
            own: bytes(&mut held[number].iter().filter(is_own)),
            last_built: fs::metadata(store.image_path(app, tag)).map_or(0, |metadata| metadata.mtime()),
        }
    };
    let images = names.iter().enumerate().map(image).collect();
    Ok((kinds, images))
}

/// Removes the name of an image, `name:tag`; its blobs go when the store is pruned. Whether there was one.
pub fn forget(store: &Store, image: &str) -> Result<bool> {
    let (name, tag) = image.split_once(':').unwrap_or((image, inspect::DEFAULT_TAG));
    if !inspect::all(store)?.contains(&format!("{name}:{tag}")) {
        return Ok(false);
    }
    let path = store.image_path(name, tag);
    fs::remove_file(&path).facts(&path)?;
    Ok(true)
}

/// The blobs of an image in the store: its index, manifests, configurations and layers; nothing when its documents cannot be
/// read.
fn blobs_of(store: &Store, image: &str) -> Option<BTreeSet<BlobDigest>> {
    let (name, tag) = image.split_once(':').unwrap_or((image, inspect::DEFAULT_TAG));
    let index = store.read_document::<BlobDigest>(&store.image_path(name, tag)).whole()?;
    let mut held = BTreeSet::from([index]);
    let index: Index = serde_json::from_slice(&store.read_blob(index).ok()?).ok()?;
    for listed in index.manifests {
        held.insert(listed.digest);
        let manifest: Manifest = serde_json::from_slice(&store.read_blob(listed.digest).ok()?).ok()?;
        held.insert(manifest.config.digest);
        held.extend(manifest.layers.iter().map(|layer| layer.digest));
    }
    Some(held)
}

/// Files below a folder, and their bytes on the disk.
fn size_of(folder: &Path) -> Result<(u64, u64)> {
    let (mut files, mut bytes) = (0, 0);
    each_below(folder, &mut |_, metadata| {
        if !metadata.is_dir() {
            files += 1;
        }
        bytes += metadata.blocks() * 512;
    })?;
    Ok((files, bytes))
}

/// Calls `with` for everything below a folder, folders after what is in them.
fn each_below(folder: &Path, with: &mut dyn FnMut(&Path, &Metadata)) -> Result<()> {
    let Ok(entries) = fs::read_dir(folder) else { return Ok(()) };
    for entry in entries {
        let path = entry.facts(folder)?.path();
        // What another process removed meanwhile is gone.
        let Ok(metadata) = path.symlink_metadata() else { continue };
        if metadata.is_dir() {
            each_below(&path, with)?;
        }
        with(&path, &metadata);
    }
    Ok(())
}

/// The digest that a blob's file is named by.
fn digest_of(name: &str) -> Option<BlobDigest> {
    format!("sha256:{name}").parse().ok()
}
