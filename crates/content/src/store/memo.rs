//! What is known of files: their digests, as long as the file system says that they are unchanged.

use super::Store;
use crate::digest::{Hasher, InputDigest};
use crate::error::{PathContext, Result};
use serde::{Deserialize, Serialize};
use std::collections::BTreeMap;
use std::fs::{File, Metadata};
use std::os::unix::fs::MetadataExt;
use std::path::Path;

/// What the file system says of a file; if none of it changed, neither did the contents.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
pub struct Signature {
    size: u64,
    /// Nanoseconds since 1970.
    modified: i64,
    /// Nanoseconds since 1970; also moves when the modification time is set back.
    changed: i64,
    inode: u64,
    device: u64,
}

impl Signature {
    /// Reads the signature off a file's metadata.
    pub fn of(metadata: &Metadata) -> Self {
        Self {
            size: metadata.len(),
            modified: metadata.mtime() * 1_000_000_000 + metadata.mtime_nsec(),
            changed: metadata.ctime() * 1_000_000_000 + metadata.ctime_nsec(),
            inode: metadata.ino(),
            device: metadata.dev(),
        }
    }

    /// Whether the file was left alone long enough before `now` (in nanoseconds since 1970) that a
    /// later change would show.
    pub fn is_settled(&self, now: i64) -> bool {
        self.changed.max(self.modified) + SETTLED_AFTER < now
    }

    /// All of it, for hashing.
    pub fn to_bytes(&self) -> [u8; 40] {
        let numbers = [
            self.size.to_le_bytes(),
            self.modified.to_le_bytes(),
            self.changed.to_le_bytes(),
            self.inode.to_le_bytes(),
            self.device.to_le_bytes(),
        ];
        let mut bytes = [0; 40];
        bytes.copy_from_slice(numbers.as_flattened());
        bytes
    }
}

/// A file that changed this shortly (in nanoseconds) before it was read might change again
/// without its times moving, so its digest is not remembered.
const SETTLED_AFTER: i64 = 2_000_000_000;

/// The digests of the files under one folder, remembered between runs.
#[derive(Default, Serialize, Deserialize)]
pub struct FileMemo {
    known: BTreeMap<String, Known>,
    #[serde(skip)]
    changed: bool,
}

#[derive(Serialize, Deserialize)]
struct Known {
    signature: Signature,
    digest: InputDigest,
    /// Whether the file was met in this run; what was not is forgotten.
    #[serde(skip)]
    met: bool,
}

impl FileMemo {
    /// Loads what was remembered under `name`.
    pub fn load(store: &Store, name: &str) -> Self {
        store.read_document(&store.tree_path(name)).whole().unwrap_or_default()
    }

    /// The digest of the file at `path`, from memory when its signature has not changed since.
    ///
    /// `key` names the file in the memory; `now` is in nanoseconds since 1970.
    pub fn digest(&mut self, key: &str, path: &Path, signature: Signature, now: i64) -> Result<InputDigest> {
        if let Some(known) = self.known.get_mut(key)
            && known.signature == signature
        {
            known.met = true;
            return Ok(known.digest);
        }
        let mut file = File::open(path).at(path)?;
        let (digest, _) = Hasher::of_reader(&mut file).at(path)?;
        let digest = InputDigest(digest);
        if signature.is_settled(now) {
            self.known.insert(key.to_owned(), Known { signature, digest, met: true });
            self.changed = true;
        }
        Ok(digest)
    }

    /// Writes back what was met in this run, if that differs from what was known.
    pub fn save(mut self, store: &Store, name: &str) -> Result<()> {
        let before = self.known.len();
        self.known.retain(|_, known| known.met);
        if self.changed || self.known.len() != before {
            store.write_cache(&store.tree_path(name), &self)?;
        }
        Ok(())
    }
}
