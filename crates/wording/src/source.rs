//! Words of where an app is taken from.

use super::worded::{OUTSIDE, WRONG, Worded, at, suggestion, worded};
use model::error::SourceError;
use render::words;
use std::io;

pub(super) fn words_of(error: &SourceError) -> Worded {
    match error {
        SourceError::Unreadable { path, source } => worded(
            if source.kind() == io::ErrorKind::NotFound { WRONG } else { OUTSIDE },
            at(path, source),
            match source.kind() {
                io::ErrorKind::NotFound => "give the folder of an app",
                io::ErrorKind::NotADirectory => "give the folder, not a file inside it",
                io::ErrorKind::PermissionDenied => "make it readable, or leave it out with [source] exclude",
                _ => "",
            },
        ),
        SourceError::Empty { path, left_out } => worded(
            WRONG,
            format!("{} has nothing to pack", path.display()),
            if *left_out == 0 {
                "give the folder of an app"
            } else {
                "all its files are excluded by rules; [source] include packs them anyway"
            },
        ),
        SourceError::NotASource { path } => worded(
            WRONG,
            format!("{} is not a folder, an archive or a built program", path.display()),
            "give the folder of an app, a zip or tar archive of it, a jar, or a compiled program",
        ),
        SourceError::NoMember { name, known } if known.is_empty() => worded(
            WRONG,
            format!("there is no member {name:?}: this is not a workspace"),
            "give the folder of a workspace, or leave out --member",
        ),
        SourceError::NoMember { name, known } => {
            worded(WRONG, format!("the workspace has no member {name:?}"), suggestion(name, known))
        }
        SourceError::NoRepository { path, searched } => {
            let has_git = searched.iter().any(|f| f.join("git").is_file());
            let hint =
                if has_git { "give a folder of the repository" } else { "install git: --rev needs it" };
            worded(WRONG, format!("{} is not in a readable git repository", path.display()), hint)
        }
        SourceError::NoRevision { path, revision } => worded(
            WRONG,
            format!("the repository of {} has no revision {revision:?}", path.display()),
            "give an existing commit, tag or branch; a shallow clone may lack it",
        ),
        SourceError::NotCommitted { path, commit } => worded(
            WRONG,
            format!("commit {} does not have {}", words::short(commit), path.display()),
            "give a revision that contains the folder",
        ),
        SourceError::FileName { path } => worded(
            WRONG,
            format!("the file name {path:?} is not UTF-8 or has a line break"),
            "rename it, or leave it out with [source] exclude",
        ),
    }
}
