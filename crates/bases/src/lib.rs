//! What lies under an app: Debian packages, foreign images, this machine, or nothing.
//!
//! Each base implements [`planning::Base`]: the steps of its own layers, of a runtime, and of the root that things
//! are built in.
//!
//! | module | owns |
//! | --- | --- |
//! | [`catalogue`] | what runtimes can be provided, from where, and until when they are supported |
//! | [`debian`] | packages of a suite: chosen from signed indexes, pinned, unpacked without running anything of them |
//! | [`image`] | foreign images: their layers as they are, and the runtimes found in them |
//! | [`host`] | this machine: a runtime with its library and every shared library that it loads |
//! | [`empty`] | nothing, for programs that are linked with all their libraries |
#![forbid(unsafe_code)]

pub mod catalogue;
pub mod debian;
pub mod empty;
pub mod host;
pub mod image;
mod paths;
