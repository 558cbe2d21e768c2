//! What is settled for an app before anything is planned: which packages, whose scripts are run, and what that
//! takes. Only this part asks registries.

use crate::compile::{self, WantedScript};
use crate::helpers::{self, Helpers};
use crate::package::{LockedPackage, Origin};
use crate::placing::address_of;
use crate::tree::PackageTree;
use crate::{MANIFEST, Manifest, lock, overrides, read_manifest, resolve, scripts, workspaces};
use content::digest::Hasher;
use engine::package_archive::first_hash;
use engine::run_indexed;
use model::platform::own_platform;
use model::{Ecosystem, PathFacts, Result};
use planning::{Context, Resolution, Resolving, resolving};
use remote::Integrity;
use std::fs::File;
use std::sync::{Mutex, PoisonError};

/// What packages are resolved for: ids in `shtetl.lock`.
const FOR_APP: &str = "app";
const FOR_BUILD: &str = "app-build";
/// How many packages without a hash are fetched at once.
const FETCHES: usize = 24;

/// Packages that are installed together.
pub(super) struct Installation {
    pub(super) tree: PackageTree,
    pub(super) packages: Vec<LockedPackage>,
    pub(super) scripts: Vec<WantedScript>,
}

/// What the app's own build command finds.
pub(super) struct ForBuildCommand {
    pub(super) packages: Option<Installation>,
    pub(super) runners: Option<Helpers>,
}

/// Settles what the image needs.
pub(super) fn settle(context: &Context<'_>, resolving: &Resolving<'_>) -> Result<Resolution> {
    let mut resolution = Resolution::default();
    if let Some((_, manifest)) = read_manifest(context.tree)?
        && let Some(image) = image(&manifest, context, resolving, &mut resolution)?
    {
        resolution.settle(image);
    }
    Ok(resolution)
}

/// Settles what the build command needs.
pub(super) fn settle_for_build(context: &Context<'_>, resolving: &Resolving<'_>) -> Result<Resolution> {
    let mut resolution = Resolution::default();
    if let Some((_, manifest)) = read_manifest(context.tree)? {
        let settled = for_build_command(&manifest, context, resolving, &mut resolution)?;
        resolution.settle(settled);
    }
    Ok(resolution)
}

fn image(
    manifest: &Manifest,
    context: &Context<'_>,
    resolving: &Resolving<'_>,
    resolution: &mut Resolution,
) -> Result<Option<Installation>> {
    let tree = match lock::read(context.tree)? {
        Some(tree) => {
            crate::check_lock(context.tree, &tree)?;
            tree
        }
        None => match resolved(manifest, FOR_APP, (context, resolving), resolution)? {
            Some(tree) => tree,
            None => return Ok(None),
        },
    };
    let platform = context.platform;
    let (tree, mut packages) =
        with_hashes(tree, |tree| tree.for_image(platform), (context, resolving), resolution)?;
    scripts::settle(&mut packages, context, resolving)?;
    resolution.notes.extend(scripts::check(
        &packages,
        &tree,
        context.options,
        scripts::Undecided::of(context),
    )?);
    resolution.notes.extend(crate::deprecated(&packages));
    resolution.notes.extend(crate::patched(&packages));
    let scripts = compile::settle(&packages, &tree, platform, (context, resolving), resolution)?;
    Ok(Some(Installation { tree, packages, scripts }))
}

fn for_build_command(
    manifest: &Manifest,
    context: &Context<'_>,
    resolving: &Resolving<'_>,
    resolution: &mut Resolution,
) -> Result<ForBuildCommand> {
    let platform = own_platform();
    let tree = match lock::read_for_build(context.tree)? {
        Some(tree) => Some(tree),
        None => resolved(manifest, FOR_BUILD, (context, resolving), resolution)?,
    };
    let packages = match tree {
        Some(tree) => {
            let (tree, packages) =
                with_hashes(tree, |tree| tree.with_development(&platform), (context, resolving), resolution)?;
            let scripts = compile::settle(&packages, &tree, &platform, (context, resolving), resolution)?;
            Some(Installation { tree, packages, scripts })
        }
        None => None,
    };
    let named =
        context.build_command.map(|command| helpers::named_in(&command.run.join(" "))).unwrap_or_default();
    let runners = helpers::settle(named, "script-runners", (context, resolving), resolution)?;
    Ok(ForBuildCommand { packages, runners })
}

