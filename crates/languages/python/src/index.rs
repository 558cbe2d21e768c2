//! What indexes offer to the resolver: versions that can be used on the target, and what they need.

use crate::direct::Direct;
use crate::file_names::{WheelName, sdist_name_of, version_of};
use crate::index_options::{Terms, first_that_has};
use crate::need::Need;
use crate::target::Target;
use crate::wheel::Archive;
use crate::{sdist, wheel};
use config::addresses::Addresses;
use content::digest::{Hasher, Sha256};
use engine::download_buffer::{rewind, spool};
use engine::package_archive::PackageArchive;
use engine::run_indexed;
use model::error::PackageError;
use model::{Error, Result};
use pep440_rs::{Version, VersionSpecifiers};
use remote::packages::pypi::{self, File};
use remote::{Downloads, Integrity, RemoteError};
use std::collections::BTreeMap;
use std::path::Path;
use std::str::FromStr;
use std::sync::{Arc, Mutex, PoisonError};

/// So many answers are waited for at once.
const WAITING: usize = 24;

/// A version of a package.
#[derive(Debug)]
pub(super) struct Candidate {
    pub(super) version: Version,
    /// The file that fits the target best.
    file: Option<File>,
    is_usable: bool,
    /// Whether that file is its source, which has to be built first.
    source: bool,
    /// Why it was withdrawn, if it was (PEP 592).
    pub(super) withdrawn: Option<String>,
}

impl Candidate {
    /// Whether it has to be built from its source first.
    pub(super) fn is_source(&self) -> bool {
        self.source
    }

    /// Whether it can be installed.
    pub(super) fn is_usable(&self) -> bool {
        self.is_usable
    }

    /// The hash of its file, in pip's notation.
    fn hash(&self) -> Option<String> {
        let hashes = &self.file.as_ref()?.hashes;
        let kind = ["sha256", "sha512", "sha384"].into_iter().find(|kind| hashes.contains_key(*kind))?;
        Some(format!("{kind}:{}", hashes[kind]))
    }
}

type Listed = Arc<Vec<Candidate>>;
/// What a version needs; nothing when only running its build would tell.
type Needs = Option<Arc<Vec<Need>>>;

/// Indexes, and what they were asked already.
pub(super) struct Index<'a> {
    pub(super) downloads: Downloads<'a>,
    pub(super) addresses: &'a Addresses,
    pub(super) target: &'a Target,
    /// Whether to accept versions without a wheel.
    compiles: bool,
    /// Where packages are looked for, and in which form.
    pub(super) terms: Terms,
    pub(super) folder: &'a Path,
    direct: BTreeMap<String, Direct>,
    listed: Mutex<BTreeMap<String, Listed>>,
    needs: Mutex<BTreeMap<(String, Version), Needs>>,
    /// Hashes of files that the index says none of, by their addresses.
    computed: Mutex<BTreeMap<String, String>>,
}

