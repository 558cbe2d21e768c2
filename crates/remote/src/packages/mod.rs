//! The package registries, one file each.

pub mod npm;
pub mod pypi;
