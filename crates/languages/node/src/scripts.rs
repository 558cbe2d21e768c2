//! Install scripts: which packages have one, and what becomes of it.

use crate::package::{LockedPackage, Origin};
use crate::placing::address_of;
use crate::tarball::Facts;
use crate::tree::PackageTree;
use crate::{Manifest, tarball};
use crate::{RUN_SCRIPTS_OF, SKIP_SCRIPTS_OF};
use engine::package_archive::PackageArchive;
use model::error::PackageError;
use model::platform::own_platform;
use model::{BuildpackOptions, Error, OptionSpec, PathFacts, Place, Result};
use planning::{Context, Resolving};
use source::checked_out;
use std::fs::File;

/// Packages whose scripts only print, check, or fetch what other packages bring as well.
const HARMLESS: [&str; 20] = [
    "@apollo/protobufjs",
    "@firebase/util",
    "@nestjs/core",
    "@parcel/watcher",
    "@scarf/scarf",
    "@sentry/cli",
    "@swc/core",
    "core-js",
    "core-js-pure",
    "dtrace-provider",
    "es5-ext",
    "esbuild",
    "msgpackr-extract",
    "nodemon",
    "protobufjs",
    "puppeteer-core",
    "sharp",
    "styled-components",
    "svelte-preprocess",
    "unrs-resolver",
];

/// Packages whose scripts fetch programs from somewhere else than the registry: nothing that runs apart from the machine
/// can do that.
const FETCHING: [&str; 8] = [
    "chromedriver",
    "cypress",
    "electron",
    "geckodriver",
    "ngrok",
    "phantomjs-prebuilt",
    "playwright",
    "puppeteer",
];

/// Packages that are compiled when they are installed, though no lockfile says that they have a script.
const COMPILED: [&str; 6] = ["cpu-features", "libpq", "libxmljs", "node-expat", "oracledb", "robotjs"];

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
        package.has_install_script |= COMPILED.contains(&package.name.as_str());
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
            // Without network access, defaults have to do.
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

/// What happens to install scripts without a decision in the configuration.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(super) enum Undecided {
    /// They run, apart from the machine.
    Run,
    /// Left out, the app may fail when it runs: they are an error.
    Refuse,
}

impl Undecided {
    /// They run where there is something to run them in.
    pub(super) fn of(context: &Context<'_>) -> Self {
        let can_run = context.base.tool("compilers").is_ok() && context.platform == own_platform();
        if can_run { Self::Run } else { Self::Refuse }
    }
}

/// Whether the script of a package is run.
pub(super) fn is_run(package: &LockedPackage, options: &BuildpackOptions, undecided: Undecided) -> bool {
    let named = |spec: &OptionSpec| options.texts(&spec.key).contains(&package.name);
    let by_itself = undecided == Undecided::Run
        && package.has_install_script
        && !package.optional
        && !is_decided(&package.name, options)
        && !FETCHING.contains(&package.name.as_str());
    named(&RUN_SCRIPTS_OF) || by_itself
}

/// A note of the install scripts that are not run; an error names all packages at once whose script somebody has to
/// decide about.
pub(super) fn check(
    packages: &[LockedPackage],
    tree: &PackageTree,
    options: &BuildpackOptions,
    undecided: Undecided,
) -> Result<Option<String>> {
    let left = || packages.iter().filter(|p| p.has_install_script && !is_run(p, options, undecided));
    let open = left().filter(|p| undecided == Undecided::Refuse && !is_decided(&p.name, options));
    // What the app can do without, it can do without the script of.
    let open: Vec<&LockedPackage> = open.filter(|p| !p.optional).collect();
    let Some(first) = open.first() else {
        let names: Vec<String> = left().map(LockedPackage::label).collect();
        return Ok(
            (!names.is_empty()).then(|| format!("install scripts that are not run: {}", names.join(", ")))
        );
    };
    Err(Error::Package(PackageError::InstallScripts {
        place: Place::find(tree.file, &tree.text, &format!("\"{}\"", first.path)),
        packages: open.iter().map(|p| p.label()).collect(),
    }))
}
