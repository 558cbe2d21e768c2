//! What can be wrong with images that are opened or run.

/// What can be wrong with images that are opened or run.
#[derive(Debug, thiserror::Error, strum::IntoStaticStr, strum::VariantNames)]
#[allow(missing_docs, reason = "the fields say what they are; each variant is documented")]
#[strum(serialize_all = "kebab-case")]
pub enum RunError {
    /// An image for another platform cannot be run here.
    #[error("{image} is for {platform}")]
    OtherPlatform { image: String, platform: String, here: String },
    /// An image that was asked for does not exist.
    #[error("no image {name}")]
    NoImage { name: String, known: Vec<String> },
    /// A build that is not in the ledger, or whose image is no longer in the store.
    #[error("no image of build {number} of {name}")]
    NoBuild { name: String, number: String },
    /// An image without the record that this tool writes.
    #[error("{image} has no record")]
    NoRecord { image: String },
    /// A process type that the image does not have.
    #[error("no process type {name}")]
    NoSuchProcess { name: String, known: Vec<String> },
    /// Settings that must have a value and have none.
    #[error("settings without a value: {names:?}")]
    SettingsMissing { names: Vec<String> },
    /// Settings of a service that is neither started nor bound.
    #[error("service {service} is not bound")]
    ServiceNotBound { service: String, kind: String, settings: Vec<String> },
    /// A service that the image does not declare.
    #[error("no service {name}")]
    NoSuchService { name: String, known: Vec<String> },
    /// What a service is bound to is no address.
    #[error("the address of service {service} cannot be read")]
    BadServiceUrl { service: String },
    /// The data of a service could not be made.
    #[error("service {service} could not be prepared")]
    ServiceNotPrepared { service: String, lines: Vec<String> },
    /// The port is taken.
    #[error("port {port} is in use")]
    PortTaken { port: u16 },
}
