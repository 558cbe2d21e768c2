//! What lies under an app: Debian packages, images of others, this machine, or nothing.
#![forbid(unsafe_code)]

pub mod catalogue;
pub mod debian;
pub mod empty;
pub mod host;
pub mod image;
mod paths;
