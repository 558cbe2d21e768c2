//! What bases and buildpacks are to a plan.
//!
//! | module | owns |
//! | --- | --- |
//! | `base` | [`Base`]: steps of the base, of runtimes, and of the root that things are built in |
//! | `buildpack` | [`Buildpack`]: survey, resolve, contribute; only `resolve` may ask the network |
//! | [`resolving`] | packages and hashes that no file locks: resolved once, then pinned |
//! | `planned_packages` | [`PlannedPackages`]: packages as they are known before the build, and which need which |
//! | [`solving`] | what the resolvers of languages share |
//! | [`frameworks`] | tables of frameworks, and how apps made with them are started |
#![forbid(unsafe_code)]

mod base;
mod buildpack;
pub mod frameworks;
mod planned_packages;
pub mod resolving;
pub mod solving;

pub use base::{Base, Provided};
pub use buildpack::{
    APP_FILES, BUILD_COMMAND, Buildpack, Context, Contribution, Member, NewHash, Resolution, compile_step,
    first_present, loosely_accepts, tool_version, wanted,
};
pub use planned_packages::{PlannedPackage, PlannedPackages, by_name};
pub use resolving::{NewlyResolved, Pinning, ResolveTarget, Resolving, Settled};
