//! What can go wrong, as facts: one enum a domain. Wording, advice and exit codes are the program's.

mod base;
mod config;
mod package;
mod pin;
mod registry;
mod run;
mod source;
mod step;
mod survey;
mod swap;
mod town;

pub use base::BaseError;
pub use config::{BrokenDemand, ConfigError};
pub use package::PackageError;
pub use pin::PinError;
pub use registry::RegistryError;
pub use run::RunError;
pub use source::SourceError;
pub use step::StepError;
pub use survey::{SurveyError, Undeclared};
pub use swap::{Misfit, SwapError};
pub use town::TownError;

use ::sandbox::{Refusal, SandboxError};
use content::ContentError;

/// The result of everything above the lowest floors.
pub type Result<T, E = Error> = std::result::Result<T, E>;

/// A failure, by the domain that it belongs to.
#[derive(Debug, thiserror::Error)]
pub enum Error {
    /// The store, a layer or an image document.
    #[error(transparent)]
    Content(#[from] ContentError),
    /// Where the app is taken from.
    #[error(transparent)]
    Source(#[from] SourceError),
    /// Configuration and names.
    #[error(transparent)]
    Config(#[from] ConfigError),
    /// What the source is.
    #[error(transparent)]
    Survey(#[from] SurveyError),
    /// Packages of languages.
    #[error(transparent)]
    Package(#[from] PackageError),
    /// Pins, and packages of a distribution.
    #[error(transparent)]
    Pins(#[from] PinError),
    /// Bases and runtimes.
    #[error(transparent)]
    Base(#[from] BaseError),
    /// Steps that run programs.
    #[error(transparent)]
    Step(#[from] StepError),
    /// Images that are opened or run.
    #[error(transparent)]
    Run(#[from] RunError),
    /// Images on their way to and from registries.
    #[error(transparent)]
    Registry(#[from] RegistryError),
    /// Images that are to be put on another base.
    #[error(transparent)]
    Swap(#[from] SwapError),
    /// Many apps together.
    #[error(transparent)]
    Town(#[from] TownError),
    /// No way to isolate a process works on this machine.
    #[error(transparent)]
    NoSandbox(#[from] Refusal),
    /// A process could not be started.
    #[error(transparent)]
    Sandbox(#[from] SandboxError),
    /// The user ended the work.
    #[error("interrupted")]
    Interrupted,
}

impl From<std::io::Error> for Error {
    fn from(error: std::io::Error) -> Self {
        Self::Content(error.into())
    }
}

/// Gives an I/O result of the source the path that it happened on.
pub trait PathFacts<T> {
    /// Turns the error into [`Error::Source`] with `path`.
    fn facts(self, path: &std::path::Path) -> Result<T>;
}

impl<T> PathFacts<T> for std::io::Result<T> {
    fn facts(self, path: &std::path::Path) -> Result<T> {
        self.map_err(|source| SourceError::Unreadable { path: path.to_owned(), source }.into())
    }
}
