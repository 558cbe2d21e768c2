//! What keeps a source from being understood.

use crate::Place;

/// What keeps a source from being understood.
#[derive(Debug, thiserror::Error, strum::IntoStaticStr, strum::VariantNames)]
#[allow(missing_docs, reason = "the fields say what they are; each variant is documented")]
#[strum(serialize_all = "kebab-case")]
pub enum SurveyError {
    /// Nothing recognised the source.
    #[error("no language was recognised")]
    Unrecognised {
        looked_for: Vec<(String, Vec<String>)>,
        /// Folders that are apps by themselves.
        inside: Vec<String>,
        /// Programs that a rule leaves out.
        programs: Vec<String>,
        /// Code of a language without the file that declares its packages.
        code: Option<Undeclared>,
    },
    /// Several buildpacks claim the source with equal right.
    #[error("several languages claim this source")]
    Ambiguous { claims: Vec<(String, Vec<Place>)> },
    /// Nothing says how the app is started.
    #[error("no process type was found")]
    NoProcess { language: String },
    /// A command needs a shell, and the base has none.
    #[error("{process} needs a shell")]
    NoShell { process: String, variable: Option<String>, place: Option<Place> },
    /// A file of the source has the wrong form.
    #[error("{place}: {detail}")]
    Malformed { place: Place, detail: String },
    /// Something that this version does not do; it is refused rather than done wrongly.
    #[error("{place}: {what}")]
    Unsupported { place: Place, what: String, instead: &'static str },
}

/// Code of a language without the file that declares its packages.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Undeclared {
    /// One of its files.
    pub file: String,
    /// The language, as people write it.
    pub language: &'static str,
    /// The file that is missing.
    pub manifest: &'static str,
    /// The command that writes it, where there is a usual one.
    pub command: Option<&'static str>,
    /// Packages that the code imports.
    pub packages: Vec<String>,
}
