//! What can go wrong between images and registries.

use remote::RemoteError;
use remote::oci::ReferenceFault;

/// What can go wrong between images and registries.
#[derive(Debug, thiserror::Error)]
#[allow(missing_docs, reason = "the fields say what they are; each variant is documented")]
pub enum RegistryError {
    /// A text that names no image in a registry.
    #[error("{text} names no image in a registry")]
    Reference { text: String, fault: ReferenceFault },
    /// A digest, where a tag is needed.
    #[error("{text} has no tag")]
    NotATag { text: String },
    /// The registry does not answer as it should.
    #[error("{image}: {source}")]
    Remote { image: String, source: RemoteError },
    /// What a registry has is no image of this tool.
    #[error("{image} is no image of this tool")]
    Foreign { image: String },
}
