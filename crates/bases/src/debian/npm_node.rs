//! Node in an exact version, as the npm registry carries it: one program, on the base's own libraries.
//!
//! The packages are not published by the Node project, so their origin is always shown.

use config::addresses::Addresses;
use content::layer::{Entry, LayerWriter};
use engine::{Action, Step, StepContext};
use engine::{Fingerprint, Recipe};
use flate2::read::MultiGzDecoder;
use model::error::PackageError;
use model::npm_range::Range;
use model::package_url::purl;
use model::pins::ExactRuntime;
use model::places::RUNTIME_FOLDER;
use model::{Ecosystem, Error, PackageFact, Result, Role, RuntimeInUse};
use remote::packages::npm;
use remote::{Address, Fetcher, Integrity};
use std::collections::{BTreeMap, BTreeSet};

/// How the runtime is put down.
const RECIPE: Recipe = Recipe::new("exact runtime", 1);
/// Packages of the base that the program needs.
pub const LIBRARIES: &[&str] = &["libstdc++6", "libatomic1"];

/// The newest version of Node for `architecture` (Debian's name) that meets all `constraints`.
pub fn find(
    fetcher: &Fetcher,
    registry: &Address,
    architecture: &str,
    constraints: &[&str],
) -> Result<Option<ExactRuntime>> {
    let package = format!("node-linux-{}", if architecture == "amd64" { "x64" } else { architecture });
    let ranges: Option<Vec<Range>> = constraints.iter().map(|text| Range::parse(text)).collect();
    let Some(ranges) = ranges else { return Ok(None) };
    let offered = npm::versions(fetcher, registry, &package)
        .map_err(|source| Error::Package(PackageError::Remote { wanted_by: package.clone(), source }))?;
    let fitting = offered.into_iter().filter_map(|(text, integrity)| {
        let version = semver::Version::parse(&text).ok()?;
        ranges.iter().all(|range| range.contains(&version)).then_some((version, integrity))
    });
    let newest = fitting.max_by(|a, b| a.0.cmp(&b.0));
    Ok(newest.map(|(version, integrity)| ExactRuntime { package, version: version.to_string(), integrity }))
}

/// A pinned runtime as steps and as what images have.
pub(super) struct Exact<'a>(pub(super) &'a ExactRuntime);

impl Exact<'_> {
    /// The runtime in an image.
    pub(super) fn in_use(&self, runtime: &str) -> RuntimeInUse {
        RuntimeInUse {
            name: runtime.to_owned(),
            version: self.0.version.clone(),
            origin: format!("the npm package {}", self.0.package),
            bin_folder: format!("/{RUNTIME_FOLDER}/{runtime}/bin"),
        }
    }

    /// The folder that it is put in.
    pub(super) fn home(&self, runtime: &str) -> String {
        format!("/{RUNTIME_FOLDER}/{runtime}")
    }

    /// The step that writes its layer; `registry` is asked only when the step has to run.
    pub(super) fn step(&self, runtime: &str, registry: Addresses) -> Step {
        self.step_with(format!("{runtime} runtime"), &["bin"], runtime, registry)
    }

    /// The step that writes it with its headers.
    pub(super) fn step_for_build(&self, runtime: &str, registry: Addresses) -> Step {
        self.step_with(format!("{runtime} runtime with headers"), &["bin", "include"], runtime, registry)
    }

    fn step_with(
        &self,
        name: String,
        folders: &'static [&'static str],
        runtime: &str,
        registry: Addresses,
    ) -> Step {
        let work = ExactWork { runtime: runtime.to_owned(), folders, pin: self.0.clone(), registry };
        Step::new(name, Role::Runtime, work)
    }
}

struct ExactWork {
    runtime: String,
    /// What is taken of the package: `bin`, of which only the runtime itself, and `include`.
    folders: &'static [&'static str],
    pin: ExactRuntime,
    registry: Addresses,
}

impl ExactWork {
    /// Whether a file of the package is taken.
    fn takes(&self, path: &str) -> bool {
        let Some((folder, inside)) = path.split_once('/') else { return false };
        let whole = path.split('/').all(|part| !matches!(part, "" | "." | ".."));
        whole && self.folders.contains(&folder) && (folder != "bin" || inside == self.runtime)
    }
}

impl Action for ExactWork {
    fn fingerprint(&self) -> Fingerprint {
        // The registry is only where the package is got.
        let Self { runtime, folders, pin, registry: _ } = self;
        let ExactRuntime { package, version, integrity } = pin;
        let parts = BTreeMap::from([(package.clone(), format!("{version} {integrity}"))]);
        let values = [("name", runtime.clone()), ("folders", folders.join(" "))];
        Fingerprint::of(RECIPE).input("packages", parts).values("runtime", values)
    }

    fn run(&self, layer: &mut LayerWriter<'_>, cx: &StepContext<'_>) -> Result<Vec<PackageFact>> {
        let ExactRuntime { package, version, integrity } = &self.pin;
        let label = format!("{package} {version}");
        let bad = |detail: &str| {
            Error::Package(PackageError::Damaged { package: label.clone(), detail: detail.to_owned() })
        };
        let registry = self.registry.in_force(Ecosystem::NPM)?.address;
        let locked = Integrity::subresource(integrity)
            .ok_or_else(|| bad("shtetl.lock holds an invalid hash for it"))?;
        let tarball = npm::fetch(cx.fetcher, &npm::tarball(&registry, package, version), &locked)
            .map_err(|source| Error::Package(PackageError::Remote { wanted_by: label.clone(), source }))?;
        let home = format!("{RUNTIME_FOLDER}/{}", self.runtime);
        let mut folders = BTreeSet::from([RUNTIME_FOLDER.to_owned()]);
        let mut has_program = false;
        layer.part::<Error>(|tar| {
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
            layer: None,
            source: None,
            needs: Vec::new(),
            patched: Vec::new(),
        }])
    }
}
