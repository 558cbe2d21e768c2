//! Members of a workspace: apps that share a lockfile, and other members, with the whole.

use crate::buildpacks::Buildpacks;
use content::store::Store;
use model::error::SourceError;
use model::{Error, PathFacts, Result};
use planning::Member;
use source::{Asked, Opened, Source, SourceRules, is_url, take_in};
use std::path::{Path, PathBuf};

/// Opens what is asked for: the whole workspace where that is one of its members, with the folder of the member.
pub(crate) fn open(
    asked: &Asked<'_>,
    buildpacks: &Buildpacks,
    store: &Store,
    now: i64,
) -> Result<(Opened, Option<String>)> {
    if let Some(name) = asked.member {
        let opened = Opened::open(asked, store, now)?;
        let folder = named(name, &opened, buildpacks)?;
        let shown = asked.path.join(&folder);
        return Ok((opened.of_member(&folder, shown), Some(folder)));
    }
    if is_url(asked.path) {
        return Ok((Opened::open(asked, store, now)?, None));
    }
    let path = asked.path.canonicalize().facts(asked.path)?;
    let above = buildpacks.iter().filter(|_| path.is_dir()).find_map(|b| b.workspace_above(&path));
    let Some((root, folder)) = above.and_then(|root| Some((root.clone(), below(&path, &root)?))) else {
        return Ok((Opened::open(asked, store, now)?, None));
    };
    let opened = Opened::open(&Asked { path: &root, ..*asked }, store, now)?;
    Ok((opened.of_member(&folder, asked.path.to_owned()), Some(folder)))
}

fn below(path: &Path, root: &PathBuf) -> Option<String> {
    path.strip_prefix(root).ok()?.to_str().map(str::to_owned)
}

/// The folder of the member that people call `name`: by its name, its folder, or the last part of one of them.
fn named(name: &str, opened: &Opened, buildpacks: &Buildpacks) -> Result<String> {
    let source = take_in(opened, &SourceRules::default())?;
    let mut members: Vec<Member> = Vec::new();
    for buildpack in buildpacks.iter() {
        members.extend(buildpack.members(&source.tree)?);
    }
    let wanted = name.trim_start_matches("./").trim_end_matches('/');
    let last = |text: &str| text.rsplit('/').next().map(str::to_owned);
    let is_one = |member: &&Member| member.name == wanted || member.folder == wanted;
    let is_short = |member: &&Member| {
        last(&member.folder).as_deref() == Some(wanted) || last(&member.name).as_deref() == Some(wanted)
    };
    let found = members.iter().find(is_one).or_else(|| members.iter().find(is_short));
    found.map(|member| member.folder.clone()).ok_or_else(|| {
        let known = members.iter().map(|member| member.name.clone()).collect();
        Error::Source(SourceError::NoMember { name: name.to_owned(), known })
    })
}

/// What was taken in, without the members that the one in `folder` does not need.
pub(crate) fn alone(source: Source, folder: &str, buildpacks: &Buildpacks) -> Result<Source> {
    let mut others = Vec::new();
    for buildpack in buildpacks.iter() {
        others.extend(buildpack.unneeded_members(&source.tree, folder)?);
    }
    Ok(Source { tree: source.tree.of_member(folder, &others), ..source })
}
