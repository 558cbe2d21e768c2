//! `composer.json` and `composer.lock`, as far as a build needs them.

use model::error::SurveyError;
use model::{Error, Place, Result};
use serde::Deserialize;
use serde::de::DeserializeOwned;
use serde_json::Value;
use source::SourceTree;
use std::collections::BTreeMap;

pub(super) const MANIFEST: &str = "composer.json";
pub(super) const LOCKFILE: &str = "composer.lock";

/// The manifest.
#[derive(Debug, Default, Deserialize)]
#[serde(default)]
pub(super) struct Manifest {
    pub(super) require: BTreeMap<String, String>,
    pub(super) config: Config,
    pub(super) autoload: Autoload,
    pub(super) extra: Extra,
    /// The minimum stability of accepted versions; `stable` by default.
    #[serde(rename = "minimum-stability")]
    pub(super) minimum_stability: String,
    #[serde(rename = "prefer-stable")]
    pub(super) prefer_stable: bool,
    /// Where packages come from: a list, or by names.
    pub(super) repositories: Value,
    /// Packages that the app stands for.
    pub(super) replace: BTreeMap<String, String>,
    pub(super) provide: BTreeMap<String, String>,
}

#[derive(Debug, Default, Deserialize)]
#[serde(default)]
pub(super) struct Config {
    pub(super) platform: BTreeMap<String, Value>,
    #[serde(rename = "vendor-dir")]
    pub(super) vendor_dir: Option<String>,
    #[serde(rename = "classmap-authoritative")]
    pub(super) classmap_authoritative: bool,
}

#[derive(Debug, Default, Deserialize)]
#[serde(default)]
pub(super) struct Autoload {
    /// Folders of the app whose files are looked through for classes.
    pub(super) classmap: Vec<String>,
}

#[derive(Debug, Default, Deserialize)]
#[serde(default)]
pub(super) struct Extra {
    /// Folders for packages of a kind, as the plugin `composer/installers` reads them.
    #[serde(rename = "installer-paths")]
    pub(super) installer_paths: BTreeMap<String, Vec<String>>,
}

impl Manifest {
    /// The folder of packages, from that of the app.
    pub(super) fn vendor(&self) -> &str {
        let said = self.config.vendor_dir.as_deref().map(|folder| folder.trim_matches('/'));
        said.filter(|folder| is_inside(folder)).unwrap_or("vendor")
    }

    /// Whether the list of classes has to name those of the app, too.
    pub(super) fn lists_own_classes(&self) -> bool {
        self.config.classmap_authoritative || !self.autoload.classmap.is_empty()
    }

    /// Whether the app stands for a package itself.
    pub(super) fn stands_for(&self, name: &str) -> bool {
        self.replace.contains_key(name) || self.provide.contains_key(name)
    }

    /// The folder of a package, from that of the app.
    pub(super) fn folder_of(&self, package: &Package) -> String {
        let (vendor, name) = package.name.split_once('/').unwrap_or(("", &package.name));
        let kind = format!("type:{}", package.kind);
        let fits = |of: &String| *of == kind || *of == package.name || *of == format!("vendor:{vendor}");
        let path = self.extra.installer_paths.iter().find(|(_, of)| of.iter().any(fits)).map(|(path, _)| {
            path.replace("{$name}", name).replace("{$vendor}", vendor).replace("{$type}", &package.kind)
        });
        let path = path.map(|path| path.trim_matches('/').to_owned()).filter(|path| is_inside(path));
        path.unwrap_or_else(|| format!("{}/{}", self.vendor(), package.name))
    }
}

/// The lockfile.
#[derive(Debug, Default, Deserialize)]
#[serde(default)]
pub(super) struct Lock {
    pub(super) packages: Vec<Value>,
    #[serde(rename = "packages-dev")]
    pub(super) packages_dev: Vec<Value>,
    /// Stands for what of the manifest the lockfile was made for.
    #[serde(rename = "content-hash")]
    pub(super) content_hash: String,
    pub(super) platform: Value,
}

/// A locked package.
#[derive(Debug, Clone, PartialEq, Deserialize)]
pub(super) struct Package {
    pub(super) name: String,
    pub(super) version: String,
    #[serde(rename = "type", default)]
    pub(super) kind: String,
    #[serde(default)]
    pub(super) dist: Option<Download>,
    #[serde(default)]
    pub(super) source: Option<Download>,
    #[serde(default)]
    pub(super) require: BTreeMap<String, String>,
    #[serde(default)]
    pub(super) license: Vec<String>,
    /// The whole entry, as Composer reads it again.
    #[serde(skip)]
    pub(super) entry: Value,
}

