//! The steps that put packages into their folders, one fragment each.

use crate::dist::{self, Member};
use crate::settled::{Installed, Origin};
use content::digest::Sha256;
use content::layer::{Codec, Entry, Fragment, FragmentWriter, LayerWriter};
use content::store::remove_tree;
use engine::layer_shards::shard_of;
use engine::package_archive::PackageArchive;
use engine::{Action, Fingerprint, Recipe, Step, StepContext, append_fragment, collect, each_fetched};
use model::error::PackageError;
use model::package_url::purl;

use model::{Error, PackageFact, PathFacts, Result, Role};
use remote::Downloads;
use std::collections::BTreeSet;
use std::fs::{self, File};
use std::io::{self, BufReader};
use std::path::Path;

/// The folder of the app, from the root.
const APP: &str = "app";
/// How packages are put down.
const RECIPE: Recipe = Recipe::new("composer package", 2);
/// From so many packages on, they are spread over that many layers.
const SPREAD: [(usize, usize); 2] = [(60, 12), (16, 8)];

/// The steps that install `packages`.
pub(super) fn steps(packages: &[Installed]) -> Vec<Step> {
    let count = SPREAD.iter().find(|(least, _)| packages.len() >= *least).map_or(1, |(_, groups)| *groups);
    let mut groups: Vec<Vec<Installed>> = vec![Vec::new(); count];
    for package in packages {
        groups[shard_of(&package.package.name, count)].push(package.clone());
    }
    let filled = groups.into_iter().enumerate().filter(|(_, packages)| !packages.is_empty());
    let step = |(number, packages)| {
        let name = match count {
            1 => "php packages".to_owned(),
            _ => format!("php packages {} of {count}", number + 1),
        };
        Step::new(name, Role::Dependencies, Packages(packages))
    };
    filled.map(step).collect()
}

struct Packages(Vec<Installed>);

impl Packages {
    fn key(one: &Installed, codec: Codec) -> Sha256 {
        RECIPE.fragment_key(codec, &[&one.folder, &one.package.label(), &one.origin.identity()])
    }

    fn provide(layer: &LayerWriter<'_>, one: &Installed, cx: &StepContext<'_>) -> Result<()> {
        let (store, codec) = (layer.store(), layer.codec());
        let key = Self::key(one, codec);
        if Fragment::read(store, codec, key).is_some() {
            return Ok(());
        }
        let downloads = Downloads { fetcher: cx.fetcher, store };
        let mut fragment = FragmentWriter::new(store, codec, key, 1)?;
        match &one.origin {
            Origin::Nothing => {}
            Origin::Folder(path) => {
                let up = "../".repeat(one.folder.matches('/').count());
                let link = Entry::link(format!("{APP}/{}", one.folder), format!("{up}{path}"));
                fragment.tar().entry(&link)?;
            }
            Origin::Commit { url, id } => {
                put(&mut fragment, &source::checked_out(url, id, downloads)?, &one.folder)?;
            }
            Origin::Archive { address, integrity } => {
                let label = one.package.label();
                let archive = PackageArchive { label: &label, address, integrity };
                let file = archive.fetched(downloads)?;
                let zip = source::open_zip(&file, &label)?;
                cx.budget.unpacking().pass(1, || {
                    if let Some(mut zip) = zip {
                        let length = fs::metadata(&file).facts(&file)?.len();
                        return put_zip(&mut fragment, (&mut zip, length), one);
                    }
                    let scratch = store.temporary_folder()?;
                    let folder = scratch.join("package");
                    fs::create_dir(&folder).facts(&folder)?;
                    let done = archive
                        .unpack(downloads, &folder)
                        .and_then(|()| put(&mut fragment, &folder, &one.folder));
                    remove_tree(&scratch);
                    done
                })?;
            }
        }
        Ok(fragment.finish()?)
    }
}

/// Puts the files of an archive of so many bytes into the folder of a package.
fn put_zip(
    fragment: &mut FragmentWriter,
    (zip, length): (&mut zip::ZipArchive<BufReader<File>>, u64),
    one: &Installed,
) -> Result<()> {
    let told = |error: io::Error| error.to_string();
    let root = format!("{APP}/{}", one.folder);
    let mut folders = BTreeSet::new();
    let written = dist::each_file(zip, length, |path, member| {
        let full = format!("{root}/{path}");
        let above =
            full.match_indices('/').map(|(at, _)| &full[..at]).filter(|folder| folder.len() >= root.len());
        for folder in above {
            if folders.insert(folder.to_owned()) {
                fragment.tar().entry(&Entry::folder(folder)).map_err(told)?;
            }
        }
        match member {
            Member::File { size, executable, content } => {
                fragment.tar().file(&Entry::file(full, size, executable), content).map_err(told)
            }
            Member::Link { target } => fragment.tar().entry(&Entry::link(full, target)).map_err(told),
        }
    });
    written.map_err(|detail| Error::Package(PackageError::Damaged { package: one.package.label(), detail }))
}

/// Puts the files below `from` into a folder of the app.
fn put(fragment: &mut FragmentWriter, from: &Path, folder: &str) -> Result<()> {
    let files = collect::files(from)?;
    let placed: Vec<(&str, String)> =
        files.iter().map(|path| (path.as_str(), format!("{APP}/{folder}/{path}"))).collect();
    // The folders above are those of all packages.
    let shared = shared_folders([folder].into_iter());
    collect::write(fragment.tar(), from, &placed, &shared)
}

/// The folders that lie above those of packages.
fn shared_folders<'f>(folders: impl Iterator<Item = &'f str>) -> BTreeSet<String> {
    let mut shared = BTreeSet::from([APP.to_owned()]);
    for folder in folders {
        let full = format!("{APP}/{folder}");
        shared.extend(full.match_indices('/').map(|(at, _)| full[..at].to_owned()));
    }
    shared
}

impl Action for Packages {
    fn fingerprint(&self) -> Fingerprint {
        let Self(packages) = self;
        let part = |one: &Installed| {
            let Installed { package, folder, origin } = one;
            (package.name.clone(), format!("{} {folder} {}", package.version, origin.identity()))
        };
        Fingerprint::of(RECIPE).input("packages", packages.iter().map(part).collect())
    }

    fn run(&self, layer: &mut LayerWriter<'_>, cx: &StepContext<'_>) -> Result<Vec<PackageFact>> {
        let Self(packages) = self;
        {
            let layer = &*layer;
            each_fetched(packages, cx, |one| Self::provide(layer, one, cx))?;
        }
        layer.part::<Error>(|tar| {
            let folders = shared_folders(packages.iter().map(|one| one.folder.as_str()));
            Ok(folders.into_iter().try_for_each(|folder| tar.entry(&Entry::folder(folder)))?)
        })?;
        for one in packages {
            append_fragment(layer, Self::key(one, layer.codec()), &one.package.label())?;
        }
        Ok(packages.iter().map(fact).collect())
    }
}

/// What the record says of a package.
fn fact(one: &Installed) -> PackageFact {
    let package = &one.package;
    let vcs = match &one.origin {
        Origin::Commit { url, id } => format!("git+{url}@{id}"),
        _ => String::new(),
    };
    let from: &[(&str, &str)] = if vcs.is_empty() { &[] } else { &[("vcs_url", &vcs)] };
    PackageFact {
        name: package.name.clone(),
        version: package.version.clone(),
        purl: purl("composer", &package.name, &package.version, from),
        licence: (!package.license.is_empty()).then(|| package.license.join(" OR ")),
        integrity: one.origin.identity(),
        layer: None,
        source: None,
        needs: Vec::new(),
        patched: Vec::new(),
    }
}
