//! The package registries, one file each.

pub mod debian;
pub mod npm;
pub mod pypi;
