//! What a build left in the source.

use std::path::{Path, PathBuf};

/// The source after a build. The programs of the build are not trusted: a link of theirs that leads out of the
/// source would make a file of this machine part of the image.
pub(crate) struct Made(PathBuf);

impl Made {
    /// `source` is the folder as the file system calls it.
    pub fn new(source: PathBuf) -> Self {
        Self(source)
    }

    fn is_inside(&self, path: &Path) -> bool {
        path.canonicalize().is_ok_and(|path| path.starts_with(&self.0))
    }

    pub fn has_file(&self, path: &Path) -> bool {
        path.is_file() && self.is_inside(path)
    }

    pub fn has_folder(&self, path: &Path) -> bool {
        path.is_dir() && self.is_inside(path)
    }
}
