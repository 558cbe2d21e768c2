//! What is settled for an app before anything is planned: which packages, and which of them have to be built. Only
//! this part asks indexes.

use crate::app_package::OwnPackage;
use crate::environment::Environment;
use crate::index::Index;
use crate::index_options::Terms;
use crate::locked::{LockedPackage, Origin, known_versions};
use crate::target::Target;
use crate::{BYTECODE, REQUIREMENTS, asked, compile, direct, lock, resolve, stale};
use compile::WantedBuild;
use config::pins::ResolvedPackage;
use content::digest::Hasher;
use engine::download_buffer::{rewind, spool};
use engine::package_archive::PackageArchive;
use model::error::{PackageError, SurveyError};
use model::platform::own_platform;
use model::{Ecosystem, Error, PathFacts, Place, Result};
use planning::{Context, PlannedPackages, Resolution, ResolveTarget, Resolving, by_name, resolving};
use remote::packages::pypi;
use remote::{Downloads, Integrity, RemoteError};
use std::fs::File;

/// Everything that is settled for an app that has packages.
pub(super) struct Settled {
    pub(super) environment: Environment,
    /// Packages that are installed from wheels.
    pub(super) wheels: Vec<LockedPackage>,
    /// Packages that are built from their source first.
    pub(super) builds: Vec<WantedBuild>,
    /// The app itself, where it is a package.
    pub(super) own: Option<OwnPackage>,
    pub(super) planned: PlannedPackages,
    pub(super) has_bytecode: bool,
}

/// Settles what the image needs.
pub(super) fn settle(context: &Context<'_>, resolving: &Resolving<'_>) -> Result<Resolution> {
    let mut resolution = Resolution::default();
    let runtime = context.runtime()?;
    let target = Target::new(&runtime.version, context.platform, context.base.c_library())?;
    let (said_by, mut packages) = packages((context, resolving), &target, &mut resolution)?;
    let itself = asked(context.tree, context.options)?.is_some_and(|(_, asked)| asked.itself);
    let own = OwnPackage::of(context.tree, itself)?;
    if packages.is_empty() && own.is_none() {
        return Ok(resolution);
    }
    let environment = Environment::new(target, context.tree, context.addresses, said_by, runtime);
    for package in &mut packages {
        pin_hash(package, &environment, resolving, &mut resolution)?;
    }
    compile::settle(&mut packages, &environment, resolving);
    let has_bytecode = context.options.is_set(&BYTECODE.key);
    if has_bytecode {
        check_bytecode(context)?;
        resolution.tools.insert("python");
    }
    let planned = planned(&packages);
    let (sources, wheels): (Vec<_>, _) = packages.into_iter().partition(|p| p.source == Some(true));
    let mut builds = Vec::new();
    for package in sources {
        builds.push(compile::settle_build(package, &environment, (context, resolving), &mut resolution)?);
    }
    resolution.settle(Settled { environment, wheels, builds, own, planned, has_bytecode });
    Ok(resolution)
}

/// What is known of the packages before the build.
fn planned(packages: &[LockedPackage]) -> PlannedPackages {
    let versions: Vec<String> = packages.iter().map(|package| package.version.to_string()).collect();
    let needs = packages.iter().map(|package| package.needs.iter().map(String::as_str));
    let named = packages.iter().map(|package| package.name.as_str()).zip(versions.iter().map(String::as_str));
    by_name("pypi", named.zip(needs).map(|((name, version), needs)| (name, version, needs)))
}

fn check_bytecode(context: &Context<'_>) -> Result<()> {
    context.base.tool("python")?;
    if context.platform == own_platform() {
        return Ok(());
    }
    Err(Error::Survey(SurveyError::Unsupported {
        place: Place::new(model::files::CONFIG, None),
        what: "bytecode for another platform than this machine's".to_owned(),
        instead: "build on a machine of that platform, or turn it off",
    }))
}

/// The file that says the packages, and what it says of all of them.
type SaidBy = (String, Terms);

