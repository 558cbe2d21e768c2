//! What can be wrong with bases and runtimes.

use crate::Place;
use remote::RemoteError;
use std::path::PathBuf;

/// What can be wrong with bases and runtimes.
#[derive(Debug, thiserror::Error, strum::IntoStaticStr, strum::VariantNames)]
#[allow(missing_docs, reason = "the fields say what they are; each variant is documented")]
#[strum(serialize_all = "kebab-case")]
pub enum BaseError {
    /// The runtime is not on this machine.
    #[error("{runtime} is not on this machine")]
    RuntimeMissing { runtime: String, searched: Vec<PathBuf> },
    /// Neither the base nor a registry has a version of the runtime that would do.
    #[strum(serialize = "runtime-version")]
    #[error("no {runtime} {wanted}")]
    NoSuchVersion { runtime: String, wanted: String, place: Option<Place>, base: String, registry: String },
    /// Nothing can be built on the base.
    #[error("nothing can be built on {base}")]
    NoBuildRoot { base: String },
    /// A base image cannot be got.
    #[error("{base}: {source}")]
    Image { base: String, source: RemoteError },
    /// The base cannot be had for the platform.
    #[strum(serialize = "platform")]
    #[error("{base} is not for {platform}")]
    PlatformNotInBase { base: String, platform: String },
    /// The base does not have the runtime.
    #[strum(serialize = "runtime-absent")]
    #[error("{base} has no {runtime}")]
    RuntimeNotInBase { runtime: String, base: String },
    /// The runtime of the base is not the one that the source asks for.
    #[error("{runtime} {found} does not meet {wanted}")]
    RuntimeMismatch { runtime: String, found: String, origin: String, wanted: String, place: Place },
    /// The runtime of this machine cannot be captured.
    #[error("{path}: {detail}", path = path.display())]
    Capture { path: PathBuf, detail: String },
}
