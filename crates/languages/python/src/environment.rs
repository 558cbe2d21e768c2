//! The virtual environment that packages are installed into, and where their files are found.

use crate::file_names::{WheelName, file_of, sdist_name_of, version_of};
use crate::index_options::{Terms, first_that_has};
use crate::locked::{LockedPackage, Origin};
use crate::target::Target;
use crate::wheel;
use config::addresses::Addresses;
use content::digest::Sha256;
use content::layer::{FragmentWriter, LayerWriter};
use engine::append_fragment;
use model::error::PackageError;
use model::{Ecosystem, Error, Result, RuntimeInUse};
use remote::packages::pypi;
use remote::{Address, Fetcher, RemoteError};
use source::SourceTree;
use std::collections::{BTreeMap, BTreeSet};
use std::io::{Read, Seek};
use std::sync::{Arc, Mutex, PoisonError};

/// Where the environment of an app lies, from the root of the image.
pub(super) const OF_APP: &str = "app/.venv";
/// Where the environment of a build lies, from the root that it runs in.
pub(super) const OF_BUILD: &str = "build/environment";

/// What packages are installed from and for.
#[derive(Clone)]
pub(super) struct Environment {
    /// From the root of the image.
    pub(super) folder: &'static str,
    pub(super) target: Target,
    pub(super) source: Arc<SourceTree>,
    pub(super) addresses: Addresses,
    /// The file that locks the packages.
    pub(super) lockfile: String,
    /// Where packages are looked for, and in which form.
    pub(super) terms: Terms,
    /// The version of the interpreter.
    pub(super) version: String,
    /// The folder with the interpreter in the image.
    pub(super) home: String,
    /// What was found for packages by their names and versions.
    found: Arc<Mutex<BTreeMap<String, Found>>>,
}

/// The file that a package is installed from.
#[derive(Debug, Clone)]
pub(super) struct Found {
    pub(super) address: Address,
    /// Whether it is its source, which has to be built first.
    pub(super) is_source: bool,
    /// Why its index withdrew it, if it did.
    pub(super) withdrawn: Option<String>,
}

impl Environment {
    pub(super) fn new(
        target: Target,
        source: &Arc<SourceTree>,
        addresses: &Addresses,
        (lockfile, terms): (String, Terms),
        runtime: &RuntimeInUse,
    ) -> Self {
        let (version, home) = (runtime.version.clone(), runtime.bin_folder.clone());
        Self {
            folder: OF_APP,
            target,
            source: Arc::clone(source),
            addresses: addresses.clone(),
            lockfile,
            terms,
            version,
            home,
            found: Arc::default(),
        }
    }

    /// The environment that something is built in, on a base of Debian.
    pub(super) fn of_build(&self, target: Target) -> Self {
        Self { folder: OF_BUILD, target, home: "/usr/bin".to_owned(), found: Arc::default(), ..self.clone() }
    }

    /// What of it shapes what is installed.
    pub(super) fn parts(&self) -> BTreeMap<String, String> {
        // Where packages are got, does not; which of them, their hashes say.
        let Self { folder, target, source: _, addresses: _, lockfile: _, terms: _, version, home, found: _ } =
            self;
        let parts = [
            ("folder", (*folder).to_owned()),
            ("python", format!("{version} in {home}")),
            ("target", target.name()),
        ];
        parts.map(|(name, value)| (name.to_owned(), value)).into()
    }

    /// The folder of packages, from the root of the environment.
    pub(super) fn site(&self) -> String {
        format!("lib/python{}/site-packages", self.target.series())
    }

    /// Folders of the environment that exist without any package.
    pub(super) fn shared_folders(&self) -> BTreeSet<String> {
        let site = format!("{}/{}/", self.folder, self.site());
        let mut folders: BTreeSet<String> =
            site.match_indices('/').map(|(at, _)| site[..at].to_owned()).collect();
        folders.insert(format!("{}/bin", self.folder));
        folders
    }

    /// Appends a wheel with this digest to a layer; gives the licence that it declares.
    pub(super) fn add_wheel(
        &self,
        layer: &mut LayerWriter<'_>,
        digest: &Sha256,
        label: &str,
        wheel: impl Read + Seek,
    ) -> Result<Option<String>> {
        let (store, codec) = (layer.store(), layer.codec());
        let site = self.site();
        let key = wheel::RECIPE.fragment_key(codec, &["own", self.folder, &site, &self.home, &digest.hex()]);
        self.write_folders(layer, false)?;
        let licence = self.put_wheel(FragmentWriter::new(store, codec, key, 1)?, label, None, wheel)?;
        append_fragment(layer, key, label)?;
        Ok(licence)
    }

