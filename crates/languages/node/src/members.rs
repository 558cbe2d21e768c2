//! Members of a workspace that are apps: which whole one belongs to, what it needs of that, and what is built before it.

use crate::app_scripts::AppScripts;
use crate::workspaces::{APART, Part, Parts};
use crate::{MANIFEST, lock, parse_manifest, read_manifest};
use content::store::Signature;
use model::{PathFacts, Result, shell_words};
use planning::Member;
use source::{SourceTree, TreeFile, TreeKind};
use std::collections::BTreeMap;
use std::path::{Path, PathBuf};

/// How many folders above a member the whole is looked for.
const HIGHEST: usize = 5;
/// Where the whole is while something is built.
const ROOT: &str = "/app";

/// The folder of the workspace that `folder` is a member of; one with a lockfile of its own stands for itself.
pub(super) fn workspace_above(folder: &Path) -> Option<PathBuf> {
    if !folder.join(MANIFEST).is_file() || lock::names().any(|name| folder.join(name).is_file()) {
        return None;
    }
    let is_whole = |above: &&Path| {
        let inside = folder.strip_prefix(above).ok().and_then(Path::to_str);
        let lists = || -> Result<bool> {
            let Some(inside) = inside else { return Ok(false) };
            // Only as much of the tree as says which folders are members.
            let tree = small_tree(above, &[MANIFEST, APART, &format!("{inside}/{MANIFEST}")])?;
            let manifest = match tree.read(MANIFEST)? {
                Some(text) => parse_manifest(MANIFEST, &text)?,
                None => return Ok(false),
            };
            Ok(Parts::of(&tree, &manifest)?.in_folder(inside).is_some())
        };
        // What cannot be read there is not for this app to complain about.
        lists().unwrap_or(false)
    };
    folder.ancestors().skip(1).take(HIGHEST).find(is_whole).map(Path::to_owned)
}

fn small_tree(root: &Path, files: &[&str]) -> Result<SourceTree> {
    let mut found = BTreeMap::new();
    for file in files {
        let full = root.join(file);
        if full.is_file() {
            let metadata = full.metadata().facts(&full)?;
            let kind = TreeKind::File { size: metadata.len(), executable: false };
            found.insert((*file).to_owned(), TreeFile { kind, signature: Signature::of(&metadata) });
        }
    }
    Ok(SourceTree::new(root.to_owned(), found))
}

fn parts_of(tree: &SourceTree) -> Result<Parts> {
    match read_manifest(tree)? {
        Some((_, manifest)) => Parts::of(tree, &manifest),
        None => Ok(Parts::default()),
    }
}

/// All members of the workspace that the tree is.
pub(super) fn all(tree: &SourceTree) -> Result<Vec<Member>> {
    let member = |part: &Part| Member { name: part.name.clone(), folder: part.folder.clone() };
    Ok(parts_of(tree)?.all().map(member).collect())
}

/// The folders of the members that no other one needs.
pub(super) fn not_needed_by_others(tree: &SourceTree) -> Result<Vec<String>> {
    let parts = parts_of(tree)?;
    let is_needed = |part: &Part| {
        let others = parts.all().filter(|other| other.name != part.name);
        others
            .map(|other| parts.needed_by(other))
            .any(|needed| needed.iter().any(|one| one.name == part.name))
    };
    let mut folders: Vec<String> = parts.all().filter(|p| !is_needed(p)).map(|p| p.folder.clone()).collect();
    folders.sort();
    Ok(folders)
}

/// The folders of the members that the one in `folder` does not need.
pub(super) fn unneeded(tree: &SourceTree, folder: &str) -> Result<Vec<String>> {
    let parts = parts_of(tree)?;
    let Some(part) = parts.in_folder(folder) else { return Ok(Vec::new()) };
    let needed: Vec<&str> = parts.needed_by(part).into_iter().map(|part| part.folder.as_str()).collect();
    // One member may lie in another.
    let holds = |folder: &str| needed.iter().any(|needed| needed.starts_with(&format!("{folder}/")));
    let others = parts.all().map(|part| part.folder.as_str());
    Ok(others.filter(|f| !needed.contains(f) && !holds(f)).map(str::to_owned).collect())
}

/// What has to be built before the member in `folder`: the builds of members that it needs, as one line of a shell.
pub(super) fn built_before(tree: &SourceTree, folder: &str) -> Result<Option<String>> {
    let parts = parts_of(tree)?;
    let Some(part) = parts.in_folder(folder) else { return Ok(None) };
    let mut lines = Vec::new();
    for needed in parts.needed_by(part).into_iter().filter(|needed| needed.folder != folder) {
        let build = AppScripts(&needed.manifest).line("build");
        lines.extend(build.map(|line| format!("{} && {line}", enter(&needed.folder))));
    }
    Ok((!lines.is_empty()).then(|| format!("{} && {}", lines.join(" && "), enter(folder))))
}

/// The command that goes to a folder of the whole, whatever it is called.
fn enter(folder: &str) -> String {
    shell_words::join(&["cd".to_owned(), format!("{ROOT}/{folder}")])
}
