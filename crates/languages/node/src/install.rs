//! Puts npm packages where the tree says, one fragment each.

use crate::package::{LockedPackage, Origin};
use crate::placing::{address_of, below, up_to};
use crate::tarball::Facts;
use crate::tree::PackageTree;
use crate::{packing, scripts, tarball};
use config::addresses::Addresses;
use content::ContentError;
use content::digest::{Hasher, Sha256};
use content::layer::{Codec, Entry, Fragment, LayerWriter};
use content::store::Store;
use engine::download_buffer::{rewind, spool};
use engine::layer_shards::shard_of;
use engine::package_archive::PackageArchive;
use engine::{Action, Step, StepContext, each_fetched, find_in_parallel};
use engine::{Fingerprint, Recipe, append_fragment};
use model::error::PackageError;
use model::package_url::purl;
use model::{BuildpackOptions, Ecosystem, Error, PackageFact, Result, Role, Withdrawn};
use remote::packages::npm::{self, Standing};
use remote::{Address, Downloads, Integrity};
use source::{SourceTree, checked_out};
use std::collections::{BTreeMap, BTreeSet};
use std::path::PathBuf;
use std::sync::Arc;
use tempfile::SpooledTempFile;

/// How packages are put down.
const RECIPE: Recipe = Recipe::new("npm package", 6);
/// From so many packages on, they are spread over that many layers.
const SPREAD: [(usize, usize); 3] = [(800, 12), (300, 8), (40, 4)];

/// The step that installs packages: all, or those of one group.
pub(super) struct NodePackages {
    packages: Vec<LockedPackage>,
    /// The tree, where only the packages themselves say which commands and platforms they have.
    unsaid: Option<PackageTree>,
    /// What its packages are for.
    purpose: Purpose,
    /// `.bin` links of the group.
    links: BTreeMap<String, String>,
    source: Arc<SourceTree>,
    addresses: Addresses,
    platform: String,
    /// What was decided about install scripts; nothing where they do not matter.
    options: Option<BuildpackOptions>,
    lockfile: &'static str,
    folder: &'static str,
}

/// What packages are installed from.
#[derive(Clone, Copy)]
pub(super) struct Installing<'a> {
    /// What steps are called.
    pub(super) name: &'a str,
    /// The folder that they are put into, from the root of the image.
    pub(super) folder: &'static str,
    pub(super) source: &'a Arc<SourceTree>,
    pub(super) addresses: &'a Addresses,
    pub(super) platform: &'a str,
    /// What was decided about install scripts; nothing where they do not matter.
    pub(super) options: Option<&'a BuildpackOptions>,
    pub(super) purpose: Purpose,
}

/// What packages are installed for.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(super) enum Purpose {
    /// The app, when it runs.
    Image,
    /// The command that builds the app.
    BuildCommand,
}

/// The steps that install `packages` of `tree`; many packages are spread over several layers by name, so
/// that a change of one leaves the others as they are.
pub(super) fn steps(
    packages: Vec<LockedPackage>,
    tree: PackageTree,
    installing: &Installing<'_>,
) -> Vec<Step> {
    if packages.is_empty() {
        return Vec::new();
    }
    let count = match tree.says_all {
        true => SPREAD.iter().find(|(least, _)| packages.len() >= *least).map_or(1, |(_, groups)| *groups),
        // Which package a command belongs to is known only when all are there.
        false => 1,
    };
    let links = commands(installing.folder, &packages, &BTreeMap::new());
    let lockfile = tree.file;
    let unsaid = (!tree.says_all).then_some(tree);
    let mut groups: Vec<Vec<LockedPackage>> = vec![Vec::new(); count];
    for package in packages {
        groups[shard_of(top_folder(&package.path), count)].push(package);
    }
    let filled = groups.into_iter().enumerate().filter(|(_, packages)| !packages.is_empty());
    let step = |(number, packages): (usize, Vec<LockedPackage>)| {
        let in_shard = |owner: &str| shard_of(top_folder(owner), count) == number;
        let own = links.iter().filter(|(_, (owner, _))| in_shard(owner));
        let own = own.map(|(link, (_, target))| (link.clone(), target.clone())).collect();
        let work = NodePackages {
            packages,
            unsaid: unsaid.clone(),
            purpose: installing.purpose,
            links: own,
            source: Arc::clone(installing.source),
            addresses: installing.addresses.clone(),
            platform: installing.platform.to_owned(),
            options: installing.options.cloned(),
            lockfile,
            folder: installing.folder,
        };
        let name = match count {
            1 => installing.name.to_owned(),
            _ => format!("{} {} of {count}", installing.name, number + 1),
        };
        Step::new(name, Role::Dependencies, work)
    };
    filled.map(step).collect()
}

