//! What can be wrong with many apps together.

use std::path::PathBuf;

/// Why nothing can be done with a town.
#[derive(Debug, thiserror::Error, strum::IntoStaticStr, strum::VariantNames)]
#[allow(missing_docs, reason = "the fields say what they are; each variant is documented")]
#[strum(serialize_all = "kebab-case")]
pub enum TownError {
    /// There is no file that says which apps belong together.
    #[error("{path} does not exist")]
    NoFile { path: PathBuf },
    /// The file names no app, or its patterns fit nothing.
    #[error("{path} leads to no apps")]
    NoApps { path: PathBuf, patterns: Vec<String> },
    /// Two apps have one name.
    #[error("two apps are called {name}: {first} and {second}")]
    Twice { name: String, first: PathBuf, second: PathBuf },
    /// No app has this name.
    #[error("no app of the town is called {name:?}")]
    UnknownApp { name: String, said_in: String, known: Vec<String> },
    /// No group has this name.
    #[error("there is no group {name:?}")]
    UnknownGroup { name: String, known: Vec<String> },
    /// Apps that need each other's images.
    #[error("apps that come after each other: {}", names.join(", "))]
    Circle { names: Vec<String> },
    /// What a part of the town should be cannot be read.
    #[error("{text:?} is no part of a town")]
    BadShard { text: String },
    /// Results of parts that do not belong together.
    #[error("{path} does not belong to the others")]
    OtherTown { path: PathBuf },
    /// Parts of which there is no result.
    #[error("results are missing of parts {}", missing.join(", "))]
    MissingShards { missing: Vec<String> },
    /// The parts do not have every app exactly once.
    #[error("the parts do not have every app exactly once")]
    LostApps,
    /// The file with a result cannot be read.
    #[error("{path} is not the result of a build of a town")]
    NoResult { path: PathBuf },
}
