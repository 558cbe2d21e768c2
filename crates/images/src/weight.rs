//! What the layers of an image weigh, by the packages and folders in them.

use content::store::Store;
use model::{PackageFact, PathFacts, Result};
use serde::Serialize;
use std::collections::BTreeMap;
use std::fs::File;
use std::io::{BufReader, Read};
use workshop::record::{LayerRecord, Record};

/// The lists of files that Python's packages carry are no longer than this, in bytes.
const LONGEST_LIST: u64 = 16 << 20;

/// A part of a layer.
#[derive(Debug, Clone, PartialEq, Eq, Serialize)]
pub struct Part {
    /// The package with its version, or the folder.
    pub name: String,
    /// Whether it is a package.
    pub is_package: bool,
    /// Bytes of its files.
    pub bytes: u64,
}

/// A layer with its parts, the largest first.
#[derive(Debug, Clone, PartialEq, Eq, Serialize)]
pub struct LayerWeight {
    /// Bytes of all files.
    pub bytes: u64,
    /// What they are of.
    pub parts: Vec<Part>,
}

/// What each layer weighs, bottom first; nothing for one that is not in the store.
pub fn of(store: &Store, record: &Record) -> Result<Vec<Option<LayerWeight>>> {
    let weigh = |(number, layer): (usize, &LayerRecord)| {
        if store.blob_size(layer.digest).is_none() {
            return Ok(None);
        }
        let packages = record.packages.iter().filter(|package| package.layer == Some(number));
        layer_weight(store, layer, packages).map(Some)
    };
    record.layers.iter().enumerate().map(weigh).collect()
}

fn layer_weight<'p>(
    store: &Store,
    layer: &LayerRecord,
    packages: impl Iterator<Item = &'p PackageFact>,
) -> Result<LayerWeight> {
    let names = Names::of(packages);
    let path = store.blob_path(layer.digest);
    let blob = BufReader::new(File::open(&path).facts(&path)?);
    let mut archive = tar::Archive::new(layer.codec.layer_reader(blob)?);
    let (mut files, mut owners) = (Vec::new(), BTreeMap::new());
    for entry in archive.entries()? {
        let mut entry = entry?;
        if !entry.header().entry_type().is_file() {
            continue;
        }
        let path = entry.path()?.to_string_lossy().into_owned();
        if let Some((folder, name)) = names.listed_by(&path).filter(|_| entry.size() <= LONGEST_LIST) {
            let mut list = String::new();
            // What is no text is no list.
            if entry.read_to_string(&mut list).is_ok() {
                owners.extend(list.lines().filter_map(|line| Some((inside(&folder, line)?, name.clone()))));
            }
        }
        files.push((path, entry.size()));
    }
    let mut parts: BTreeMap<(String, bool), u64> = BTreeMap::new();
    for (path, size) in &files {
        let package = owners.get(path).cloned().or_else(|| names.of_path(path));
        let key = package.map_or_else(|| (folder_of(path), false), |name| (name, true));
        *parts.entry(key).or_default() += size;
    }
    let part = |((name, is_package), bytes)| Part { name, is_package, bytes };
    let mut parts: Vec<Part> = parts.into_iter().map(part).collect();
    parts.sort_by(|a, b| b.bytes.cmp(&a.bytes).then_with(|| a.name.cmp(&b.name)));
    Ok(LayerWeight { bytes: files.iter().map(|(_, size)| size).sum(), parts })
}

/// A file of a list of Python's (`RECORD`): its path is the first field, from the folder of packages.
fn inside(folder: &str, line: &str) -> Option<String> {
    let path = line.split(',').next()?.trim_matches('"');
    (!path.is_empty() && !path.starts_with(['/', '.'])).then(|| format!("{folder}/{path}"))
}

/// The first folders of a path.
fn folder_of(path: &str) -> String {
    let parts: Vec<&str> = path.split('/').collect();
    let depth = if path.starts_with("usr/") { 3 } else { 2 };
    format!("/{}", parts[..parts.len().saturating_sub(1).min(depth)].join("/"))
}

/// The packages of a layer, by how their files are called.
#[derive(Default)]
struct Names {
    /// By kind and name: name and version, for people.
    packages: BTreeMap<(String, String), String>,
}

