//! What is fetched on its way: small things stay in memory, large ones are on disk.

use crate::error::{PathFacts, Result};
use content::store::Store;
use std::io::{self, Seek};
use tempfile::SpooledTempFile;

/// Up to this length in bytes, something stays in memory.
const IN_MEMORY: usize = 1 << 20;

/// An empty place for something; what it takes on disk is gone when it is dropped.
pub fn spool(store: &Store) -> SpooledTempFile {
    tempfile::spooled_tempfile_in(IN_MEMORY, store.root().join("tmp"))
}

/// Goes back to the beginning; gives the length in bytes.
pub fn rewind(spooled: &mut SpooledTempFile) -> Result<u64> {
    let told = |done: io::Result<u64>| done.facts(std::path::Path::new("the store"));
    let length = told(spooled.seek(io::SeekFrom::End(0)))?;
    told(spooled.seek(io::SeekFrom::Start(0)))?;
    Ok(length)
}
