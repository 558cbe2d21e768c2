//! Small servers for one machine: object storage in the S3 style, with how its requests are signed, and a registry of images.
//!
//! The server is for one machine: an app's service while it is developed, and the tests. It keeps objects in buckets, knows
//! ranges, listings, copies and uploads in parts, and lets in only who has its key. Buckets are in the path of a URL, never
//! in its host name.

mod answers;
mod body;
mod buckets;
mod http;
mod registry;
mod requests;
mod server;
pub mod signature;

pub use registry::RegistryServer;
pub use server::Server;
