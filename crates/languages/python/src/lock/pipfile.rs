//! `Pipfile.lock`.

use crate::lock::{App, Fault, marker, origin};
use crate::locked::{Edge, LockGraph, Node, Origin};
use pep440_rs::Version;
use remote::packages::pypi;
use serde::Deserialize;
use serde_json::Value;
use std::collections::BTreeMap;
use std::str::FromStr;

#[derive(Deserialize)]
struct Document {
    #[serde(default)]
    default: BTreeMap<String, Locked>,
    /// Further categories.
    #[serde(flatten)]
    further: BTreeMap<String, Value>,
    #[serde(default, rename = "_meta")]
    meta: Meta,
}

#[derive(Default, Deserialize)]
#[serde(default)]
struct Meta {
    sources: Vec<Source>,
}

#[derive(Deserialize)]
struct Source {
    name: String,
    url: String,
}

#[derive(Deserialize)]
struct Locked {
    version: Option<String>,
    #[serde(default)]
    hashes: Vec<String>,
    markers: Option<String>,
    index: Option<String>,
    file: Option<String>,
    path: Option<String>,
    git: Option<String>,
    #[serde(rename = "ref")]
    revision: Option<String>,
    subdirectory: Option<String>,
}

pub(super) fn read(content: &str, app: &App<'_>) -> Result<LockGraph, Fault> {
    let document: Document = serde_json::from_str(content).map_err(|e| (Some(e.line()), e.to_string()))?;
    let mut graph = LockGraph::default();
    let url_of =
        |name: &String| document.meta.sources.iter().find(|s| s.name == *name).map(|s| s.url.clone());
    let mut wanted: Vec<(String, Locked)> = document.default.into_iter().collect();
    for group in app.groups {
        let of_group = document.further.get(group).cloned().unwrap_or_default();
        let of_group: BTreeMap<String, Locked> =
            serde_json::from_value(of_group).map_err(|e| (None, e.to_string()))?;
        wanted.extend(of_group);
    }
    for (name, locked) in &wanted {
        let name = pypi::canonical_name(name);
        let elsewhere = locked.file.as_deref().or(locked.path.as_deref());
        // The app itself: its files are in the image anyway.
        if matches!(elsewhere, Some("." | "./")) {
            continue;
        }
        let version = locked.version.as_deref().map(|v| v.trim_start_matches('='));
        let version = version.and_then(|v| Version::from_str(v).ok());
        // What is built has its version only then.
        let built = (locked.git.is_some() || elsewhere.is_some()).then(|| Version::new([0]));
        let own_marker = marker(locked.markers.as_deref())?;
        graph.roots.push(Edge { marker: own_marker.clone(), ..Edge::to(name.clone()) });
        // What did not apply where the file was made, has no version in it.
        let Some(version) = version.or(built) else { continue };
        graph.packages.push(Node {
            origin: match &locked.git {
                Some(url) => Origin::Commit {
                    url: url.clone(),
                    revision: locked.revision.clone().unwrap_or_default(),
                    folder: locked.subdirectory.clone().unwrap_or_default(),
                },
                // What every package has, is the usual index.
                None => origin(elsewhere, locked.index.as_ref().and_then(url_of).as_deref())?,
            },
            marker: own_marker,
            needs: Vec::new(),
            extras: BTreeMap::new(),
            hashes: locked.hashes.clone(),
            files: Vec::new(),
            name,
            version,
        });
    }
    Ok(graph)
}
