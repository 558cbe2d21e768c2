//! The step that writes a set of packages as one layer.

use crate::debian::fixups::{Added, FixupContext};
use crate::debian::unpack::{TOP_LINKS, Unpacked};
use crate::debian::{fixups, libraries, unpack};
use crate::paths::Paths;
use content::digest::Sha256;
use content::layer::{Entry, Kind, LayerWriter, Owner};
use engine::{Action, StepContext, each_in_parallel};
use engine::{Fingerprint, Recipe, append_fragment};
use model::error::{ConfigError, PackageError};
use model::package_url::purl;
use model::pins::PackagePin;
use model::{Error, PackageFact, Result, SourcePackage};
use remote::Address;
use remote::packages::debian::fetch_package;
use std::collections::{BTreeMap, BTreeSet};
use std::sync::{Mutex, PoisonError};

/// How packages are made a layer, fix-ups included.
const RECIPE: Recipe = Recipe::new("debian packages", 7);

/// From this size in bytes, a package is compressed while it is still being read.
const LARGE: u64 = 4 << 20;

/// The package with the certificates that everybody trusts.
const CERTIFICATES: &str = "ca-certificates";
/// So many links that lead nowhere are named.
const NAMED_LINKS: usize = 3;

/// Links into packages that only writers of documentation and debuggers install.
const MEANT_FOR_OTHERS: [&str; 3] = ["/rdoc/generator/", "/lib/src.zip", "etc/rmt"];

/// The step.
pub(super) struct PackageSet {
    /// The packages, by name.
    pub(super) packages: Vec<PackagePin>,
    /// The packages of the layer below.
    pub(super) below: Vec<PackagePin>,
    /// Whether it is for an image, where every link must lead somewhere.
    pub(super) for_image: bool,
    /// Whether programs search for its libraries by their names.
    pub(super) lists_libraries: bool,
    /// Where they are: the archive, and that of security updates.
    pub(super) archives: [Option<Address>; 2],
    /// The version of the distribution, for package URLs.
    pub(super) release: &'static str,
    /// Debian's name of the processor.
    pub(super) architecture: &'static str,
}

impl PackageSet {
    /// The packages, and what of the layer below shows in this one.
    fn parts(&self) -> BTreeMap<String, String> {
        let mut parts: BTreeMap<String, String> =
            self.packages.iter().map(|p| (p.name.clone(), format!("{} {}", p.version, p.sha256))).collect();
        if self.lists_libraries {
            let below: Vec<&str> = self.libraries_below().map(|package| package.sha256.as_str()).collect();
            let list = Sha256::of(format!("{below:?}").as_bytes());
            parts.insert("(list of libraries)".to_owned(), list.hex());
        }
        parts.extend(self.certificates().map(|p| ("(certificates)".to_owned(), p.sha256.clone())));
        parts
    }

    /// The package with certificates, if something here needs it.
    fn certificates(&self) -> Option<&PackagePin> {
        let needed = fixups::need_certificates(self.packages.iter().map(|p| p.name.as_str()));
        let mut all = self.below.iter().chain(&self.packages);
        all.find(|package| package.name == CERTIFICATES).filter(|_| needed)
    }

    /// The packages of the layer below that have libraries.
    fn libraries_below(&self) -> impl Iterator<Item = &PackagePin> {
        self.below.iter().filter(|package| package.name.starts_with("lib"))
    }

    fn provide(
        &self,
        layer: &LayerWriter<'_>,
        package: &PackagePin,
        cx: &StepContext<'_>,
    ) -> Result<Unpacked> {
        let (store, codec) = (layer.store(), layer.codec());
        if let Some(known) = unpack::known(store, codec, &package.sha256) {
            return Ok(known);
        }
        let label = format!("{} {}", package.name, package.version);
        let archive = self.archives[usize::from(package.security)].as_ref();
        let archive = archive.ok_or(Error::Config(ConfigError::NoAddress {
            ecosystem: if package.security { "debian-security" } else { "debian" },
        }))?;
        cx.budget.in_flight().pass(package.size, || {
            let open = || store.temporary_file().map_err(std::io::Error::other);
            let mut file = fetch_package(cx.fetcher, archive, &package.file, &package.sha256, open).map_err(
                |source| Error::Package(PackageError::Remote { wanted_by: label.clone(), source }),
            )?;
            let threads = if package.size < LARGE { 1 } else { 2 };
            cx.budget
                .unpacking()
                .pass(1, || unpack::unpack(store, codec, &package.sha256, &label, file.reader()?, threads))
        })
    }
}

