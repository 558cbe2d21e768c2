//! The npm registry: tarballs by name and version.

use crate::address::Address;
use crate::error::{RemoteError, Result};
use crate::fetch::Fetcher;
use crate::integrity::Integrity;
use serde::Deserialize;
use std::collections::BTreeMap;

/// Where `registry` has the tarball of `name` in `version`: `NAME/-/BASENAME-VERSION.tgz`.
pub fn tarball(registry: &Address, name: &str, version: &str) -> Address {
    let base = name.rsplit('/').next().unwrap_or(name);
    registry.join(&format!("{name}/-/{base}-{version}.tgz"))
}

/// What a registry says of a version of a package.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Standing {
    /// It can be had.
    Offered,
    /// It can be had, and its author advises against it, with this text.
    Deprecated(String),
    /// The registry does not have it any more.
    Gone,
}

/// Asks `registry` for the standing of `name` in `version`. A folder only tells what is there.
pub fn standing(fetcher: &Fetcher, registry: &Address, name: &str, version: &str) -> Result<Standing> {
    let document = match registry {
        Address::Folder(_) => {
            let there = matches!(tarball(registry, name, version), Address::Folder(file) if file.is_file());
            return Ok(if there { Standing::Offered } else { Standing::Gone });
        }
        // A slash in a name would be taken for one of the path.
        Address::Url(_) => fetcher.get(&registry.join(&name.replace('/', "%2f")), ACCEPT),
    };
    let bytes = match document {
        Err(RemoteError::NotFound { .. }) => return Ok(Standing::Gone),
        found => found?,
    };
    let malformed = |e: serde_json::Error| RemoteError::Malformed {
        url: registry.join(name).to_string(),
        detail: e.to_string(),
    };
    let document: Document = serde_json::from_slice(&bytes).map_err(malformed)?;
    Ok(match document.versions.get(version) {
        None => Standing::Gone,
        Some(Version { deprecated: Some(serde_json::Value::String(text)), .. }) if !text.is_empty() => {
            Standing::Deprecated(text.clone())
        }
        Some(_) => Standing::Offered,
    })
}

/// The versions of a package, each with the integrity of its tarball.
pub fn versions(fetcher: &Fetcher, registry: &Address, name: &str) -> Result<BTreeMap<String, String>> {
    let address = match registry {
        Address::Folder(_) => registry.join(&format!("{name}/index.json")),
        // A slash in a name would be taken for one of the path.
        Address::Url(_) => registry.join(&name.replace('/', "%2f")),
    };
    let bytes = fetcher.get(&address, ACCEPT)?;
    let document: Document = serde_json::from_slice(&bytes)
        .map_err(|e| RemoteError::Malformed { url: address.to_string(), detail: e.to_string() })?;
    let with_integrity = |(version, facts): (String, Version)| Some((version, facts.dist?.integrity?));
    Ok(document.versions.into_iter().filter_map(with_integrity).collect())
}

/// The short form of a package's document.
const ACCEPT: &str = "application/vnd.npm.install-v1+json, application/json;q=0.8";

#[derive(Deserialize)]
struct Document {
    versions: BTreeMap<String, Version>,
}

#[derive(Deserialize)]
struct Version {
    deprecated: Option<serde_json::Value>,
    dist: Option<Dist>,
}

#[derive(Deserialize)]
struct Dist {
    integrity: Option<String>,
}
/// Gets a tarball and checks it against the lock.
pub fn fetch(fetcher: &Fetcher, tarball: &Address, integrity: &Integrity) -> Result<Vec<u8>> {
    let bytes = fetcher.get(tarball, "application/octet-stream, */*")?;
    integrity.check(&tarball.to_string(), &bytes)?;
    Ok(bytes)
}
