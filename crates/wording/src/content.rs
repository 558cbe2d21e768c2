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
                    "free some space, or use another location; --store DIR moves the store"
                }
                io::ErrorKind::ReadOnlyFilesystem => "use another location; --store DIR moves the store",
                io::ErrorKind::FileTooLarge => "raise the limit of this shell: ulimit -f unlimited",
                io::ErrorKind::PermissionDenied => {
                    "check its owner and permissions, or use another store with --store DIR"
                }
                _ => "",
            },
        ),
        ContentError::DigestMismatch { what, expected, found } => Worded {
            details: vec![format!("  expected {expected}"), format!("  found    {found}")],
            ..worded(FAILED, format!("{what} is damaged"), "download it again, or build it again")
        },
        ContentError::Malformed { what, detail } => worded(FAILED, format!("{what}: {detail}"), ""),
        ContentError::Escape { what, entry } => worded(
            FAILED,
            format!("{what} is not safe to unpack: its entry {entry:?} points outside the folder"),
            "do not use it; ask where it came from",
        ),
        ContentError::Whiteout { entry } => worded(
            FAILED,
            format!("{entry:?} cannot be in a layer: the name would hide files of lower layers"),
            "rename the file, or leave it out with [source] exclude; do not use a package that contains one",
        ),
        ContentError::Damaged { what } => worded(
            FAILED,
            format!("{what} was damaged in the store and was removed"),
            "build again: missing data is recreated",
        ),
        ContentError::ForeignStore { path } => worded(
            WRONG,
            format!("the store {} belongs to another user", path.display()),
            "use your own store: --store DIR, or XDG_CACHE_HOME",
        ),
        ContentError::OtherLayout { path, version } => worded(
            WRONG,
            format!(
                "the store {} has layout {version}, which this version of shtetl does not support",
                path.display()
            ),
            "use the version of shtetl that created it, or another store with --store DIR",
        ),
        ContentError::Missing { what } => {
            worded(FAILED, format!("{what} is not in the store"), "build or load the image again")
        }
    }
}
