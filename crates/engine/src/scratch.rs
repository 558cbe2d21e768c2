//! Temporary folders of steps that run programs.

use content::store::remove_tree;
use std::path::PathBuf;

/// A temporary folder; it is gone when this is dropped.
pub(crate) struct Scratch(pub(crate) PathBuf);

impl Drop for Scratch {
    fn drop(&mut self) {
        remove_tree(&self.0);
    }
}
