//! Writes files that come from elsewhere (an archive, a commit) to a folder, without trusting them.

use crate::UnpackLimit;
use content::ContentError;
use content::store::{Store, remove_tree};
use model::error::SourceError;
use model::{Error, PathFacts, Result};
use std::collections::BTreeMap;
use std::fs::{self, OpenOptions};
use std::io::{self, Read};
use std::os::unix::fs::{OpenOptionsExt, PermissionsExt, symlink};
use std::path::{Component, Path, PathBuf};

/// The most that is unpacked, in bytes and in files: beyond it, something is wrong.
const MOST_BYTES: u64 = 8 << 30;
const MOST_FILES: u64 = 1_000_000;

/// A folder in the making.
pub(super) struct Unpacking {
    label: String,
    folder: PathBuf,
    /// Links come last, so that nothing is written through one.
    links: BTreeMap<PathBuf, String>,
    allowed: UnpackLimit,
    bytes: u64,
    files: u64,
}

impl Unpacking {
    /// A new empty folder in the store; `label` says in errors what is unpacked, which is `length` bytes long.
    pub(super) fn new(label: &str, length: u64, store: &Store) -> Result<Self> {
        let (folder, allowed) = (store.temporary_folder()?, UnpackLimit::of(length, MOST_BYTES));
        Ok(Self { label: label.to_owned(), folder, links: BTreeMap::new(), allowed, bytes: 0, files: 0 })
    }

    /// Puts a file at `path`, which must be a new one inside of the folder.
    pub(super) fn file(&mut self, path: &str, executable: bool, content: &mut dyn Read) -> Result<()> {
        let target = self.target(path)?;
        let mode = if executable { 0o755 } else { 0o644 };
        let mut file = OpenOptions::new()
            .write(true)
            .create_new(true)
            .mode(mode)
            .open(&target)
            .map_err(|error| self.refused(path, error))?;
        let room = self.allowed.bytes - self.bytes;
        let written = io::copy(&mut content.take(room + 1), &mut file)
            .map_err(|error| self.malformed(path, &error.to_string()))?;
        if written > room {
            return Err(self.malformed(path, &self.allowed.to_string()));
        }
        self.bytes += written;
        Ok(())
    }

    /// Puts a symbolic link at `path`.
    pub(super) fn link(&mut self, path: &str, target: &str) -> Result<()> {
        let place = self.target(path)?;
        match self.links.insert(place, target.to_owned()) {
            None => Ok(()),
            Some(_) => Err(self.malformed(path, "duplicate entry")),
        }
    }

    /// Puts another name for the file at `original`, which came before.
    pub(super) fn copy(&mut self, path: &str, original: &str) -> Result<()> {
        let original = self.inside(original)?;
        let mut file = fs::File::open(&original).facts(&original)?;
        let executable = file.metadata().facts(&original)?.permissions().mode() & 0o100 != 0;
        self.file(path, executable, &mut file)
    }

    /// The folder, now that everything is in it.
    pub(super) fn finish(mut self) -> Result<PathBuf> {
        for (place, target) in &self.links {
            symlink(target, place).map_err(|error| self.refused(&place.display().to_string(), error))?;
        }
        Ok(std::mem::take(&mut self.folder))
    }

    fn target(&mut self, path: &str) -> Result<PathBuf> {
        self.files += 1;
        if self.files > MOST_FILES {
            return Err(self.malformed(path, "there are more than a million files"));
        }
        let target = self.inside(path)?;
        if let Some(parent) = target.parent() {
            fs::create_dir_all(parent).map_err(|error| self.refused(path, error))?;
        }
        Ok(target)
    }

    fn inside(&self, path: &str) -> Result<PathBuf> {
        let mut target = self.folder.clone();
        for part in Path::new(path).components() {
            match part {
                Component::Normal(name) => target.push(name),
                Component::CurDir => {}
                _ => {
                    let entry = path.to_owned();
                    return Err(ContentError::Escape { what: self.label.clone(), entry }.into());
                }
            }
        }
        Ok(target)
    }

    fn refused(&self, path: &str, error: io::Error) -> Error {
        match error.kind() {
            io::ErrorKind::AlreadyExists => self.malformed(path, "duplicate entry"),
            io::ErrorKind::NotADirectory => self.malformed(path, "its parent is a file"),
            _ => Error::Source(SourceError::Unreadable { path: self.folder.join(path), source: error }),
        }
    }

    fn malformed(&self, path: &str, detail: &str) -> Error {
        ContentError::Malformed { what: format!("{}, entry {path:?}", self.label), detail: detail.to_owned() }
            .into()
    }
}

impl Drop for Unpacking {
    fn drop(&mut self) {
        if !self.folder.as_os_str().is_empty() {
            remove_tree(&self.folder);
        }
    }
}
