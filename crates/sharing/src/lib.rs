//! The shared store: step results that many machines share.
//!
//! ```text
//! key of a step ─► signed result (what the step left behind) ─► signature, key, format checked ─► its layer, checked ─► own store
//! ```
//!
//! Everybody may read; only who has a key that the others trust writes what they use. Whatever goes wrong there, a step is made
//! here: each request has a time limit, and after a few consecutive failures it is not used any more.
//!
//! | module | owns |
//! | --- | --- |
//! | [`place`](Place) | where it is: a name in a registry of images, or a bucket of object storage |
//! | `registry`, `bucket` | the two kinds of servers |
//! | `result` | the signed document of one step |
//! | [`SharedStore`] | fetching and offering, within limits, and what it brought |
#![forbid(unsafe_code)]

mod bucket;
mod place;
mod registry;
mod result;
mod store;

pub use place::{BadPlace, BucketKey, Place};
pub use store::{SharedStore, Statistics, Trouble};
