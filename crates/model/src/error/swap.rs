//! What keeps an image from being put on another base.

use serde::Serialize;

/// Why an image stays on its base.
#[derive(Debug, thiserror::Error, strum::IntoStaticStr, strum::VariantNames)]
#[allow(missing_docs, reason = "the fields say what they are; each variant is documented")]
#[strum(serialize_all = "kebab-case")]
pub enum SwapError {
    /// A base that nothing can be in place of: this machine, or nothing at all.
    #[error("{image} is on {base}")]
    FixedBase { image: String, base: String },
    /// The record does not say what the app needs of its base.
    #[error("the record of {image} does not say what it needs of its base")]
    Unknown { image: String },
    /// A base that is named by its digest: there is no newer one.
    #[error("{base} is named by its digest")]
    ByDigest { base: String },
    /// What the new base does not have.
    #[error("{base} does not fit {image}")]
    Unfit { image: String, base: String, misfits: Vec<Misfit> },
}

/// Something that an app needs and a base does not have.
#[derive(Debug, Clone, PartialEq, Eq, Serialize)]
#[serde(rename_all = "kebab-case", tag = "kind")]
#[allow(missing_docs, reason = "the fields say what they are; each variant is documented")]
pub enum Misfit {
    /// A runtime, or a version of it that packages were installed for.
    Runtime { name: String, before: String, after: Option<String> },
    /// A shared library.
    Library { name: String },
    /// A symbol version of a shared library.
    SymbolVersion { library: String, version: String },
    /// A program or file.
    Program { path: String },
}
