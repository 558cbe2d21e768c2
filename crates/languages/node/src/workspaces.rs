//! Folders of the source that are packages of their own: workspaces.

use crate::need::Need;
use crate::package::Origin;
use crate::tree::Entry;
use crate::{MANIFEST, Manifest, parse_manifest};
use globset::{GlobBuilder, GlobSetBuilder};
use model::error::SurveyError;
use model::{Error, Place, Result};
use serde_json::Value;
use source::SourceTree;
use std::collections::{BTreeMap, BTreeSet};

/// The file in which one of the tools says them.
pub(super) const APART: &str = "pnpm-workspace.yaml";

/// Parts of the app, by their names.
#[derive(Debug, Clone, Default)]
pub(super) struct Parts {
    named: BTreeMap<String, Part>,
    /// The document apart.
    apart: Value,
}

/// A folder with a manifest of its own.
#[derive(Debug, Clone)]
pub(super) struct Part {
    /// From the root of the app.
    pub(super) folder: String,
    pub(super) name: String,
    pub(super) version: String,
    pub(super) manifest: Manifest,
}

impl Parts {
    /// The parts that the app's manifest, or the file apart from it, lists by patterns.
    pub(super) fn of(tree: &SourceTree, manifest: &Manifest) -> Result<Self> {
        let listed = match &manifest.workspaces {
            Value::Object(table) => table.get("packages").cloned().unwrap_or_default(),
            other => other.clone(),
        };
        let apart: Value = match tree.read(APART)? {
            Some(text) => {
                serde_saphyr::from_str(&text).map_err(|error| super::lock::faults::not_yaml(APART, &error))?
            }
            None => Value::Null,
        };
        let texts = |value: &Value| -> Vec<String> {
            value.as_array().into_iter().flatten().filter_map(|v| v.as_str().map(str::to_owned)).collect()
        };
        let patterns = [texts(&listed), texts(&apart["packages"])].concat();
        let (taken, left_out): (Vec<_>, Vec<_>) = patterns.iter().partition(|p| !p.starts_with('!'));
        let set = |patterns: &[&String]| {
            let mut set = GlobSetBuilder::new();
            for pattern in patterns {
                let plain = pattern.trim_start_matches('!').trim_start_matches("./").trim_end_matches('/');
                let glob = GlobBuilder::new(plain).literal_separator(true).build();
                set.add(glob.map_err(|error| {
                    Error::Survey(SurveyError::Malformed {
                        place: Place::new(MANIFEST, None),
                        detail: format!("{pattern:?} is not a valid pattern: {}", error.kind()),
                    })
                })?);
            }
            set.build().map_err(|error| {
                Error::Survey(SurveyError::Malformed {
                    place: Place::new(MANIFEST, None),
                    detail: error.to_string(),
                })
            })
        };
        let (taken, left_out) = (set(&taken)?, set(&left_out)?);
        let mut parts = BTreeMap::new();
        for path in tree.files().keys() {
            let Some(folder) = path.strip_suffix(MANIFEST).and_then(|f| f.strip_suffix('/')) else {
                continue;
            };
            if folder.contains("node_modules") || !taken.is_match(folder) || left_out.is_match(folder) {
                continue;
            }
            let manifest = parse_manifest(path, &tree.read(path)?.unwrap_or_default())?;
            let Some(name) = manifest.name.clone() else { continue };
            let version = manifest.version.clone().unwrap_or_else(|| "0.0.0".to_owned());
            parts.insert(name.clone(), Part { folder: folder.to_owned(), name, version, manifest });
        }
        Ok(Self { named: parts, apart })
    }

    /// The part in a folder.
    pub(super) fn in_folder(&self, folder: &str) -> Option<&Part> {
        self.all().find(|part| part.folder == folder)
    }

    /// The parts that one needs, for its development too, each after those that it needs itself; the last one is the part.
    pub(super) fn needed_by<'p>(&'p self, part: &'p Part) -> Vec<&'p Part> {
        let mut order: Vec<&Part> = Vec::new();
        let mut seen = BTreeSet::new();
        // The second time that a part comes up, all that it needs has gone before.
        let mut pending = vec![(part, false)];
        while let Some((part, is_ready)) = pending.pop() {
            if is_ready {
                order.push(part);
            } else if seen.insert(&part.name) {
                pending.push((part, true));
                let Manifest {
                    dependencies, dev_dependencies, optional_dependencies, peer_dependencies, ..
                } = &part.manifest;
                let tables = [dependencies, dev_dependencies, optional_dependencies, peer_dependencies];
                let names = tables.into_iter().flat_map(|table| table.keys());
                pending.extend(names.filter_map(|name| Some((self.named(name)?, false))));
            }
        }
        order
    }

    /// As they are for a build: what only their development needs is needed, too.
    pub(super) fn with_development(self) -> Self {
        let part = |(name, part): (String, Part)| {
            let manifest = part.manifest.with_development();
            (name, Part { manifest, ..part })
        };
        Self { named: self.named.into_iter().map(part).collect(), ..self }
    }

    /// The path of the patch that the document apart names for a package.
    pub(super) fn patch(&self, key: &str) -> Option<&str> {
        self.apart["patchedDependencies"][key].as_str()
    }

    pub(super) fn all(&self) -> impl Iterator<Item = &Part> {
        self.named.values()
    }

    /// The part of this name.
    pub(super) fn named(&self, name: &str) -> Option<&Part> {
        self.named.get(name)
    }

    /// The part that a need means which [`Part::need`] made.
    pub(super) fn meant(&self, wanted: &str) -> Option<&Part> {
        self.named.get(wanted.strip_prefix(MARK)?)
    }
}

/// How needs begin that mean a part.
const MARK: &str = "part of the app: ";

impl Part {
    /// The need of whoever needs it.
    pub(super) fn need(&self) -> Need {
        let (name, wanted) = (self.name.clone(), format!("{MARK}{}", self.name));
        Need { name, wanted, optional: false, peer: false }
    }

    /// As it stands among packages: a link to its folder.
    pub(super) fn entry(&self) -> Entry {
        Entry {
            name: Some(self.name.clone()),
            version: Some(self.version.clone()),
            origin: Origin::Link(self.folder.clone()),
            bin: self.manifest.commands(),
            dependencies: self.manifest.dependencies.clone(),
            optional_dependencies: self.manifest.optional_dependencies.clone(),
            ..Entry::default()
        }
    }
}
