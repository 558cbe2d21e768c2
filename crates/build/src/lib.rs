//! From an app's source to its OCI images: the heart of the program.
//!
//! ```text
//! source ─► survey ─► worklist ─► execute ─► image documents + record ─► store
//! ```
//!
//! | module | owns |
//! | --- | --- |
//! | [`config`] | `shtetl.toml`: strict reading, every wrong key with its place |
//! | [`source`] | which files belong to the app, and their digest |
//! | [`survey`] | what the source is, with evidence |
//! | [`lang`] | one folder or file a language: detection, locked packages, installation |
//! | [`base`] | what lies under the app: composed from Debian packages, or captured from this host |
//! | [`pins`] | `shtetl.lock`: what is taken from outside, exactly |
//! | [`addresses`] | where packages come from |
//! | [`worklist`] | steps, their keys, and why a step has to run |
//! | [`execute`] | running steps, events |
//! | [`image`], [`record`] | the documents of the finished image |
//! | [`check`] | rules that find what would break the build or the start |
//! | [`init`] | drafts a configuration from a survey |
//! | [`pipeline`] | the whole way, in order |
//! | [`inspect`], [`launch`], [`ledger`] | looking at images, running them, past builds |
//!
//! Nothing flows back: the survey reads only source and configuration, the worklist only the survey
//! and lockfiles, execution only the worklist. Nothing here prints, reads environment variables or
//! knows where configuration files lie: all of that is passed in.
#![forbid(unsafe_code)]

pub mod addresses;
mod allowance;
pub mod base;
pub mod bases;
pub mod check;
pub mod command;
pub mod config;
pub mod error;
pub mod execute;
pub mod image;
pub mod init;
pub mod inspect;
mod isolated;
pub mod lang;
pub mod launch;
pub mod ledger;
mod made;
pub mod missing;
pub mod names;
pub mod pins;
pub mod pipeline;
mod purl;
pub mod record;
pub mod source;
mod spool;
pub mod survey;
pub mod worklist;

pub use error::{BuildError, Place, Result};

#[cfg(test)]
mod tests;
