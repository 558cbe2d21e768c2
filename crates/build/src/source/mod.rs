//! Source intake: which files of a folder belong to the app, and their digest.

mod rules;
mod tree;
mod walk;

pub use rules::{LeftOut, WhyLeftOut};
pub use tree::{SourceTree, TreeFile, TreeKind};
pub use walk::{Source, SourceRules, take_in};
