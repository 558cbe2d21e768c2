//! What can go wrong with packages of languages.

use crate::Place;
use remote::RemoteError;

/// What can go wrong with packages of languages.
#[derive(Debug, thiserror::Error, strum::IntoStaticStr, strum::VariantNames)]
#[allow(missing_docs, reason = "the fields say what they are; each variant is documented")]
#[strum(serialize_all = "kebab-case")]
pub enum PackageError {
    /// Something from elsewhere; `wanted_by` is the package that was asked for.
    #[error("{wanted_by}: {source}")]
    Remote { wanted_by: String, source: RemoteError },
    /// Requirements that cannot all be met.
    #[error("no versions meet all requirements")]
    NoSolution { facts: Vec<String> },
    /// A package requires an extension of the runtime that the image does not have.
    #[error("{package} requires {extension}, which the image does not have")]
    Extension { package: String, extension: String },
    /// Packages that want to run something when they are installed.
    #[error("install scripts of {packages:?}")]
    InstallScripts { place: Place, packages: Vec<String> },
    /// The lockfile does not fit its source.
    #[error("{lockfile}: {detail}")]
    LockMismatch { lockfile: String, detail: String, how: &'static str },
    /// A package that is locked is not at the address.
    #[error("{package} has no usable file at {address}")]
    NoUsableFile { package: String, address: String, offered: Vec<String> },
    /// A package's archive is damaged or hostile.
    #[error("{package}: {detail}")]
    Damaged { package: String, detail: String },
}
