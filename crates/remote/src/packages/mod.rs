//! The package registries, one file each.

pub mod composer;
pub mod debian;
pub mod gems;
pub mod go;
pub mod npm;
pub mod pypi;