    /// The file of a package that fits best: a wheel, else its source.
    pub(super) fn find(&self, package: &LockedPackage, fetcher: &Fetcher) -> Result<Found> {
        let known = || self.found.lock().unwrap_or_else(PoisonError::into_inner);
        if let Some(found) = known().get(&package.label()) {
            return Ok(found.clone());
        }
        let found = self.look_for(package, fetcher)?;
        known().insert(package.label(), found.clone());
        Ok(found)
    }

    /// Whether a package has to be built from its source, as far as names of its files tell.
    pub(super) fn is_source(&self, package: &LockedPackage) -> Option<bool> {
        let named = match &package.origin {
            Origin::Url(url) => return Some(!file_of(url).ends_with(".whl")),
            Origin::Path(path) => return Some(!path.ends_with(".whl")),
            Origin::Folder(_) | Origin::Commit { .. } => return Some(true),
            Origin::Index(_) => package.files.iter().filter_map(|(url, _)| self.rate(&file_of(url), package)),
        };
        named.max().map(|rate| rate == 0)
    }

    fn look_for(&self, package: &LockedPackage, fetcher: &Fetcher) -> Result<Found> {
        let of = |address: Address, file: &str| {
            let is_source = !file.ends_with(".whl");
            Found { address, is_source, withdrawn: None }
        };
        let bound = self.addresses.bound_to(Ecosystem::PYPI, &package.name);
        let explicit = bound.or_else(|| self.addresses.over_lockfile(Ecosystem::PYPI));
        match &package.origin {
            Origin::Url(url) => return Ok(of(Address::parse(url, self.source.root()), &file_of(url))),
            Origin::Path(path) => return Ok(of(Address::Folder(self.source.root().join(path)), path)),
            Origin::Folder(_) | Origin::Commit { .. } => {
                return Err(Error::Package(PackageError::Damaged {
                    package: package.label(),
                    detail: "it is a folder".to_owned(),
                }));
            }
            Origin::Index(_) => {}
        }
        if explicit.is_none() && !package.files.is_empty() {
            let rated =
                package.files.iter().filter_map(|(url, _)| Some((self.rate(&file_of(url), package)?, url)));
            if let Some((_, url)) = rated.max_by_key(|(rate, _)| *rate) {
                return Ok(of(Address::parse(url, self.source.root()), &file_of(url)));
            }
        }
        let own = match &package.origin {
            Origin::Index(own) => own.as_deref(),
            _ => None,
        };
        let places = self.terms.places(&package.name, own, &self.addresses, self.source.root())?;
        let remote = |source: RemoteError| {
            Error::Package(PackageError::Remote { wanted_by: package.wanted(), source })
        };
        let (index, offered) = first_that_has(fetcher, &places, &package.name).map_err(remote)?;
        let may_be = |file: &&pypi::File| {
            let is_locked = |(kind, hex): (&String, &String)| {
                package.integrity.as_ref().is_some_and(|i| i.may_be(kind, hex))
            };
            file.hashes.iter().all(is_locked)
        };
        let rated =
            offered.iter().filter(may_be).filter_map(|file| Some((self.rate(&file.name, package)?, file)));
        match rated.max_by_key(|(rate, _)| *rate) {
            Some((_, file)) => {
                Ok(Found { withdrawn: file.yanked.clone(), ..of(file.address.clone(), &file.name) })
            }
            None => Err(Error::Package(PackageError::NoUsableFile {
                package: package.wanted(),
                address: index.to_string(),
                offered: of_version(offered, package),
            })),
        }
    }

    /// How well a file of a package fits; nothing when it does not, and a source is worse than every wheel.
    pub(super) fn rate(&self, file: &str, package: &LockedPackage) -> Option<u32> {
        if let Some((project, version)) = sdist_name_of(file) {
            let same = project == package.name && version == package.version;
            return (same && self.terms.allow(&package.name, true)).then_some(0);
        }
        let name = WheelName::parse(file)?;
        let same = name.project == package.name && name.version == package.version;
        let same = same && self.terms.allow(&package.name, false);
        Some(self.target.fit(&name).filter(|_| same)? + 1)
    }
}

/// The names of the files that are offered of the locked version; of all versions, if there are none.
fn of_version(offered: Vec<pypi::File>, package: &LockedPackage) -> Vec<String> {
    let (own, others): (Vec<_>, Vec<_>) = offered
        .into_iter()
        .map(|file| file.name)
        .partition(|name| version_of(name).as_ref() == Some(&package.version));
    if own.is_empty() { others } else { own }
}
