//! Images of registries (OCI distribution specification 1.1) and of layouts.

mod authorisation;
mod credentials;
mod documents;
mod reference;
mod referrers;
mod registry;
mod source;
mod target;
mod upload;

pub use credentials::CredentialFiles;
pub use documents::{ForeignConfig, ForeignManifest, Part};
pub use reference::{Reference, ReferenceFault, Target};
pub use referrers::Attached;
pub use source::ImageSource;
pub use target::ImageTarget;
pub use upload::Arrival;
