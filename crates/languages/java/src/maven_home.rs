//! Maven itself, which is an artifact like others.

use crate::repository::address;
use config::pins::ResolvedPackage;
use content::digest::{Hasher, Sha256};
use content::layer::{Entry, LayerWriter};
use engine::download_buffer::{rewind, spool};
use engine::{Action, Fingerprint, Recipe, Step, StepContext};
use flate2::read::GzDecoder;
use model::error::{PackageError, SurveyError};
use model::package_url::purl;
use model::{Ecosystem, Error, PackageFact, PathFacts, Place, Result, Role, RuntimeInUse};
use planning::{Context, Resolution, ResolveTarget, Resolving};
use remote::{Address, Downloads};
use source::SourceTree;
use std::path::Path;
use tar::Archive;

/// Where it is put, from the root that the app is built in.
pub(crate) const FOLDER: &str = "opt/maven";
const NAME: &str = "org.apache.maven:apache-maven";
const PATH: &str = "org/apache/maven/apache-maven";
/// Releases of this line are taken where the app says none: what is newer does some things in another way.
const LINE: &str = "3.9.";
const WRAPPER: &str = ".mvn/wrapper/maven-wrapper.properties";
const RECIPE: Recipe = Recipe::new("maven", 1);

/// A release of Maven.
#[derive(Debug, Clone, PartialEq, Eq)]
pub(crate) struct MavenHome {
    pub version: String,
    hash: String,
}

/// The release that the source's wrapper names.
pub(crate) fn wanted(tree: &SourceTree) -> Result<Option<(String, Place)>> {
    let Some(text) = tree.read(WRAPPER)? else { return Ok(None) };
    let named = |line: &str| {
        let url = line.trim().strip_prefix("distributionUrl")?.trim_start().strip_prefix('=')?;
        let (_, file) = url.rsplit_once("/apache-maven-")?;
        Some(file.trim().strip_suffix("-bin.zip")?.to_owned())
    };
    let found = text.lines().enumerate().find_map(|(number, line)| Some((number, named(line)?)));
    Ok(found.map(|(number, version)| (version, Place::new(WRAPPER, u32::try_from(number + 1).ok()))))
}

/// Settles the release; notes what is new in `resolution`. Nothing while nobody may be asked.
pub(crate) fn settle(
    context: &Context<'_>,
    resolving: &Resolving<'_>,
    resolution: &mut Resolution,
) -> Result<Option<MavenHome>> {
    let wanted = wanted(context.tree)?.map(|(version, _)| version);
    let resolve = |downloads: Downloads<'_>, _: &[ResolvedPackage]| {
        let address = address(context.addresses)?;
        let version = match &wanted {
            Some(version) => version.clone(),
            None => newest(&address, downloads)?,
        };
        let (_, hash) = fetch(&version, &address, downloads)?;
        let integrity = format!("sha256:{}", hash.hex());
        Ok(vec![ResolvedPackage { name: NAME.to_owned(), version, integrity, ..ResolvedPackage::default() }])
    };
    let asked = wanted.clone().unwrap_or_else(|| format!("{LINE}x"));
    let target = ResolveTarget { language: "java", purpose: "maven" };
    let Some((packages, new)) = resolving.packages(target, &asked, resolve)? else { return Ok(None) };
    resolution.resolved.extend(new);
    let home = |package: ResolvedPackage| MavenHome { version: package.version, hash: package.integrity };
    Ok(packages.into_iter().next().map(home))
}

/// The newest release of the line.
fn newest(address: &Address, downloads: Downloads<'_>) -> Result<String> {
    let at = address.join(&format!("{PATH}/maven-metadata.xml"));
    let bytes = downloads.fetcher.get(&at, "*/*").map_err(remote)?;
    let text = String::from_utf8_lossy(&bytes);
    let numbers = |version: &str| {
        let parts = version.strip_prefix(LINE)?.split('.');
        parts.map(|part| part.parse::<u32>().ok()).collect::<Option<Vec<_>>>()
    };
    let versions = text.split("<version>").skip(1).filter_map(|rest| rest.split('<').next());
    let newest = versions.filter_map(|version| Some((numbers(version)?, version))).max();
    let none = || SurveyError::Malformed {
        place: Place::new(at.to_string(), None),
        detail: format!("it lists no release {LINE}x"),
    };
    Ok(newest.ok_or_else(none)?.1.to_owned())
}

