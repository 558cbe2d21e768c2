//! Many apps as one.
//!
//! ```text
//! town.toml ─► apps ─► looked at and planned, several at once ─► one graph of steps ─► images, one by one as they are done
//! ```
//!
//! | module | owns |
//! | --- | --- |
//! | [`apps`] | which apps there are, their groups, and how they are selected |
//! | [`plan`] | looking at apps and planning their builds, several at once |
//! | [`build`] | all builds in one graph |
//! | [`find`], [`outdated`] | what is in images of a town, and what of it is behind |
//! | [`overview`] | a town at a glance |
//! | [`simulate`] | what a day of commits would cost |
//! | [`results`] | the results of a build, and of all its parts |
//! | [`shards`] | parts of a town for many machines |
#![forbid(unsafe_code)]

pub mod apps;
pub mod build;
pub mod find;
pub mod outdated;
pub mod overview;
pub mod plan;
pub mod results;
pub mod shards;
pub mod simulate;
