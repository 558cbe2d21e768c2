//! What can be done with images that are built, as one function each.
//!
//! | module | owns |
//! | --- | --- |
//! | [`push`], [`pull`], `registry_places` | images go to registries and come from there |
//! | [`swap_base`] | the layers of an app go on another base, without a build |
//! | [`weight`] | what layers weigh, by packages and folders |
//! | [`compare`] | what is different between two images, and why |
//!
//! Nothing here prints or reads environment variables: all of that is passed in.
#![forbid(unsafe_code)]

pub mod compare;
pub mod pull;
pub mod push;
mod registry_places;
pub mod swap_base;
pub mod weight;