/// The first package of a path: what is nested in it belongs to its group.
fn top_folder(path: &str) -> &str {
    let (_, inside) = path.split_once("node_modules/").unwrap_or(("", path));
    let mut ends = inside.match_indices('/').map(|(at, _)| at);
    let end = if inside.starts_with('@') { ends.nth(1) } else { ends.next() };
    &inside[..end.unwrap_or(inside.len())]
}

/// `.bin` links with the paths of their packages and their targets; where two packages claim a name, the
/// first path wins. What the tree does not say is in `learned`, by path.
pub(super) fn commands(
    root: &str,
    packages: &[LockedPackage],
    learned: &BTreeMap<String, Facts>,
) -> BTreeMap<String, (String, String)> {
    let mut links = BTreeMap::new();
    for package in packages {
        let Some(at) = package.path.rfind("node_modules/") else { continue };
        let (folder, own) = package.path.split_at(at + "node_modules".len());
        let bin = if package.bin.is_empty() { learned.get(&package.path).map(|f| &f.bin) } else { None };
        for (command, file) in bin.unwrap_or(&package.bin) {
            let command = command.rsplit('/').next().unwrap_or(command);
            if matches!(command, "" | "." | "..") || file.split('/').any(|part| part == "..") {
                continue;
            }
            let target = format!("..{own}/{}", file.trim_start_matches("./"));
            let link = below(root, &format!("{folder}/.bin/{command}"));
            links.entry(link).or_insert_with(|| (package.path.clone(), target));
        }
    }
    links
}

impl NodePackages {
    /// The packages with their commands, by path, and the links to commands.
    fn parts(&self) -> BTreeMap<String, String> {
        let part = |p: &LockedPackage| {
            let bin = p.bin.iter().map(|(n, f)| format!(" {n}={f}")).collect::<String>();
            let carried = p.carried_commands.iter().map(|file| format!(" {file}")).collect::<String>();
            (p.path.clone(), format!("{}@{} {}{bin}{carried}", p.name, p.version, identity(p)))
        };
        let mut parts: BTreeMap<String, String> = self.packages.iter().map(part).collect();
        parts.extend(self.links.iter().map(|(link, target)| (link.clone(), target.clone())));
        parts
    }

    fn key(&self, package: &LockedPackage, codec: Codec) -> Sha256 {
        let own = [self.folder.to_owned(), package.path.clone(), identity(package)];
        let carried = package.bin.values().chain(&package.carried_commands);
        let parts: Vec<&str> = own.iter().chain(carried).map(String::as_str).collect();
        RECIPE.fragment_key(codec, &parts)
    }

    /// Whether the lockfile says all that is told of a package.
    fn is_told(&self, package: &LockedPackage) -> bool {
        self.unsaid.is_none() && package.integrity.is_some() && package.licence.is_some()
    }

    /// Makes sure that the store has the fragments of one package, for all the places it is put to.
    fn provide(
        &self,
        layer: &LayerWriter<'_>,
        copies: &[&LockedPackage],
        cx: &StepContext<'_>,
    ) -> Result<()> {
        let (store, codec) = (layer.store(), layer.codec());
        let missing: Vec<_> = copies
            .iter()
            .map(|package| (*package, self.key(package, codec)))
            .filter(|(_, key)| Fragment::read(store, codec, *key).is_none())
            .collect();
        let Some(first) = copies.first() else { return Ok(()) };
        let told = self.is_told(first);
        if missing.is_empty() && (told || facts(store, first).is_some()) {
            return Ok(());
        }
        let Some((file, found)) = self.archive(first, Downloads { fetcher: cx.fetcher, store })? else {
            return Ok(());
        };
        let places = if missing.is_empty() { vec![(*first, self.key(first, codec))] } else { missing };
        let learned = cx
            .budget
            .unpacking()
            .pass(1, || tarball::write_fragments((store, codec), self.folder, &places, file))?;
        if told {
            return Ok(());
        }
        Ok(store.write_cache(&facts_path(store, first), &Facts { found, ..learned })?)
    }

