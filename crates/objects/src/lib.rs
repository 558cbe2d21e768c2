//! Object storage in the S3 style: a small server over a folder, and how requests are signed.
//!
//! The server is for one machine: an app's service while it is developed, and the tests. It keeps objects in buckets, knows
//! ranges, listings, copies and uploads in parts, and lets in only who has its key. Buckets are in the path of a URL, never
//! in its host name.

mod answers;
mod body;
mod buckets;
mod http;
mod requests;
mod server;
pub mod signature;

pub use server::Server;
