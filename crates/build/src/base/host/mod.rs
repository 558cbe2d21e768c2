//! The base `host`: what the app needs, captured from the files of this machine.
//!
//! Nothing of where things lie on the host stays: an interpreter and its library go to
//! `/opt/<runtime>`, shared libraries into the one folder where the system's C library lies. So
//! the image depends on the contents of the captured files alone.

mod base_files;
mod capture;
mod elf;
mod runtimes;

pub use capture::Captured;
pub use runtimes::{ProvidedRuntime, provide};

use crate::error::Result;
use content::store::Store;
use std::path::{Path, PathBuf};

/// The machine, as far as capturing sees it.
#[derive(Debug, Clone)]
pub struct Host {
    /// The root of the files that are captured; `/` for this machine itself.
    pub root: PathBuf,
    /// Folders with programs (as on the host, also where `root` is another), strongest first.
    pub search: Vec<PathBuf>,
}

impl Host {
    /// Where a path of the host lies on this machine.
    pub(crate) fn real(&self, path: &Path) -> PathBuf {
        if self.root == Path::new("/") {
            return path.to_owned();
        }
        self.root.join(path.strip_prefix("/").unwrap_or(path))
    }

    /// A program in the search path: its path on this machine.
    pub(crate) fn program(&self, name: &str) -> Option<PathBuf> {
        use std::os::unix::fs::PermissionsExt;
        let runnable =
            |p: &PathBuf| p.metadata().is_ok_and(|m| m.is_file() && m.permissions().mode() & 0o111 != 0);
        self.search.iter().map(|folder| self.real(&folder.join(name))).find(runnable)
    }
}

/// Captures the base: everything that is not of one runtime.
///
/// `interpreter` is the program interpreter that the runtime names (for example
/// `/lib64/ld-linux-x86-64.so.2`); without one there is no C library either.
pub fn capture_base(host: &Host, interpreter: Option<&Path>, store: &Store, now: i64) -> Result<Captured> {
    base_files::capture(host, interpreter, store, now)
}
