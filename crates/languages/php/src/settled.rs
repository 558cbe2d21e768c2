//! Which packages an image needs: as `composer.lock` says, with their hashes.

use crate::lock::{self, LOCKFILE, Lock, MANIFEST, Manifest, Package};
use crate::unlocked;
use config::addresses::Addresses;
use content::digest::Sha256;
use engine::package_archive::first_hash;
use engine::run_indexed;
use model::error::{PackageError, SurveyError};
use model::{Ecosystem, Error, Place, Result};
use planning::{Context, Resolution, Resolving};
use remote::packages::composer;
use remote::{Address, Integrity, RemoteError};
use source::is_commit;
use std::collections::BTreeMap;
use std::path::Path;
use std::sync::{Mutex, PoisonError};

/// How many archives without a hash are fetched at once.
const AT_ONCE: usize = 16;
/// What builds the list of classes.
const TOOL: &str = "composer";

/// What an image needs of packages.
#[derive(Debug, Clone, PartialEq)]
pub(super) struct Needed {
    pub(super) packages: Vec<Installed>,
    /// The folder of packages, from that of the app.
    pub(super) vendor: String,
    /// Whether the list of classes has to name those of the app, too.
    pub(super) lists_own_classes: bool,
    pub(super) content_hash: String,
    pub(super) lockfile: String,
}

/// A package that is installed.
#[derive(Debug, Clone, PartialEq)]
pub(super) struct Installed {
    pub(super) package: Package,
    /// Its folder, from that of the app.
    pub(super) folder: String,
    pub(super) origin: Origin,
}

/// Where a package comes from.
#[derive(Debug, Clone, PartialEq)]
pub(super) enum Origin {
    Archive {
        address: Address,
        integrity: Integrity,
    },
    Commit {
        url: String,
        id: String,
    },
    /// A folder of the app, from that of the app.
    Folder(String),
    /// It has no files.
    Nothing,
}

impl Origin {
    /// Stands for the contents.
    pub(super) fn identity(&self) -> String {
        match self {
            Self::Archive { integrity, .. } => integrity.canonical(),
            Self::Commit { url, id } => format!("{url} {id}"),
            Self::Folder(path) => format!("folder {path}"),
            Self::Nothing => "nothing".to_owned(),
        }
    }
}

/// Settles what the image needs; `None` if a hash is unknown and there is no network access.
pub(super) fn settle(context: &Context<'_>, resolving: &Resolving<'_>) -> Result<Resolution> {
    let mut resolution = Resolution::default();
    let manifest: Manifest = lock::read(context.tree, MANIFEST)?.unwrap_or_default();
    let text = match context.tree.read(LOCKFILE)? {
        Some(text) => text,
        None => match unlocked::lockfile(&manifest, context, resolving, &mut resolution)? {
            Some(text) => text,
            None => return Ok(resolution),
        },
    };
    let lock: Lock = lock::parse(LOCKFILE, &text)?;
    let packages = lock.for_image()?;
    // If the build runs Composer, Composer installs them.
    let is_run = context.build_command.is_some_and(|command| command.run.join(" ").contains(TOOL));
    if packages.is_empty() || context.tree.has(crate::INSTALLED) || is_run {
        return Ok(resolution);
    }
    check_lock(&manifest, &packages)?;
    context.base.tool(TOOL)?;
    resolution.tools.insert(TOOL);
    let answers = Mutex::new(BTreeMap::new());
    run_indexed(packages.len(), AT_ONCE, |at| {
        let answer = origin(&packages[at], context, resolving);
        answers.lock().unwrap_or_else(PoisonError::into_inner).insert(at, answer);
    });
    let mut installed = Vec::new();
    for (at, answer) in answers.into_inner().unwrap_or_else(PoisonError::into_inner) {
        let Some((origin, new)) = answer? else { return Ok(resolution) };
        resolution.hashes.extend(new);
        let package = packages[at].clone();
        installed.push(Installed { folder: manifest.folder_of(&package), package, origin });
    }
    resolution.settle(Needed {
        lists_own_classes: manifest.lists_own_classes(),
        packages: installed,
        vendor: manifest.vendor().to_owned(),
        content_hash: lock.content_hash,
        lockfile: text,
    });
    Ok(resolution)
}

/// An error where the lockfile lacks a package that the manifest requires, unless another one stands for it.
fn check_lock(manifest: &Manifest, packages: &[Package]) -> Result<()> {
    let has =
        |name: &&String| packages.iter().any(|package| package.name == **name || package.stands_for(name));
    // What has no slash is the runtime, or a part of it.
    match manifest.require.keys().filter(|name| name.contains('/')).find(|name| !has(name)) {
        None => Ok(()),
        Some(lacking) => Err(Error::Package(PackageError::LockMismatch {
            lockfile: LOCKFILE.to_owned(),
            detail: format!("{MANIFEST} requires {lacking}, which is missing from the lockfile"),
            how: "run `composer update --lock`, and commit the lockfile",
        })),
    }
}

