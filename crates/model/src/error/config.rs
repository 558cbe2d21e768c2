//! What can be wrong with configuration, and with names that people give.

use crate::Complaint;
use remote::oci::ReferenceFault;
use std::path::PathBuf;

/// What can be wrong with configuration, and with names that people give.
#[derive(Debug, thiserror::Error, strum::IntoStaticStr, strum::VariantNames)]
#[allow(missing_docs, reason = "the fields say what they are; each variant is documented")]
#[strum(serialize_all = "kebab-case")]
pub enum ConfigError {
    /// An image breaks demands of the house.
    #[error("{app} breaks demands of the house")]
    HouseDemands { app: String, broken: Vec<BrokenDemand>, by: String },
    /// A buildpack that is added has the name of another one.
    #[error("there are two buildpacks called {name}")]
    BuildpackTwice { name: String, origin: String },
    /// A buildpack that is added comes from a kind of place that is not read.
    #[error("{text:?} is no folder")]
    BuildpackPlace { text: String },
    /// A buildpack in a repository is named by what can move.
    #[error("{text} does not name a commit")]
    BuildpackMoves { text: String },
    /// What should be a header field is none.
    #[error("{text:?} is not a header field")]
    NotHeader { text: String },
    /// `shtetl.toml` has faults.
    #[error("{path} has faults", path = path.display())]
    Faults { path: PathBuf, text: String, complaints: Vec<Complaint> },
    /// A variant that the configuration does not have.
    #[error("no variant {name}")]
    UnknownVariant { name: String, known: Vec<String> },
    /// A name of an app, process type or tag that is not allowed.
    #[error("{name:?} is not a valid name")]
    Name { what: &'static str, name: String, suggestion: Option<String> },
    /// The configuration names a buildpack that does not exist.
    #[error("no buildpack {name}")]
    UnknownBuildpack { name: String, known: Vec<String> },
    /// The base in the configuration is not one that exists.
    #[error("no base {name}")]
    UnknownBase { name: String },
    /// A text that names no image.
    #[error("{text:?} names no image")]
    BadReference { text: String, fault: ReferenceFault },
    /// An address names a variable that the user's environment does not have.
    #[error("{name} is not set")]
    NoVariable { name: String },
    /// An address of the app names a variable, and a server that only the app names.
    #[error("{server} is to get {name}")]
    UntrustedServer { name: String, server: String },
    /// A module that no proxy may be asked for, and that no address is bound to.
    #[error("{name} is private")]
    PrivateModule { name: String },
    /// No address is known for a kind of packages.
    #[error("no address for {ecosystem}")]
    NoAddress { ecosystem: &'static str },
    /// No address is configured for files that a build command downloads.
    #[error("nothing says where {name} is")]
    NoFiles { name: String },
}

/// A demand of the house that an image breaks.
#[derive(Debug, Clone, PartialEq, Eq)]
#[allow(missing_docs, reason = "the fields say what they are; each variant is documented")]
pub enum BrokenDemand {
    /// A package has a licence that is not allowed, or declares none.
    Licence { package: String, version: String, licence: Option<String> },
    /// The layers are too large, in bytes.
    Size { bytes: u64, most: u64 },
}
