//! Installs wheels into the environment of the image, one fragment each.

use crate::environment::{Environment, Found};
use crate::file_names::version_of;
use crate::locked::{LockedPackage, Origin};
use crate::wheel::RECIPE;
use crate::wheel::{Archive, Layout, Scheme};
use content::ContentError;
use content::digest::Sha256;
use content::layer::{Codec, Entry, Fragment, FragmentWriter, LayerWriter};
use content::store::Store;
use engine::download_buffer::{rewind, spool};
use engine::layer_shards::shard_of;
use engine::{Action, Step, StepContext, each_fetched, find_in_parallel};
use engine::{Fingerprint, Recipe, append_fragment};
use model::error::PackageError;
use model::package_url::purl;
use model::{Ecosystem, Error, PackageFact, Result, Role, Withdrawn};
use remote::packages::pypi;
use remote::{Address, Integrity, RemoteError};
use std::collections::BTreeSet;
use std::io::{BufReader, Read, Seek};
use std::path::PathBuf;

/// From so many packages on, they are spread over that many layers.
const SPREAD: [(usize, usize); 2] = [(60, 12), (16, 8)];
/// From this length in bytes on, what is written is compressed on two threads.
const LARGE: u64 = 16 << 20;

/// The steps that install `packages`: the environment itself is in the layer of the first.
pub(super) fn steps(packages: Vec<LockedPackage>, environment: &Environment) -> Vec<Step> {
    let count = SPREAD.iter().find(|(least, _)| packages.len() >= *least).map_or(1, |(_, groups)| *groups);
    let mut groups: Vec<Vec<LockedPackage>> = vec![Vec::new(); count];
    for package in packages {
        groups[shard_of(&package.name, count)].push(package);
    }
    let filled =
        groups.into_iter().enumerate().filter(|(number, packages)| *number == 0 || !packages.is_empty());
    let step = |(number, packages)| {
        let work = PythonPackages { packages, is_first: number == 0, environment: environment.clone() };
        let name = match count {
            1 => "python packages".to_owned(),
            _ => format!("python packages {} of {count}", number + 1),
        };
        Step::new(name, Role::Dependencies, work)
    };
    filled.map(step).collect()
}

/// The step called `name` that writes an environment with these packages.
pub(super) fn step(name: String, packages: Vec<LockedPackage>, environment: Environment) -> Step {
    let work = PythonPackages { packages, is_first: true, environment };
    Step::new(name, Role::Dependencies, work)
}

/// The step that installs packages: all, or those of one group.
struct PythonPackages {
    packages: Vec<LockedPackage>,
    is_first: bool,
    environment: Environment,
}

impl PythonPackages {
    fn key(&self, package: &LockedPackage, codec: Codec) -> Sha256 {
        let Environment { folder, target, .. } = &self.environment;
        let parts = [*folder, &self.environment.site(), &target.name(), &package.name, &package.identity()];
        RECIPE.fragment_key(codec, &parts)
    }

    /// Gets the wheel of a package and writes its fragment.
    fn provide(&self, layer: &LayerWriter<'_>, package: &LockedPackage, cx: &StepContext<'_>) -> Result<()> {
        let (store, codec) = (layer.store(), layer.codec());
        let key = self.key(package, codec);
        if Fragment::read(store, codec, key).is_some() && self.licence(store, package, codec).is_ok() {
            return Ok(());
        }
        let Found { address, is_source, withdrawn } = self.environment.find(package, cx.fetcher)?;
        if let (Some(reason), None) = (withdrawn, &package.withdrawn) {
            (cx.note)(format!("{} was withdrawn: {reason}", package.label()));
        }
        if is_source {
            let address = address.to_string();
            return Err(Error::Package(PackageError::NoUsableFile {
                package: package.wanted(),
                address,
                offered: Vec::new(),
            }));
        }
        let remote = |source: RemoteError| {
            Error::Package(PackageError::Remote { wanted_by: package.wanted(), source })
        };
        let mut file = cx.fetcher.get_into(&address, || Ok(spool(store))).map_err(remote)?;
        let length = rewind(&mut file)?;
        if let Some(integrity) = &package.integrity {
            integrity.check_reader(&address.to_string(), &mut file).map_err(remote)?;
        }
        rewind(&mut file)?;
        let threads = if length < LARGE { 1 } else { 2 };
        let writer = FragmentWriter::new(store, codec, key, threads)?;
        let licence = cx.budget.unpacking().pass(1, || {
            self.environment.put_wheel(writer, &package.label(), Some(package), BufReader::new(file))
        })?;
        Ok(store.write_cache(&self.licence_path(store, package, codec), &licence)?)
    }

    /// The licence that a package declares, if it does.
    fn licence(&self, store: &Store, package: &LockedPackage, codec: Codec) -> Result<Option<String>> {
        let known = store.read_document(&self.licence_path(store, package, codec)).whole();
        let what = || format!("the licence of {}", package.label());
        known.ok_or_else(|| Error::Content(ContentError::Damaged { what: what() }))
    }

    /// The licence is known only from inside the wheel, so it is kept beside the fragment.
    fn licence_path(&self, store: &Store, package: &LockedPackage, codec: Codec) -> PathBuf {
        store.fragment_path("licences", self.key(package, codec))
    }
}

