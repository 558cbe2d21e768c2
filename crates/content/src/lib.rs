//! Content: digests, the local store, layers and image documents.
//!
//! The way of the data inside this crate:
//!
//! ```text
//! entries ─► layer::tar (normalised bytes) ─► layer::codec (blocks) ─► fragment or layer blob
//! layer blobs + image::Config ─► image::Manifest ─► image::Index ─► store, layout folder or archive
//! ```
//!
//! Layout of the store on disk is described at [`store::Store`]. This crate knows nothing of
//! networks, languages or terminals.
#![forbid(unsafe_code)]

pub mod digest;
pub mod error;
pub mod image;
pub mod layer;
pub mod store;

pub use digest::{BlobDigest, DiffId, InputDigest, StepKey, TreeDigest};
pub use error::{ContentError, PathContext, Result};