impl Action for PackageSet {
    fn fingerprint(&self) -> Fingerprint {
        // The archives are only where packages are got, and whether links are looked at shows in no byte.
        let Self { packages: _, below: _, for_image: _, lists_libraries, archives: _, release, architecture } =
            self;
        let values = [
            ("release", (*release).to_owned()),
            ("architecture", (*architecture).to_owned()),
            ("list of libraries", lists_libraries.to_string()),
        ];
        Fingerprint::of(RECIPE)
            .with_recipe(unpack::RECIPE)
            .with_recipe(libraries::RECIPE)
            .input("packages", self.parts())
            .values("distribution", values)
    }

    fn run(&self, layer: &mut LayerWriter<'_>, cx: &StepContext<'_>) -> Result<Vec<PackageFact>> {
        let unpacked = Mutex::new(BTreeMap::new());
        {
            let layer = &*layer;
            each_in_parallel(&self.packages, cx, |package| {
                let one = self.provide(layer, package, cx)?;
                if let Ok(mut all) = unpacked.lock() {
                    all.insert(package.name.clone(), one);
                }
                Ok(())
            })?;
        }
        let unpacked: BTreeMap<String, Unpacked> =
            unpacked.into_inner().unwrap_or_else(PoisonError::into_inner);
        let certificates = self.certificates().map(|p| self.provide(layer, p, cx)).transpose()?;
        let context = FixupContext { architecture: self.architecture, certificates: certificates.as_ref() };
        let mut added = fixups::added(&unpacked, &context);
        if self.lists_libraries {
            // The list hides that of the layer below.
            let below = self.libraries_below().map(|p| self.provide(layer, p, cx));
            let below = below.collect::<Result<Vec<_>>>()?;
            let packages: Vec<&Unpacked> = below.iter().chain(unpacked.values()).collect();
            if let Some(list) = libraries::list(&packages, self.architecture) {
                let entry = Entry::file(libraries::PATH, list.len() as u64, false);
                added.insert(libraries::PATH.to_owned(), (entry, list));
            }
        }
        tell_shared(&unpacked, cx);
        if self.for_image {
            self.tell_dangling(layer, &unpacked, &added, cx);
        }
        write_folders(layer, &unpacked, &added)?;
        for package in &self.packages {
            append_fragment(layer, unpack::key(&package.sha256, layer.codec()), &package.name)?;
        }
        layer.part::<Error>(|tar| {
            for (entry, bytes) in added.values() {
                match entry.kind {
                    Kind::Folder => {}
                    Kind::Link { .. } => tar.entry(entry)?,
                    Kind::File { .. } => tar.file(entry, &mut &bytes[..])?,
                }
            }
            Ok(())
        })?;
        Ok(self.packages.iter().map(|p| self.fact(p, &unpacked)).collect())
    }
}

impl PackageSet {
    /// Tells of links that lead nowhere: what they lead to, a script of a package would have made.
    fn tell_dangling(
        &self,
        layer: &LayerWriter<'_>,
        unpacked: &BTreeMap<String, Unpacked>,
        added: &Added,
        cx: &StepContext<'_>,
    ) {
        let known = |package: &PackagePin| unpack::known(layer.store(), layer.codec(), &package.sha256);
        let Some(below) = self.below.iter().map(known).collect::<Option<Vec<_>>>() else {
            // The layer below is being made at the same time: another build will look.
            return;
        };
        let mut paths = Paths::default();
        for top in TOP_LINKS {
            paths.add(top.to_owned(), Some(format!("usr/{top}")));
        }
        for package in below.iter().chain(unpacked.values()) {
            let plain = package.folders.keys().chain(&package.files);
            plain.flat_map(|path| with_parents(path)).for_each(|path| paths.add(path.to_owned(), None));
        }
        for (path, target) in below.iter().chain(unpacked.values()).flat_map(|package| &package.links) {
            paths.add(path.clone(), Some(target.clone()));
        }
        for (path, (entry, _)) in added {
            let target = match &entry.kind {
                Kind::Link { target } => Some(target.clone()),
                _ => None,
            };
            paths.add(path.clone(), target);
        }
        let links = unpacked.values().flat_map(|package| package.links.keys()).chain(added.keys());
        let means_something =
            |path: &&String| !path.starts_with("var/") && !MEANT_FOR_OTHERS.iter().any(|m| path.contains(m));
        let lost: Vec<&String> = links.filter(means_something).filter(|p| paths.real(p).is_none()).collect();
        if let [first, ..] = &lost[..] {
            let named: Vec<&str> = lost.iter().take(NAMED_LINKS).map(|path| path.as_str()).collect();
            let rest = lost.len().saturating_sub(NAMED_LINKS);
            let more = if rest == 0 { String::new() } else { format!(" and {rest} more") };
            let whose = unpacked.iter().find(|(_, package)| package.links.contains_key(*first));
            let whose = whose.map_or(String::new(), |(name, _)| format!(" (of {name})"));
            (cx.note)(format!("broken links: {}{more}{whose}", named.join(", ")));
        }
    }

