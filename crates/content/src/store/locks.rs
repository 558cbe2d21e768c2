//! Advisory locks between processes.

use crate::error::{PathContext, Result};
use std::fs::File;
use std::path::Path;

/// A lock that is held until dropped.
#[must_use]
pub struct Lock {
    _file: File,
}

impl Lock {
    pub(super) fn take(path: &Path) -> Result<Self> {
        let file = File::options().create(true).truncate(false).write(true).open(path).at(path)?;
        file.lock().at(path)?;
        Ok(Self { _file: file })
    }

    /// Waits for and takes the lock on a folder, which needs no file for it.
    pub fn of_folder(folder: &Path) -> Result<Self> {
        let file = File::open(folder).at(folder)?;
        file.lock().at(folder)?;
        Ok(Self { _file: file })
    }

    /// Takes the lock only if it is free.
    pub(super) fn try_take(path: &Path) -> Option<Self> {
        let file = File::options().write(true).open(path).ok()?;
        file.try_lock().ok()?;
        Some(Self { _file: file })
    }
}