fn fetch(
    version: &str,
    address: &Address,
    downloads: Downloads<'_>,
) -> Result<(tempfile::SpooledTempFile, Sha256)> {
    let at = address.join(&format!("{PATH}/{version}/apache-maven-{version}-bin.tar.gz"));
    let mut file = downloads.fetcher.get_into(&at, || Ok(spool(downloads.store))).map_err(remote)?;
    rewind(&mut file)?;
    let (hash, _) = Hasher::of_reader(&mut file).facts(Path::new(NAME))?;
    rewind(&mut file)?;
    Ok((file, hash))
}

fn remote(source: remote::RemoteError) -> Error {
    Error::Package(PackageError::Remote { wanted_by: "the Maven build".to_owned(), source })
}

impl MavenHome {
    /// What builds the app.
    pub fn in_use(&self) -> RuntimeInUse {
        RuntimeInUse {
            name: "maven".to_owned(),
            version: self.version.clone(),
            origin: format!("the artifact {NAME}"),
            bin_folder: format!("/{FOLDER}/bin"),
        }
    }

    /// The step that puts it down.
    pub fn step(&self, context: &Context<'_>) -> Result<Step> {
        let address = address(context.addresses)?;
        let name = format!("maven {}", self.version);
        Ok(Step::new(name, Role::Runtime, PutDown { home: self.clone(), address }))
    }
}

/// The step's work.
struct PutDown {
    home: MavenHome,
    address: Address,
}

impl Action for PutDown {
    fn fingerprint(&self) -> Fingerprint {
        // The hash decides, wherever it comes from.
        let Self { home: MavenHome { version, hash }, address: _ } = self;
        Fingerprint::of(RECIPE).values("release", [("version", version.clone()), ("hash", hash.clone())])
    }

    fn run(&self, layer: &mut LayerWriter<'_>, cx: &StepContext<'_>) -> Result<Vec<PackageFact>> {
        let MavenHome { version, hash } = &self.home;
        let label = format!("Maven {version}");
        let bad = |detail: String| Error::Package(PackageError::Damaged { package: label.clone(), detail });
        let downloads = Downloads { fetcher: cx.fetcher, store: layer.store() };
        let (file, found) = fetch(version, &self.address, downloads)?;
        if *hash != format!("sha256:{}", found.hex()) {
            return Err(bad(format!("its hash is sha256:{}, pinned is {hash}", found.hex())));
        }
        let mut archive = Archive::new(GzDecoder::new(file));
        layer.part::<Error>(|tar| {
            for member in archive.entries().map_err(|e| bad(e.to_string()))? {
                let mut member = member.map_err(|e| bad(e.to_string()))?;
                if !member.header().entry_type().is_file() {
                    continue;
                }
                let path = member.path().map_err(|e| bad(e.to_string()))?.to_string_lossy().into_owned();
                let inside = path.split_once('/').map(|(_, inside)| inside).unwrap_or_default();
                if inside.is_empty() || inside.split('/').any(|part| part == "..") {
                    return Err(bad(format!("{path} is not in its folder")));
                }
                let is_program = member.header().mode().is_ok_and(|mode| mode & 0o100 != 0);
                let entry = Entry::file(format!("{FOLDER}/{inside}"), member.size(), is_program);
                tar.file(&entry, &mut member).facts(Path::new(&path))?;
            }
            Ok(())
        })?;
        Ok(vec![PackageFact {
            name: NAME.to_owned(),
            version: version.clone(),
            purl: purl("maven", &NAME.replace(':', "/"), version, &[]),
            licence: None,
            integrity: hash.clone(),
            patched: Vec::new(),
        }])
    }
}

/// The kind of addresses that it comes from.
pub(crate) const ECOSYSTEM: Ecosystem = Ecosystem::MAVEN;

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn the_wrapper_says_which_release() {
        let of = |text: &str| {
            let folder = tempfile::tempdir().unwrap();
            std::fs::create_dir_all(folder.path().join(".mvn/wrapper")).unwrap();
            std::fs::write(folder.path().join(WRAPPER), text).unwrap();
            wanted(&testkit::tree::tree_of(folder.path())).unwrap()
        };
        let url = "https://packages.example/org/apache/maven/apache-maven/3.9.6/apache-maven-3.9.6-bin.zip";
        let place = Place::new(WRAPPER, Some(2));
        assert_eq!(of(&format!("# any\ndistributionUrl={url}\n")), Some(("3.9.6".to_owned(), place)));
        assert_eq!(of("wrapperVersion=3.3.2\n"), None);
    }
}
