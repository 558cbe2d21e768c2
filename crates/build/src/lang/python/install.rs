//! Installs wheels into the environment of the image, one fragment each.

use super::locked::{LockedPackage, Origin};
use super::target::Target;
use super::wheel::{self, Archive, Layout, Scheme, WheelName};
use crate::addresses::{Addresses, Ecosystem};
use crate::error::{BuildError, Result};
use crate::execute::{Gate, each_fetched, find_in_parallel};
use crate::lang::groups::group_of;
use crate::source::SourceTree;
use crate::spool::{rewind, spool};
use crate::worklist::{Input, PackageFact, Role, RuntimeInUse, Step, Tools, Withdrawn, Work};
use content::digest::Sha256;
use content::layer::{Codec, Entry, Fragment, FragmentWriter, LAYER_FORMAT, LayerWriter};
use content::store::Store;
use remote::{Address, RemoteError, packages::pypi};
use std::collections::{BTreeMap, BTreeSet};
use std::io::{BufReader, Read, Seek};
use std::path::PathBuf;
use std::sync::Arc;

/// Where the virtual environment lies, from the root of the image.
pub(super) const ENVIRONMENT: &str = "app/.venv";
/// Version of the way packages are put down; part of every fragment's key.
const INSTALL_FORMAT: u32 = 3;
/// From so many packages on, they are spread over that many layers.
const SPREAD: [(usize, usize); 2] = [(60, 4), (20, 2)];
/// Of so many threads that work, one may unpack: that takes memory and the processor.
const UNPACK_SHARE: usize = 4;
/// From this length in bytes on, what is written is compressed on two threads.
const LARGE: u64 = 16 << 20;

/// What the packages of an app are installed from and for.
#[derive(Clone)]
pub(super) struct Environment {
    pub(super) target: Target,
    pub(super) source: Arc<SourceTree>,
    pub(super) addresses: Addresses,
    /// The file that locks the packages.
    pub(super) lockfile: &'static str,
    /// The indexes that the app's files name for all packages.
    pub(super) named: Vec<String>,
    pub(super) version: String,
    /// The folder with the interpreter in the image.
    pub(super) home: String,
}