impl<'a> Index<'a> {
    pub(super) fn new(
        downloads: Downloads<'a>,
        addresses: &'a Addresses,
        (target, compiles): (&'a Target, bool),
        terms: Terms,
        folder: &'a Path,
    ) -> Self {
        let (listed, needs, computed) = (Mutex::default(), Mutex::default(), Mutex::default());
        let direct = BTreeMap::new();
        Self { downloads, addresses, target, compiles, terms, folder, direct, listed, needs, computed }
    }

    /// Knows a package that comes from somewhere else than an index.
    pub(super) fn know(&mut self, name: String, direct: Direct) {
        self.direct.insert(name, direct);
    }

    /// A package that comes from somewhere else than an index.
    pub(super) fn direct(&self, name: &str) -> Option<&Direct> {
        self.direct.get(name)
    }

    /// The versions of a package, in no order.
    pub(super) fn candidates(&self, name: &str) -> Result<Listed> {
        if let Some(known) = locked(&self.listed).get(name) {
            return Ok(Arc::clone(known));
        }
        if let Some(direct) = self.direct.get(name) {
            let is_usable = !direct.is_source || self.compiles;
            let (version, source) = (direct.version.clone(), direct.is_source);
            let one = Candidate { version, file: None, is_usable, source, withdrawn: None };
            return Ok(Arc::new(vec![one]));
        }
        let places = self.terms.places(name, None, self.addresses, self.folder)?;
        let files = match first_that_has(self.downloads.fetcher, &places, name) {
            Ok((_, files)) => files,
            Err(RemoteError::NotFound { .. }) => Vec::new(),
            Err(source) => {
                return Err(Error::Package(PackageError::Remote { wanted_by: name.to_owned(), source }));
            }
        };
        let listed: Listed = Arc::new(self.by_version(name, files));
        locked(&self.listed).insert(name.to_owned(), Arc::clone(&listed));
        Ok(listed)
    }

    fn by_version(&self, name: &str, files: Vec<File>) -> Vec<Candidate> {
        // What has to be built is worse than every wheel.
        let mut versions: BTreeMap<Version, Option<(u32, File)>> = BTreeMap::new();
        for file in files {
            let source = sdist_name_of(&file.name);
            let Some(version) =
                source.as_ref().map(|(_, version)| version.clone()).or_else(|| version_of(&file.name))
            else {
                continue;
            };
            let for_this_python =
                file.python.as_deref().and_then(|text| VersionSpecifiers::from_str(text).ok());
            let best = versions.entry(version).or_insert(None);
            if for_this_python.is_some_and(|range| !range.contains(&self.target.version)) {
                continue;
            }
            let fit = match source {
                Some((project, _)) => (self.compiles && project == name).then_some(0),
                None => WheelName::parse(&file.name)
                    .filter(|wheel| wheel.project == name)
                    .and_then(|wheel| Some(self.target.fit(&wheel)? + 1)),
            };
            let Some(fit) = fit.filter(|fit| self.terms.allow(name, *fit == 0)) else { continue };
            // One that was withdrawn is worse than every other.
            let rank = |(fit, file): (u32, &File)| (file.yanked.is_none(), fit);
            if best.as_ref().is_none_or(|(known, other)| rank((fit, &file)) > rank((*known, other))) {
                *best = Some((fit, file));
            }
        }
        let candidate = |(version, best): (Version, Option<(u32, File)>)| Candidate {
            version,
            source: best.as_ref().is_some_and(|(fit, _)| *fit == 0),
            is_usable: best.is_some(),
            withdrawn: best.as_ref().and_then(|(_, file)| file.yanked.clone()),
            file: best.map(|(_, file)| file),
        };
        versions.into_iter().map(candidate).collect()
    }

    /// One version.
    pub(super) fn candidate(&self, name: &str, version: &Version) -> Result<Option<Found>> {
        let all = self.candidates(name)?;
        let at = all.iter().position(|c| c.version == *version);
        Ok(at.map(|at| Found(all, at)))
    }

    /// What a version needs.
    pub(super) fn needs(&self, name: &str, version: &Version) -> Result<Needs> {
        if let Some(direct) = self.direct.get(name) {
            return Ok(direct.needs.clone().map(Arc::new));
        }
        let key = (name.to_owned(), version.clone());
        if let Some(known) = locked(&self.needs).get(&key) {
            return Ok(known.clone());
        }
        let found = self.candidate(name, version)?;
        let needs = match &found {
            Some(found) if found.source => self.needs_of_source(found, name)?,
            _ => Some(self.needs_of_wheel(found.as_deref(), name, version)?),
        };
        let needs = needs.map(Arc::new);
        locked(&self.needs).insert(key, needs.clone());
        Ok(needs)
    }

    /// What the file of a candidate must be: as its index says, else as it is now.
    pub(super) fn integrity(&self, candidate: &Candidate, name: &str) -> Result<Option<Integrity>> {
        let Some(file) = &candidate.file else { return Ok(None) };
        let hash = match candidate.hash() {
            Some(hash) => hash,
            None => {
                let key = file.address.to_string();
                let known = locked(&self.computed).get(&key).cloned();
                let computed = known.map_or_else(|| self.fetched_hash(file, name), Ok)?;
                locked(&self.computed).insert(key, computed.clone());
                computed
            }
        };
        Ok(Integrity::any_of(std::iter::once(hash.as_str())))
    }

    fn fetched_hash(&self, file: &File, name: &str) -> Result<String> {
        let remote =
            |source: RemoteError| Error::Package(PackageError::Remote { wanted_by: name.to_owned(), source });
        let mut fetched = self
            .downloads
            .fetcher
            .get_into(&file.address, || Ok(spool(self.downloads.store)))
            .map_err(remote)?;
        rewind(&mut fetched)?;
        Ok(format!("sha256:{}", Hasher::of_reader(&mut fetched)?.0.hex()))
    }

    fn needs_of_source(&self, candidate: &Candidate, name: &str) -> Result<Option<Vec<Need>>> {
        let (Some(file), Some(integrity)) = (&candidate.file, self.integrity(candidate, name)?) else {
            return Ok(Some(Vec::new()));
        };
        let label = format!("{name} {}", candidate.version);
        let archive = PackageArchive { label: &label, address: &file.address, integrity: &integrity };
        let facts = sdist::facts(&archive, self.downloads)?;
        Ok(facts.needs.as_deref().map(sdist::readable))
    }

    fn needs_of_wheel(&self, found: Option<&Candidate>, name: &str, version: &Version) -> Result<Vec<Need>> {
        let file = found.and_then(|found| found.file.as_ref());
        let text = file.map(|file| self.metadata(file, name, version)).transpose()?.unwrap_or_default();
        // One that cannot be read was never met by anybody: it is passed over, as installers do.
        Ok(sdist::readable(&wheel::needs(&text)))
    }

    /// The core metadata of a file: from the store, from beside the file, or from inside it.
    fn metadata(&self, file: &File, name: &str, version: &Version) -> Result<String> {
        let label = format!("{name} {version}");
        let hash = file.hashes.iter().map(|(kind, hex)| format!("{kind} {hex}")).collect::<String>();
        let kept = self
            .downloads
            .store
            .fragment_path("wheel-metadata", Sha256::of(format!("{label} {hash}").as_bytes()));
        if !hash.is_empty()
            && let Some(text) = self.downloads.store.read_document(&kept).whole()
        {
            return Ok(text);
        }
        let remote =
            |source: RemoteError| Error::Package(PackageError::Remote { wanted_by: label.clone(), source });
        let beside = match file.metadata {
            true => pypi::metadata(self.downloads.fetcher, file),
            false => Err(RemoteError::NotFound { url: file.name.clone() }),
        };
        let text = match beside {
            Err(RemoteError::NotFound { .. }) => self.metadata_inside(file, &label)?,
            told => told.map_err(remote)?,
        };
        self.downloads.store.write_cache(&kept, &text)?;
        Ok(text)
    }

    fn metadata_inside(&self, file: &File, label: &str) -> Result<String> {
        let remote = |source: RemoteError| {
            Error::Package(PackageError::Remote { wanted_by: label.to_owned(), source })
        };
        let bad =
            |detail: String| Error::Package(PackageError::Damaged { package: label.to_owned(), detail });
        let mut archive = self
            .downloads
            .fetcher
            .get_into(&file.address, || Ok(spool(self.downloads.store)))
            .map_err(remote)?;
        rewind(&mut archive)?;
        let mut archive = Archive::new(archive).map_err(|e| bad(e.to_string()))?;
        wheel::metadata(&mut archive).map_err(bad)
    }

    /// Asks for several packages at once, and for the metadata of the versions that `likely` expects; what
    /// fails here fails again, and is reported, when it is needed.
    pub(super) fn fetch_ahead(&self, names: &[String], likely: impl Fn(&str) -> Option<Version>) {
        let new: Vec<&String> =
            names.iter().filter(|name| !locked(&self.listed).contains_key(*name)).collect();
        run_indexed(new.len(), WAITING, |at| drop(self.candidates(new[at])));
        let expected: Vec<(&String, Version)> =
            names.iter().filter_map(|name| Some((name, likely(name)?))).collect();
        let unknown = |(name, version): &&(&String, Version)| {
            !locked(&self.needs).contains_key(&((*name).clone(), version.clone()))
        };
        let expected: Vec<_> = expected.iter().filter(unknown).collect();
        run_indexed(expected.len(), WAITING, |at| {
            let (name, version) = expected[at];
            drop(self.needs(name, version));
        });
    }
}

/// A candidate, kept alive by the list that it is in.
pub(super) struct Found(Listed, usize);

impl std::ops::Deref for Found {
    type Target = Candidate;

    fn deref(&self) -> &Candidate {
        &self.0[self.1]
    }
}

fn locked<T>(mutex: &Mutex<T>) -> std::sync::MutexGuard<'_, T> {
    mutex.lock().unwrap_or_else(PoisonError::into_inner)
}
