//! What bases and buildpacks are to a plan.
#![forbid(unsafe_code)]

mod base;
mod buildpack;
pub mod frameworks;
pub mod resolving;

pub use base::{Base, Provided};
pub use buildpack::*;
pub use resolving::{NewlyResolved, Pinning, Resolving};
