//! The store is its user's alone: it holds sources, and files of images.

use crate::error::{ContentError, PathContext, Result};
use std::fs::{self, DirBuilder};
use std::os::unix::fs::{DirBuilderExt, MetadataExt, PermissionsExt};
use std::path::Path;

/// Everything for its owner, nothing for anybody else.
const PRIVATE: u32 = 0o700;

/// Makes the folder of a store, or makes the one that is there private.
pub(super) fn make(root: &Path) -> Result<()> {
    if !root.exists() {
        if let Some(parent) = root.parent() {
            fs::create_dir_all(parent).at(parent)?;
        }
        match DirBuilder::new().mode(PRIVATE).create(root) {
            Err(error) if error.kind() == std::io::ErrorKind::AlreadyExists => {}
            made => made.at(root)?,
        }
    }
    let metadata = fs::metadata(root).at(root)?;
    if metadata.uid() != rustix::process::geteuid().as_raw() {
        return Err(ContentError::ForeignStore { path: root.to_owned() });
    }
    if metadata.permissions().mode() & 0o077 != 0 {
        fs::set_permissions(root, fs::Permissions::from_mode(PRIVATE)).at(root)?;
    }
    Ok(())
}
