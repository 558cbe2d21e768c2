//! Layers as folders in the store, which processes run on.

use content::layer::{Codec, Owners, WrittenLayer, unpack};
use content::store::{Store, remove_tree};
use content::{BlobDigest, ContentError, DiffId};
use model::Result;
use sandbox::{FIRST_ID, ID_COUNT, Isolation, Mode};
use std::path::PathBuf;

/// Files that belong to the caller.
const PLAIN: (&str, Owners) = ("plain-2", Owners::Caller);

/// A layer of the store.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct StoredLayer {
    /// Digest of its blob.
    pub digest: BlobDigest,
    /// Digest of its tar bytes.
    pub diff_id: DiffId,
    /// How the blob is compressed.
    pub codec: Codec,
}

impl From<&WrittenLayer> for StoredLayer {
    fn from(written: &WrittenLayer) -> Self {
        let WrittenLayer { digest, diff_id, codec, .. } = *written;
        Self { digest, diff_id, codec }
    }
}

/// The folder with the files of a layer, unpacked once and looked over before each use. A blob that turns out to
/// be damaged is removed from the store.
pub fn unpacked(store: &Store, layer: &StoredLayer, mode: Mode) -> Result<PathBuf> {
    // What the superuser unpacks has owners; what others unpack belongs to them.
    let (kind, owners) = match mode.isolation {
        Isolation::Superuser => ("shifted-2", Owners::Shifted { first: FIRST_ID, count: ID_COUNT }),
        Isolation::SingleUser => PLAIN,
    };
    unpacked_as(store, layer, kind, owners)
}

/// The same for what only reads the files, and starts nothing.
pub fn readable(store: &Store, layer: &StoredLayer) -> Result<PathBuf> {
    let (kind, owners) = PLAIN;
    unpacked_as(store, layer, kind, owners)
}

fn unpacked_as(store: &Store, layer: &StoredLayer, kind: &str, owners: Owners) -> Result<PathBuf> {
    let name = format!("layer-{kind}-{}", layer.diff_id.hex());
    store.tree_or(&name, || {
        let fresh = store.temporary_folder()?;
        match unpack(&store.blob_path(layer.digest), layer.codec, layer.diff_id, &fresh, owners) {
            Ok(()) => Ok(fresh),
            Err(error) => {
                remove_tree(&fresh);
                Err(match store.verify_blob(layer.digest) {
                    Err(ContentError::DigestMismatch { .. }) => store.damaged_blob(layer.digest).into(),
                    _ => error.into(),
                })
            }
        }
    })
}
