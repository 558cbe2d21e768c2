//! Programs for Java that are artifacts like others: Maven, and a server for web archives.

use crate::repository::address;
use config::pins::ResolvedPackage;
use content::digest::{Hasher, Sha256};
use content::layer::{Entry, LayerWriter};
use engine::download_buffer::{rewind, spool};
use engine::{Action, Fingerprint, Recipe, Step, StepContext};
use flate2::read::GzDecoder;
use model::error::{PackageError, SurveyError};
use model::package_url::purl;
use model::{Error, PackageFact, PathFacts, Place, Result, Role, RuntimeInUse};
use planning::{Context, Resolution, ResolveTarget, Resolving};
use remote::{Address, Downloads};
use source::SourceTree;
use std::path::Path;
use tar::Archive;
use tempfile::SpooledTempFile;

const WRAPPER: &str = ".mvn/wrapper/maven-wrapper.properties";
const RECIPE: Recipe = Recipe::new("java program", 1);

/// A program, in all its releases.
#[derive(Debug, PartialEq, Eq)]
pub(crate) struct Program {
    /// What it is called in `shtetl.lock` and in texts.
    pub id: &'static str,
    /// Its coordinates.
    group: &'static str,
    artifact: &'static str,
    /// What follows the version in the name of its archive.
    ending: &'static str,
    /// Where it is put, from the root.
    pub folder: &'static str,
    /// The beginnings of the paths that are needed; all of them where there is none.
    needed: &'static [&'static str],
}

/// What builds projects.
pub(crate) const MAVEN: Program = Program {
    id: "maven",
    group: "org.apache.maven",
    artifact: "apache-maven",
    ending: "-bin",
    folder: "opt/maven",
    needed: &[],
};
/// Releases of this line are taken where the app says none: what is newer does some things in another way.
pub(crate) const MAVEN_LINE: &str = "3.9.";
/// What serves web archives.
pub(crate) const TOMCAT: Program = Program {
    id: "tomcat",
    group: "org.apache.tomcat",
    artifact: "tomcat",
    ending: "",
    folder: "opt/tomcat",
    needed: &[
        "bin/bootstrap.jar",
        "bin/tomcat-juli.jar",
        "lib/",
        "conf/catalina.properties",
        "conf/web.xml",
        "LICENSE",
        "NOTICE",
    ],
};

/// A release of a program.
#[derive(Debug, Clone, PartialEq, Eq)]
pub(crate) struct Release {
    program: &'static Program,
    pub version: String,
    hash: String,
}

/// The release of Maven that the source's wrapper names.
pub(crate) fn wanted(tree: &SourceTree) -> Result<Option<(String, Place)>> {
    let Some(text) = tree.read(WRAPPER)? else { return Ok(None) };
    let named = |line: &str| {
        let url = line.trim().strip_prefix("distributionUrl")?.trim_start().strip_prefix('=')?;
        let (_, file) = url.rsplit_once("/apache-maven-")?;
        let version = file.trim().strip_suffix("-bin.zip")?;
        // It becomes part of a path.
        let is_plain = version.chars().all(|c| c.is_ascii_alphanumeric() || ".-".contains(c));
        (is_plain && !version.contains("..")).then(|| version.to_owned())
    };
    let found = text.lines().enumerate().find_map(|(number, line)| Some((number, named(line)?)));
    Ok(found.map(|(number, version)| (version, Place::new(WRAPPER, u32::try_from(number + 1).ok()))))
}

