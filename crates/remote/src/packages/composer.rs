//! Repositories of packages of PHP (the Composer documentation, "Repositories": `packages.json` and `metadata-url`).

use crate::address::Address;
use crate::error::{RemoteError, Result};
use crate::fetch::Fetcher;
use serde::Deserialize;
use serde_json::Value;
use std::collections::BTreeMap;

/// Where repositories have what they know of a package, unless they say otherwise.
const METADATA: &str = "/p2/%package%.json";

#[derive(Deserialize)]
struct Root {
    #[serde(default)]
    packages: Value,
    #[serde(rename = "metadata-url")]
    metadata: Option<String>,
}

#[derive(Deserialize)]
struct Metadata {
    packages: BTreeMap<String, Vec<Value>>,
}

/// Where a repository has the archive of a package in a version.
pub fn archive(fetcher: &Fetcher, repository: &Address, name: &str, version: &str) -> Result<Address> {
    let not_there = || RemoteError::NotFound { url: format!("{name} {version} in {repository}") };
    let opened = Repository::open(fetcher, repository)?;
    let find = |entries: Vec<Value>| entries.iter().find_map(|entry| url_of(entry, version));
    let url = match find(opened.inline(name)) {
        Some(url) => url,
        None => find(opened.in_document(fetcher, name, name)?).ok_or_else(not_there)?,
    };
    repository.follow(&url).ok_or_else(not_there)
}

/// A repository of which the first document is known.
pub struct Repository {
    address: Address,
    root: Root,
}

impl Repository {
    /// Asks a repository what it has.
    pub fn open(fetcher: &Fetcher, address: &Address) -> Result<Self> {
        let root = document(fetcher, &address.join("packages.json"))?;
        Ok(Self { address: address.clone(), root })
    }

    /// Its address.
    pub fn address(&self) -> &Address {
        &self.address
    }

    /// What it says of each version of a package, as in manifests, with those of branches by choice; nothing where it
    /// does not have the package.
    pub fn versions(&self, fetcher: &Fetcher, name: &str, with_branches: bool) -> Result<Vec<Value>> {
        let inline = self.inline(name);
        if !inline.is_empty() {
            return Ok(inline);
        }
        let branches = format!("{name}~dev");
        let mut all = Vec::new();
        for file in [name].into_iter().chain(with_branches.then_some(branches.as_str())) {
            match self.in_document(fetcher, file, name) {
                Err(RemoteError::NotFound { .. }) => {}
                other => all.extend(other?),
            }
        }
        Ok(all)
    }

    /// Where the archive of an entry is.
    pub fn follow(&self, url: &str) -> Option<Address> {
        self.address.follow(url)
    }

    /// What it has may be in the document itself, by names and versions, or as a list.
    fn inline(&self, name: &str) -> Vec<Value> {
        match self.root.packages.get(name) {
            Some(Value::Object(by_version)) => by_version.values().cloned().collect(),
            Some(Value::Array(entries)) => entries.clone(),
            _ => Vec::new(),
        }
    }

    fn in_document(&self, fetcher: &Fetcher, file: &str, name: &str) -> Result<Vec<Value>> {
        let path = self.root.metadata.as_deref().unwrap_or(METADATA).replace("%package%", file);
        let address = match path.strip_prefix('/') {
            Some(below) => self.address.join(below),
            None => {
                let not_there = || RemoteError::NotFound { url: format!("{name} in {}", self.address) };
                self.address.follow(&path).ok_or_else(not_there)?
            }
        };
        let known: Metadata = document(fetcher, &address)?;
        Ok(known.packages.get(name).map(|entries| expanded(entries)).unwrap_or_default())
    }
}

/// The place of the archive of an entry, when it is of this version.
fn url_of(entry: &Value, version: &str) -> Option<String> {
    let plain = |text: &str| text.trim_start_matches('v').to_owned();
    let is_it = entry["version"].as_str().is_some_and(|own| plain(own) == plain(version));
    is_it.then(|| entry["dist"]["url"].as_str().map(str::to_owned)).flatten()
}

/// The entries in full: in the short form, each has only what is not as in the one before ("minified").
fn expanded(entries: &[Value]) -> Vec<Value> {
    let mut all: Vec<Value> = Vec::new();
    for entry in entries {
        let mut whole = all.last().cloned().unwrap_or_else(|| Value::Object(serde_json::Map::new()));
        if let (Some(whole), Some(entry)) = (whole.as_object_mut(), entry.as_object()) {
            for (key, value) in entry {
                match value.as_str() {
                    Some("__unset") => drop(whole.remove(key)),
                    _ => drop(whole.insert(key.clone(), value.clone())),
                }
            }
        }
        all.push(whole);
    }
    all
}

fn document<T: serde::de::DeserializeOwned>(fetcher: &Fetcher, address: &Address) -> Result<T> {
    let bytes = fetcher.get(address, "application/json")?;
    serde_json::from_slice(&bytes)
        .map_err(|e| RemoteError::Malformed { url: address.to_string(), detail: e.to_string() })
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::Network;
    use std::fs;

    #[test]
    fn archives_are_found_in_the_document_itself_and_in_that_of_the_package() {
        let folder = tempfile::tempdir().unwrap();
        let repository = Address::Folder(folder.path().to_owned());
        let fetcher = Fetcher::new(Network::Forbidden);
        let find = |version: &str| {
            archive(&fetcher, &repository, "ferry/fog", version).map(|found| found.to_string())
        };
        fs::write(
            folder.path().join("packages.json"),
            r#"{"packages":{"ferry/fog":{"1.0":{"version":"1.0","dist":{"url":"fog-1.0.zip"}}}},"metadata-url":"/p2/%package%.json"}"#,
        )
        .unwrap();
        fs::create_dir_all(folder.path().join("p2/ferry")).unwrap();
        fs::write(
            folder.path().join("p2/ferry/fog.json"),
            r#"{"packages":{"ferry/fog":[{"version":"v2.1","dist":{"url":"a.zip"}},{"version":"2.0","dist":{"url":"b.zip"}},{"version":"1.9"}]}}"#,
        )
        .unwrap();
        assert!(find("1.0").unwrap().ends_with("/fog-1.0.zip"));
        assert!(find("2.1").unwrap().ends_with("/a.zip"));
        assert!(find("v2.0").unwrap().ends_with("/b.zip"));
        // In the short form, what is not said is as before.
        assert!(find("1.9").unwrap().ends_with("/b.zip"));
        assert!(matches!(find("3.0"), Err(RemoteError::NotFound { .. })));
        fs::write(folder.path().join("packages.json"), "[]").unwrap();
        assert!(matches!(find("1.0"), Err(RemoteError::Malformed { .. })));
    }
}
