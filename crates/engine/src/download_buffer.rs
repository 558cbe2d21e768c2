//! What is fetched on its way: small things stay in memory, large ones are on disk.

use content::store::Store;
use model::{PathFacts, Result};
use std::io::{self, Seek};
use tempfile::SpooledTempFile;

/// Up to this length in bytes, something stays in memory that many others are on their way with.
const FETCHED: usize = 1 << 20;
/// The same for what only as much is unpacked of as is worked on at once.
const UNPACKED: usize = 8 << 20;

/// An empty place for something; what it takes on disk is gone when it is dropped.
pub fn spool(store: &Store) -> SpooledTempFile {
    tempfile::spooled_tempfile_in(FETCHED, store.root().join("tmp"))
}

/// The same for something that is unpacked behind a gate.
pub fn spool_unpacked(store: &Store) -> SpooledTempFile {
    tempfile::spooled_tempfile_in(UNPACKED, store.root().join("tmp"))
}

/// Goes back to the beginning; gives the length in bytes.
pub fn rewind(spooled: &mut SpooledTempFile) -> Result<u64> {
    let told = |done: io::Result<u64>| done.facts(std::path::Path::new("the store"));
    let length = told(spooled.seek(io::SeekFrom::End(0)))?;
    told(spooled.seek(io::SeekFrom::Start(0)))?;
    Ok(length)
}
