//! `uv.lock`.

use crate::lock::{App, Fault, extras, marker, origin, table, tables, text};
use crate::locked::{Edge, LockGraph, Node, Origin};
use pep440_rs::Version;
use pep508_rs::ExtraName;
use remote::packages::pypi;
use std::collections::BTreeMap;
use std::str::FromStr;

pub(super) fn read(content: &str, app: &App<'_>) -> Result<LockGraph, Fault> {
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
            let chosen = [("optional-dependencies", app.extras), ("dev-dependencies", app.groups)];
            for (key, names) in chosen {
                let of_key = package.get(key).and_then(|t| t.as_table());
                for name in names {
                    graph.roots.extend(needs_of(of_key.map(|t| tables(t, name)).into_iter().flatten())?);
                }
            }
            continue;
        }
        let version = text(package, "version").and_then(|v| Version::from_str(v).ok());
        // A folder that finds its version out only when it is built has none here.
        let is_folder = said("directory").or(said("editable")).or(said("virtual")).is_some();
        let Some(version) = version.or_else(|| is_folder.then(|| Version::new([0]))) else {
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
            origin: match said("git") {
                Some(git) => commit(git, said("subdirectory")),
                None => {
                    let elsewhere =
                        ["url", "path", "directory", "editable", "virtual"].iter().find_map(|key| said(key));
                    origin(elsewhere, said("registry"))?
                }
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

/// `https://code.example/fog.git?rev=main#0123…`: what was asked for, and the commit that it was.
fn commit(git: &str, folder: Option<&str>) -> Origin {
    let (asked, id) = git.rsplit_once('#').unwrap_or((git, "HEAD"));
    let url = asked.split('?').next().unwrap_or(asked).to_owned();
    Origin::Commit { url, revision: id.to_owned(), folder: folder.unwrap_or_default().to_owned() }
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