impl Environment {
    pub(super) fn new(
        target: Target,
        source: &Arc<SourceTree>,
        addresses: &Addresses,
        (lockfile, named): (&'static str, Vec<String>),
        runtime: &RuntimeInUse,
    ) -> Self {
        let (version, home) = (runtime.version.clone(), runtime.bin_folder.clone());
        Self {
            target,
            source: Arc::clone(source),
            addresses: addresses.clone(),
            lockfile,
            named,
            version,
            home,
        }
    }

    /// The folder of packages, from the root of the environment.
    fn site(&self) -> String {
        format!("lib/python{}/site-packages", self.target.series())
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

/// The steps that install `packages`: the environment itself is in the layer of the first.
pub(super) fn steps(packages: Vec<LockedPackage>, environment: &Environment) -> Vec<Step> {
    let count = SPREAD.iter().find(|(least, _)| packages.len() >= *least).map_or(1, |(_, groups)| *groups);
    let mut groups: Vec<Vec<LockedPackage>> = vec![Vec::new(); count];
    for package in packages {
        groups[group_of(&package.name, count)].push(package);
    }
    let filled =
        groups.into_iter().enumerate().filter(|(number, packages)| *number == 0 || !packages.is_empty());
    let step = |(number, packages)| {
        let work = PythonPackages { packages, is_first: number == 0, around: environment.clone() };
        let name = match count {
            1 => "python packages".to_owned(),
            _ => format!("python packages {} of {count}", number + 1),
        };
        Step::new(name, Role::Dependencies, work.inputs(), work)
    };
    filled.map(step).collect()
}

/// The step that installs packages: all, or those of one group.
struct PythonPackages {
    packages: Vec<LockedPackage>,
    is_first: bool,
    around: Environment,
}

impl PythonPackages {
    /// What the result depends on.
    fn inputs(&self) -> Vec<Input> {
        let part = |p: &LockedPackage| (p.name.clone(), format!("{} {}", p.version, p.integrity.canonical()));
        let runtime = format!("{} in {}", self.around.version, self.around.home);
        let runtime = BTreeMap::from([("python".to_owned(), runtime)]);
        vec![
            Input::of_parts("runtime", runtime),
            Input::of_parts("packages", self.packages.iter().map(part).collect()),
        ]
    }

    /// The file of a package that fits best.
    fn file_of(&self, package: &LockedPackage, tools: &Tools<'_>) -> Result<Address> {
        let addresses = &self.around.addresses;
        let bound = addresses.bound_to(Ecosystem::Pypi, &package.name);
        let explicit = bound.or_else(|| addresses.over_lockfile(Ecosystem::Pypi));
        match &package.origin {
            Origin::Url(url) => return Ok(Address::parse(url, self.around.source.root())),
            Origin::Path(path) => return Ok(Address::Folder(self.around.source.root().join(path))),
            Origin::Index(_) => {}
        }
        let name_of = |url: &str| url.rsplit('/').next().unwrap_or_default().split('#').next().map(unescaped);
        let fit = |file: &str| {
            let name = WheelName::parse(file)?;
            let same = name.project == package.name && name.version == package.version;
            self.around.target.fit(&name).filter(|_| same)
        };
        if explicit.is_none() && !package.files.is_empty() {
            let rated = package.files.iter().filter_map(|(url, _)| Some((fit(&name_of(url)?)?, url)));
            if let Some((_, url)) = rated.max_by_key(|(fit, _)| *fit) {
                return Ok(Address::parse(url, self.around.source.root()));
            }
        }
        let parsed = |text: &String| Address::parse(text, self.around.source.root());
        let places: Vec<Address> = match (explicit, &package.origin, &self.around.named[..]) {
            (Some(known), ..) => vec![known.address],
            (None, Origin::Index(Some(named)), _) => vec![parsed(named)],
            (None, _, []) => vec![addresses.in_force(Ecosystem::Pypi)?.address],
            (None, _, named) => named.iter().map(parsed).collect(),
        };
        let remote = |source: RemoteError| BuildError::Remote { wanted_by: package.label(), source };
        let (index, offered) = first_that_has(tools, &places, &package.name).map_err(remote)?;
        let may_be =
            |file: &&pypi::File| file.hashes.iter().all(|(kind, hex)| package.integrity.may_be(kind, hex));
        let rated = offered.iter().filter(may_be).filter_map(|file| Some((fit(&file.name)?, file)));
        match rated.max_by_key(|(fit, _)| *fit) {
            Some((_, file)) => Ok(file.address.clone()),
            None => Err(BuildError::NoUsableFile {
                package: package.label(),
                address: index.to_string(),
                offered: of_version(offered, package),
            }),
        }
    }

    fn key(&self, package: &LockedPackage, codec: Codec) -> Sha256 {
        let text = format!(
            "wheel {INSTALL_FORMAT} {LAYER_FORMAT} {}\n{}\n{}\n{} {} {}",
            codec.name(),
            self.around.site(),
            self.around.target.name(),
            package.name,
            package.version,
            package.integrity.canonical()
        );
        Sha256::of(text.as_bytes())
    }

    /// Gets the wheel of a package and writes its fragment.
    fn provide(
        &self,
        layer: &LayerWriter<'_>,
        package: &LockedPackage,
        around: (&Gate, &Tools<'_>),
    ) -> Result<()> {
        let (store, codec) = (layer.store(), layer.codec());
        let key = self.key(package, codec);
        if Fragment::read(store, codec, key).is_some() && self.licence_path(store, package, codec).exists() {
            return Ok(());
        }
        let (gate, tools) = around;
        let address = self.file_of(package, tools)?;
        let remote = |source: RemoteError| BuildError::Remote { wanted_by: package.label(), source };
        let mut file = tools.fetcher.get_into(&address, || Ok(spool(store))).map_err(remote)?;
        let length = rewind(&mut file)?;
        package.integrity.check_reader(&address.to_string(), &mut file).map_err(remote)?;
        rewind(&mut file)?;
        let threads = if length < LARGE { 1 } else { 2 };
        let writer = FragmentWriter::new(store, codec, key, threads)?;
        let licence = gate.pass(1, || self.write_fragment(writer, package, BufReader::new(file)))?;
        let fact = serde_json::to_vec(&licence).unwrap_or_default();
        Ok(store.keep(&self.licence_path(store, package, codec), &fact)?)
    }

    /// The licence is known only from inside the wheel, so it is kept beside the fragment.
    fn licence_path(&self, store: &Store, package: &LockedPackage, codec: Codec) -> PathBuf {
        store.fragment_path("licences", self.key(package, codec))
    }

    fn write_fragment(
        &self,
        mut fragment: FragmentWriter,
        package: &LockedPackage,
        file: impl Read + Seek,
    ) -> Result<Option<String>> {
        let bad = |detail: String| BuildError::BadPackage { package: package.label(), detail };
        let mut archive = Archive::new(file).map_err(|e| bad(e.to_string()))?;
        let interpreter = format!("/{ENVIRONMENT}/bin/python");
        let (site, series) = (self.around.site(), self.around.target.series());
        let scheme = Scheme { site: &site, series: &series, interpreter: &interpreter };
        let layout = Layout::of(&mut archive, &scheme).map_err(bad)?;
        let shared = self.around.shared_folders();
        let mut folders = BTreeSet::new();
        let written = layout.each(&mut archive, |path, size, executable, content| {
            let full = format!("{ENVIRONMENT}/{path}");
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

    /// The environment without any package.
    fn write_environment(&self, layer: &mut LayerWriter<'_>) -> Result<()> {
        let (series, home) = (self.around.target.series(), &self.around.home);
        layer.part::<BuildError>(|tar| {
            for folder in self.around.shared_folders() {
                tar.entry(&Entry::folder(folder))?;
            }
            if !self.is_first {
                return Ok(());
            }
            for name in ["python".to_owned(), "python3".to_owned(), format!("python{series}")] {
                let target = format!("{home}/python{series}");
                tar.entry(&Entry::link(format!("{ENVIRONMENT}/bin/{name}"), target))?;
            }
            // PEP 405: `home` is the folder of the interpreter that the environment is made from.
            let version = &self.around.version;
            let marker =
                format!("home = {home}\ninclude-system-site-packages = false\nversion = {version}\n");
            let entry = Entry::file(format!("{ENVIRONMENT}/pyvenv.cfg"), marker.len() as u64, false);
            Ok(tar.file(&entry, &mut marker.as_bytes())?)
        })
    }
}

/// What the first of several indexes that has a package offers of it; the answer of the last, if none has it.
fn first_that_has(
    tools: &Tools<'_>,
    places: &[Address],
    name: &str,
) -> Result<(Address, Vec<pypi::File>), RemoteError> {
    let (last, before) = places.split_last().ok_or(RemoteError::NotFound { url: name.to_owned() })?;
    for place in before {
        match pypi::files(tools.fetcher, place, name) {
            Err(RemoteError::NotFound { .. }) => {}
            found => return Ok((place.clone(), found?)),
        }
    }
    Ok((last.clone(), pypi::files(tools.fetcher, last, name)?))
}

/// The names of the files that are offered of the locked version; of all versions, if there are none.
fn of_version(offered: Vec<pypi::File>, package: &LockedPackage) -> Vec<String> {
    let (own, others): (Vec<_>, Vec<_>) = offered
        .into_iter()
        .map(|file| file.name)
        .partition(|name| wheel::version_of(name).as_ref() == Some(&package.version));
    if own.is_empty() { others } else { own }
}

/// Percent-encoding in the last part of a URL taken back, as far as file names of packages have it.
fn unescaped(name: &str) -> String {
    name.replace("%2B", "+").replace("%2b", "+").replace("%21", "!")
}

impl Work for PythonPackages {
    fn write(&self, layer: &mut LayerWriter<'_>, tools: &Tools<'_>) -> Result<Vec<PackageFact>> {
        let (store, codec) = (layer.store(), layer.codec());
        let gate = Gate::new(u64::try_from(tools.jobs / UNPACK_SHARE).unwrap_or(1));
        {
            let layer = &*layer;
            each_fetched(&self.packages, tools, |package| self.provide(layer, package, (&gate, tools)))?;
        }
        self.write_environment(layer)?;
        let mut facts = Vec::new();
        for package in &self.packages {
            let gone = || BuildError::BadPackage {
                package: package.label(),
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
            let index = self.around.addresses.askable(Ecosystem::Pypi, &package.name, tools.fetcher)?;
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
            Some(Withdrawn { package: package.label(), lockfile: self.around.lockfile, gone, reason })
        })
    }
}
