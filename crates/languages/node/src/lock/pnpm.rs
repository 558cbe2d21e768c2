//! `pnpm-lock.yaml`, versions 6 and 9.

use crate::Manifest;
use crate::lock::app::App;
use crate::lock::faults::{malformed, not_yaml};
use crate::lock::unplaced::{Linked, Package};
use crate::need::Need;
use crate::package::{Fits, Origin};
use crate::tree::{Entry, PackageTree};
use crate::workspaces::Part;
use model::error::SurveyError;
use model::{Error, Place, Result};
use remote::Integrity;
use serde::Deserialize;
use std::collections::BTreeMap;

/// What the key of a package has that the app patches.
const PATCHED: &str = "(patch_hash=";
const HOW: &str = "run `pnpm install --lockfile-only` and commit the result";

#[derive(Deserialize)]
#[serde(rename_all = "camelCase")]
struct Document {
    lockfile_version: Version,
    #[serde(default)]
    importers: BTreeMap<String, Importer>,
    /// Version 6 has those of a single app at the top.
    #[serde(flatten)]
    top: Importer,
    #[serde(default)]
    packages: BTreeMap<String, Listed>,
    /// What is taken in place of what is asked for.
    #[serde(default)]
    overrides: BTreeMap<String, String>,
    #[serde(default)]
    patched_dependencies: BTreeMap<String, Patched>,
    /// Version 9 says apart what packages need.
    #[serde(default)]
    snapshots: BTreeMap<String, Listed>,
}

/// A patch: its path, or only its hash, where the manifest says the path.
#[derive(Deserialize)]
#[serde(untagged)]
enum Patched {
    Path { path: String },
    Hash(serde::de::IgnoredAny),
}

impl Document {
    /// The path of the patch for the package `id`; it may apply to one version, or to all.
    fn patch_of<'d>(&'d self, id: &str, app: &'d App<'_>) -> Option<&'d str> {
        let name = &id[..id.rfind('@').filter(|at| *at > 0).unwrap_or(id.len())];
        let said = |key: &str| match self.patched_dependencies.get(key)? {
            Patched::Path { path } => Some(path.as_str()),
            Patched::Hash(_) => {
                app.manifest.pnpm["patchedDependencies"][key].as_str().or(app.parts.patch(key))
            }
        };
        said(id).or_else(|| said(name))
    }
}

#[derive(Deserialize)]
#[serde(untagged)]
enum Version {
    Text(String),
    Number(f64),
}

#[derive(Default, Deserialize)]
#[serde(rename_all = "camelCase", default)]
struct Importer {
    dependencies: BTreeMap<String, Chosen>,
    dev_dependencies: BTreeMap<String, Chosen>,
    optional_dependencies: BTreeMap<String, Chosen>,
}

#[derive(Deserialize)]
struct Chosen {
    specifier: String,
    version: String,
}

#[derive(Clone, Default, Deserialize)]
#[serde(rename_all = "camelCase", default)]
struct Listed {
    resolution: Resolution,
    deprecated: Option<String>,
    dependencies: BTreeMap<String, String>,
    optional_dependencies: BTreeMap<String, String>,
    requires_build: bool,
    os: Vec<String>,
    cpu: Vec<String>,
    libc: Vec<String>,
    engines: BTreeMap<String, String>,
}

#[derive(Clone, Default, Deserialize)]
#[serde(default)]
struct Resolution {
    integrity: Option<String>,
    tarball: Option<String>,
    repo: Option<String>,
    commit: Option<String>,
}

/// Reads the file for an app with this manifest.
pub(super) fn parse(file: &'static str, text: &str, app: &App<'_>) -> Result<PackageTree> {
    let document: Document = serde_saphyr::from_str(text).map_err(|e| not_yaml(file, &e))?;
    let major = match &document.lockfile_version {
        Version::Text(text) => text.split('.').next().and_then(|t| t.parse().ok()).unwrap_or(0),
        Version::Number(number) => *number as u32,
    };
    if !matches!(major, 6..=9) {
        return Err(Error::Survey(SurveyError::Unsupported {
            place: Place::find(file, text, "lockfileVersion"),
            what: format!("lockfile version {major}"),
            instead: "regenerate it with a current version of the tool",
        }));
    }
    let mut linked = Linked { file, how: HOW, packages: BTreeMap::new(), parts: app.parts.clone() };
    let snapshots = if document.snapshots.is_empty() { &document.packages } else { &document.snapshots };
    for (key, snapshot) in snapshots {
        let id = plain(key);
        let facts = document.packages.get(id).or_else(|| document.packages.get(key)).unwrap_or(snapshot);
        let mut package = package(id, facts, snapshot);
        if key.contains(PATCHED) {
            let path = document.patch_of(id, app).ok_or_else(|| {
                malformed(file, None, format!("{id} is patched, but no patch file is named"))
            })?;
            package.entry.patches.push(app.patch(path, file)?);
        }
        linked.packages.insert(key.trim_start_matches('/').to_owned(), package);
    }
    let package = |importer: &Importer, folder, manifest| Package {
        entry: asked(importer, manifest, &document.overrides),
        needs: needs_of(importer, folder, app),
    };
    for part in app.parts.all() {
        let Some(importer) = document.importers.get(&part.folder) else { continue };
        let package = package(importer, &part.folder, &part.manifest);
        linked.packages.insert(part.folder.clone(), package);
    }
    let own = document.importers.get(".").unwrap_or(&document.top);
    let Package { entry: root, needs } = package(own, "", &app.manifest);
    // It says that a package has commands, but not which.
    linked.into_tree(text, root, needs, false)
}

