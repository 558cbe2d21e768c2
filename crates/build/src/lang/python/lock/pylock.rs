//! `pylock.toml` (PEP 751).

use super::{Fault, marker, table, tables, text};
use crate::lang::python::locked::{Edge, LockGraph, Node, Origin};
use pep440_rs::Version;
use remote::packages::pypi;
use std::collections::BTreeMap;
use std::str::FromStr;

pub(super) fn read(content: &str, _project: Option<&str>) -> Result<LockGraph, Fault> {
    let document = table(content)?;
    match text(&document, "lock-version") {
        Some(version) if version.starts_with("1.") => {}
        other => return Err((None, format!("lock-version is {other:?}; 1.0 is understood"))),
    }
    let mut graph = LockGraph::default();
    for package in tables(&document, "packages") {
        let Some(name) = text(package, "name").map(pypi::canonical_name) else { continue };
        // Without a version it is a folder or a repository, which cannot be checked.
        let Some(version) = text(package, "version").and_then(|v| Version::from_str(v).ok()) else {
            return Err((None, format!("{name} has no version")));
        };
        let archive = package.get("archive").and_then(|a| a.as_table());
        let sdist = package.get("sdist").and_then(|s| s.as_table());
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
            origin: match archive.and_then(|a| text(a, "url")) {
                Some(url) => Origin::Url(url.to_owned()),
                None => Origin::Index(text(package, "index").map(str::to_owned)),
            },
        });
    }
    Ok(graph)
}
