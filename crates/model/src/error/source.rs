//! What can be wrong with where an app is taken from.

use std::path::PathBuf;

/// What can be wrong with where an app is taken from.
#[derive(Debug, thiserror::Error, strum::IntoStaticStr, strum::VariantNames)]
#[allow(missing_docs, reason = "the fields say what they are; each variant is documented")]
#[strum(serialize_all = "kebab-case")]
pub enum SourceError {
    /// The source folder cannot be read.
    #[error("{path}: {source}", path = path.display())]
    Unreadable { path: PathBuf, source: std::io::Error },
    /// The source holds nothing that could be packed.
    #[error("{path} holds no files", path = path.display())]
    Empty { path: PathBuf, left_out: usize },
    /// A file that is no source: neither an archive nor a program.
    #[error("{path} is no source", path = path.display())]
    NotASource { path: PathBuf },
    /// A revision was asked for where there is no repository, or git is missing.
    #[error("{path} is in no repository", path = path.display())]
    NoRepository { path: PathBuf, searched: Vec<PathBuf> },
    /// The repository has no such revision.
    #[error("no revision {revision}")]
    NoRevision { path: PathBuf, revision: String },
    /// The commit does not have the folder.
    #[error("{path} is not in {commit}", path = path.display())]
    NotCommitted { path: PathBuf, commit: String },
    /// The source has no member of this name.
    #[error("no member {name}")]
    NoMember { name: String, known: Vec<String> },
    /// A file name that is not UTF-8.
    #[error("{path:?} is not UTF-8")]
    FileName { path: PathBuf },
}
