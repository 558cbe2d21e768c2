//! Everything that comes from elsewhere: HTTP with retry, registries of packages and of images.
//!
//! No address is built in: callers say where packages come from as an [`Address`], which is a URL
//! or a folder in the registry's layout. This crate knows nothing of worklists or terminals.
#![forbid(unsafe_code)]

mod address;
mod downloads;
mod error;
mod exchange;
mod fetch;
mod integrity;
mod login;
mod names;
pub mod oci;
pub mod packages;
mod patient;
pub mod percent;
mod repository;
mod send;

pub use address::{Address, server_in, without_steps_back};
pub use downloads::Downloads;
pub use error::{RemoteError, Result};
pub use exchange::{Exchange, Witness};
pub use fetch::{Answer, Fetcher, Network};
pub use integrity::Integrity;
pub use login::Login;
pub use send::{Method, Payload};
