//! Node in an exact version, as the npm registry carries it: one program, on the base's own libraries.
//!
//! The packages are published by somebody else than Node's makers, so their origin is always said.

use crate::base::RUNTIME_FOLDER;
use crate::error::{BuildError, Result};
use crate::lang::node::Range;
use crate::purl::purl;
use crate::worklist::{Input, PackageFact, Role, RuntimeInUse, Step, Tools, Work};
use content::layer::{Entry, LayerWriter};
use flate2::read::MultiGzDecoder;
use remote::packages::npm;
use remote::{Address, Fetcher, Integrity};
use serde::{Deserialize, Serialize};
use std::collections::{BTreeMap, BTreeSet};

/// Packages of the base that the program needs.
pub const LIBRARIES: &[&str] = &["libstdc++6", "libatomic1"];

/// A runtime from a registry, pinned.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct ExactRuntime {
    /// The package in the registry.
    pub package: String,
    /// Its version, which is also the runtime's.
    pub version: String,
    /// Its locked hash.
    pub integrity: String,
}

/// The newest version of Node for `architecture` (Debian's name) that meets `constraint`.
pub fn find(
    fetcher: &Fetcher,
    registry: &Address,
    architecture: &str,
    constraint: &str,
) -> Result<Option<ExactRuntime>> {
    let package = format!("node-linux-{}", if architecture == "amd64" { "x64" } else { architecture });
    let Some(range) = Range::parse(constraint) else { return Ok(None) };
    let offered = npm::versions(fetcher, registry, &package)
        .map_err(|source| BuildError::Remote { wanted_by: package.clone(), source })?;
    let fitting = offered.into_iter().filter_map(|(text, integrity)| {
        let version = semver::Version::parse(&text).ok()?;
        range.contains(&version).then_some((version, integrity))
    });
    let newest = fitting.max_by(|a, b| a.0.cmp(&b.0));
    Ok(newest.map(|(version, integrity)| ExactRuntime { package, version: version.to_string(), integrity }))
}

impl ExactRuntime {
    /// What is known before the registry was asked: some version that meets the constraint.
    pub fn unpinned(constraint: &str) -> Self {
        let least = constraint.split(|c: char| !c.is_ascii_digit() && c != '.').find(|w| !w.is_empty());
        let missing = |text: &str| 2_usize.saturating_sub(text.matches('.').count());
        let version = least.map(|text| format!("{text}{}", ".0".repeat(missing(text))));
        let version = version.unwrap_or_default();
        Self { package: "not pinned yet".to_owned(), version, integrity: String::new() }
    }

    /// The runtime in an image.
    pub(super) fn in_use(&self, runtime: &str) -> RuntimeInUse {
        RuntimeInUse {
            name: runtime.to_owned(),
            version: self.version.clone(),
            origin: format!("the npm package {}", self.package),
            bin_folder: format!("/{RUNTIME_FOLDER}/{runtime}/bin"),
        }
    }

    /// The folder that it is put in.
    pub(super) fn home(&self, runtime: &str) -> String {
        format!("/{RUNTIME_FOLDER}/{runtime}")
    }

    /// The step that writes its layer; `registry` is asked only when the step has to run.
    pub(super) fn step(&self, runtime: &str, registry: Option<Address>) -> Step {
        self.step_with(format!("{runtime} runtime"), &["bin"], runtime, registry)
    }

    /// The step that writes it with its headers.
    pub(super) fn step_to_build(&self, runtime: &str, registry: Option<Address>) -> Step {
        self.step_with(format!("{runtime} runtime with headers"), &["bin", "include"], runtime, registry)
    }

    fn step_with(
        &self,
        name: String,
        folders: &'static [&'static str],
        runtime: &str,
        registry: Option<Address>,
    ) -> Step {
        let parts = BTreeMap::from([(self.package.clone(), format!("{} {}", self.version, self.integrity))]);
        let work = ExactWork { runtime: runtime.to_owned(), folders, pin: self.clone(), registry };
        Step::new(name, Role::Runtime, vec![Input::of_parts("packages", parts)], work)
    }
}

struct ExactWork {
    runtime: String,
    /// What is taken of the package: `bin`, of which only the runtime itself, and `include`.
    folders: &'static [&'static str],
    pin: ExactRuntime,
    registry: Option<Address>,
}

impl ExactWork {
    /// Whether a file of the package is taken.
    fn takes(&self, path: &str) -> bool {
        let Some((folder, inside)) = path.split_once('/') else { return false };
        let whole = path.split('/').all(|part| !matches!(part, "" | "." | ".."));
        whole && self.folders.contains(&folder) && (folder != "bin" || inside == self.runtime)
    }
}

impl Work for ExactWork {
    fn write(&self, layer: &mut LayerWriter<'_>, tools: &Tools<'_>) -> Result<Vec<PackageFact>> {
        let ExactRuntime { package, version, integrity } = &self.pin;
        let label = format!("{package} {version}");
        let bad = |detail: &str| BuildError::BadPackage { package: label.clone(), detail: detail.to_owned() };
        let registry = self.registry.as_ref().ok_or(BuildError::NoAddress { ecosystem: "npm" })?;
        let locked =
            Integrity::subresource(integrity).ok_or_else(|| bad("its hash in shtetl.lock is none"))?;
        let tarball = npm::fetch(tools.fetcher, &npm::tarball(registry, package, version), &locked)
            .map_err(|source| BuildError::Remote { wanted_by: label.clone(), source })?;
        let home = format!("{RUNTIME_FOLDER}/{}", self.runtime);
        let mut folders = BTreeSet::from([RUNTIME_FOLDER.to_owned()]);
        let mut has_program = false;
        layer.part::<BuildError>(|tar| {
            tar.entry(&Entry::folder(RUNTIME_FOLDER))?;
            let mut archive = tar::Archive::new(MultiGzDecoder::new(&tarball[..]));
            for entry in archive.entries()? {
                let mut entry = entry?;
                let path = entry.path()?.display().to_string();
                let Some((_, path)) = path.split_once('/').filter(|(_, inside)| self.takes(inside)) else {
                    continue;
                };
                if !entry.header().entry_type().is_file() {
                    continue;
                }
                let target = format!("{home}/{path}");
                for (at, _) in target.match_indices('/') {
                    if folders.insert(target[..at].to_owned()) {
                        tar.entry(&Entry::folder(&target[..at]))?;
                    }
                }
                let is_program = path.starts_with("bin/");
                has_program |= is_program;
                tar.file(&Entry::file(target, entry.size(), is_program), &mut entry)?;
            }
            Ok(())
        })?;
        if !has_program {
            return Err(bad(&format!("it has no bin/{}", self.runtime)));
        }
        Ok(vec![PackageFact {
            name: package.clone(),
            version: version.clone(),
            purl: purl("npm", package, version, &[]),
            licence: None,
            integrity: locked.canonical(),
            patched: Vec::new(),
        }])
    }
}
