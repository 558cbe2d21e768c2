//! The npm registry: tarballs by name and version.

use crate::address::Address;
use crate::error::{RemoteError, Result};
use crate::fetch::Fetcher;
use crate::integrity::Integrity;
use base64::Engine;
use base64::engine::general_purpose::STANDARD;
use serde_json::Value;
use std::collections::{BTreeMap, BTreeSet};

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
    if let Address::Folder(_) = registry {
        let there = matches!(tarball(registry, name, version), Address::Folder(file) if file.is_file());
        return Ok(if there { Standing::Offered } else { Standing::Gone });
    }
    let offers = match offers(fetcher, registry, name) {
        Err(RemoteError::NotFound { .. }) => return Ok(Standing::Gone),
        found => found?,
    };
    let offer = semver::Version::parse(version).ok().and_then(|version| offers.versions.get(&version));
    Ok(match offer.map(|offer| &offer.deprecated) {
        None => Standing::Gone,
        Some(Some(text)) => Standing::Deprecated(text.clone()),
        Some(None) => Standing::Offered,
    })
}

/// The versions of a package, each with the integrity of its tarball.
pub fn versions(fetcher: &Fetcher, registry: &Address, name: &str) -> Result<BTreeMap<String, String>> {
    let offers = offers(fetcher, registry, name)?;
    let with_integrity =
        |(version, offer): (semver::Version, Offer)| Some((version.to_string(), offer.integrity?));
    Ok(offers.versions.into_iter().filter_map(with_integrity).collect())
}

/// The short form of a package's document.
const ACCEPT: &str = "application/vnd.npm.install-v1+json, application/json;q=0.8";

/// What a registry offers of a package.
#[derive(Debug, Default)]
pub struct Offers {
    /// Names of versions, such as `latest`.
    pub tags: BTreeMap<String, semver::Version>,
    /// The versions.
    pub versions: BTreeMap<semver::Version, Offer>,
}

/// One version, as far as its installation is concerned.
#[derive(Debug, Default)]
pub struct Offer {
    /// Subresource integrity of its tarball.
    pub integrity: Option<String>,
    /// Packages and ranges that it needs.
    pub dependencies: BTreeMap<String, String>,
    /// Packages that it can do without.
    pub optional: BTreeMap<String, String>,
    /// Packages that it wants beside itself.
    pub peers: BTreeMap<String, String>,
    /// Those of them that it can do without.
    pub peers_to_lack: BTreeSet<String>,
    /// Commands with their files.
    pub bin: BTreeMap<String, String>,
    /// Systems, processors and C libraries that it is for.
    pub os: Vec<String>,
    /// Processors.
    pub cpu: Vec<String>,
    /// C libraries.
    pub libc: Vec<String>,
    /// The versions of Node that it is for.
    pub node: Option<String>,
    /// Why its author advises against it.
    pub deprecated: Option<String>,
    /// Whether it wants to run something when it is installed.
    pub script: bool,
    /// Its licence, where the registry says it.
    pub licence: Option<String>,
}

/// Asks `registry` what it offers of `name`.
pub fn offers(fetcher: &Fetcher, registry: &Address, name: &str) -> Result<Offers> {
    let address = match registry {
        Address::Folder(_) => registry.join(&format!("{name}/index.json")),
        // A slash in a name would be taken for one of the path.
        Address::Url(_) => registry.join(&name.replace('/', "%2f")),
    };
    let bytes = fetcher.get(&address, ACCEPT)?;
    let document: Value = serde_json::from_slice(&bytes)
        .map_err(|e| RemoteError::Malformed { url: address.to_string(), detail: e.to_string() })?;
    let parsed = |text: &str| semver::Version::parse(text).ok();
    let tags = document["dist-tags"].as_object().into_iter().flatten();
    let versions = document["versions"].as_object().into_iter().flatten();
    Ok(Offers {
        tags: tags.filter_map(|(tag, version)| Some((tag.clone(), parsed(version.as_str()?)?))).collect(),
        versions: versions
            .filter_map(|(version, said)| Some((parsed(version)?, Offer::of(name, said)?)))
            .collect(),
    })
}

