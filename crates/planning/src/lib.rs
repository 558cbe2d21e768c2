//! What bases and buildpacks are to a plan.
#![forbid(unsafe_code)]

mod base;
mod buildpack;
pub mod frameworks;
pub mod resolving;

pub use base::{Base, Provided};
pub use buildpack::{
    Buildpack, Context, Contribution, NewHash, Resolution, compile_step, first_present, loosely_accepts,
    wanted,
};
pub use resolving::{NewlyResolved, Pinning, ResolveTarget, Resolving, Settled};
