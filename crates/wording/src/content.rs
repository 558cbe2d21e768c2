//! Words of the store, layers and image documents.

use super::worded::{FAILED, OUTSIDE, WRONG, Worded, at, worded};
use ::content::ContentError;
use std::io;

pub(super) fn words_of(error: &ContentError) -> Worded {
    match error {
        ContentError::Io { path, source } => worded(
            OUTSIDE,
            at(path, source),
            match source.kind() {
                io::ErrorKind::StorageFull => {
                    "free some space there, or use another place; --store DIR moves the store"
                }
                io::ErrorKind::ReadOnlyFilesystem => "use another place; --store DIR moves the store",
                io::ErrorKind::FileTooLarge => "raise the limit of this shell: ulimit -f unlimited",
                io::ErrorKind::PermissionDenied => "check who owns it, or use another store with --store DIR",
                _ => "",
            },
        ),
        ContentError::DigestMismatch { what, expected, found } => Worded {
            details: vec![format!("  expected {expected}"), format!("  found    {found}")],
            ..worded(FAILED, format!("{what} is damaged"), "get it again, or build it again")
        },
        ContentError::Malformed { what, detail } => worded(FAILED, format!("{what}: {detail}"), ""),
        ContentError::Escape { what, entry } => worded(
            FAILED,
            format!("{what} is not safe to unpack: its entry {entry:?} leaves the folder"),
            "do not use it; ask where it came from",
        ),
        ContentError::Whiteout { entry } => worded(
            FAILED,
            format!("{entry:?} cannot be in a layer: such a name hides files of the layers below"),
            "rename the file, or leave it out with [source] exclude; a package that has one is not safe to use",
        ),
        ContentError::Damaged { what } => worded(
            FAILED,
            format!("{what} was damaged in the store, and was removed from it"),
            "build again: what is missing is made again",
        ),
        ContentError::ForeignStore { path } => worded(
            WRONG,
            format!("the store {} belongs to another user", path.display()),
            "use a store of your own: --store DIR, or XDG_CACHE_HOME",
        ),
        ContentError::OtherLayout { path, version } => worded(
            WRONG,
            format!(
                "the store {} has layout {version}, which this version of shtetl does not know",
                path.display()
            ),
            "use the version that made it, or another store with --store DIR",
        ),
        ContentError::Missing { what } => {
            worded(FAILED, format!("{what} is not in the store"), "build or load the image again")
        }
    }
}