/// What the file was made from: the ranges that the app, or a member of its workspace, declared at that time.
fn asked(importer: &Importer, manifest: &Manifest, overrides: &BTreeMap<String, String>) -> Entry {
    let ranges = |chosen: &BTreeMap<String, Chosen>,
                  now: &BTreeMap<String, String>|
     -> BTreeMap<String, String> {
        let range = |(name, chosen): (&String, &Chosen)| {
            // In place of a range that is overridden, the file has what overrides it.
            let now = now.get(name).filter(|_| overrides.contains_key(name));
            (name.clone(), now.unwrap_or(&chosen.specifier).clone())
        };
        // Peers of the app itself may stand among what it asks for.
        let is_own = |name: &String| now.contains_key(name) || !manifest.peer_dependencies.contains_key(name);
        chosen.iter().filter(|(name, _)| is_own(name)).map(range).collect()
    };
    Entry {
        dependencies: ranges(&importer.dependencies, &manifest.dependencies),
        dev_dependencies: ranges(&importer.dev_dependencies, &manifest.dev_dependencies),
        optional_dependencies: ranges(&importer.optional_dependencies, &manifest.optional_dependencies),
        ..Entry::default()
    }
}

/// What the app, or the part of it in `folder`, needs.
fn needs_of(importer: &Importer, folder: &str, app: &App<'_>) -> Vec<Need> {
    let chosen = |(name, chosen): (&String, &Chosen), optional| {
        let linked = chosen.version.strip_prefix("link:").map(|to| joined(folder, to));
        let part = linked.and_then(|to| app.parts.all().find(|part| part.folder == to));
        part.map_or_else(|| need(name, &chosen.version, optional), Part::need)
    };
    let further = importer.dev_dependencies.iter().filter(|_| app.development);
    let needs = importer.dependencies.iter().chain(further).map(|c| chosen(c, false));
    needs.chain(importer.optional_dependencies.iter().map(|c| chosen(c, true))).collect()
}

/// The folder that `to` means, seen from `folder`.
fn joined(folder: &str, to: &str) -> String {
    remote::without_steps_back(&std::path::Path::new(folder).join(to)).display().to_string()
}

/// The key without the peers that it was installed with, and without the slash of older files.
fn plain(key: &str) -> &str {
    key.trim_start_matches('/').split('(').next().unwrap_or(key)
}

/// A need; what is chosen is a version, or for an alias the whole key.
fn need(name: &str, chosen: &str, optional: bool) -> Need {
    let chosen = chosen.trim_start_matches('/');
    let before = chosen.split('(').next().unwrap_or(chosen);
    let is_key = before.char_indices().skip(1).any(|(_, c)| c == '@');
    let wanted = if is_key { chosen.to_owned() } else { format!("{name}@{chosen}") };
    Need { name: name.to_owned(), wanted, optional, peer: false }
}

fn package(id: &str, facts: &Listed, snapshot: &Listed) -> Package {
    let at = id.char_indices().skip(1).find(|(_, c)| *c == '@').map_or(id.len(), |(at, _)| at);
    let (name, version) = (&id[..at], id[at..].trim_start_matches('@'));
    let needs = snapshot.dependencies.iter().map(|(name, chosen)| need(name, chosen, false));
    let optional = snapshot.optional_dependencies.iter().map(|(name, chosen)| need(name, chosen, true));
    let registry = version.starts_with(|c: char| c.is_ascii_digit());
    Package {
        needs: needs.chain(optional).collect(),
        entry: Entry {
            name: Some(name.to_owned()),
            version: Some(version.to_owned()),
            origin: match (&facts.resolution, registry) {
                (Resolution { repo: Some(url), commit: Some(id), .. }, _) => {
                    Origin::Commit { url: url.clone(), id: id.clone() }
                }
                (Resolution { tarball: tarball @ Some(_), .. }, _) => Origin::Registry(tarball.clone()),
                (_, true) => Origin::Registry(None),
                (_, false) => Origin::Other("a package that is not from a registry".to_owned()),
            },
            integrity: facts.resolution.integrity.as_deref().and_then(Integrity::subresource),
            has_install_script: facts.requires_build,
            deprecated: facts.deprecated.clone(),
            engine: facts.engines.get("node").cloned(),
            fits: Fits { os: facts.os.clone(), cpu: facts.cpu.clone(), libc: facts.libc.clone() },
            dependencies: snapshot.dependencies.clone(),
            optional_dependencies: snapshot.optional_dependencies.clone(),
            ..Entry::default()
        },
    }
}
