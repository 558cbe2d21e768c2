//! Lockfiles: whichever there is, as a tree of packages.

mod bun;
mod npm;
mod pnpm;
mod resolutions;
mod unplaced;
mod yarn;

use crate::patch::Patch;
use crate::tree::{Origin, PackageTree};
use crate::workspaces::Parts;
use crate::{Manifest, read_manifest};
use model::error::SurveyError;
use model::{Error, Place, Result};
use source::{SourceTree, is_commit};

/// What an app says of itself: its manifest, and those of its parts.
#[derive(Default)]
pub(super) struct App<'a> {
    manifest: Manifest,
    parts: Parts,
    /// Its source, for what a lockfile names of it.
    tree: Option<&'a SourceTree>,
    /// Whether what only development needs is needed, too.
    development: bool,
}

impl App<'_> {
    /// The patch at `path`, which `lockfile` names.
    fn patch(&self, path: &str, lockfile: &str) -> Result<Patch> {
        let text = self.tree.map(|tree| tree.read(path)).transpose()?.flatten();
        text.map(|text| Patch { path: path.to_owned(), text }).ok_or_else(|| {
            malformed(lockfile, None, format!("it names the patch {path}, which is not in the source"))
        })
    }
}

type Parse = fn(&'static str, &str, &App<'_>) -> Result<PackageTree>;

/// Every kind that is read, the strongest first.
const KINDS: [(&str, Parse); 5] = [
    ("npm-shrinkwrap.json", npm::parse),
    ("package-lock.json", npm::parse),
    ("yarn.lock", yarn::parse),
    ("pnpm-lock.yaml", pnpm::parse),
    ("bun.lock", bun::parse),
];

/// The names of all lockfiles.
pub(super) fn names() -> impl Iterator<Item = &'static str> {
    KINDS.iter().map(|(name, _)| *name)
}

/// The lockfile of the source, if it has one.
pub(super) fn read(tree: &SourceTree) -> Result<Option<PackageTree>> {
    read_with(tree, false)
}

/// As [`read`], with what only development needs in its place as well.
pub(super) fn read_to_build(tree: &SourceTree) -> Result<Option<PackageTree>> {
    read_with(tree, true)
}

fn read_with(tree: &SourceTree, development: bool) -> Result<Option<PackageTree>> {
    for (name, parse) in KINDS {
        let Some(text) = tree.read(name)? else { continue };
        let manifest = read_manifest(tree)?.map(|(_, manifest)| manifest).unwrap_or_default();
        let parts = Parts::of(tree, &manifest)?;
        let (manifest, parts) = match development {
            true => (manifest.with_development(), parts.with_development()),
            false => (manifest, parts),
        };
        return parse(name, &text, &App { manifest, parts, development, tree: Some(tree) }).map(Some);
    }
    Ok(None)
}

/// A commit of a repository: `git+ssh://git@code.example/fog.git#0123…`, also with `commit=` before its name.
pub(super) fn commit(text: &str) -> Option<Origin> {
    let (url, id) = text.rsplit_once('#')?;
    let id = id.rsplit("commit=").next().unwrap_or(id);
    let url = url.strip_prefix("git+").unwrap_or(url);
    is_commit(id).then(|| Origin::Commit { url: url.to_owned(), id: id.to_owned() })
}

/// A fault of a YAML file; the library shows the place in several lines, of which the first says all.
pub(super) fn not_yaml(file: &str, error: &serde_saphyr::Error) -> Error {
    let text = error.to_string();
    let first = text.lines().next().unwrap_or_default().trim_start_matches("error: ");
    let after = first.strip_prefix("line ").and_then(|rest| rest.split_once(' '));
    let line = after.and_then(|(number, _)| number.parse().ok());
    let what = first.split_once(": ").filter(|_| line.is_some()).map_or(first, |(_, what)| what);
    malformed(file, line, what)
}

/// A fault at a line (from 1) of a lockfile.
fn malformed(file: &str, line: Option<usize>, detail: impl ToString) -> Error {
    let line = line.and_then(|line| u32::try_from(line).ok());
    Error::Survey(SurveyError::Malformed { place: Place::new(file, line), detail: detail.to_string() })
}
