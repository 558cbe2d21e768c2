//! What can go wrong with content, as facts without wording.

use crate::layer::Whiteout;
use std::io;
use std::path::{Path, PathBuf};

/// The result of this crate's functions.
pub type Result<T, E = ContentError> = std::result::Result<T, E>;

/// A failure while reading or writing content.
#[derive(Debug, thiserror::Error, strum::IntoStaticStr, strum::VariantNames)]
#[strum(serialize_all = "kebab-case")]
pub enum ContentError {
    /// The operating system refused an operation on `path`.
    #[error("{path}: {source}", path = path.display())]
    Io {
        /// The file or folder that was worked on.
        path: PathBuf,
        /// The operating system's message.
        source: io::Error,
    },
    /// Bytes do not have the digest they are named by.
    #[error("{what}: digest is {found}, expected {expected}")]
    DigestMismatch {
        /// Which content.
        what: String,
        /// The digest it should have.
        expected: String,
        /// The digest it has.
        found: String,
    },
    /// A document or archive does not follow its format.
    #[error("{what}: {detail}")]
    Malformed {
        /// Which document or archive.
        what: String,
        /// What is wrong with it.
        detail: String,
    },
    /// An archive entry would leave the folder that it is unpacked into.
    #[error("{what}: entry {entry:?} leaves its folder")]
    Escape {
        /// Which archive.
        what: String,
        /// The name of the entry.
        entry: String,
    },
    /// A name of a package, a source or an output that would hide files of lower layers.
    #[error("{entry:?} would hide files of lower layers")]
    Whiteout {
        /// The path in the layer.
        entry: String,
    },
    /// Content of the store was damaged, and was removed from it.
    #[error("{what} is damaged")]
    Damaged {
        /// Which content.
        what: String,
    },
    /// The store belongs to another user.
    #[error("{path} belongs to another user", path = path.display())]
    ForeignStore {
        /// The folder of the store.
        path: PathBuf,
    },
    /// The store has a layout that this program does not know.
    #[error("{path} has layout {version}", path = path.display())]
    OtherLayout {
        /// The folder of the store.
        path: PathBuf,
        /// What it says of itself.
        version: u32,
    },
    /// Content that was asked for is not in the store.
    #[error("{what} is not in the store")]
    Missing {
        /// What was looked for.
        what: String,
    },
}

/// An error while a layer is written: either the store cannot be written to, or a file is no longer
/// as long as it was when it was looked at.
impl From<io::Error> for ContentError {
    fn from(source: io::Error) -> Self {
        if let Some(Whiteout(entry)) = source.get_ref().and_then(|inner| inner.downcast_ref()) {
            return Self::Whiteout { entry: entry.clone() };
        }
        match source.kind() {
            io::ErrorKind::InvalidInput => {
                Self::Malformed { what: "the source".to_owned(), detail: source.to_string() }
            }
            _ => Self::Io { path: "the store".into(), source },
        }
    }
}

/// Gives an I/O result the path that it happened on.
pub trait PathContext<T> {
    /// Turns the error into [`ContentError::Io`] with `path`.
    fn at(self, path: impl AsRef<Path>) -> Result<T>;
}

impl<T> PathContext<T> for io::Result<T> {
    fn at(self, path: impl AsRef<Path>) -> Result<T> {
        self.map_err(|source| ContentError::Io { path: path.as_ref().to_owned(), source })
    }
}

impl<T> PathContext<T> for rustix::io::Result<T> {
    fn at(self, path: impl AsRef<Path>) -> Result<T> {
        self.map_err(io::Error::from).at(path)
    }
}
