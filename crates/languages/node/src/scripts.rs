//! Install scripts: which packages have one, and what becomes of it.

use crate::placing::address_of;
use crate::tarball::Facts;
use crate::tree::{LockedPackage, Origin, PackageTree};
use crate::{Manifest, tarball};
use crate::{RUN_SCRIPTS_OF, SKIP_SCRIPTS_OF};
use engine::package_archive::PackageArchive;
use model::error::PackageError;
use model::{BuildpackOptions, Error, PathFacts, Place, Result};
use planning::{Context, Resolving};
use source::checked_out;
use std::fs::File;

/// Packages whose scripts only print, check, or fetch what other packages bring as well.
const HARMLESS: [&str; 15] = [
    "@apollo/protobufjs",
    "@nestjs/core",
    "@parcel/watcher",
    "@sentry/cli",
    "@swc/core",
    "core-js",
    "core-js-pure",
    "es5-ext",
    "esbuild",
    "msgpackr-extract",
    "protobufjs",
    "sharp",
    "styled-components",
    "svelte-preprocess",
    "unrs-resolver",
];

/// Packages that bring their native parts for the usual systems.
const PREBUILT: [&str; 10] = [
    "@serialport/bindings-cpp",
    "argon2",
    "bcrypt",
    "bufferutil",
    "classic-level",
    "leveldown",
    "sodium-native",
    "usb",
    "utf-8-validate",
    "zeromq",
];

/// Finds out which packages have a script that matters: commits say it in their files, and packages that bring
/// what they would build need none.
pub(super) fn settle(
    packages: &mut [LockedPackage],
    context: &Context<'_>,
    resolving: &Resolving<'_>,
) -> Result<()> {
    for package in packages.iter_mut() {
        if let (Origin::Commit { url, id }, Some(downloads)) = (&package.origin, resolving.downloads()) {
            let folder = checked_out(url, id, downloads)?;
            package.has_install_script |= Manifest::in_folder(&folder)?.runs_scripts();
        }
    }
    forget_prebuilt(packages, context, resolving);
    Ok(())
}

/// Forgets the scripts of packages that bring what they would build. Whether one does, its archive tells,
/// which is fetched for that, if anything may be.
fn forget_prebuilt(packages: &mut [LockedPackage], context: &Context<'_>, resolving: &Resolving<'_>) {
    for package in
        packages.iter_mut().filter(|p| p.has_install_script && !is_decided(&p.name, context.options))
    {
        let brought = match facts(package, context, resolving) {
            Ok(Some(facts)) => facts.is_prebuilt_for(context.platform),
            // While nobody may be asked, what is usual has to do.
            _ => PREBUILT.contains(&package.name.as_str()),
        };
        package.has_install_script &= !brought;
    }
}

fn is_decided(name: &str, options: &BuildpackOptions) -> bool {
    let decided = [SKIP_SCRIPTS_OF, RUN_SCRIPTS_OF];
    let named = decided.iter().flat_map(|spec| options.texts(&spec.key)).any(|n| n == name);
    named || HARMLESS.contains(&name)
}

fn facts(package: &LockedPackage, context: &Context<'_>, resolving: &Resolving<'_>) -> Result<Option<Facts>> {
    let (Some(integrity), store) = (&package.integrity, resolving.store) else { return Ok(None) };
    let Some(address) = address_of(package, context.addresses, context.tree)? else { return Ok(None) };
    let label = package.label();
    let archive = PackageArchive { label: &label, address: &address, integrity };
    let kept = archive.path(store, "npm-facts-early-1");
    if let Some(known) = store.read_document(&kept).whole() {
        return Ok(Some(known));
    }
    let Some(downloads) = resolving.downloads() else { return Ok(None) };
    let file = archive.fetched(downloads)?;
    let facts = tarball::facts_of(File::open(&file).facts(&file)?, &label, store)?;
    store.write_cache(&kept, &facts)?;
    Ok(Some(facts))
}

/// Packages with an install script that nobody decided about are an error: left out, the app may fail when
/// it runs.
///
/// Gives a note of the scripts that are not run.
pub(super) fn check(
    packages: &[LockedPackage],
    tree: &PackageTree,
    options: &BuildpackOptions,
) -> Result<Option<String>> {
    let with_script = || packages.iter().filter(|p| p.has_install_script);
    let open = with_script().filter(|p| !is_decided(&p.name, options));
    // What the app can do without, it can do without the script of.
    let open: Vec<&LockedPackage> = open.filter(|p| !p.optional).collect();
    let Some(first) = open.first() else {
        let names: Vec<String> = with_script()
            .filter(|p| !options.texts(&RUN_SCRIPTS_OF.key).contains(&p.name))
            .map(LockedPackage::label)
            .collect();
        return Ok(
            (!names.is_empty()).then(|| format!("install scripts that are not run: {}", names.join(", ")))
        );
    };
    Err(Error::Package(PackageError::InstallScripts {
        place: Place::find(tree.file, &tree.text, &format!("\"{}\"", first.path)),
        packages: open.iter().map(|p| p.label()).collect(),
    }))
}
