//! What can go wrong with pins, and with the packages of a distribution.

use remote::packages::debian::SignatureFault;

/// What can go wrong with pins, and with the packages of a distribution.
#[derive(Debug, thiserror::Error, strum::IntoStaticStr, strum::VariantNames)]
#[allow(missing_docs, reason = "the fields say what they are; each variant is documented")]
#[strum(serialize_all = "kebab-case")]
pub enum PinError {
    /// Packages of a distribution that cannot be together.
    #[error("{package} excludes {excluded}")]
    Conflict { suite: String, package: String, excluded: String },
    /// Packages of a distribution need one that nothing provides.
    #[error("{suite}: nothing provides {wanted}")]
    Unmet { suite: String, wanted: String, chain: Vec<String> },
    /// The signature of something does not hold.
    #[error("{what}: {fault:?}")]
    Signature { what: String, fault: SignatureFault },
    /// A signed release is past its time.
    #[strum(serialize = "archive-outdated")]
    #[error("{what} was valid until {until}")]
    ReleaseOver { what: String, until: String },
    /// Pins that were to be kept do not hold, or are missing.
    #[strum(serialize = "missing")]
    #[error("{base} is not pinned")]
    Missing { base: String, file_is_there: bool },
}