impl Names {
    fn of<'p>(packages: impl Iterator<Item = &'p PackageFact>) -> Self {
        let mut names = Self::default();
        for package in packages {
            let kind = package.purl.trim_start_matches("pkg:").split('/').next().unwrap_or_default();
            let key = match kind {
                "gem" | "maven" => {
                    format!("{}-{}", package.name.rsplit(':').next().unwrap_or_default(), package.version)
                }
                "pypi" => package.name.to_lowercase().replace('-', "_"),
                _ => package.name.to_lowercase(),
            };
            let label = format!("{} {}", package.name, package.version);
            names.packages.entry((kind.to_owned(), key)).or_insert(label);
        }
        names
    }

    fn get(&self, kind: &str, key: &str) -> Option<String> {
        self.packages.get(&(kind.to_owned(), key.to_lowercase())).cloned()
    }

    /// Where the path is the list of files of a Python package: the folder of packages, and the package.
    fn listed_by(&self, path: &str) -> Option<(String, String)> {
        let (folder, list) = path.strip_suffix(".dist-info/RECORD")?.rsplit_once('/')?;
        let name = list.split('-').next()?.to_lowercase().replace(['-', '.'], "_");
        Some((folder.to_owned(), self.get("pypi", &name)?))
    }

    /// The package that a file is of, by where packages of its kind are.
    fn of_path(&self, path: &str) -> Option<String> {
        if let Some((_, rest)) = path.rsplit_once("node_modules/") {
            let depth = if rest.starts_with('@') { 2 } else { 1 };
            let name: Vec<&str> = rest.split('/').take(depth).collect();
            return self.get("npm", &name.join("/"));
        }
        if let Some((_, rest)) = path.split_once("/gems/").filter(|(_, rest)| rest.contains('/')) {
            let folder = rest.rsplit_once("/gems/").map_or(rest, |(_, rest)| rest);
            return self.get("gem", folder.split('/').next()?);
        }
        if let Some((_, rest)) = path.split_once("/vendor/") {
            let name: Vec<&str> = rest.split('/').take(2).collect();
            return self.get("composer", &name.join("/"));
        }
        if let Some(jar) = path.rsplit('/').next()?.strip_suffix(".jar") {
            return self.get("maven", jar);
        }
        None
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn files_are_known_by_where_packages_of_their_kind_are() {
        let fact =
            |kind: &str, name: &str| PackageFact::new(name, "1.0", format!("pkg:{kind}/{name}@1.0"), "");
        let packages = [
            fact("npm", "@harbour/hull"),
            fact("npm", "knots"),
            fact("gem", "bell"),
            fact("composer", "ferry/oar"),
            fact("maven", "ferry:rope"),
        ];
        let names = Names::of(packages.iter());
        for (path, expected) in [
            ("app/node_modules/@harbour/hull/index.js", Some("@harbour/hull 1.0")),
            ("app/node_modules/berth/node_modules/knots/lib/a.js", Some("knots 1.0")),
            ("app/node_modules/.bin/knots", None),
            ("gems/ruby/3.3.0/gems/bell-1.0/lib/bell.rb", Some("bell 1.0")),
            ("app/vendor/ferry/oar/src/Oar.php", Some("ferry/oar 1.0")),
            ("app/lib/rope-1.0.jar", Some("ferry:rope 1.0")),
            ("app/server.js", None),
        ] {
            assert_eq!(names.of_path(path).as_deref(), expected, "{path}");
        }
        assert_eq!(folder_of("usr/lib/x86/libc.so.6"), "/usr/lib/x86");
        assert_eq!(folder_of("app/a/b/c"), "/app/a");
        assert_eq!(folder_of("file"), "/");
    }

    #[test]
    fn python_packages_list_their_files() {
        let packages = [PackageFact::new("Fog-Horn", "2", "pkg:pypi/fog-horn@2".to_owned(), "")];
        let names = Names::of(packages.iter());
        let list = "opt/venv/lib/python3.13/site-packages/fog_horn-2.dist-info/RECORD";
        assert_eq!(
            names.listed_by(list),
            Some(("opt/venv/lib/python3.13/site-packages".to_owned(), "Fog-Horn 2".to_owned()))
        );
        assert_eq!(inside("lib", "horn/__init__.py,sha256=a,1"), Some("lib/horn/__init__.py".to_owned()));
        assert_eq!(inside("lib", "../../bin/horn,,"), None);
    }
}
