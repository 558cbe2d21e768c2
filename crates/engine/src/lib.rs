//! Steps with keys, and their execution.
#![forbid(unsafe_code)]

pub mod collect;
pub mod download_buffer;
mod execute;
mod key;
pub mod layer_shards;
pub mod package_archive;
pub mod program_step;
mod reason;
mod step;
pub mod support_files;
pub mod unpacked_layers;

pub use execute::*;
pub use key::{Input, LayerTarget, parts_digest};
pub use reason::{Change, LastInputs, MissReason, compare};
pub use step::*;
