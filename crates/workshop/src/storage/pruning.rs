//! Removes what was not used for long, and what nothing needs any more.

use super::{blobs_of, digest_of, each_below};
use crate::{inspect, ledger};
use content::BlobDigest;
use content::store::{Store, remove_tree};
use engine::Produced;
use model::folder::entries;
use model::{PathFacts, Result};
use std::collections::{BTreeMap, BTreeSet};
use std::fs;
use std::os::unix::fs::MetadataExt;
use std::path::PathBuf;

/// How many of the last builds of each app stay in the ledger in any case.
const BUILDS_KEPT: usize = 50;

/// What may stay.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Limit {
    /// At most this many bytes: what was used longest ago goes first.
    Bytes(u64),
    /// What was used in the last so many seconds.
    Seconds(i64),
}

/// What was removed, or would be.
#[derive(Debug, Clone, Default, serde::Serialize, schemars::JsonSchema)]
pub struct Pruned {
    /// How many entries of each kind.
    pub removed: BTreeMap<&'static str, u64>,
    /// Bytes on the disk.
    pub bytes: u64,
    /// Bytes that are left.
    pub left: u64,
    /// Images whose documents cannot be read: because of them, nothing of images is removed.
    pub unreadable: Vec<String>,
}

/// Something that can be recreated.
struct Candidate {
    kind: &'static str,
    path: PathBuf,
    /// What goes with it.
    beside: Vec<PathBuf>,
    bytes: u64,
    last_used: i64,
}

/// Removes what exceeds the limit; nothing is removed while another process has the store open, and images that have a
/// name stay whole. `now` is in seconds since 1970. Without `really`, it is only told. Nothing when the store is in use.
pub fn prune(store: &Store, limit: Limit, now: i64, really: bool) -> Result<Option<Pruned>> {
    let Some(_alone) = store.alone()? else { return Ok(None) };
    let (mut kept, mut unreadable) = (BTreeSet::new(), Vec::new());
    for image in inspect::all(store)? {
        match blobs_of(store, &image) {
            Some(held) => kept.extend(held),
            None => unreadable.push(image),
        }
    }
    let mut candidates = candidates(store, &kept)?;
    candidates.retain(|candidate| unreadable.is_empty() || !matches!(candidate.kind, "blobs" | "steps"));
    let total: u64 = {
        let mut bytes = 0;
        each_below(store.root(), &mut |_, metadata| bytes += metadata.blocks() * 512)?;
        bytes
    };
    // What was used longest ago goes first.
    candidates.sort_by_key(|candidate| candidate.last_used);
    let mut pruned = Pruned { left: total, unreadable, ..Pruned::default() };
    for candidate in candidates {
        let goes = match limit {
            Limit::Bytes(most) => pruned.left > most,
            Limit::Seconds(age) => now - candidate.last_used >= age,
        };
        if !goes {
            continue;
        }
        if really {
            remove(&candidate)?;
        }
        *pruned.removed.entry(candidate.kind).or_default() += 1;
        pruned.bytes += candidate.bytes;
        pruned.left = pruned.left.saturating_sub(candidate.bytes);
    }
    Ok(Some(pruned))
}

fn remove(candidate: &Candidate) -> Result<()> {
    for path in std::iter::once(&candidate.path).chain(&candidate.beside) {
        match path.symlink_metadata() {
            Ok(metadata) if metadata.is_dir() => remove_tree(path),
            Ok(_) => fs::remove_file(path).facts(path)?,
            // Its listing may never have been written.
            Err(_) => {}
        }
    }
    Ok(())
}

/// Everything that no image needs: step results with their layers, blobs that nothing names, packages, trees, caches.
fn candidates(store: &Store, kept: &BTreeSet<BlobDigest>) -> Result<Vec<Candidate>> {
    let root = store.root();
    let mut all = Vec::new();
    let mut of_steps = BTreeSet::new();
    for path in entries(&root.join("steps"))? {
        let Some(produced) = store.read_document::<Produced>(&path).whole() else { continue };
        let blob = produced.layer.digest;
        of_steps.insert(blob);
        if !kept.contains(&blob) {
            let beside = vec![store.blob_path(blob), root.join("blobs/verified").join(blob.hex())];
            all.push(Candidate::of("steps", path, beside)?);
        }
    }
    for path in entries(&root.join("blobs/sha256"))? {
        let name = path.file_name().and_then(|name| name.to_str()).unwrap_or_default();
        let Some(digest) = digest_of(name) else { continue };
        if !kept.contains(&digest) && !of_steps.contains(&digest) {
            let beside = vec![root.join("blobs/verified").join(name)];
            all.push(Candidate::of("blobs", path, beside)?);
        }
    }
    for kind in entries(&root.join("fragments"))? {
        for path in entries(&kind)? {
            all.push(Candidate::of("fragments", path, Vec::new())?);
        }
    }
    for path in entries(&root.join("trees"))? {
        let name = path.file_name().and_then(|name| name.to_str()).unwrap_or_default().to_owned();
        // A listing goes with its tree.
        if let Some(tree) = name.strip_suffix(".listing.json")
            && path.with_file_name(tree).exists()
        {
            continue;
        }
        let listing = path.with_file_name(format!("{name}.listing.json"));
        all.push(Candidate::of("trees", path, vec![listing])?);
    }
    for app in entries(&root.join("caches"))? {
        for path in entries(&app)? {
            all.push(Candidate::of("caches", path, Vec::new())?);
        }
    }
    for app in entries(&root.join("ledger"))? {
        let name = app.file_name().and_then(|name| name.to_str()).unwrap_or_default();
        let numbers = ledger::numbers(store, name);
        for number in numbers.iter().take(numbers.len().saturating_sub(BUILDS_KEPT)) {
            all.push(Candidate::of("ledger", app.join(format!("{number}.json")), Vec::new())?);
        }
    }
    Ok(all)
}

impl Candidate {
    fn of(kind: &'static str, path: PathBuf, beside: Vec<PathBuf>) -> Result<Self> {
        let (mut bytes, mut last_used) = (0, 0);
        for part in std::iter::once(&path).chain(&beside) {
            let Ok(metadata) = part.symlink_metadata() else { continue };
            bytes += metadata.blocks() * 512;
            last_used = last_used.max(metadata.mtime()).max(metadata.atime());
            if metadata.is_dir() {
                each_below(part, &mut |_, metadata| bytes += metadata.blocks() * 512)?;
            }
        }
        Ok(Self { kind, path, beside, bytes, last_used })
    }
}
