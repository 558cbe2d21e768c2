//! The local content-addressed store.

mod locks;
mod memo;
mod temporary;

pub use locks::Lock;
pub use memo::{FileMemo, Signature};
pub use temporary::{TemporaryFile, remove_tree};

use crate::digest::{BlobDigest, Hasher, Sha256, StepKey};
use crate::error::{ContentError, PathContext, Result};
use serde::Serialize;
use serde::de::DeserializeOwned;
use std::fs::{self, File};
use std::io::{Read, Write};
use std::path::{Path, PathBuf};
use temporary::TemporaryArea;

/// The store of one user on this machine.
///
/// ```text
/// blobs/sha256/<hex>      layers, configurations, manifests, indexes (OCI image layout's blob folder)
/// fragments/<codec>/<hex> one package each, normalised and compressed
/// steps/<hex>.json        result of the step with that key
/// trees/                  listings of source trees, what is known of files, unpacked layers
/// images/<name>/<tag>     digest of the index of a finished image
/// ledger/<app>/           past builds
/// locks/, tmp/            work in progress
/// ```
///
/// Every file is written under `tmp/`, synced and renamed into place, so a process that is killed
/// leaves nothing half written; what it left under `tmp/` is removed by the next one.
pub struct Store {
    root: PathBuf,
    temporary: TemporaryArea,
}

impl Store {
    /// Opens the store in `root`, creating what is missing.
    pub fn open(root: &Path) -> Result<Self> {
        for folder in ["blobs/sha256", "fragments", "steps", "trees", "images", "ledger", "locks", "tmp"] {
            let path = root.join(folder);
            fs::create_dir_all(&path).at(&path)?;
        }
        let root = root.canonicalize().at(root)?;
        let temporary = TemporaryArea::open(&root.join("tmp"))?;
        Ok(Self { root, temporary })
    }

    /// The folder that holds everything.
    pub fn root(&self) -> &Path {
        &self.root
    }

    /// Where the blob `digest` lies, whether it is there or not.
    pub fn blob_path(&self, digest: BlobDigest) -> PathBuf {
        self.root.join("blobs/sha256").join(digest.hex())
    }

    /// The size in bytes of a blob, if the store has it.
    pub fn blob_size(&self, digest: BlobDigest) -> Option<u64> {
        fs::metadata(self.blob_path(digest)).ok().map(|m| m.len())
    }

    /// Puts a small blob in; gives its digest.
    pub fn put_blob(&self, bytes: &[u8]) -> Result<BlobDigest> {
        let digest = BlobDigest::of(bytes);
        if self.blob_size(digest) != Some(bytes.len() as u64) {
            self.write(&self.blob_path(digest), bytes)?;
        }
        Ok(digest)
    }

    /// Reads a small blob (a document) and checks its digest.
    pub fn read_blob(&self, digest: BlobDigest) -> Result<Vec<u8>> {
        let path = self.blob_path(digest);
        if !path.exists() {
            return Err(ContentError::Missing { what: digest.to_string() });
        }
        let bytes = fs::read(&path).at(&path)?;
        verify("blob", digest, Sha256::of(&bytes))?;
        Ok(bytes)
    }

    /// Reads a whole blob and checks its digest without keeping its bytes.
    pub fn verify_blob(&self, digest: BlobDigest) -> Result<()> {
        let path = self.blob_path(digest);
        let mut file = File::open(&path).at(&path)?;
        let (found, _) = Hasher::of_reader(&mut file).at(&path)?;
        verify("blob", digest, found)
    }

    /// A new file under `tmp/`, to be published with [`TemporaryFile::publish`].
    pub fn temporary_file(&self) -> Result<TemporaryFile> {
        self.temporary.file()
    }

    /// A new empty folder under `tmp/`; it is removed with the process's other temporary files.
    pub fn temporary_folder(&self) -> Result<PathBuf> {
        self.temporary.folder()
    }

    /// Writes `bytes` to `path` whole or not at all.
    pub fn write(&self, path: &Path, bytes: &[u8]) -> Result<()> {
        let mut file = self.temporary_file()?;
        file.write_all(bytes).at(path)?;
        file.publish(path)
    }

    /// Writes something that can be made anew: it may be torn after a crash, which its reader has to notice.
    pub fn keep(&self, path: &Path, bytes: &[u8]) -> Result<()> {
        let mut file = self.temporary_file()?;
        file.write_all(bytes).at(path)?;
        file.put(path)
    }

    /// Writes `value` as JSON to `path` whole or not at all.
    pub fn write_json(&self, path: &Path, value: &impl Serialize) -> Result<()> {
        self.write(path, &crate::image::to_json(value))
    }

    /// Reads JSON; `None` when the file is missing or of another version.
    pub fn read_json<T: DeserializeOwned>(&self, path: &Path) -> Option<T> {
        let bytes = fs::read(path).ok()?;
        serde_json::from_slice(&bytes).ok()
    }

    /// Where the result of the step `key` is kept.
    pub fn step_path(&self, key: StepKey) -> PathBuf {
        self.root.join("steps").join(format!("{}.json", key.hex()))
    }

    /// Where a compressed package fragment is kept.
    pub fn fragment_path(&self, codec: &str, key: Sha256) -> PathBuf {
        self.root.join("fragments").join(codec).join(key.hex())
    }

    /// A file or folder under `trees/`.
    pub fn tree_path(&self, name: &str) -> PathBuf {
        self.root.join("trees").join(name)
    }

    /// Where the index digest of the image `name:tag` is kept.
    pub fn image_path(&self, name: &str, tag: &str) -> PathBuf {
        self.root.join("images").join(name).join(tag)
    }

    /// The folder of past builds of `app`.
    pub fn ledger_path(&self, app: &str) -> PathBuf {
        self.root.join("ledger").join(app)
    }

    /// Waits for and takes the lock `name`; other processes wait until it is dropped.
    pub fn lock(&self, name: &str) -> Result<Lock> {
        Lock::take(&self.root.join("locks").join(name))
    }
}

fn verify(what: &str, expected: BlobDigest, found: Sha256) -> Result<()> {
    if expected.0 == found {
        return Ok(());
    }
    Err(ContentError::DigestMismatch {
        what: what.to_owned(),
        expected: expected.to_string(),
        found: BlobDigest(found).to_string(),
    })
}

/// Reads at most `limit` bytes of `from`; `None` when there are more.
pub fn read_limited(from: &mut dyn Read, limit: u64) -> std::io::Result<Option<Vec<u8>>> {
    let mut bytes = Vec::new();
    from.take(limit + 1).read_to_end(&mut bytes)?;
    Ok((bytes.len() as u64 <= limit).then_some(bytes))
}
