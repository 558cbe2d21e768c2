//! Installs wheels into the environment of the image, one fragment each.

use super::requirements::LockedPackage;
use super::wheel::{self, WheelName};
use crate::addresses::{Addresses, Ecosystem};
use crate::error::{BuildError, Result};
use crate::execute::{each_in_parallel, find_in_parallel};
use crate::worklist::{Input, PackageFact, RuntimeInUse, Tools, Withdrawn, Work};
use content::digest::Sha256;
use content::layer::{Codec, Entry, Fragment, FragmentWriter, LAYER_FORMAT, LayerWriter};
use content::store::Store;
use remote::{Address, RemoteError, packages::pypi};
use std::collections::{BTreeMap, BTreeSet};

/// Where the virtual environment lies, from the root of the image.
pub(super) const ENVIRONMENT: &str = "app/.venv";
/// Version of the way packages are put down; part of every fragment's key.
const INSTALL_FORMAT: u32 = 2;

/// The step that installs packages.
pub(super) struct PythonPackages {
    packages: Vec<LockedPackage>,
    /// The index that the requirements name.
    named: Option<Address>,
    addresses: Addresses,
    /// Major and minor version, as in the name of the library folder.
    series: String,
    version: String,
    /// The folder with the interpreter in the image.
    home: String,
}

impl PythonPackages {
    /// Packages for this Python; addresses are asked only when a package is
    /// not in the store.
    pub(super) fn new(
        packages: Vec<LockedPackage>,
        named: Option<Address>,
        addresses: Addresses,
        runtime: &RuntimeInUse,
    ) -> Self {
        let (version, home) = (runtime.version.clone(), runtime.bin_folder.clone());
        let series = version.splitn(3, '.').take(2).collect::<Vec<_>>().join(".");
        Self { packages, named, addresses, series, version, home }
    }

    /// An explicit address, else the one that the requirements name, else the ecosystem's own.
    fn index(&self) -> Result<Address> {
        match (self.addresses.over_lockfile(Ecosystem::Pypi), &self.named) {
            (Some(known), _) => Ok(known.address),
            (None, Some(named)) => Ok(named.clone()),
            (None, None) => Ok(self.addresses.in_force(Ecosystem::Pypi)?.address),
        }
    }

    /// What the result depends on.
    pub(super) fn inputs(&self) -> Vec<Input> {
        let part = |p: &LockedPackage| (p.name.clone(), format!("{} {}", p.version, p.integrity.canonical()));
        let runtime = BTreeMap::from([("python".to_owned(), format!("{} in {}", self.version, self.home))]);
        vec![
            Input::of_parts("runtime", runtime),
            Input::of_parts("packages", self.packages.iter().map(part).collect()),
        ]
    }

    /// The folder of packages, from the root of the environment.
    fn site(&self) -> String {
        format!("lib/python{}/site-packages", self.series)
    }

    fn interpreter() -> String {
        format!("/{ENVIRONMENT}/bin/python")
    }

    fn key(&self, package: &LockedPackage, codec: Codec) -> Sha256 {
        let text = format!(
            "wheel {INSTALL_FORMAT} {LAYER_FORMAT} {}\n{}\n{} {} {}",
            codec.name(),
            self.site(),
            package.name,
            package.version,
            package.integrity.canonical()
        );
        Sha256::of(text.as_bytes())
    }

    /// Gets the wheel of a package and writes its fragment.
    fn provide(&self, store: &Store, codec: Codec, package: &LockedPackage, tools: &Tools<'_>) -> Result<()> {
        let index = self.index()?;
        let remote = |source: RemoteError| BuildError::Remote { wanted_by: label(package), source };
        let offered = pypi::files(tools.fetcher, &index, &package.name).map_err(remote)?;
        let fits = |file: &&pypi::File| {
            let announced = file.hashes.iter().all(|(name, hex)| package.integrity.may_be(name, hex));
            WheelName::parse(&file.name).is_some_and(|wheel| {
                announced
                    && wheel.project == package.name
                    && wheel.version == package.version
                    && wheel.is_pure()
            })
        };
        let Some(file) = offered.iter().find(fits) else {
            return Err(BuildError::NoUsableFile {
                package: label(package),
                address: index.to_string(),
                offered: offered.into_iter().map(|f| f.name).collect(),
            });
        };
        let bytes = pypi::fetch(tools.fetcher, file, &package.integrity).map_err(remote)?;
        let bad = |detail: String| BuildError::BadPackage { package: label(package), detail };
        let contents = wheel::lay_out(&bytes, &self.site(), &Self::interpreter()).map_err(bad)?;
        let fact = serde_json::to_vec(&contents.licence).unwrap_or_default();
        store.write(&self.licence_path(store, package, codec), &fact)?;
        self.write_fragment(store, codec, package, &contents.files)
    }