impl Environment {
    /// Writes the fragment of a wheel, which has to be that of the package `of`; gives the licence that it declares.
    pub(super) fn put_wheel(
        &self,
        mut fragment: FragmentWriter,
        label: &str,
        of: Option<&LockedPackage>,
        file: impl Read + Seek,
    ) -> Result<Option<String>> {
        let bad =
            |detail: String| Error::Package(PackageError::Damaged { package: label.to_owned(), detail });
        let mut archive = Archive::new(file).map_err(|e| bad(e.to_string()))?;
        let interpreter = format!("/{}/bin/python", self.folder);
        let (site, series) = (self.site(), self.target.series());
        let scheme = Scheme { site: &site, series: &series, interpreter: &interpreter };
        let layout = Layout::of(&mut archive, &scheme).map_err(bad)?;
        if of.is_some_and(|package| !layout.is_of(&package.name, &package.version)) {
            return Err(bad(format!("its own metadata says {} {}", layout.project, layout.version)));
        }
        let shared = self.shared_folders();
        let mut folders = BTreeSet::new();
        let written = layout.each(&mut archive, |path, size, executable, content| {
            let full = format!("{}/{path}", self.folder);
            for (at, _) in full.match_indices('/') {
                let folder = &full[..at];
                if !shared.contains(folder) && folders.insert(folder.to_owned()) {
                    fragment.tar().entry(&Entry::folder(folder))?;
                }
            }
            fragment.tar().file(&Entry::file(full, size, executable), content)
        });
        written.map_err(|e| bad(e.to_string()))?;
        fragment.finish()?;
        Ok(layout.licence)
    }

    /// The folders that packages share; of the first layer, also what makes them an environment.
    pub(super) fn write_folders(&self, layer: &mut LayerWriter<'_>, is_first: bool) -> Result<()> {
        let (series, home) = (self.target.series(), &self.home);
        layer.part::<Error>(|tar| {
            for folder in self.shared_folders() {
                tar.entry(&Entry::folder(folder))?;
            }
            if !is_first {
                return Ok(());
            }
            for name in ["python".to_owned(), "python3".to_owned(), format!("python{series}")] {
                let target = format!("{home}/python{series}");
                tar.entry(&Entry::link(format!("{}/bin/{name}", self.folder), target))?;
            }
            // PEP 405: `home` is the folder of the interpreter that the environment is made from.
            let version = &self.version;
            let marker =
                format!("home = {home}\ninclude-system-site-packages = false\nversion = {version}\n");
            let entry = Entry::file(format!("{}/pyvenv.cfg", self.folder), marker.len() as u64, false);
            Ok(tar.file(&entry, &mut marker.as_bytes())?)
        })
    }
}

/// What the record says of an installed package.
pub(super) fn fact(package: &LockedPackage, licence: Option<String>) -> PackageFact {
    let (version, pinned) = (package.version.to_string(), package.origin.pinned());
    let from: &[(&str, &str)] = match &package.origin {
        Origin::Commit { .. } => &[("vcs_url", &pinned)],
        Origin::Url(_) => &[("download_url", &pinned)],
        Origin::Index(_) | Origin::Path(_) | Origin::Folder(_) => &[],
    };
    // Who may go there, is in no record.
    let shown = Address::Url(pinned.clone()).to_string();
    PackageFact {
        name: package.name.clone(),
        version: version.clone(),
        purl: purl("pypi", &package.name, &version, from),
        licence,
        integrity: package.integrity.as_ref().map_or_else(|| shown, Integrity::canonical),
        layer: None,
        source: None,
        needs: Vec::new(),
        patched: Vec::new(),
    }
}

impl Action for PythonPackages {
    fn fingerprint(&self) -> Fingerprint {
        let Self { packages, is_first, environment } = self;
        let part = |p: &LockedPackage| (p.name.clone(), p.identity());
        Fingerprint::of(Recipe::new("wheels", 1))
            .with_recipe(RECIPE)
            .input("runtime", environment.parts())
            .values("environment", [("is written", is_first.to_string())])
            .input("packages", packages.iter().map(part).collect())
    }

    fn run(&self, layer: &mut LayerWriter<'_>, cx: &StepContext<'_>) -> Result<Vec<PackageFact>> {
        let (store, codec) = (layer.store(), layer.codec());
        {
            let layer = &*layer;
            each_fetched(&self.packages, cx, |package| self.provide(layer, package, cx))?;
        }
        self.environment.write_folders(layer, self.is_first)?;
        let mut facts = Vec::new();
        for package in &self.packages {
            append_fragment(layer, self.key(package, codec), &package.label())?;
            facts.push(fact(package, self.licence(store, package, codec)?));
        }
        Ok(facts)
    }

    fn withdrawn(&self, cx: &StepContext<'_>) -> Vec<Withdrawn> {
        find_in_parallel(&self.packages, cx, |package| {
            let index = self.environment.addresses.askable(Ecosystem::PYPI, &package.name, cx.fetcher)?;
            let files = match pypi::files(cx.fetcher, &index, &package.name) {
                Err(RemoteError::NotFound { .. }) => Vec::new(),
                Err(_) => return None,
                Ok(files) => files,
            };
            let own = files.iter().filter(|f| version_of(&f.name).as_ref() == Some(&package.version));
            // One file that is not withdrawn is enough.
            let reasons: Vec<&str> = own.map(|f| f.yanked.as_deref()).collect::<Option<_>>()?;
            let reason = match reasons.first() {
                None => format!("{index} does not have it"),
                Some(reason) => format!("withdrawn: {reason}"),
            };
            let gone = reasons.is_empty();
            Some(Withdrawn {
                package: package.label(),
                lockfile: self.environment.lockfile.clone(),
                gone,
                reason,
            })
        })
    }
}
