//! Releases of Go as modules (the Go toolchains reference, "Downloading toolchains"), for what the base's own is too old for.

use crate::go_mod::{GoMod, ModuleVersion};
use crate::proxy;
use config::pins::ResolvedPackage;
use content::layer::{Entry, LayerWriter};
use engine::{Action, Fingerprint, Recipe, Step, StepContext};
use model::error::PackageError;
use model::package_url::purl;
use model::{Error, PackageFact, PathFacts, Result, Role, RuntimeInUse};
use planning::{Context, Resolution, ResolveTarget, Resolving};
use remote::{Address, Downloads};
use std::io::{BufReader, Read};
use std::path::Path;

/// The module that has the releases.
const MODULE: &str = "golang.org/toolchain";
/// Where a release is put, from the root that programs are compiled in.
const FOLDER: &str = "opt/go";
const RECIPE: Recipe = Recipe::new("go release", 1);

/// A release that takes the place of the base's own.
#[derive(Debug, Clone, PartialEq, Eq)]
pub(super) struct Release {
    /// For example `1.26.0`.
    version: String,
    module: ModuleVersion,
    hash: String,
}

/// The release that the source needs, and the base, which has `own`, is too old for.
fn needed(said: &GoMod, own: &str) -> Option<String> {
    let line = said.go.as_deref()?;
    if numbers(line) <= numbers(own) {
        return None;
    }
    // What its author would like best, if that is no older than what has to be met.
    let liked = said.toolchain.as_deref().and_then(|name| name.strip_prefix("go"));
    let liked = liked.filter(|version| numbers(version) >= numbers(line));
    Some(liked.map_or_else(|| full(line), str::to_owned))
}

/// A release's version: since Go 1.21 the first one ends with `.0`, and the line may leave that out.
fn full(line: &str) -> String {
    match line.matches('.').count() {
        1 if line.bytes().all(|b| b == b'.' || b.is_ascii_digit()) => format!("{line}.0"),
        _ => line.to_owned(),
    }
}

fn numbers(version: &str) -> Vec<u32> {
    let plain = version.split(|c: char| !(c.is_ascii_digit() || c == '.')).next().unwrap_or_default();
    let mut numbers: Vec<u32> = plain.split('.').map(|part| part.parse().unwrap_or(0)).collect();
    numbers.resize(3, 0);
    numbers
}

/// Settles the release that is needed, if one is; notes what is new in `resolution`. `None` without network access.
pub(super) fn settle(
    said: &GoMod,
    context: &Context<'_>,
    resolving: &Resolving<'_>,
    resolution: &mut Resolution,
) -> Result<Option<Release>> {
    let own = context.runtime()?;
    let Some(version) = needed(said, &own.version) else { return Ok(None) };
    // What compiles runs on this machine.
    let processor = model::platform::own_platform();
    let processor = processor.rsplit('/').next().unwrap_or_default();
    let module =
        ModuleVersion { path: MODULE.to_owned(), version: format!("v0.0.1-go{version}.linux-{processor}") };
    let resolve = |downloads: Downloads<'_>, _: &[ResolvedPackage]| {
        let proxy = proxy::of(&module, context.addresses)?;
        let (_, integrity) = proxy::archive(&module, &proxy, downloads)?;
        let ModuleVersion { path: name, version } = module.clone();
        Ok(vec![ResolvedPackage { name, version, integrity, ..ResolvedPackage::default() }])
    };
    let target = ResolveTarget { language: "go", purpose: "release" };
    let Some((packages, new)) = resolving.packages(target, &module.version, resolve)? else {
        return Ok(None);
    };
    resolution.resolved.extend(new);
    let hash = packages.into_iter().next().map(|package| package.integrity).unwrap_or_default();
    Ok(Some(Release { version, module, hash }))
}

impl Release {
    /// The folder of its programs.
    pub(super) fn bin_folder() -> String {
        format!("/{FOLDER}/bin")
    }

