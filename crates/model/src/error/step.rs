//! What can go wrong in a step that runs a program.

use crate::dev_packages::Missing;
use crate::failures::Cause;
use sandbox::Limit;

/// What can go wrong in a step that runs a program.
#[derive(Debug, thiserror::Error, strum::IntoStaticStr, strum::VariantNames)]
#[allow(missing_docs, reason = "the fields say what they are; each variant is documented")]
#[strum(serialize_all = "kebab-case")]
pub enum StepError {
    /// The build command did not make a file that the image needs.
    #[error("the build command did not make {wanted}")]
    NotMade { wanted: String, made: Vec<String> },
    /// The build command made none of the files that it should.
    #[error("the build command made nothing")]
    NothingMade { keep: Vec<String> },
    /// A program of a step cannot be started.
    #[error("{step}: {program}: {detail}")]
    NotStarted { step: String, program: String, detail: String },
    /// A program of a step failed.
    #[error("{step}: {command} failed")]
    Failed {
        step: String,
        command: String,
        status: String,
        said: Vec<String>,
        missing: Vec<Missing>,
        /// Why, as far as its output tells.
        causes: Vec<Cause>,
        /// Files that it asked for and that are not where they should come from.
        not_there: Vec<String>,
    },
    /// Programs of a step asked for files that are not pinned: kind and path of each.
    #[error("{step}: asked for {} files that are not pinned", asked.len())]
    NotPinned { step: String, asked: Vec<String> },
    /// Programs of a step asked for something that the gateway does not do.
    #[error("{step}: asked for what it may not have")]
    NotAllowed { step: String, asked: Vec<String> },
    /// Programs of a step asked for files of a kind that the step does not fetch.
    #[error("{step}: nothing says where {kind} is")]
    NoAddress { step: String, kind: String },
    /// A program of a step used more than it may.
    #[error("{step}: {command} used too much")]
    OverLimit {
        step: String,
        command: String,
        limit: Limit,
        /// Whether it was the app's own.
        by_app: bool,
    },
}
