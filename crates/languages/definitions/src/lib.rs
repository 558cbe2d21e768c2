//! Buildpacks that a folder defines: what an organisation adds that only it knows.
//!
//! ```text
//! FOLDER/definition.toml ─► Definition ─► Defined, a buildpack like any other
//! FOLDER/files/…          ─► what its steps find at /buildpack; its program, which is asked about each source
//! ```
#![forbid(unsafe_code)]

mod buildpack;
mod definition;
mod own_files;
mod program;
mod step;

pub use buildpack::Defined;
pub use definition::{DEFINITION, FORMAT, schema};
pub use program::answer_schema;
