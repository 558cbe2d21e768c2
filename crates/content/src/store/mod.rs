//! The local content-addressed store.

mod document;
mod locks;
mod memo;
mod private;
mod temporary;
mod trees;
mod verified;
mod version;

pub use document::Stored;
pub use locks::Lock;
pub use memo::{FileMemo, Signature};
pub use temporary::{TemporaryFile, remove_tree};

use crate::digest::{BlobDigest, Hasher, Sha256, StepKey};
use crate::error::{ContentError, PathContext, Result};
use serde::Serialize;
use serde::de::{DeserializeOwned, IgnoredAny};
use std::fs::{self, File};
use std::io::{self, Read, Write};
use std::path::{Path, PathBuf};
use std::sync::{Mutex, PoisonError};
use temporary::TemporaryArea;

/// The store of one user on this machine; no other user can read it.
///
/// ```text
/// blobs/sha256/<hex>      layers, configurations, manifests, indexes (OCI image layout's blob folder)
/// blobs/verified/         metadata of each at its last verification
/// fragments/<kind>/<hex>  one package each, normalised and compressed; and what was learned of packages
/// steps/<hex>.json        result of the step with that key
/// trees/                  what is known of files; unpacked sources and layers, each with a listing
/// caches/<app>/<step>     what programs of a step keep for the next time
/// images/<name>/<tag>     digest of the index of a finished image
/// ledger/<app>/           past builds
/// locks/, tmp/            work in progress
/// version                 of this layout
/// ```
///
/// Every file is written under `tmp/` and renamed into place, so a process that is killed leaves nothing half
/// written; what it left under `tmp/` is removed by the next one. Whatever is read is verified: documents carry
/// a checksum, fragments one of theirs, blobs are hashed where their bytes are read, and what is only looked up
/// is held by what the file system says of it. What is damaged is noted ([`Store::take_damage`]) and is as good as
/// missing.
pub struct Store {
    root: PathBuf,
    /// Nothing where the store can only be read.
    temporary: Option<TemporaryArea>,
    damage: Mutex<Vec<PathBuf>>,
}

/// The folders of a store.
const FOLDERS: [&str; 9] =
    ["blobs/sha256", "blobs/verified", "fragments", "steps", "trees", "images", "ledger", "locks", "tmp"];

fn make_folders(root: &Path) -> Result<()> {
    for folder in FOLDERS {
        let path = root.join(folder);
        fs::create_dir_all(&path).at(&path)?;
    }
    Ok(())
}

impl Store {
    /// Opens the store in `root`, creating what is missing. It is made private to its user; one that belongs to
    /// another user is refused.
    pub fn open(root: &Path) -> Result<Self> {
        private::make(root)?;
        let made = make_folders(root);
        // Programs that work with its files may have another working folder.
        let root = root.canonicalize().at(root)?;
        let temporary = match made.and_then(|()| TemporaryArea::open(&root.join("tmp"))) {
            // It cannot change, so its content can still be read.
            Err(ContentError::Io { source, .. }) if source.kind() == io::ErrorKind::ReadOnlyFilesystem => {
                None
            }
            opened => Some(opened?),
        };
        let store = Self { root, temporary, damage: Mutex::default() };
        version::settle(&store)?;
        Ok(store)
    }

