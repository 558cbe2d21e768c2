//! Source intake: which files belong to the app, and their digest.
//!
//! [`Opened`] makes any kind of source a folder; [`take_in`] walks it by the rules.

mod archive;
mod git;
mod notable;
mod opened;
mod rules;
mod tree;
mod unpacking;
mod walk;

pub use archive::unpack_package;
pub use git::{Revision, checked_out, is_commit};
pub use notable::{Notable, Unexpected};
pub use opened::{Asked, Opened};
pub use rules::{LeftOut, WhyLeftOut};
pub use tree::{SourceTree, TreeDigests, TreeFile, TreeKind};
pub use walk::{Source, SourceRules, take_in};