impl Program {
    /// Settles the release: the exact one, or the newest whose version begins with `line`; notes what is new in
    /// `resolution`. `None` without network access.
    pub fn settle(
        &'static self,
        (exact, line): (Option<String>, &str),
        context: &Context<'_>,
        resolving: &Resolving<'_>,
        resolution: &mut Resolution,
    ) -> Result<Option<Release>> {
        let resolve = |downloads: Downloads<'_>, _: &[ResolvedPackage]| {
            let address = address(context.addresses)?;
            let version = match &exact {
                Some(version) => version.clone(),
                None => self.newest(line, &address, downloads)?,
            };
            let (_, hash) = self.fetch(&version, &address, downloads)?;
            let (name, integrity) = (self.name(), format!("sha256:{}", hash.hex()));
            Ok(vec![ResolvedPackage { name, version, integrity, ..ResolvedPackage::default() }])
        };
        let asked = exact.clone().unwrap_or_else(|| format!("{line}x"));
        let target = ResolveTarget { language: "java", purpose: self.id };
        let Some((packages, new)) = resolving.packages(target, &asked, resolve)? else { return Ok(None) };
        resolution.resolved.extend(new);
        let release = |package: ResolvedPackage| Release {
            program: self,
            version: package.version,
            hash: package.integrity,
        };
        Ok(packages.into_iter().next().map(release))
    }

    fn name(&self) -> String {
        format!("{}:{}", self.group, self.artifact)
    }

    fn path(&self) -> String {
        format!("{}/{}", self.group.replace('.', "/"), self.artifact)
    }

    /// The newest release of a line.
    fn newest(&self, line: &str, address: &Address, downloads: Downloads<'_>) -> Result<String> {
        let at = address.join(&format!("{}/maven-metadata.xml", self.path()));
        let bytes = downloads.fetcher.get(&at, "*/*").map_err(|error| self.remote(error))?;
        let text = String::from_utf8_lossy(&bytes);
        let numbers = |version: &str| {
            let parts = version.strip_prefix(line)?.split('.');
            parts.map(|part| part.parse::<u32>().ok()).collect::<Option<Vec<_>>>()
        };
        let versions = text.split("<version>").skip(1).filter_map(|rest| rest.split('<').next());
        let newest = versions.filter_map(|version| Some((numbers(version)?, version))).max();
        let none = || SurveyError::Malformed {
            place: Place::new(at.to_string(), None),
            detail: format!("it has no release {line}x"),
        };
        Ok(newest.ok_or_else(none)?.1.to_owned())
    }

    fn fetch(
        &self,
        version: &str,
        address: &Address,
        downloads: Downloads<'_>,
    ) -> Result<(SpooledTempFile, Sha256)> {
        let Self { artifact, ending, .. } = self;
        let at = address.join(&format!("{}/{version}/{artifact}-{version}{ending}.tar.gz", self.path()));
        let got = downloads.fetcher.get_into(&at, || Ok(spool(downloads.store)));
        let mut file = got.map_err(|error| self.remote(error))?;
        rewind(&mut file)?;
        let (hash, _) = Hasher::of_reader(&mut file).facts(Path::new(self.id))?;
        rewind(&mut file)?;
        Ok((file, hash))
    }

    fn remote(&self, source: remote::RemoteError) -> Error {
        Error::Package(PackageError::Remote { wanted_by: self.name(), source })
    }
}

impl Release {
    /// What builds the app.
    pub fn in_use(&self) -> RuntimeInUse {
        RuntimeInUse {
            name: self.program.id.to_owned(),
            version: self.version.clone(),
            origin: format!("the artifact {}", self.program.name()),
            bin_folder: format!("/{}/bin", self.program.folder),
        }
    }

    /// The step that puts it down.
    pub fn step(&self, context: &Context<'_>) -> Result<Step> {
        let address = address(context.addresses)?;
        let name = format!("{} {}", self.program.id, self.version);
        Ok(Step::new(name, Role::Runtime, PutDown { release: self.clone(), address }))
    }
}

/// The step's work.
struct PutDown {
    release: Release,
    address: Address,
}

impl Action for PutDown {
    fn fingerprint(&self) -> Fingerprint {
        // The hash decides, wherever it comes from.
        let Self { release: Release { program, version, hash }, address: _ } = self;
        let values = [("program", program.name()), ("version", version.clone()), ("hash", hash.clone())];
        let needed = program.needed.iter().map(|path| ((*path).to_owned(), String::new()));
        Fingerprint::of(RECIPE).values("release", values).input("needed", needed.collect())
    }

    fn run(&self, layer: &mut LayerWriter<'_>, cx: &StepContext<'_>) -> Result<Vec<PackageFact>> {
        let Release { program, version, hash } = &self.release;
        let label = format!("{} {version}", program.id);
        let bad = |detail: String| Error::Package(PackageError::Damaged { package: label.clone(), detail });
        let downloads = Downloads { fetcher: cx.fetcher, store: layer.store() };
        let (file, found) = program.fetch(version, &self.address, downloads)?;
        if *hash != format!("sha256:{}", found.hex()) {
            return Err(bad(format!("its hash is sha256:{}, but {hash} is pinned", found.hex())));
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
                let is_needed = program.needed.iter().any(|beginning| inside.starts_with(beginning));
                if !is_needed && !program.needed.is_empty() {
                    continue;
                }
                let is_program = member.header().mode().is_ok_and(|mode| mode & 0o100 != 0);
                let entry = Entry::file(format!("{}/{inside}", program.folder), member.size(), is_program);
                tar.file(&entry, &mut member).facts(Path::new(&path))?;
            }
            Ok(())
        })?;
        let purl = purl("maven", &program.name().replace(':', "/"), version, &[]);
        Ok(vec![PackageFact::new(program.name(), version, purl, hash)])
    }
}

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
        assert_eq!(
            of("distributionUrl=https://packages.example/apache-maven-3/../../secret-bin.zip\n"),
            None
        );
    }
}