/// Where a package is.
#[derive(Debug, Clone, PartialEq, Deserialize)]
pub(super) struct Download {
    #[serde(rename = "type")]
    pub(super) kind: String,
    pub(super) url: String,
    #[serde(default)]
    pub(super) reference: Option<String>,
    #[serde(default)]
    pub(super) shasum: Option<String>,
}

impl Package {
    /// Name and version, for people.
    pub(super) fn label(&self) -> String {
        format!("{} {}", self.name, self.version)
    }

    /// Whether it replaces or provides another one.
    pub(super) fn stands_for(&self, name: &str) -> bool {
        ["replace", "provide"].iter().any(|key| self.entry[*key].get(name).is_some())
    }

    /// Whether it has files at all.
    pub(super) fn has_files(&self) -> bool {
        self.kind != "metapackage"
    }
}

impl Lock {
    /// The packages for the image, each checked for names that would lead elsewhere.
    pub(super) fn for_image(&self) -> Result<Vec<Package>> {
        let bad = |detail: String| {
            Error::Survey(SurveyError::Malformed { place: Place::new(LOCKFILE, None), detail })
        };
        let package = |entry: &Value| {
            let read: Package = serde_json::from_value(entry.clone()).map_err(|e| bad(e.to_string()))?;
            let is_name = read.name.split('/').count() == 2 && is_inside(&read.name);
            match is_name {
                true => Ok(Package { entry: entry.clone(), ..read }),
                false => Err(bad(format!("{:?} is not a package name", read.name))),
            }
        };
        self.packages.iter().map(package).collect()
    }
}

/// Whether a path stays in its folder.
fn is_inside(path: &str) -> bool {
    let is_part =
        |part: &str| !part.is_empty() && part != "." && part != ".." && !part.contains(['\\', '\0']);
    path.split('/').all(is_part)
}

/// Reads a file of JSON, if the source has it.
pub(super) fn read<T: DeserializeOwned>(tree: &SourceTree, file: &str) -> Result<Option<T>> {
    tree.read(file)?.map(|text| parse(file, &text)).transpose()
}

pub(super) fn parse<T: DeserializeOwned>(file: &str, text: &str) -> Result<T> {
    serde_json::from_str(text).map_err(|e| {
        Error::Survey(SurveyError::Malformed {
            place: Place::new(file, u32::try_from(e.line()).ok()),
            detail: e.to_string(),
        })
    })
}

#[cfg(test)]
mod tests {
    use super::*;
    use serde_json::json;

    fn package(name: &str, kind: &str) -> Package {
        serde_json::from_value(json!({ "name": name, "version": "1.0", "type": kind })).unwrap()
    }

    #[test]
    fn packages_lie_in_vendor_or_where_the_manifest_puts_their_kind() {
        let manifest: Manifest = serde_json::from_value(json!({
            "config": { "vendor-dir": "lib/vendor" },
            "extra": { "installer-paths": {
                "web/modules/{$name}": ["type:cms-module"], "../out/{$name}": ["type:bad"], "web/core": ["cms/core"],
            } },
        }))
        .unwrap();
        for (name, kind, folder) in [
            ("ferry/fog", "library", "lib/vendor/ferry/fog"),
            ("ferry/fog", "cms-module", "web/modules/fog"),
            ("cms/core", "library", "web/core"),
            ("ferry/fog", "bad", "lib/vendor/ferry/fog"),
        ] {
            assert_eq!(manifest.folder_of(&package(name, kind)), folder);
        }
        let outside: Manifest =
            serde_json::from_value(json!({ "config": { "vendor-dir": "../vendor" } })).unwrap();
        assert_eq!(outside.vendor(), "vendor");
    }

    #[test]
    fn names_that_lead_elsewhere_are_refused() {
        for name in ["../out", "fog", "ferry/../../out", "/etc/fog", "a/b/c", "ferry/"] {
            let lock = Lock { packages: vec![json!({ "name": name, "version": "1" })], ..Lock::default() };
            assert!(lock.for_image().is_err(), "{name}");
        }
        let lock = Lock { packages: vec![json!({ "name": "ferry/fog", "version": "1" })], ..Lock::default() };
        assert_eq!(lock.for_image().unwrap()[0].label(), "ferry/fog 1");
    }
}