    /// Where this process writes; an error where the store can only be read.
    fn temporary(&self) -> Result<&TemporaryArea> {
        let read_only =
            || ContentError::Io { path: self.root.clone(), source: io::ErrorKind::ReadOnlyFilesystem.into() };
        self.temporary.as_ref().ok_or_else(read_only)
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

    /// Puts a small blob (a document) in; gives its digest. One of that name with other content is replaced.
    pub fn put_blob(&self, bytes: &[u8]) -> Result<BlobDigest> {
        let digest = BlobDigest::of(bytes);
        let path = self.blob_path(digest);
        if fs::read(&path).is_ok_and(|known| known == bytes) {
            return Ok(digest);
        }
        if path.exists() {
            self.note_damage(&path);
        }
        let mut file = self.temporary_file()?;
        file.write_all(bytes).at(&path)?;
        self.publish_blob(file, digest)?;
        Ok(digest)
    }

    /// A lock by which no other process opens the store until it is dropped; nothing while one has it open.
    pub fn alone(&self) -> Result<Option<Lock>> {
        self.temporary()?.alone()
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
        self.temporary()?.file()
    }

    /// A new empty folder under `tmp/`; it is removed with the process's other temporary files.
    pub fn temporary_folder(&self) -> Result<PathBuf> {
        self.temporary()?.folder()
    }

    /// Writes `bytes` to `path` whole or not at all.
    pub fn write(&self, path: &Path, bytes: &[u8]) -> Result<()> {
        let mut file = self.temporary_file()?;
        file.write_all(bytes).at(path)?;
        file.publish(path)
    }

    /// Writes a document whole or not at all.
    pub fn write_document(&self, path: &Path, value: &impl Serialize) -> Result<()> {
        self.write(path, &self.encoded(path, value)?)
    }

    /// Writes a document that can be recreated, without waiting for the disk; nothing where the store can only be read.
    pub fn write_cache(&self, path: &Path, value: &impl Serialize) -> Result<()> {
        if self.temporary.is_none() {
            return Ok(());
        }
        let mut file = self.temporary_file()?;
        file.write_all(&self.encoded(path, value)?).at(path)?;
        file.persist_unsynced(path)
    }

    fn encoded(&self, path: &Path, value: &impl Serialize) -> Result<Vec<u8>> {
        document::encode(&self.name_of(path), value).map_err(io::Error::from).at(path)
    }

    /// Reads a document; one that is damaged is noted.
    pub fn read_document<T: DeserializeOwned>(&self, path: &Path) -> Stored<T> {
        let bytes = match fs::read(path) {
            Ok(bytes) => bytes,
            Err(error) if error.kind() == io::ErrorKind::NotFound => return Stored::Missing,
            Err(_) => return Stored::Damaged,
        };
        match document::decode(&self.name_of(path), &bytes) {
            Some(value) => Stored::Whole(value),
            None => {
                self.note_damage(path);
                Stored::Damaged
            }
        }
    }

    /// Whether the document at `path` is what was written; it stays as it is.
    pub fn is_whole_document(&self, path: &Path) -> bool {
        fs::read(path)
            .is_ok_and(|bytes| document::decode::<IgnoredAny>(&self.name_of(path), &bytes).is_some())
    }

    /// The name of a file in the store, wherever the store lies.
    fn name_of(&self, path: &Path) -> String {
        path.strip_prefix(&self.root).unwrap_or(path).to_string_lossy().into_owned()
    }

    pub(crate) fn note_damage(&self, path: &Path) {
        let mut damage = self.damage.lock().unwrap_or_else(PoisonError::into_inner);
        if !damage.iter().any(|known| known == path) {
            damage.push(path.to_owned());
        }
    }

    /// The files and folders that were found damaged since this was last asked.
    pub fn take_damage(&self) -> Vec<PathBuf> {
        std::mem::take(&mut *self.damage.lock().unwrap_or_else(PoisonError::into_inner))
    }

    /// Where the result of the step `key` is kept.
    pub fn step_path(&self, key: StepKey) -> PathBuf {
        self.root.join("steps").join(format!("{}.json", key.hex()))
    }

    /// A folder that programs of one step of one app keep things in for the next time.
    pub fn cache_path(&self, app: &str, step: &str) -> PathBuf {
        let plain = |c: char| if c.is_ascii_alphanumeric() || matches!(c, '-' | '.' | '_') { c } else { '-' };
        let digest = Sha256::of(step.as_bytes()).hex();
        let name: String = step.chars().map(plain).take(40).collect();
        self.root.join("caches").join(app).join(format!("{name}-{}", &digest[..8]))
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
pub fn read_limited(from: &mut dyn Read, limit: u64) -> io::Result<Option<Vec<u8>>> {
    let mut bytes = Vec::new();
    from.take(limit + 1).read_to_end(&mut bytes)?;
    Ok((bytes.len() as u64 <= limit).then_some(bytes))
}
