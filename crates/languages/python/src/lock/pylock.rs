//! `pylock.toml` (PEP 751).

use crate::lock::{App, Fault, marker, origin, table, tables, text};
use crate::locked::{Edge, LockGraph, Node, Origin};
use pep440_rs::Version;
use remote::packages::pypi;
use std::collections::BTreeMap;
use std::str::FromStr;

pub(super) fn read(content: &str, _app: &App<'_>) -> Result<LockGraph, Fault> {
    let document = table(content)?;
    match text(&document, "lock-version") {
        Some(version) if version.starts_with("1.") => {}
        other => return Err((None, format!("lock-version is {other:?}; only 1.0 is supported"))),
    }
    let mut graph = LockGraph::default();
    for package in tables(&document, "packages") {
        let Some(name) = text(package, "name").map(pypi::canonical_name) else { continue };
        let of = |key: &str| package.get(key).and_then(|table| table.as_table());
        let (folder, commit) = (of("directory"), of("vcs"));
        // A folder or a commit has a version only when it is built.
        let built = folder.or(commit).is_some().then(|| Version::new([0]));
        let version = text(package, "version").and_then(|v| Version::from_str(v).ok()).or(built);
        let Some(version) = version else { return Err((None, format!("{name} has no version"))) };
        let (archive, sdist) = (of("archive"), of("sdist"));
        let files = tables(package, "wheels").chain(sdist).chain(archive);
        let hash = |file: &toml::Table| -> Option<String> {
            let hashes = file.get("hashes")?.as_table()?;
            let kind = ["sha256", "sha512", "sha384"].into_iter().find(|kind| hashes.contains_key(*kind))?;
            Some(format!("{kind}:{}", text(hashes, kind)?))
        };
        let files: Vec<(Option<&str>, String)> =
            files.filter_map(|f| Some((text(f, "url"), hash(f)?))).collect();
        let own_marker = marker(text(package, "marker"))?;
        graph.roots.push(Edge {
            marker: own_marker.clone(),
            version: Some(version.clone()),
            ..Edge::to(name.clone())
        });
        graph.packages.push(Node {
            name,
            version,
            marker: own_marker,
            needs: Vec::new(),
            extras: BTreeMap::new(),
            hashes: files.iter().map(|(_, hash)| hash.clone()).collect(),
            files: files.into_iter().filter_map(|(url, hash)| Some((url?.to_owned(), hash))).collect(),
            origin: match (commit, archive.or(folder)) {
                (Some(commit), _) => {
                    let said = |key: &str| text(commit, key).unwrap_or_default().to_owned();
                    let (revision, folder) = (said("commit-id"), said("subdirectory"));
                    Origin::Commit { url: said("url"), revision, folder }
                }
                (None, place) => {
                    let place = place.and_then(|p| text(p, "url").or(text(p, "path")));
                    origin(place, text(package, "index"))?
                }
            },
        });
    }
    Ok(graph)
}