    /// The archive of a package, checked, and its hash where nothing says one; nothing for what has no archive
    /// of its own.
    fn archive(
        &self,
        package: &LockedPackage,
        downloads: Downloads<'_>,
    ) -> Result<Option<(SpooledTempFile, Option<String>)>> {
        let Downloads { fetcher, store } = downloads;
        let label = package.label();
        if let Origin::Commit { url, id } = &package.origin {
            let packed = packing::packed(&checked_out(url, id, downloads)?, &label, store)?;
            return Ok(Some((packed, Some(format!("{}#{id}", Address::Url(url.clone()))))));
        }
        let Some(address) = address_of(package, &self.addresses, &self.source)? else { return Ok(None) };
        let remote = |source| Error::Package(PackageError::Remote { wanted_by: package.wanted(), source });
        let kept = package
            .integrity
            .as_ref()
            .and_then(|integrity| PackageArchive { label: &label, address: &address, integrity }.kept(store));
        if let Some(mut kept) = kept {
            let mut file = spool(store);
            std::io::copy(&mut kept, &mut file)?;
            rewind(&mut file)?;
            return Ok(Some((file, None)));
        }
        let mut file = fetcher.get_into(&address, || Ok(spool(store))).map_err(remote)?;
        rewind(&mut file)?;
        let found = match &package.integrity {
            Some(integrity) => {
                integrity.check_reader(&address.to_string(), &mut file).map_err(remote)?;
                None
            }
            None => Some(Integrity::of_sha256(&Hasher::of_reader(&mut file)?.0).canonical()),
        };
        rewind(&mut file)?;
        Ok(Some((file, found)))
    }

    /// The packages and their commands, now that everything is there to be asked.
    fn settled(
        &self,
        (store, _codec): (&Store, Codec),
        cx: &StepContext<'_>,
    ) -> Result<(Vec<LockedPackage>, BTreeMap<String, String>)> {
        let Some(tree) = &self.unsaid else { return Ok((self.packages.clone(), self.links.clone())) };
        let mut tree = tree.clone();
        let mut learned = BTreeMap::new();
        for package in &self.packages {
            let Some(entry) = tree.packages.get_mut(&package.path) else { continue };
            if package.is_for_elsewhere() {
                entry.fits.os = vec!["(another)".to_owned()];
            }
            let Some(facts) = facts(store, package) else { continue };
            entry.fits = facts.fits();
            entry.has_install_script = facts.install.is_some() && !facts.is_prebuilt_for(&self.platform);
            learned.insert(package.path.clone(), facts);
        }
        let packages = match self.purpose {
            Purpose::Image => tree.for_image(&self.platform)?,
            Purpose::BuildCommand => tree.with_development(&self.platform)?,
        };
        let note = self
            .options
            .as_ref()
            .map(|options| scripts::check(&packages, &tree, options, scripts::Undecided::Refuse));
        if let Some(note) = note.transpose()?.flatten() {
            (cx.note)(note);
        }
        let links =
            commands(self.folder, &packages, &learned).into_iter().map(|(link, (_, target))| (link, target));
        Ok((packages, links.collect()))
    }
}

/// Folders that packages are put into, above the packages' own, and the packages' own.
fn folders<'p>(
    root: &str,
    packages: &'p [LockedPackage],
    links: impl Iterator<Item = &'p String>,
) -> BTreeSet<String> {
    let mut folders = BTreeSet::new();
    for package in packages {
        let full = below(root, &package.path);
        folders.extend(full.match_indices('/').map(|(at, _)| full[..at].to_owned()));
        if !matches!(package.origin, Origin::Link(_)) {
            folders.insert(full);
        }
    }
    folders.extend(links.filter_map(|link| Some(link.rsplit_once('/')?.0.to_owned())));
    folders
}

impl Action for NodePackages {
    fn fingerprint(&self) -> Fingerprint {
        let Self {
            packages: _,
            unsaid,
            purpose,
            links: _,
            source: _,
            addresses: _,
            platform,
            options,
            lockfile,
            folder,
        } = self;
        // Where only the packages say their commands and platforms, what becomes of them depends on these.
        let decided = unsaid.as_ref().and(options.as_ref()).map(|options| format!("{options:?}"));
        let values = [
            ("folder", (*folder).to_owned()),
            ("platform", platform.clone()),
            ("says all", unsaid.is_none().to_string()),
            ("decided", decided.unwrap_or_default()),
            ("lockfile", if unsaid.is_some() { (*lockfile).to_owned() } else { String::new() }),
        ];
        let all = Fingerprint::of(Recipe::new("npm packages", 1))
            .with_recipe(RECIPE)
            .input("packages", self.parts())
            .values("install", values);
        // There, which packages are needed is settled again once all of them are there.
        match unsaid {
            Some(_) => all.values("purpose", [("of packages", format!("{purpose:?}"))]),
            None => all,
        }
    }

