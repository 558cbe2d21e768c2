//! Temporary files of one process, and the one way by which content gets its final name.

use super::locks::Lock;
use crate::error::{PathContext, Result};
use std::fs::{self, File};
use std::io::{self, BufReader, Read, Seek, SeekFrom, Write};
use std::path::{Path, PathBuf};
use std::sync::atomic::{AtomicU64, Ordering};

/// `tmp/<process>/`, locked while the process lives.
pub(super) struct TemporaryArea {
    folder: PathBuf,
    next: AtomicU64,
    _alive: Lock,
}

impl TemporaryArea {
    /// Makes this process's area under `tmp` and removes those of processes that are gone.
    pub(super) fn open(tmp: &Path) -> Result<Self> {
        // One opener at a time: an area must not be seen between its creation and its locking.
        let _turn = Lock::take(&tmp.join("turn"))?;
        remove_abandoned(tmp)?;
        static AREAS: AtomicU64 = AtomicU64::new(0);
        let name = format!("{}-{}", std::process::id(), AREAS.fetch_add(1, Ordering::Relaxed));
        let folder = tmp.join(name);
        fs::create_dir_all(&folder).at(&folder)?;
        let alive = Lock::take(&folder.join("alive"))?;
        Ok(Self { folder, next: AtomicU64::new(0), _alive: alive })
    }

    /// The lock that nobody else opens the store beside; nothing while another process has it open.
    pub(super) fn alone(&self) -> Result<Option<Lock>> {
        let Some(tmp) = self.folder.parent() else { return Ok(None) };
        let turn = Lock::take(&tmp.join("turn"))?;
        for entry in fs::read_dir(tmp).at(tmp)?.flatten() {
            let (folder, marker) = (entry.path(), entry.path().join("alive"));
            if folder != self.folder && marker.exists() && Lock::try_take(&marker).is_none() {
                return Ok(None);
            }
        }
        Ok(Some(turn))
    }

    fn fresh(&self) -> PathBuf {
        self.folder.join(self.next.fetch_add(1, Ordering::Relaxed).to_string())
    }

    pub(super) fn file(&self) -> Result<TemporaryFile> {
        let path = self.fresh();
        let file = File::options().create_new(true).read(true).write(true).open(&path).at(&path)?;
        Ok(TemporaryFile { file, path, published: false })
    }

    pub(super) fn folder(&self) -> Result<PathBuf> {
        let path = self.fresh();
        fs::create_dir(&path).at(&path)?;
        Ok(path)
    }
}

impl Drop for TemporaryArea {
    fn drop(&mut self) {
        remove_tree(&self.folder);
    }
}

fn remove_abandoned(tmp: &Path) -> Result<()> {
    for entry in fs::read_dir(tmp).at(tmp)?.flatten() {
        let folder = entry.path();
        let marker = folder.join("alive");
        if folder.is_dir() && (!marker.exists() || Lock::try_take(&marker).is_some()) {
            remove_tree(&folder);
        }
    }
    Ok(())
}

/// Removes a folder even when it holds folders without permission bits, as overlay work folders do.
pub fn remove_tree(folder: &Path) {
    if fs::remove_dir_all(folder).is_ok() {
        return;
    }
    let mut pending = vec![folder.to_owned()];
    while let Some(next) = pending.pop() {
        use std::os::unix::fs::PermissionsExt;
        // A failure shows when the folder is removed below.
        let _ = fs::set_permissions(&next, fs::Permissions::from_mode(0o700));
        let inside = fs::read_dir(&next).into_iter().flatten().flatten();
        pending.extend(inside.filter(|e| e.file_type().is_ok_and(|t| t.is_dir())).map(|e| e.path()));
    }
    // What still resists is tried again by the next process that opens the store.
    let _ = fs::remove_dir_all(folder);
}

/// A file that has no final name yet; dropped without being published, it is gone.
pub struct TemporaryFile {
    file: File,
    path: PathBuf,
    published: bool,
}

impl TemporaryFile {
    /// Syncs the file and gives it its final name, replacing what was there.
    pub fn publish(self, to: &Path) -> Result<()> {
        self.file.sync_data().at(to)?;
        self.persist_unsynced(to)
    }

    /// Gives the file its final name without waiting for the disk: for what its readers verify, and is made
    /// again when it is damaged.
    pub fn persist_unsynced(mut self, to: &Path) -> Result<()> {
        if let Some(parent) = to.parent() {
            fs::create_dir_all(parent).at(parent)?;
        }
        fs::rename(&self.path, to).at(to)?;
        self.published = true;
        Ok(())
    }

    /// Reads what was written, from the beginning.
    pub fn reader(&mut self) -> io::Result<impl Read + '_> {
        self.file.seek(SeekFrom::Start(0))?;
        Ok(BufReader::new(&self.file))
    }

    /// The length in bytes so far.
    pub fn size(&mut self) -> io::Result<u64> {
        self.file.seek(SeekFrom::End(0))
    }
}

impl Write for TemporaryFile {
    fn write(&mut self, bytes: &[u8]) -> io::Result<usize> {
        self.file.write(bytes)
    }
    fn flush(&mut self) -> io::Result<()> {
        self.file.flush()
    }
}

impl Drop for TemporaryFile {
    fn drop(&mut self) {
        if !self.published {
            // Left-overs are removed when a process next opens the store.
            let _ = fs::remove_file(&self.path);
        }
    }
}