/// The packages of the app, and the file that says them: a lockfile, requirements that are as good as one, or
/// what was resolved.
fn packages(
    (context, resolving): (&Context<'_>, &Resolving<'_>),
    target: &Target,
    resolution: &mut Resolution,
) -> Result<(SaidBy, Vec<LockedPackage>)> {
    if let Some(kind) = lock::present(context.tree) {
        let said_by = (kind.file.to_owned(), Terms::default());
        return Ok((said_by, stale::locked(kind, context.tree, context.options, target)?));
    }
    let nothing = ((REQUIREMENTS.to_owned(), Terms::default()), Vec::new());
    let Some((file, asked)) = asked(context.tree, context.options)? else { return Ok(nothing) };
    let said_by = (file.clone(), asked.terms.clone());
    if let Some(packages) = asked.pinned(target)? {
        return Ok((said_by, packages));
    }
    let purpose = ResolveTarget { language: "python", purpose: &target.name() };
    let resolved = resolving.packages(purpose, &asked.digest(), |asking, known| {
        let target = (target, context.base.tool("compilers").is_ok());
        let mut index =
            Index::new(asking, context.addresses, target, asked.terms.clone(), context.tree.root());
        for wanted in asked.wanted.iter().filter(|w| target.0.holds(&w.need.marker, &[])) {
            let Some(origin) = &wanted.origin else { continue };
            let name = pypi::canonical_name(wanted.need.name.as_ref());
            let known = Integrity::any_of(wanted.hashes.iter().map(String::as_str));
            let direct = direct::look(origin, &name, known.as_ref(), context.tree, asking)?;
            index.know(name, direct);
        }
        resolve::resolve(&asked, target.0, &index, &known_versions(known))
    })?;
    let Some((packages, new)) = resolved else { return Ok(nothing) };
    if new.is_some() {
        resolution.notes.push(resolving::advice(&file, "a lockfile"));
    }
    let withdrawn = |pin: &ResolvedPackage| {
        let reason = pin.deprecated.as_ref()?;
        Some(format!("{} {} was withdrawn: {reason}", pin.name, pin.version))
    };
    resolution.notes.extend(packages.iter().filter_map(withdrawn));
    resolution.resolved.extend(new);
    Ok((said_by, LockedPackage::of_pins(&packages, asked.names())))
}

/// Gives a package that nothing locks a hash of the pinned one, or that of the file that is fetched now. A file of
/// the source has the hash that it has.
fn pin_hash(
    package: &mut LockedPackage,
    environment: &Environment,
    resolving: &Resolving<'_>,
    resolution: &mut Resolution,
) -> Result<()> {
    if package.integrity.is_some() {
        return Ok(());
    }
    match &package.origin {
        Origin::Path(path) => {
            let full = environment.source.root().join(path);
            let (digest, _) = Hasher::of_reader(&mut File::open(&full).facts(&full)?).facts(&full)?;
            package.integrity = Some(Integrity::of_sha256(&digest));
        }
        Origin::Index(_) | Origin::Url(_) => {
            // Every platform has files of its own.
            let name = format!("{} for {}", package.label(), environment.target.name());
            let hash = resolving.hash(Ecosystem::PYPI, &name, |Downloads { fetcher, store }| {
                let address = environment.find(package, fetcher)?.address;
                let remote = |source: RemoteError| {
                    Error::Package(PackageError::Remote { wanted_by: package.wanted(), source })
                };
                let mut file = fetcher.get_into(&address, || Ok(spool(store))).map_err(remote)?;
                rewind(&mut file)?;
                let integrity = Integrity::of_sha256(&Hasher::of_reader(&mut file)?.0);
                rewind(&mut file)?;
                let label = package.label();
                PackageArchive { label: &label, address: &address, integrity: &integrity }
                    .keep(store, &mut file)?;
                Ok(integrity)
            })?;
            if let Some((integrity, new)) = hash {
                package.integrity = Some(integrity);
                resolution.hashes.extend(new);
            }
        }
        Origin::Folder(_) | Origin::Commit { .. } => {}
    }
    Ok(())
}
