//! Lockfiles: whichever there is, as a tree of packages.

pub(crate) mod app;
mod bun;
pub(crate) mod faults;
mod npm;
mod pnpm;
mod resolutions;
mod unplaced;
mod yarn;

use crate::read_manifest;
use crate::tree::PackageTree;
use crate::workspaces::Parts;
use app::App;
use model::Result;
use source::SourceTree;

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
pub(super) fn read_for_build(tree: &SourceTree) -> Result<Option<PackageTree>> {
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
        let found = parse(name, &text, &App { manifest, parts, development, tree: Some(tree) })?;
        return Ok(Some(PackageTree { member: tree.member().map(str::to_owned), ..found }));
    }
    Ok(None)
}
