//! Artifacts as Maven finds them: through the gateway while they are recorded, then in a folder laid out from the record.

use config::addresses::Addresses;
use content::layer::{Entry, LayerWriter};
use engine::{Action, Fetches, Fingerprint, Recipe, StepContext, each_fetched};
use gateway::Source;
use gateway::tools::{MAVEN_MIRROR, maven_settings};
use model::error::PackageError;
use model::fetched::FetchedAnswer;
use model::package_url::purl;
use model::{Ecosystem, Error, PackageFact, PathFacts, Result};
use remote::Address;
use std::collections::{BTreeMap, BTreeSet};
use std::fs::File;
use std::sync::{Mutex, PoisonError};

/// The name of the step.
pub(crate) const STEP: &str = "maven packages";
/// The folder with the artifacts, from the root that the app is built in.
pub(crate) const FOLDER: &str = "repository";
const METADATA: &str = "maven-metadata.xml";
const RECIPE: Recipe = Recipe::new("maven packages", 1);

/// Where artifacts come from.
pub(crate) fn address(addresses: &Addresses) -> Result<Address> {
    Ok(addresses.in_force(Ecosystem::MAVEN)?.address)
}

/// All places that they come from: that for all, and those of repositories that have one of their own.
pub(crate) fn sources(addresses: &Addresses) -> Result<Vec<Source>> {
    let mut all = vec![Source { kind: Ecosystem::MAVEN.name().to_owned(), address: address(addresses)? }];
    for bound in addresses.bound(Ecosystem::MAVEN) {
        let kind = format!("{}:{}", Ecosystem::MAVEN.name(), bound.bound.unwrap_or_default());
        if !all.iter().any(|source| source.kind == kind) {
            all.push(Source { kind, address: bound.address });
        }
    }
    Ok(all)
}

/// What tells Maven that everything comes from the gateway.
pub(crate) fn settings(sources: &[Source]) -> String {
    maven_settings(sources.iter().map(|source| source.kind.as_str()))
}

/// An artifact's coordinates, as the path of its file says them.
#[derive(Debug, Clone, PartialEq, Eq, PartialOrd, Ord)]
pub(crate) struct Coordinates {
    pub group: String,
    pub artifact: String,
    pub version: String,
    pub file: String,
}

impl Coordinates {
    /// Group, artifact and version.
    pub fn named(&self) -> (String, String, String) {
        (self.group.clone(), self.artifact.clone(), self.version.clone())
    }
}

/// Reads a path in a repository (the repository layout); nothing for a file that belongs to no version.
pub(crate) fn coordinates(path: &str) -> Option<Coordinates> {
    let mut parts = path.rsplit('/');
    let (file, version, artifact) = (parts.next()?, parts.next()?, parts.next()?);
    let group = path.strip_suffix(&format!("/{artifact}/{version}/{file}"))?.replace('/', ".");
    let is_one = file.starts_with(artifact) && !group.is_empty();
    is_one.then(|| Coordinates {
        group,
        artifact: artifact.to_owned(),
        version: version.to_owned(),
        file: file.to_owned(),
    })
}

/// The released jars of a record: those whose content never changes.
pub(crate) fn released(answers: &[FetchedAnswer]) -> Vec<(Coordinates, &FetchedAnswer)> {
    let jars = answers.iter().filter(|answer| answer.sha256.is_some() && answer.path.ends_with(".jar"));
    let named = jars.filter_map(|answer| Some((coordinates(&answer.path)?, answer)));
    named.filter(|(coordinates, _)| !coordinates.version.ends_with("-SNAPSHOT")).collect()
}

/// A jar as a package of the record.
pub(crate) fn fact(of: &Coordinates, answer: &FetchedAnswer, licence: Option<String>) -> PackageFact {
    let Coordinates { group, artifact, version, .. } = of;
    let purl = purl("maven", &format!("{group}/{artifact}"), version, &[]);
    let integrity = format!("sha256:{}", answer.sha256.as_deref().unwrap_or_default());
    PackageFact { licence, ..PackageFact::new(format!("{group}:{artifact}"), version, purl, integrity) }
}

/// The step that lays out the folder from which Maven builds without asking anybody.
pub(crate) struct RepositoryFiles {
    pub sources: Vec<Source>,
    pub answers: Vec<FetchedAnswer>,
}

impl RepositoryFiles {
    /// From what was pinned.
    pub fn of(fetches: &Fetches) -> Self {
        Self { sources: fetches.sources.clone(), answers: fetches.pinned.clone() }
    }

    /// The place of a file in the folder.
    fn place(answer: &FetchedAnswer) -> String {
        let id = answer.from.split_once(':').map_or(MAVEN_MIRROR, |(_, id)| id);
        // What changes with time is kept apart for each repository.
        let path = match answer.path.strip_suffix(METADATA) {
            Some(folder) => format!("{folder}maven-metadata-{id}.xml"),
            None => answer.path.clone(),
        };
        format!("{FOLDER}/{path}")
    }
}

impl Action for RepositoryFiles {
    fn fingerprint(&self) -> Fingerprint {
        // Where they come from does not shape them: their hashes do.
        let Self { sources: _, answers } = self;
        let hash = |answer: &FetchedAnswer| answer.sha256.clone().unwrap_or_default();
        let parts = answers.iter().map(|answer| (Self::place(answer), hash(answer))).collect();
        Fingerprint::of(RECIPE).input("files", parts)
    }

    fn run(&self, layer: &mut LayerWriter<'_>, cx: &StepContext<'_>) -> Result<Vec<PackageFact>> {
        let there: Vec<_> = self.answers.iter().filter(|answer| answer.sha256.is_some()).collect();
        let store = layer.store();
        let blobs = Mutex::new(BTreeMap::new());
        each_fetched(&there, cx, |answer| {
            let kind = |source: &&Source| source.kind == answer.from;
            // An address that is gone can still be done without, as long as the store has the file.
            let nowhere = Address::Folder("/".into());
            let address = self.sources.iter().find(kind).map_or(&nowhere, |source| &source.address);
            let remote = |source| {
                Error::Package(PackageError::Remote { wanted_by: "the Maven build".to_owned(), source })
            };
            let (digest, size) = gateway::provide(answer, address, cx.fetcher, store).map_err(remote)?;
            let mut all = blobs.lock().unwrap_or_else(PoisonError::into_inner);
            all.insert(Self::place(answer), (digest, size));
            Ok(())
        })?;
        let blobs = blobs.into_inner().unwrap_or_else(PoisonError::into_inner);
        layer.part::<Error>(|tar| {
            let mut folders = BTreeSet::new();
            for (place, (digest, size)) in &blobs {
                for (at, _) in place.match_indices('/') {
                    if folders.insert(&place[..at]) {
                        tar.entry(&Entry::folder(&place[..at]))?;
                    }
                }
                let path = store.blob_path(*digest);
                let mut file = File::open(&path).facts(&path)?;
                tar.file(&Entry::file(place.as_str(), *size, false), &mut file)?;
            }
            Ok(())
        })?;
        Ok(Vec::new())
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_path_says_the_coordinates() {
        let found = coordinates("org/kestrel/fog/1.0/fog-1.0-linux.jar").unwrap();
        let expected = ["org.kestrel", "fog", "1.0", "fog-1.0-linux.jar"].map(str::to_owned);
        assert_eq!([found.group, found.artifact, found.version, found.file], expected);
        assert_eq!(coordinates("org/kestrel/fog/maven-metadata.xml"), None);
        assert_eq!(coordinates("fog.jar"), None);
    }
}