impl Offer {
    /// What a document says of a version; `None` if its requirements cannot be read: its place would be uncertain.
    fn of(name: &str, said: &Value) -> Option<Self> {
        if !["dependencies", "optionalDependencies", "peerDependencies"]
            .iter()
            .all(|key| are_ranges(&said[key]))
        {
            return None;
        }
        let ranges = |key: &str| -> BTreeMap<String, String> {
            let all = said[key].as_object().into_iter().flatten();
            all.filter_map(|(name, range)| Some((name.clone(), range.as_str()?.to_owned()))).collect()
        };
        let texts = |key: &str| match &said[key] {
            Value::String(one) => vec![one.clone()],
            Value::Array(all) => all.iter().filter_map(|v| v.as_str().map(str::to_owned)).collect(),
            _ => Vec::new(),
        };
        let short = name.rsplit('/').next().unwrap_or(name);
        let bin = match &said["bin"] {
            Value::String(file) => BTreeMap::from([(short.to_owned(), file.clone())]),
            _ => ranges("bin"),
        };
        let peers_meta = said["peerDependenciesMeta"].as_object().into_iter().flatten();
        let may_lack = |(name, meta): (&String, &Value)| meta["optional"].as_bool()?.then(|| name.clone());
        let scripts = ["preinstall", "install", "postinstall"];
        // What its archive carries, is needed from nowhere else.
        let carried = ["bundleDependencies", "bundledDependencies"].map(|key| &said[key]);
        let carries = |name: &String| {
            let listed = |value: &Value| value.as_array().is_some_and(|all| all.iter().any(|v| v == name));
            carried.iter().any(|value| **value == true || listed(value))
        };
        let needed = |key: &str| -> BTreeMap<String, String> {
            ranges(key).into_iter().filter(|(name, _)| !carries(name)).collect()
        };
        Some(Self {
            integrity: match (said["dist"]["integrity"].as_str(), said["dist"]["shasum"].as_str()) {
                (Some(integrity), _) => Some(integrity.to_owned()),
                (None, Some(sum)) => sha1_integrity(sum),
                (None, None) => None,
            },
            dependencies: needed("dependencies"),
            optional: needed("optionalDependencies"),
            peers: ranges("peerDependencies"),
            peers_to_lack: peers_meta.filter_map(may_lack).collect(),
            bin,
            os: texts("os"),
            cpu: texts("cpu"),
            libc: texts("libc"),
            node: said["engines"]["node"].as_str().map(str::to_owned),
            deprecated: said["deprecated"].as_str().filter(|text| !text.is_empty()).map(str::to_owned),
            script: said["hasInstallScript"] == true
                || scripts.iter().any(|s| said["scripts"][s].is_string()),
            licence: said["license"].as_str().map(str::to_owned),
        })
    }
}

/// Whether these are ranges by names, or one of the ways in which old documents say that there are none.
fn are_ranges(said: &Value) -> bool {
    match said {
        Value::Null => true,
        Value::Object(all) => all.values().all(Value::is_string),
        Value::Array(all) => all.is_empty(),
        Value::String(text) => text.is_empty(),
        Value::Bool(_) | Value::Number(_) => false,
    }
}

/// Old versions have only a hexadecimal SHA-1.
fn sha1_integrity(sum: &str) -> Option<String> {
    let byte = |at: usize| u8::from_str_radix(sum.get(at..at + 2)?, 16).ok();
    let bytes: Vec<u8> = (0..sum.len()).step_by(2).map(byte).collect::<Option<_>>()?;
    Some(format!("sha1-{}", STANDARD.encode(bytes)))
}

/// Gets a tarball and checks it against the lock.
pub fn fetch(fetcher: &Fetcher, tarball: &Address, integrity: &Integrity) -> Result<Vec<u8>> {
    let bytes = fetcher.get(tarball, "application/octet-stream, */*")?;
    integrity.check(&tarball.to_string(), &bytes)?;
    Ok(bytes)
}