    fn run(&self, layer: &mut LayerWriter<'_>, cx: &StepContext<'_>) -> Result<Vec<PackageFact>> {
        let (store, codec) = (layer.store(), layer.codec());
        let mut alike: BTreeMap<String, Vec<&LockedPackage>> = BTreeMap::new();
        for package in self.packages.iter().filter(|p| self.unsaid.is_none() || !p.is_for_elsewhere()) {
            alike.entry(format!("{} {}", package.label(), identity(package))).or_default().push(package);
        }
        let alike: Vec<_> = alike.into_values().collect();
        {
            let layer = &*layer;
            each_fetched(&alike, cx, |copies| self.provide(layer, copies, cx))?;
        }
        let (packages, links) = self.settled((store, codec), cx)?;
        layer.part::<Error>(|tar| {
            Ok(folders(self.folder, &packages, links.keys())
                .iter()
                .try_for_each(|f| tar.entry(&Entry::folder(f)))?)
        })?;
        for package in packages.iter().filter(|p| p.has_files()) {
            append_fragment(layer, self.key(package, codec), &package.label())?;
        }
        let folders_of_source = packages.iter().filter_map(|package| match &package.origin {
            Origin::Link(to) => {
                Some((below(self.folder, &package.path), up_to(self.folder, &package.path, to)))
            }
            _ => None,
        });
        let links: BTreeMap<String, String> = links.into_iter().chain(folders_of_source).collect();
        if !links.is_empty() {
            layer.part::<Error>(|tar| {
                Ok(links.iter().try_for_each(|(path, target)| tar.entry(&Entry::link(path, target)))?)
            })?;
        }
        let told = packages.iter().filter(|p| !matches!(p.origin, Origin::Link(_)));
        told.map(|package| {
            let learned = facts(store, package);
            if learned.is_none() && package.has_files() && !self.is_told(package) {
                let what = format!("the registry document of {}", package.label());
                return Err(Error::Content(ContentError::Damaged { what }));
            }
            Ok(fact(package, learned))
        })
        .collect()
    }

    fn withdrawn(&self, cx: &StepContext<'_>) -> Vec<Withdrawn> {
        find_in_parallel(&self.packages, cx, |package| {
            if !matches!(package.origin, Origin::Registry(_)) {
                return None;
            }
            let registry = self.addresses.askable(Ecosystem::NPM, &package.name, cx.fetcher)?;
            let standing = npm::standing(cx.fetcher, &registry, &package.name, &package.version);
            let (gone, reason) = match standing.ok()? {
                Standing::Gone => (true, format!("{registry} does not have it")),
                Standing::Deprecated(text) => (false, format!("deprecated: {text}")),
                Standing::Offered => return None,
            };
            Some(Withdrawn { package: package.label(), lockfile: self.lockfile.to_owned(), gone, reason })
        })
    }
}

fn fact(package: &LockedPackage, learned: Option<Facts>) -> PackageFact {
    let commit = match &package.origin {
        Origin::Commit { url, id } => Some(format!("git+{}@{id}", url.trim_start_matches("git+"))),
        _ => None,
    };
    let found = learned.as_ref().and_then(|f| f.found.clone());
    let from: Vec<(&str, &str)> = commit.iter().map(|url| ("vcs_url", url.as_str())).collect();
    PackageFact {
        name: package.name.clone(),
        version: package.version.clone(),
        purl: purl("npm", &package.name, &package.version, &from),
        licence: package.licence.clone().or_else(|| learned.and_then(|f| f.licence)),
        integrity: package.integrity.as_ref().map(Integrity::canonical).or(found).unwrap_or_default(),
        layer: None,
        source: None,
        needs: Vec::new(),
        patched: package.patches.iter().map(|p| format!("{} sha256:{}", p.path, p.digest().hex())).collect(),
    }
}

/// What tells the package's content: its hash, else where it comes from.
pub(super) fn identity(package: &LockedPackage) -> String {
    let mut identity = match (&package.integrity, &package.origin) {
        (_, Origin::Link(folder)) => format!("link {folder}"),
        (_, Origin::Bundled) => "carried".to_owned(),
        (Some(integrity), _) => integrity.canonical(),
        (None, origin) => format!("{}@{} {origin:?}", package.name, package.version),
    };
    for patch in &package.patches {
        identity.push_str(&format!(" patched {}", patch.digest().hex()));
    }
    identity
}

/// What a package says of itself is known only from inside it, so it is kept beside its fragments.
fn facts_path(store: &Store, package: &LockedPackage) -> PathBuf {
    store.fragment_path("npm-facts", RECIPE.fact_key(&[&identity(package)]))
}

fn facts(store: &Store, package: &LockedPackage) -> Option<Facts> {
    store.read_document(&facts_path(store, package)).whole()
}