type Answer = Result<Option<(Origin, Option<planning::NewHash>)>>;

fn origin(package: &Package, context: &Context<'_>, resolving: &Resolving<'_>) -> Answer {
    if !package.has_files() {
        return Ok(Some((Origin::Nothing, None)));
    }
    let known = context.addresses.bound_to(Ecosystem::COMPOSER, &package.name);
    let known =
        known.or_else(|| context.addresses.over_lockfile(Ecosystem::COMPOSER)).map(|known| known.address);
    match (&package.dist, &package.source) {
        (Some(dist), _) if dist.kind == "path" => Ok(Some((folder(package, &dist.url, context)?, None))),
        (Some(dist), _) if matches!(dist.kind.as_str(), "zip" | "tar") => {
            let address = address(
                package,
                &dist.url,
                known.as_ref(),
                (context.addresses, context.tree.root()),
                resolving,
            )?;
            let locked =
                dist.shasum.as_deref().filter(|sum| !sum.is_empty()).map(|sum| format!("sha1:{sum}"));
            let locked = locked.and_then(|sum| Integrity::any_of([sum.as_str()].into_iter()));
            let (Some(address), None) = (address.clone(), &locked) else {
                return Ok(address
                    .zip(locked)
                    .map(|(address, integrity)| (Origin::Archive { address, integrity }, None)));
            };
            let hash = resolving.hash(Ecosystem::COMPOSER, &package.label(), |downloads| {
                first_hash(&package.label(), &address, downloads)
            })?;
            Ok(hash.map(|(integrity, new)| (Origin::Archive { address, integrity }, new)))
        }
        (_, Some(source)) if source.kind == "git" => {
            let id = source.reference.clone().filter(|id| is_commit(id));
            let id = id.ok_or_else(|| unsupported(package, "not a commit of a repository"))?;
            Ok(Some((Origin::Commit { url: source.url.clone(), id }, None)))
        }
        (Some(other), _) | (None, Some(other)) => {
            Err(unsupported(package, &format!("a download of type {}", other.kind)))
        }
        (None, None) => Err(unsupported(package, "nothing to download")),
    }
}

fn unsupported(package: &Package, what: &str) -> Error {
    Error::Survey(SurveyError::Unsupported {
        place: Place::new(LOCKFILE, None),
        what: format!("{}, which has {what}", package.name),
        instead: "lock a version that has an archive, or install it beforehand and pack it: in shtetl.toml, under [source]: include = [\"vendor/**\"]",
    })
}

/// The folder of the app that a package is, from its own.
fn folder(package: &Package, url: &str, context: &Context<'_>) -> Result<Origin> {
    let path = url.trim_start_matches("./").trim_end_matches('/');
    let is_there = context.tree.files().keys().any(|file| file.starts_with(&format!("{path}/")));
    match is_there && !path.starts_with('/') && !path.split('/').any(|part| part == "..") {
        true => Ok(Origin::Folder(path.to_owned())),
        false => Err(unsupported(package, &format!("the folder {url}, which is not in the source"))),
    }
}

/// Where the archive of a package is: at the configured address, else where the lockfile says. Nothing when that address has
/// to be asked, without network access.
fn address(
    package: &Package,
    locked: &str,
    known: Option<&Address>,
    (addresses, root): (&Addresses, &Path),
    resolving: &Resolving<'_>,
) -> Result<Option<Address>> {
    let Some(known) = known else {
        let text = addresses.filled(Ecosystem::COMPOSER, locked)?;
        return Ok(Some(Address::parse(&text, root)));
    };
    let remote =
        |source: RemoteError| Error::Package(PackageError::Remote { wanted_by: package.label(), source });
    if let Address::Folder(folder) = known {
        let name = package.name.replace('/', "-");
        let file = ["zip", "tar", "tar.gz"]
            .iter()
            .map(|end| folder.join(format!("{name}-{}.{end}", package.version)));
        if let Some(file) = file.into_iter().find(|file| file.is_file()) {
            return Ok(Some(Address::Folder(file)));
        }
    }
    let kept = resolving
        .store
        .fragment_path("composer-places", Sha256::of(format!("{known} {}", package.label()).as_bytes()));
    if let Some(url) = resolving.store.read_document::<String>(&kept).whole() {
        return Ok(Some(Address::parse(&url, root)));
    }
    let Some(fetcher) = resolving.asking else { return Ok(None) };
    let url = composer::archive(fetcher, known, &package.name, &package.version).map_err(remote)?;
    resolving.store.write_cache(&kept, &url.to_string())?;
    Ok(Some(url))
}
