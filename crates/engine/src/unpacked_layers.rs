//! Layers as folders in the store, which processes run on.

use content::DiffId;
use content::layer::{Codec, unpack};
use content::store::{Store, remove_tree};
use model::Result;
use sandbox::{Isolation, Mode};
use std::fs;
use std::path::PathBuf;

/// The way of running that works here, found out on the store's own file system.
pub fn working_mode(store: &Store) -> Result<Mode> {
    let scratch = store.temporary_folder()?;
    let mode = sandbox::probe(&scratch);
    remove_tree(&scratch);
    Ok(mode?)
}

/// The folder with the files of a layer, unpacked once.
pub fn unpacked(
    store: &Store,
    blob: &std::path::Path,
    codec: Codec,
    diff_id: DiffId,
    mode: Mode,
) -> Result<PathBuf> {
    let own = mode.isolation == Isolation::Superuser;
    // What the superuser unpacks has owners; what others unpack belongs to them.
    let kind = if own { "owned" } else { "plain" };
    let target = store.tree_path(&format!("layer-{kind}-{}", diff_id.hex()));
    if target.exists() {
        return Ok(target);
    }
    let _turn = store.lock(&format!("unpack-{}", &diff_id.hex()[..2]))?;
    if !target.exists() {
        let fresh = store.temporary_folder()?;
        unpack(blob, codec, diff_id, &fresh, own)?;
        fs::rename(&fresh, &target)?;
    }
    Ok(target)
}