    /// What compiles the programs.
    pub(super) fn in_use(&self) -> RuntimeInUse {
        RuntimeInUse {
            name: "go".to_owned(),
            version: self.version.clone(),
            origin: format!("the Go module {MODULE}"),
            bin_folder: Self::bin_folder(),
        }
    }

    /// The step that puts it down.
    pub(super) fn step(&self, context: &Context<'_>) -> Result<Step> {
        let proxy = proxy::of(&self.module, context.addresses)?;
        Ok(Step::new(format!("go {}", self.version), Role::Runtime, PutDown { release: self.clone(), proxy }))
    }
}

/// The step's work.
struct PutDown {
    release: Release,
    proxy: Address,
}

impl Action for PutDown {
    fn fingerprint(&self) -> Fingerprint {
        // The hash decides, wherever it comes from.
        let Self { release: Release { version, module, hash }, proxy: _ } = self;
        let values =
            [("version", version.clone()), ("module", module.version.clone()), ("hash", hash.clone())];
        Fingerprint::of(RECIPE).values("release", values)
    }

    fn run(&self, layer: &mut LayerWriter<'_>, cx: &StepContext<'_>) -> Result<Vec<PackageFact>> {
        let Release { version, module, hash } = &self.release;
        let label = format!("Go {version}");
        let bad = |detail: String| Error::Package(PackageError::Damaged { package: label.clone(), detail });
        let downloads = Downloads { fetcher: cx.fetcher, store: layer.store() };
        let (file, found) = proxy::archive(module, &self.proxy, downloads)?;
        proxy::check(module, (&self.proxy, "zip"), hash, found)?;
        let mut zip = zip::ZipArchive::new(BufReader::new(file)).map_err(|e| bad(e.to_string()))?;
        let inside = format!("{}@{}/", module.path, module.version);
        layer.part::<Error>(|tar| {
            for number in 0..zip.len() {
                let mut member = zip.by_index(number).map_err(|e| bad(e.to_string()))?;
                let name = String::from_utf8_lossy(member.name_raw()).into_owned();
                let Some(name) =
                    name.strip_prefix(&inside).filter(|name| !name.split('/').any(|p| p == ".."))
                else {
                    return Err(bad(format!("{name} is not in its folder")));
                };
                let is_program = name.starts_with("bin/") || name.starts_with("pkg/tool/");
                // A module cannot hold other modules, so their files have other names in it.
                let target = match name.rsplit_once('/') {
                    Some((folder, "_go.mod")) => format!("{FOLDER}/{folder}/go.mod"),
                    _ => format!("{FOLDER}/{name}"),
                };
                let size = member.size();
                let entry = Entry::file(target, size, is_program);
                tar.file(&entry, &mut Read::by_ref(&mut member)).facts(Path::new(name))?;
            }
            Ok(())
        })?;
        let purl = purl("golang", &module.path, &module.version, &[]);
        Ok(vec![PackageFact::new(&module.path, &module.version, purl, hash)])
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_release_is_needed_where_the_bases_own_is_too_old() {
        let said = |go: &str, toolchain: Option<&str>| GoMod {
            go: Some(go.to_owned()),
            toolchain: toolchain.map(str::to_owned),
            ..GoMod::default()
        };
        let needed = |go, toolchain| needed(&said(go, toolchain), "1.24.4");
        assert_eq!(needed("1.24", None), None);
        assert_eq!(needed("1.24.4", Some("go1.27.1")), None, "a wish alone is no need");
        assert_eq!(needed("1.24.5", None).as_deref(), Some("1.24.5"));
        assert_eq!(needed("1.26", None).as_deref(), Some("1.26.0"));
        assert_eq!(needed("1.26.0", Some("go1.26.11")).as_deref(), Some("1.26.11"));
        assert_eq!(needed("1.27", Some("go1.26.11")).as_deref(), Some("1.27.0"));
    }
}
