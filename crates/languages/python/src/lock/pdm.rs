//! `pdm.lock`.

use crate::lock::{App, Fault, edge, marker, origin, project_needs, table, tables, text, texts};
use crate::locked::{Edge, LockGraph, Node, Origin};
use pep440_rs::Version;
use pep508_rs::ExtraName;
use remote::packages::pypi;
use std::collections::BTreeMap;
use std::str::FromStr;

pub(super) fn read(content: &str, app: &App<'_>) -> Result<LockGraph, Fault> {
    let document = table(content)?;
    let mut graph = LockGraph { roots: project_needs(app)?, packages: Vec::new() };
    for package in tables(&document, "package") {
        let Some(name) = text(package, "name").map(pypi::canonical_name) else { continue };
        let Some(version) = text(package, "version").and_then(|v| Version::from_str(v).ok()) else {
            return Err((None, format!("{name} has no version")));
        };
        // The plain package stands among what it needs with an extra.
        let needs: Vec<Edge> = texts(package, "dependencies").map(edge).collect::<Result<_, _>>()?;
        let needs: Vec<Edge> = needs.into_iter().filter(|need| need.name != name).collect();
        let extra = texts(package, "extras").find_map(|e| ExtraName::from_str(e).ok());
        let known = graph.packages.iter_mut().find(|node| node.name == name && node.version == version);
        let hashes: Vec<String> =
            tables(package, "files").filter_map(|f| text(f, "hash")).map(str::to_owned).collect();
        match (known, extra) {
            (Some(node), Some(extra)) => drop(node.extras.insert(extra, needs)),
            (Some(node), None) => (node.needs, node.hashes) = (needs, hashes),
            (None, extra) => {
                let (needs, extras) = match extra {
                    Some(extra) => (Vec::new(), BTreeMap::from([(extra, needs)])),
                    None => (needs, BTreeMap::new()),
                };
                graph.packages.push(Node {
                    origin: match text(package, "git") {
                        Some(url) => {
                            let said = |key: &str| text(package, key).unwrap_or_default().to_owned();
                            let (revision, folder) = (said("revision"), said("subdirectory"));
                            Origin::Commit { url: url.to_owned(), revision, folder }
                        }
                        None => origin(text(package, "url").or(text(package, "path")), None)?,
                    },
                    marker: marker(text(package, "marker"))?,
                    name,
                    version,
                    needs,
                    extras,
                    hashes,
                    files: Vec::new(),
                });
            }
        }
    }
    Ok(graph)
}