    /// The licence is known only from inside the wheel, so it is kept beside the fragment.
    fn licence_path(&self, store: &Store, package: &LockedPackage, codec: Codec) -> std::path::PathBuf {
        store.fragment_path("licences", self.key(package, codec))
    }

    fn write_fragment(
        &self,
        store: &Store,
        codec: Codec,
        package: &LockedPackage,
        files: &wheel::Installed,
    ) -> Result<()> {
        let shared = self.shared_folders();
        let mut fragment = FragmentWriter::new(store, codec, self.key(package, codec), 1)?;
        let mut folders = BTreeSet::new();
        for (path, (content, executable)) in files {
            let full = format!("{ENVIRONMENT}/{path}");
            for (at, _) in full.match_indices('/') {
                let folder = &full[..at];
                if !shared.contains(folder) && folders.insert(folder.to_owned()) {
                    fragment.tar().entry(&Entry::folder(folder))?;
                }
            }
            fragment.tar().file(&Entry::file(full, content.len() as u64, *executable), &mut &content[..])?;
        }
        Ok(fragment.finish()?)
    }

    /// Folders of the environment that exist without any package.
    fn shared_folders(&self) -> BTreeSet<String> {
        let site = format!("{ENVIRONMENT}/{}/", self.site());
        let mut folders: BTreeSet<String> =
            site.match_indices('/').map(|(at, _)| site[..at].to_owned()).collect();
        folders.insert(format!("{ENVIRONMENT}/bin"));
        folders
    }
}

impl Work for PythonPackages {
    fn write(&self, layer: &mut LayerWriter<'_>, tools: &Tools<'_>) -> Result<Vec<PackageFact>> {
        let (store, codec) = (layer.store(), layer.codec());
        each_in_parallel(&self.packages, tools, |package| {
            let known = Fragment::read(store, codec, self.key(package, codec)).is_some();
            if !known || !self.licence_path(store, package, codec).exists() {
                self.provide(store, codec, package, tools)?;
            }
            Ok(())
        })?;
        let series = &self.series;
        layer.part::<BuildError>(|tar| {
            for folder in self.shared_folders() {
                tar.entry(&Entry::folder(folder))?;
            }
            let home = &self.home;
            for name in ["python".to_owned(), "python3".to_owned(), format!("python{series}")] {
                let target = format!("{home}/python{series}");
                tar.entry(&Entry::link(format!("{ENVIRONMENT}/bin/{name}"), target))?;
            }
            // PEP 405: `home` is the folder of the interpreter that the environment is made from.
            let marker =
                format!("home = {home}\ninclude-system-site-packages = false\nversion = {}\n", self.version);
            let entry = Entry::file(format!("{ENVIRONMENT}/pyvenv.cfg"), marker.len() as u64, false);
            Ok(tar.file(&entry, &mut marker.as_bytes())?)
        })?;
        let mut facts = Vec::new();
        for package in &self.packages {
            let gone = || BuildError::BadPackage {
                package: label(package),
                detail: "its fragment vanished from the store during the build".to_owned(),
            };
            layer.fragment(&Fragment::read(store, codec, self.key(package, codec)).ok_or_else(gone)?)?;
            let licence = store.read_json(&self.licence_path(store, package, codec)).flatten();
            facts.push(PackageFact {
                name: package.name.clone(),
                version: package.version.to_string(),
                purl: format!("pkg:pypi/{}@{}", package.name, package.version),
                licence,
                integrity: package.integrity.canonical(),
            });
        }
        Ok(facts)
    }

    fn withdrawn(&self, tools: &Tools<'_>) -> Vec<Withdrawn> {
        find_in_parallel(&self.packages, tools, |package| {
            let index = self.addresses.askable(Ecosystem::Pypi, &package.name, tools.fetcher)?;
            let files = match pypi::files(tools.fetcher, &index, &package.name) {
                Err(RemoteError::NotFound { .. }) => Vec::new(),
                Err(_) => return None,
                Ok(files) => files,
            };
            let own = files.iter().filter(|f| wheel::version_of(&f.name).as_ref() == Some(&package.version));
            // One file that is not withdrawn is enough.
            let reasons: Vec<&str> = own.map(|f| f.yanked.as_deref()).collect::<Option<_>>()?;
            let reason = match reasons.first() {
                None => format!("{index} does not have it"),
                Some(reason) => format!("withdrawn: {reason}"),
            };
            let gone = reasons.is_empty();
            Some(Withdrawn { package: label(package), lockfile: super::REQUIREMENTS, gone, reason })
        })
    }
}

fn label(package: &LockedPackage) -> String {
    format!("{} {}", package.name, package.version)
}
