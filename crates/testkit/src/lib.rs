//! What the tests need: writers of package archives, a hermetic way to run the program, stand-ins
//! for what is outside.

pub mod archives;
pub mod debian;
pub mod host;
pub mod mirror;
pub mod oci_registry;
pub mod program;
pub mod registry;
pub mod tree;
