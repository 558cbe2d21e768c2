//! Files of the store whose content was verified, identified by their metadata at that time.
//!
//! A file that is only looked up is held by its size, times and inode; one whose bytes are read is hashed.

use super::Store;
use super::memo::Signature;
use crate::digest::{BlobDigest, Hasher, HashingWriter, InputDigest};
use crate::error::{ContentError, PathContext, Result};
use std::fs::{self, File};
use std::io::{Read, Seek, Write};
use std::path::{Path, PathBuf};

impl Store {
    /// Gives a written file its name as the blob `digest`, which its content has.
    pub fn publish_blob(&self, file: super::TemporaryFile, digest: BlobDigest) -> Result<()> {
        file.publish(&self.blob_path(digest))?;
        self.remember_blob(digest);
        Ok(())
    }

    /// Whether the blob is there, `size` bytes long and with its content: by the file system's word, when it was
    /// verified before, else by reading it. One that is damaged is removed.
    pub fn has_verified(&self, digest: BlobDigest, size: u64) -> bool {
        let Ok(metadata) = fs::metadata(self.blob_path(digest)) else { return false };
        if metadata.len() == size {
            let now = Signature::of(&metadata);
            if self.read_document::<Signature>(&self.verified_path(digest)).whole() == Some(now) {
                return true;
            }
            if self.verify_blob(digest).is_ok() {
                self.remember_blob(digest);
                return true;
            }
        }
        self.discard_blob(digest);
        false
    }

    /// Copies a blob and verifies it on the way; one that is damaged is removed, and the copy is worth nothing.
    pub(crate) fn copy_blob(&self, digest: BlobDigest, to: &mut dyn Write) -> Result<u64> {
        let path = self.blob_path(digest);
        let mut file = File::open(&path).at(&path)?;
        let mut hashing = HashingWriter::new(to);
        let copied = std::io::copy(&mut file, &mut hashing).at(&path)?;
        match hashing.finish().1 == digest.0 {
            true => Ok(copied),
            false => Err(self.damaged_blob(digest)),
        }
    }

    /// Removes a blob that turned out to be damaged, and gives the error that says so.
    pub fn damaged_blob(&self, digest: BlobDigest) -> ContentError {
        self.discard_blob(digest);
        ContentError::Damaged { what: digest.to_string() }
    }

    fn discard_blob(&self, digest: BlobDigest) {
        let path = self.blob_path(digest);
        self.note_damage(&path);
        // What cannot be removed is found damaged again.
        let _ = fs::remove_file(&path);
        let _ = fs::remove_file(self.verified_path(digest));
    }

    fn remember_blob(&self, digest: BlobDigest) {
        if let Ok(metadata) = fs::metadata(self.blob_path(digest)) {
            // Without it, the blob is hashed the next time.
            let _ = self.write_cache(&self.verified_path(digest), &Signature::of(&metadata));
        }
    }

    fn verified_path(&self, digest: BlobDigest) -> PathBuf {
        self.root().join("blobs/verified").join(format!("{}.json", digest.hex()))
    }

    /// Puts a file that only this program reads under `path`, with the digest of its content beside it.
    pub fn persist_checked(&self, mut file: super::TemporaryFile, path: &Path) -> Result<()> {
        let (digest, _) = Hasher::of_reader(&mut file.reader().at(path)?).at(path)?;
        file.persist_unsynced(path)?;
        self.write_cache(&digest_path(path), &InputDigest(digest))
    }

    /// Opens a file that was put there with [`Store::persist_checked`]; one that is damaged is removed.
    pub fn open_checked(&self, path: &Path) -> Option<File> {
        let mut file = File::open(path).ok()?;
        let expected = self.read_document::<InputDigest>(&digest_path(path)).whole();
        let (found, _) = Hasher::of_reader(&mut file as &mut dyn Read).ok()?;
        if expected == Some(InputDigest(found)) && file.rewind().is_ok() {
            return Some(file);
        }
        self.note_damage(path);
        // Without its digest it is worth nothing either.
        let _ = fs::remove_file(path);
        None
    }
}

fn digest_path(path: &Path) -> PathBuf {
    let mut name = path.file_name().unwrap_or_default().to_owned();
    name.push(".sha256");
    path.with_file_name(name)
}
