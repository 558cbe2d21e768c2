//! What can go wrong between images and registries.

use remote::RemoteError;
use remote::oci::ReferenceFault;

/// What can go wrong between images and registries.
#[derive(Debug, thiserror::Error, strum::IntoStaticStr, strum::VariantNames)]
#[allow(missing_docs, reason = "the fields say what they are; each variant is documented")]
#[strum(serialize_all = "kebab-case")]
pub enum RegistryError {
    /// A text that names no image in a registry.
    #[strum(serialize = "reference")]
    #[error("{text} names no image in a registry")]
    Reference { text: String, fault: ReferenceFault },
    /// A digest, where a tag is needed.
    #[strum(serialize = "not-a-tag")]
    #[error("{text} has no tag")]
    NotATag { text: String },
    /// The registry does not answer as it should.
    #[error("{image}: {source}")]
    Remote { image: String, source: RemoteError },
    /// What a registry has is no image of this tool.
    #[error("{image} is no image of this tool")]
    Foreign { image: String },
}
