//! Puts npm packages where the lockfile says, one fragment each.

use super::lock::LockedPackage;
use crate::addresses::{Addresses, Ecosystem};
use crate::error::{BuildError, Result};
use crate::execute::{each_in_parallel, find_in_parallel};
use crate::worklist::{Input, PackageFact, Tools, Withdrawn, Work};
use content::digest::Sha256;
use content::layer::{Codec, Entry, Fragment, FragmentWriter, LAYER_FORMAT, LayerWriter};
use content::store::Store;
use flate2::read::MultiGzDecoder;
use remote::Address;
use remote::packages::npm::{self, Standing};
use std::collections::{BTreeMap, BTreeSet};
use std::path::Component;

/// Version of the way packages are put down; part of every fragment's key.
const INSTALL_FORMAT: u32 = 2;
/// The largest package that is unpacked, in bytes.
const LARGEST: u64 = 1 << 30;

/// The step that installs packages.
pub(super) struct NodePackages {
    packages: Vec<LockedPackage>,
    addresses: Addresses,
}

impl NodePackages {
    /// Packages of the registries that `addresses` names; asked only when one is not in the store.
    pub(super) fn new(packages: Vec<LockedPackage>, addresses: Addresses) -> Self {
        Self { packages, addresses }
    }

    /// Where a package's tarball is: an explicit address, else what the lockfile says of the
    /// package, else the ecosystem's own configuration.
    fn tarball(&self, package: &LockedPackage) -> Result<Address> {
        let known = match (self.addresses.over_lockfile(Ecosystem::Npm), &package.resolved) {
            (None, Some(resolved)) => return Ok(Address::Url(resolved.clone())),
            (Some(known), _) => known,
            (None, None) => self.addresses.in_force(Ecosystem::Npm)?,
        };
        Ok(npm::tarball(&known.address, &package.name, &package.version))
    }

    /// What the result depends on: paths, names, versions, hashes and commands; not addresses.
    pub(super) fn input(&self) -> Input {
        let part = |p: &LockedPackage| {
            let bin = p.bin.iter().map(|(n, f)| format!(" {n}={f}")).collect::<String>();
            (p.path.clone(), format!("{}@{} {}{bin}", p.name, p.version, p.integrity.canonical()))
        };
        Input::of_parts("packages", self.packages.iter().map(part).collect())
    }

    /// Folders that packages are put into, above the packages' own.
    fn folders(&self) -> BTreeSet<String> {
        let mut folders = BTreeSet::new();
        for package in &self.packages {
            let full = format!("app/{}", package.path);
            folders.extend(full.match_indices('/').map(|(at, _)| full[..at].to_owned()));
            folders.insert(full);
        }
        folders
    }

    /// `.bin` links; where two packages claim a name, the first path wins.
    fn commands(&self) -> BTreeMap<String, String> {
        let mut links = BTreeMap::new();
        for package in &self.packages {
            let (folder, own) = match package.path.rfind("node_modules/") {
                Some(at) => package.path.split_at(at + "node_modules".len()),
                None => continue,
            };
            for (command, file) in &package.bin {
                let command = command.rsplit('/').next().unwrap_or(command);
                let up = if command_is_safe(command) { ".." } else { continue };
                let target = format!("{up}{own}/{}", file.trim_start_matches("./"));
                links.entry(format!("app/{folder}/.bin/{command}")).or_insert(target);
            }
        }
        links
    }
}

fn command_is_safe(command: &str) -> bool {
    !matches!(command, "" | "." | "..")
}

impl Work for NodePackages {
    fn write(&self, layer: &mut LayerWriter<'_>, tools: &Tools<'_>) -> Result<Vec<PackageFact>> {
        let (store, codec) = (layer.store(), layer.codec());
        each_in_parallel(&self.packages, tools, |package| {
            if Fragment::read(store, codec, key(package, codec)).is_none() {
                let bytes = npm::fetch(tools.fetcher, &self.tarball(package)?, &package.integrity)
                    .map_err(|source| BuildError::Remote { wanted_by: label(package), source })?;
                write_fragment(store, codec, package, &bytes)?;
            }
            Ok(())
        })?;
        let links = self.commands();
        layer.part::<BuildError>(|tar| {
            let link_folders = links.keys().filter_map(|l| Some(l.rsplit_once('/')?.0.to_owned()));
            for folder in self.folders().into_iter().chain(link_folders).collect::<BTreeSet<_>>() {
                tar.entry(&Entry::folder(folder))?;
            }
            Ok(())
        })?;
        for package in &self.packages {
            let gone = || BuildError::BadPackage {
                package: label(package),
                detail: "its fragment vanished from the store during the build".to_owned(),
            };
            layer.fragment(&Fragment::read(store, codec, key(package, codec)).ok_or_else(gone)?)?;
        }
        if !links.is_empty() {
            layer.part::<BuildError>(|tar| {
                Ok(links.iter().try_for_each(|(path, target)| tar.entry(&Entry::link(path, target)))?)
            })?;
        }
        Ok(self.packages.iter().map(fact).collect())
    }

