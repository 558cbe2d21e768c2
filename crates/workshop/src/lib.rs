//! What can be done with an app, as one function each: look, survey, check, plan, build, inspect, run.
//!
//! ```text
//! source ─► survey ─► plan ─► execute ─► image documents + record ─► store
//! ```
//!
//! | module | owns |
//! | --- | --- |
//! | [`app`] | an app that is looked at, and how it is to be built |
//! | [`buildpacks`] | the table of buildpacks, and the names that configuration may use |
//! | [`survey`] | what the source is, with evidence |
//! | [`check`] | rules that find what would break the build or the start |
//! | [`base_selection`] | which base an app has, and its pins |
//! | [`plan`] | from survey and pins to the graph of steps |
//! | [`prepare`] | base, packages and pins of an app are settled: the worklist |
//! | [`build`], `recording` | from the worklist to the image |
//! | [`image`], [`record`], [`ledger`] | what a build leaves behind |
//! | [`trials`] | samples for buildpacks that folders define |
//! | [`inspect`], [`init`] | looking at images, drafting a configuration |
//!
//! Nothing here prints, reads environment variables or knows where configuration files lie: all of that is
//! passed in.
#![forbid(unsafe_code)]

pub mod app;
pub mod base_selection;
pub mod build;
pub mod buildpacks;
pub mod check;
#[cfg(fuzzing)]
pub mod fuzzing;
mod house;
pub mod image;
pub mod init;
pub mod inspect;
pub mod layer_contents;
pub mod ledger;
pub mod linkage;
mod member;
mod overwritten;
pub mod plan;
pub mod prepare;
pub mod record;
mod recording;
mod shared_libraries;
pub mod storage;
pub mod survey;
pub mod trials;

#[cfg(test)]
mod tests;
