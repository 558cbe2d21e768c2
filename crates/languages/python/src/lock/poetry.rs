//! `poetry.lock`.

use crate::lock::{App, Fault, edge, extras, marker, origin, project_needs, table, tables, text, texts};
use crate::locked::{Edge, LockGraph, Node, Origin};
use pep440_rs::Version;
use pep508_rs::{ExtraName, MarkerTree};
use remote::packages::pypi;
use std::collections::BTreeMap;
use std::str::FromStr;
use toml::Value;

pub(super) fn read(content: &str, app: &App<'_>) -> Result<LockGraph, Fault> {
    let document = table(content)?;
    let mut graph = LockGraph { roots: roots(app)?, packages: Vec::new() };
    // Before its version 2, hashes stood apart from the packages.
    let apart = document.get("metadata").and_then(|m| m.get("files")).and_then(|f| f.as_table());
    for package in tables(&document, "package") {
        let Some(written) = text(package, "name") else { continue };
        let name = pypi::canonical_name(written);
        let Some(version) = text(package, "version").and_then(|v| Version::from_str(v).ok()) else {
            return Err((None, format!("{name} has no version")));
        };
        let files = tables(package, "files").chain(apart.map(|a| tables(a, written)).into_iter().flatten());
        let source = package.get("source").and_then(|s| s.as_table());
        let kind = source.and_then(|s| text(s, "type"));
        let url = source.and_then(|s| text(s, "url")).map(str::to_owned);
        let needed = package.get("dependencies").and_then(|d| d.as_table());
        let mut by_extra = BTreeMap::new();
        let said = package.get("extras").and_then(|e| e.as_table());
        for (extra, _) in said.into_iter().flatten() {
            let Ok(named) = ExtraName::from_str(extra) else { continue };
            let needs = said.map(|s| texts(s, extra)).into_iter().flatten();
            by_extra.insert(named, needs.map(named_in_extra).collect::<Result<_, _>>()?);
        }
        graph.packages.push(Node {
            files: Vec::new(),
            hashes: files.filter_map(|f| text(f, "hash")).map(str::to_owned).collect(),
            origin: match (kind, url) {
                (Some("url" | "file" | "directory"), Some(place)) => origin(Some(&place), None)?,
                (Some("git"), Some(url)) => {
                    let said = |key: &str| source.and_then(|s| text(s, key)).unwrap_or_default().to_owned();
                    Origin::Commit { url, revision: said("resolved_reference"), folder: said("subdirectory") }
                }
                (_, url) => Origin::Index(url),
            },
            // Which marker a package has as a whole follows from those of what needs it.
            marker: MarkerTree::TRUE,
            needs: needs(needed)?,
            extras: by_extra,
            name,
            version,
        });
    }
    Ok(graph)
}

/// `name (>=1.0)`, as extras list what they need.
fn named_in_extra(need: &str) -> Result<Edge, Fault> {
    edge(&need.replace(['(', ')'], ""))
}

/// What the app needs: in the standard table, or in the tool's own.
fn roots(app: &App<'_>) -> Result<Vec<Edge>, Fault> {
    let mut roots = project_needs(app)?;
    let document = app.project.map(table).transpose()?.unwrap_or_default();
    let own =
        document.get("tool").and_then(|t| t.get("poetry")?.get("dependencies")).and_then(Value::as_table);
    roots.extend(needs(own)?.into_iter().filter(|edge| edge.name != "python"));
    let groups = document.get("tool").and_then(|t| t.get("poetry")?.get("group")).and_then(Value::as_table);
    for group in app.groups {
        let of_group =
            groups.and_then(|groups| groups.get(group)?.get("dependencies")).and_then(Value::as_table);
        roots.extend(needs(of_group)?);
    }
    Ok(roots)
}

/// `name = "range"`, or a table, or several tables for several conditions.
fn needs(table: Option<&toml::Table>) -> Result<Vec<Edge>, Fault> {
    let mut edges = Vec::new();
    for (name, value) in table.into_iter().flatten() {
        let several = match value {
            Value::Array(several) => several.iter().collect(),
            one => vec![one],
        };
        for one in several {
            let details = one.as_table();
            // What only an extra needs is listed by the extra.
            if details.and_then(|d| d.get("optional")).and_then(Value::as_bool) == Some(true) {
                continue;
            }
            edges.push(Edge {
                extras: extras(details.map(|d| texts(d, "extras")).into_iter().flatten()),
                marker: marker(details.and_then(|d| text(d, "markers")))?,
                ..Edge::to(pypi::canonical_name(name))
            });
        }
    }
    Ok(edges)
}
