//! Layers as folders in the store, which processes run on.

use content::layer::{Codec, Owners, unpack};
use content::store::{Store, remove_tree};
use content::{BlobDigest, ContentError, DiffId};
use model::Result;
use sandbox::{FIRST_ID, ID_COUNT, Isolation, Mode};
use std::path::PathBuf;

/// The way of running that works here, found out on the store's own file system.
pub fn working_mode(store: &Store) -> Result<Mode> {
    let scratch = store.temporary_folder()?;
    let mode = sandbox::probe(&scratch);
    remove_tree(&scratch);
    Ok(mode?)
}

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

/// The folder with the files of a layer, unpacked once and looked over before each use. A blob that turns out to
/// be damaged is removed from the store.
pub fn unpacked(store: &Store, layer: &StoredLayer, mode: Mode) -> Result<PathBuf> {
    // What the superuser unpacks has owners; what others unpack belongs to them.
    let (kind, owners) = match mode.isolation {
        Isolation::Superuser => ("shifted", Owners::Shifted { first: FIRST_ID, count: ID_COUNT }),
        Isolation::SingleUser => ("plain", Owners::Caller),
    };
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