    fn fact(&self, package: &PackagePin, unpacked: &BTreeMap<String, Unpacked>) -> PackageFact {
        let distribution = format!("debian-{}", self.release);
        let qualifiers = [("arch", package.architecture.as_str()), ("distro", &distribution)];
        PackageFact {
            name: package.name.clone(),
            version: package.version.clone(),
            purl: purl("deb", &format!("debian/{}", package.name), &package.version, &qualifiers),
            licence: unpacked.get(&package.name).and_then(|u| u.licence.clone()),
            source: unpacked.get(&package.name).and_then(|u| source_of(package, u.source.as_deref()?)),
            integrity: format!("sha256:{}", package.sha256),
            layer: None,
            needs: self.needs(package, unpacked),
            patched: Vec::new(),
        }
    }

    /// The places of the packages of this layer that a package depends on.
    fn needs(&self, package: &PackagePin, unpacked: &BTreeMap<String, Unpacked>) -> Vec<usize> {
        let depends = unpacked.get(&package.name).map(|one| &one.depends[..]).unwrap_or_default();
        let place = |name: &String| self.packages.iter().position(|other| other.name == *name);
        let places: BTreeSet<usize> = depends.iter().filter_map(place).collect();
        places.into_iter().collect()
    }
}

/// The source package of a binary one, where it has another name or version.
fn source_of(package: &PackagePin, said: &str) -> Option<SourcePackage> {
    let (name, version) = match said.split_once('(') {
        Some((name, version)) => (name.trim(), version.trim_end_matches(')').trim()),
        None => (said.trim(), package.version.as_str()),
    };
    let differs = name != package.name || version != package.version;
    differs.then(|| SourcePackage { name: name.to_owned(), version: version.to_owned() })
}

/// Tells of files that two packages have: the package that is written later has the last word.
fn tell_shared(unpacked: &BTreeMap<String, Unpacked>, cx: &StepContext<'_>) {
    let mut owners: BTreeMap<&str, &str> = BTreeMap::new();
    for (name, package) in unpacked {
        for path in package.files.iter().chain(package.links.keys()) {
            if let Some(earlier) = owners.insert(path, name) {
                (cx.note)(format!(
                    "{path} is in two packages, {earlier} and {name}; the one from {name} is used"
                ));
            }
        }
    }
}

/// The path and every folder that it lies in.
fn with_parents(path: &str) -> impl Iterator<Item = &str> {
    path.match_indices('/').map(|(at, _)| &path[..at]).chain([path])
}

/// All folders of the set, each once, those above first. A link is never replaced by a folder.
fn write_folders(
    layer: &mut LayerWriter<'_>,
    unpacked: &BTreeMap<String, Unpacked>,
    added: &Added,
) -> Result<()> {
    let mut folders: BTreeMap<&str, Entry> = BTreeMap::new();
    let paths = unpacked.values().flat_map(|u| u.files.iter().chain(u.links.keys()).chain(u.folders.keys()));
    for path in paths.chain(added.keys()) {
        for (at, _) in path.match_indices('/') {
            folders.entry(&path[..at]).or_insert_with(|| Entry::folder(&path[..at]));
        }
    }
    for (path, (mode, uid, gid)) in unpacked.values().flat_map(|u| &u.folders) {
        let entry = Entry { mode: *mode, owner: Owner { uid: *uid, gid: *gid }, ..Entry::folder(path) };
        folders.insert(path, entry);
    }
    for (path, (entry, _)) in added {
        if entry.kind == Kind::Folder {
            folders.insert(path, entry.clone());
        }
    }
    let links: BTreeSet<&str> = unpacked
        .values()
        .flat_map(|u| u.links.keys().map(String::as_str))
        .chain(
            added.iter().filter(|(_, (e, _))| matches!(e.kind, Kind::Link { .. })).map(|(p, _)| p.as_str()),
        )
        .collect();
    layer.part::<Error>(|tar| {
        Ok(folders.values().filter(|f| !links.contains(f.path.as_str())).try_for_each(|f| tar.entry(f))?)
    })
}