/// The packages of an app without a lockfile, for a purpose; nothing when they are not resolved and nobody may be
/// asked.
fn resolved(
    manifest: &Manifest,
    purpose: &str,
    (context, resolving): (&Context<'_>, &Resolving<'_>),
    resolution: &mut Resolution,
) -> Result<Option<PackageTree>> {
    let parts = workspaces::Parts::of(context.tree, manifest)?;
    let (manifest, parts) = match purpose {
        FOR_BUILD => (&manifest.clone().with_development(), parts.with_development()),
        _ => (manifest, parts),
    };
    let tables = [&manifest.dependencies, &manifest.optional_dependencies, &manifest.peer_dependencies];
    if tables.iter().all(|table| table.is_empty()) && manifest.workspaces.is_null() {
        return Ok(None);
    }
    let asked = resolve::Asked { manifest, overrides: overrides::Overrides::of(manifest)?, parts };
    let found = resolve::settled(&asked, (purpose, &asked.digest()), context, resolving)?;
    let Some((mut tree, new)) = found else { return Ok(None) };
    tree.member = context.tree.member().map(str::to_owned);
    if new.is_some() {
        let lockfile = "a lockfile (`npm install --package-lock-only`)";
        resolution.notes.push(resolving::advice(MANIFEST, lockfile));
    }
    resolution.resolved.extend(new);
    Ok(Some(tree))
}

/// The tree, and what is `chosen` of it, with a hash for every package that nothing locks one of: the pinned one,
/// or that of what is fetched now. An archive in the source has the hash that it has.
fn with_hashes(
    mut tree: PackageTree,
    chosen: impl Fn(&PackageTree) -> Result<Vec<LockedPackage>>,
    (context, resolving): (&Context<'_>, &Resolving<'_>),
    resolution: &mut Resolution,
) -> Result<(PackageTree, Vec<LockedPackage>)> {
    let packages = chosen(&tree)?;
    let open: Vec<&LockedPackage> = packages
        .iter()
        .filter(|p| p.integrity.is_none() && matches!(p.origin, Origin::Registry(_) | Origin::Archive(_)))
        .filter(|p| tree.says_all || !p.is_for_elsewhere())
        .collect();
    if open.is_empty() {
        return Ok((tree, packages));
    }
    let answers = Mutex::new(Vec::new());
    run_indexed(open.len(), FETCHES, |at| {
        let answer = hash_of(open[at], context, resolving);
        answers.lock().unwrap_or_else(PoisonError::into_inner).push((at, answer));
    });
    let mut answers = answers.into_inner().unwrap_or_else(PoisonError::into_inner);
    answers.sort_by_key(|(at, _)| *at);
    for (at, answer) in answers {
        let Some((integrity, new)) = answer? else { continue };
        resolution.hashes.extend(new);
        if let Some(entry) = tree.packages.get_mut(&open[at].path) {
            entry.integrity = Some(integrity);
        }
    }
    let packages = chosen(&tree)?;
    Ok((tree, packages))
}

type Hash = Option<(Integrity, Option<planning::NewHash>)>;

fn hash_of(package: &LockedPackage, context: &Context<'_>, resolving: &Resolving<'_>) -> Result<Hash> {
    if let Origin::Archive(path) = &package.origin {
        let full = context.tree.root().join(path);
        let (digest, _) = Hasher::of_reader(&mut File::open(&full).facts(&full)?).facts(&full)?;
        return Ok(Some((Integrity::of_sha256(&digest), None)));
    }
    let Some(address) = address_of(package, context.addresses, context.tree)? else { return Ok(None) };
    resolving.hash(Ecosystem::NPM, &package.label(), |downloads| {
        first_hash(&package.wanted(), &address, downloads)
    })
}
