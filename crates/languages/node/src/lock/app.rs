//! What readers of lockfiles are given, and what several of them read.

use super::faults::malformed;
use crate::Manifest;
use crate::package::Origin;
use crate::patch::Patch;
use crate::workspaces::Parts;
use model::Result;
use source::{SourceTree, is_commit};

/// What an app says of itself: its manifest, and those of its parts.
#[derive(Default)]
pub(crate) struct App<'a> {
    pub(super) manifest: Manifest,
    pub(super) parts: Parts,
    /// Its source, for what a lockfile names of it.
    pub(super) tree: Option<&'a SourceTree>,
    /// Whether what only development needs is needed, too.
    pub(super) development: bool,
}

impl App<'_> {
    /// The patch at `path`, which `lockfile` names.
    pub(super) fn patch(&self, path: &str, lockfile: &str) -> Result<Patch> {
        let text = self.tree.map(|tree| tree.read(path)).transpose()?.flatten();
        text.map(|text| Patch { path: path.to_owned(), text }).ok_or_else(|| {
            malformed(lockfile, None, format!("it uses the patch {path}, which is not in the source"))
        })
    }
}

/// A commit of a repository: `git+ssh://git@code.example/fog.git#0123…`, also with `commit=` before its name.
pub(crate) fn commit(text: &str) -> Option<Origin> {
    let (url, id) = text.rsplit_once('#')?;
    let id = id.rsplit("commit=").next().unwrap_or(id);
    let url = url.strip_prefix("git+").unwrap_or(url);
    is_commit(id).then(|| Origin::Commit { url: url.to_owned(), id: id.to_owned() })
}
