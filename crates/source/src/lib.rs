//! Source intake: which files belong to the app, and their digest.
//!
//! [`Opened`] makes any kind of source a folder; [`take_in`] walks it by the rules.
//!
//! | module | owns |
//! | --- | --- |
//! | `opened` | folders, commits, archives and built programs, each as a folder |
//! | `archive`, `unpacking`, `unpack_limit` | archives, which are not trusted |
//! | `git` | what a repository says: commits, and what is not committed |
//! | `walk`, `rules` | which files belong to the app, and why others do not |
//! | `tree` | those files, and their digests |
//! | `notable` | contents that hardly anybody means to pack |
#![forbid(unsafe_code)]

mod archive;
mod credentials;
mod git;
mod gunzip;
mod notable;
mod opened;
mod rules;
mod tree;
mod unpack_limit;
mod unpacking;
mod walk;
mod watching;

pub use archive::{open_zip, unpack_package};
pub use git::{KnownHeads, Revision, checked_out, is_commit};
pub use gunzip::Gunzip;
pub use notable::{Notable, Unexpected};
pub use opened::{Asked, Opened, is_url};
pub use rules::{LeftOut, WhyLeftOut};
pub use tree::{SourceTree, TreeDigests, TreeFile, TreeKind};
pub use unpack_limit::UnpackLimit;
pub use walk::{Source, SourceRules, take_in};
pub use watching::{Watcher, folders_of};

/// Whether only tests need the file at `path`.
pub fn is_for_tests(path: &str) -> bool {
    let folder =
        |part: &str| matches!(part, "test" | "tests" | "spec" | "__tests__" | "testing" | "fixtures");
    let (folders, name) = path.rsplit_once('/').unwrap_or(("", path));
    folders.split('/').any(folder)
        || [".test.", ".spec.", "_test.", "_spec."].iter().any(|m| name.contains(m))
        || name.starts_with("test_")
        || name == "conftest.py"
}
