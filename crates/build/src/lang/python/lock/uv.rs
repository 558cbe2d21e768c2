//! `uv.lock`.

use super::{Fault, extras, marker, table, tables, text};
use crate::lang::python::locked::{Edge, LockGraph, Node, Origin};
use pep440_rs::Version;
use pep508_rs::ExtraName;
use remote::packages::pypi;
use std::collections::BTreeMap;
use std::str::FromStr;

pub(super) fn read(content: &str, _project: Option<&str>) -> Result<LockGraph, Fault> {
    let document = table(content)?;
    if document.get("version").and_then(|v| v.as_integer()) != Some(1) {
        return Err((None, "its version is not 1".to_owned()));
    }
    let mut graph = LockGraph::default();
    for package in tables(&document, "package") {
        let Some(name) = text(package, "name").map(pypi::canonical_name) else { continue };
        let source = package.get("source").and_then(|s| s.as_table());
        let said = |key: &str| source.and_then(|s| text(s, key));
        let needs = needs(package, "dependencies")?;
        // The app itself, and the parts of it that are packages of their own.
        if said("virtual").or(said("editable")).is_some_and(|folder| folder == ".") {
            graph.roots.extend(needs);
            continue;
        }
        let Some(version) = text(package, "version").and_then(|v| Version::from_str(v).ok()) else {
            return Err((None, format!("{name} has no version")));
        };
        let optional = package.get("optional-dependencies").and_then(|o| o.as_table());
        let mut by_extra = BTreeMap::new();
        for extra in optional.iter().flat_map(|o| o.keys()) {
            let Ok(named) = ExtraName::from_str(extra) else { continue };
            by_extra.insert(named, needs_of(optional.map(|o| tables(o, extra)).into_iter().flatten())?);
        }
        let files = tables(package, "wheels").chain(package.get("sdist").and_then(|s| s.as_table()));
        let files: Vec<_> =
            files.filter_map(|f| Some((text(f, "url"), text(f, "hash")?.to_owned()))).collect();
        graph.packages.push(Node {
            hashes: files.iter().map(|(_, hash)| hash.clone()).collect(),
            files: files.into_iter().filter_map(|(url, hash)| Some((url?.to_owned(), hash))).collect(),
            origin: match (said("url"), said("path"), said("registry")) {
                (Some(url), ..) => Origin::Url(url.to_owned()),
                (_, Some(path), _) => Origin::Path(path.to_owned()),
                (.., registry) => Origin::Index(registry.map(str::to_owned)),
            },
            marker: pep508_rs::MarkerTree::TRUE,
            needs,
            extras: by_extra,
            name,
            version,
        });
    }
    Ok(graph)
}

fn needs(package: &toml::Table, key: &str) -> Result<Vec<Edge>, Fault> {
    needs_of(tables(package, key))
}

fn needs_of<'t>(tables: impl Iterator<Item = &'t toml::Table>) -> Result<Vec<Edge>, Fault> {
    let edge = |need: &toml::Table| {
        Ok(Edge {
            name: pypi::canonical_name(text(need, "name").unwrap_or_default()),
            extras: extras(super::texts(need, "extra")),
            marker: marker(text(need, "marker"))?,
            version: text(need, "version").and_then(|v| Version::from_str(v).ok()),
        })
    };
    tables.map(edge).collect()
}