    fn withdrawn(&self, tools: &Tools<'_>) -> Vec<Withdrawn> {
        let Some(registry) = self.addresses.askable(Ecosystem::Npm, tools.fetcher) else {
            return Vec::new();
        };
        find_in_parallel(&self.packages, tools, |package| {
            let standing = npm::standing(tools.fetcher, &registry, &package.name, &package.version);
            let (gone, reason) = match standing.ok()? {
                Standing::Gone => (true, format!("{registry} does not have it")),
                Standing::Deprecated(text) => (false, format!("deprecated: {text}")),
                Standing::Offered => return None,
            };
            Some(Withdrawn { package: label(package), lockfile: super::LOCKFILE, gone, reason })
        })
    }
}

fn label(package: &LockedPackage) -> String {
    format!("{} {}", package.name, package.version)
}

fn fact(package: &LockedPackage) -> PackageFact {
    // Package URL: the scope's sign is percent-encoded.
    let name = package.name.replace('@', "%40");
    PackageFact {
        name: package.name.clone(),
        version: package.version.clone(),
        purl: format!("pkg:npm/{name}@{}", package.version),
        licence: package.licence.clone(),
        integrity: package.integrity.canonical(),
    }
}

fn key(package: &LockedPackage, codec: Codec) -> Sha256 {
    let bins: Vec<&str> = package.bin.values().map(String::as_str).collect();
    let text = format!(
        "npm {INSTALL_FORMAT} {LAYER_FORMAT} {}\n{}\n{}\n{}",
        codec.name(),
        package.path,
        package.integrity.canonical(),
        bins.join("\n")
    );
    Sha256::of(text.as_bytes())
}

/// Normalises a tarball: first folder stripped, sorted, plain modes, commands executable.
fn write_fragment(store: &Store, codec: Codec, package: &LockedPackage, tarball: &[u8]) -> Result<()> {
    let bad = |detail: String| BuildError::BadPackage { package: label(package), detail };
    let mut raw = MultiGzDecoder::new(tarball);
    let raw = content::store::read_limited(&mut raw, LARGEST).map_err(|e| bad(e.to_string()))?;
    let raw = raw.ok_or_else(|| bad("unpacks to more than 1 GiB".to_owned()))?;
    let files = files_of(&raw).map_err(bad)?;
    let commands: BTreeSet<&str> = package.bin.values().map(|f| f.trim_start_matches("./")).collect();
    let mut fragment = FragmentWriter::new(store, codec, key(package, codec), 1)?;
    let mut folders = BTreeSet::new();
    for (path, bytes) in &files {
        for (at, _) in path.match_indices('/') {
            if folders.insert(path[..at].to_owned()) {
                fragment.tar().entry(&Entry::folder(format!("app/{}/{}", package.path, &path[..at])))?;
            }
        }
        let entry = Entry::file(
            format!("app/{}/{path}", package.path),
            bytes.len() as u64,
            commands.contains(path.as_str()),
        );
        fragment.tar().file(&entry, &mut &**bytes)?;
    }
    Ok(fragment.finish()?)
}

/// The regular files of a tarball by path. Links are left out, as npm does; what would leave the
/// package is an error.
fn files_of(raw: &[u8]) -> Result<BTreeMap<String, &[u8]>, String> {
    let mut archive = tar::Archive::new(raw);
    let mut files = BTreeMap::new();
    for entry in archive.entries().map_err(|e| e.to_string())? {
        let entry = entry.map_err(|e| e.to_string())?;
        let path = entry.path().map_err(|e| e.to_string())?.into_owned();
        let shown = path.display().to_string();
        let mut parts = Vec::new();
        for part in path.components() {
            match part {
                Component::Normal(name) => {
                    parts.push(name.to_str().ok_or_else(|| format!("{shown:?} is not UTF-8"))?.to_owned());
                }
                Component::CurDir => {}
                _ => return Err(format!("the entry {shown:?} leaves the package's folder")),
            }
        }
        if !entry.header().entry_type().is_file() || parts.len() < 2 {
            continue;
        }
        let start = usize::try_from(entry.raw_file_position()).map_err(|e| e.to_string())?;
        let length = usize::try_from(entry.size()).map_err(|e| e.to_string())?;
        let bytes = start.checked_add(length).and_then(|end| raw.get(start..end));
        files.insert(parts[1..].join("/"), bytes.ok_or_else(|| format!("{shown:?} is cut off"))?);
    }
    if files.is_empty() {
        return Err("the archive holds no files".to_owned());
    }
    // A path that is a file and a folder at once cannot be put down.
    let clash = files.keys().find(|p| p.match_indices('/').any(|(at, _)| files.contains_key(&p[..at])));
    match clash {
        Some(path) => Err(format!("{path:?} lies inside a file")),
        None => Ok(files),
    }
}
