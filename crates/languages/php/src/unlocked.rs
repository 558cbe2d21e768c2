//! A lockfile for an app that has none: resolved, pinned, and the same for as long as the pins stay.

use crate::lock::{LOCKFILE, MANIFEST, Manifest};
use crate::offers::{Offer, Offers};
use crate::{extensions, resolve};
use config::pins::ResolvedPackage;
use content::digest::Sha256;
use model::error::{PackageError, SurveyError};
use model::files::PINS;
use model::{Ecosystem, Error, Place, Result};
use planning::{Context, Resolution, ResolveTarget, Resolving, resolving};
use remote::Address;
use remote::packages::composer::Repository;
use serde_json::{Value, json};
use std::collections::BTreeMap;

/// How a lockfile is made.
const HOW: &str = "run `composer update --no-install`, and commit the lockfile";

/// The text of a lockfile; `None` if no package is required, or something is unknown and there is no network access.
pub(super) fn lockfile(
    manifest: &Manifest,
    context: &Context<'_>,
    resolving: &Resolving<'_>,
    resolution: &mut Resolution,
) -> Result<Option<String>> {
    if !manifest.require.keys().any(|name| name.contains('/')) {
        return Ok(None);
    }
    let php = php(manifest, context)?;
    let wanted = json!([
        manifest.require,
        manifest.minimum_stability,
        manifest.prefer_stable,
        manifest.replace,
        manifest.provide,
        manifest.repositories,
        php,
    ]);
    let asked = format!("sha256:{}", Sha256::of(wanted.to_string().as_bytes()).hex());
    let target = ResolveTarget { language: "php", purpose: "image" };
    let found = resolving.packages(target, &asked, |downloads, before| {
        let repositories = repositories(manifest, context, resolving)?;
        let before = before.iter().map(|one| (one.name.clone(), one.version.clone())).collect();
        let offers = Offers::new(manifest, repositories, downloads.fetcher, &php, before);
        let chosen = resolve::resolve(manifest, &offers)?;
        check_extensions(&chosen, context)?;
        chosen.iter().map(|offer| keep(offer, resolving)).collect()
    })?;
    let Some((packages, new)) = found else { return Ok(None) };
    let Some(entries) = entries(manifest, &packages, context, resolving)? else { return Ok(None) };
    if new.is_some() {
        resolution.notes.push(resolving::advice(MANIFEST, "a lockfile (`composer update --no-install`)"));
    }
    resolution.resolved.extend(new);
    let text = json!({
        "packages": entries, "packages-dev": [], "aliases": [], "minimum-stability": "stable", "stability-flags": {},
        "prefer-stable": false, "prefer-lowest": false, "platform": {}, "platform-dev": {}, "content-hash": "",
    });
    Ok(Some(text.to_string()))
}

/// The version of PHP that packages have to run with.
fn php(manifest: &Manifest, context: &Context<'_>) -> Result<String> {
    let said = manifest.config.platform.get("php").and_then(Value::as_str);
    said.map_or_else(|| context.runtime().map(|runtime| runtime.version.clone()), |said| Ok(said.to_owned()))
}

/// The repositories, the first that has a package having all of it.
fn repositories(
    manifest: &Manifest,
    context: &Context<'_>,
    resolving: &Resolving<'_>,
) -> Result<Vec<Repository>> {
    let Some(fetcher) = resolving.asking else { return Ok(Vec::new()) };
    let addresses = context.addresses;
    let all = match addresses.over_lockfile(Ecosystem::COMPOSER) {
        Some(known) => vec![known.address],
        None => {
            let mut all = Vec::new();
            for url in own_repositories(manifest)? {
                all.push(Address::parse(&addresses.filled(Ecosystem::COMPOSER, &url)?, context.tree.root()));
            }
            let common = addresses.in_force(Ecosystem::COMPOSER);
            match (common, all.is_empty()) {
                (Ok(known), _) => all.push(known.address),
                (Err(error), true) => return Err(error),
                (Err(_), false) => {}
            }
            all
        }
    };
    let open = |address: &Address| {
        let told = |source| Error::Package(PackageError::Remote { wanted_by: MANIFEST.to_owned(), source });
        Repository::open(fetcher, address).map_err(told)
    };
    all.iter().map(open).collect()
}

/// The repositories of packages that the manifest names; an error for those of another kind.
fn own_repositories(manifest: &Manifest) -> Result<Vec<String>> {
    let said: Vec<&Value> = match &manifest.repositories {
        Value::Array(all) => all.iter().collect(),
        Value::Object(by_name) => by_name.values().collect(),
        _ => Vec::new(),
    };
    let mut urls = Vec::new();
    for repository in said {
        match (repository["type"].as_str(), repository["url"].as_str()) {
            (Some("composer"), Some(url)) => urls.push(url.trim_end_matches("/packages.json").to_owned()),
            (Some(kind), _) => {
                return Err(Error::Survey(SurveyError::Unsupported {
                    place: Place::new(MANIFEST, None),
                    what: format!("repositories of the type {kind} without a {LOCKFILE}"),
                    instead: HOW,
                }));
            }
            // Only switches others off.
            (None, _) => {}
        }
    }
    Ok(urls)
}

/// An error for an extension that a package requires and the image would not have.
fn check_extensions(chosen: &[Offer], context: &Context<'_>) -> Result<()> {
    let wish = context.finding.runtime.iter().flat_map(|wish| &wish.parts);
    let has: Vec<&String> = wish.map(|(part, _)| part).collect();
    for offer in chosen {
        for (name, _) in offer.links("require") {
            let lacking =
                name.strip_prefix("ext-").and_then(extensions::part).filter(|part| !has.contains(&part));
            if lacking.is_some() {
                return Err(Error::Package(PackageError::Extension {
                    package: offer.label(),
                    extension: name,
                }));
            }
        }
    }
    Ok(())
}

/// Pins a package, and keeps what its repository says of it.
fn keep(offer: &Offer, resolving: &Resolving<'_>) -> Result<ResolvedPackage> {
    let text = offer.entry.to_string();
    let package = ResolvedPackage {
        name: offer.name.clone(),
        version: offer.spelled().to_owned(),
        integrity: identity(&offer.entry),
        ..ResolvedPackage::default()
    };
    resolving.store.write_cache(&place(&package, resolving), &text)?;
    Ok(package)
}

/// Stands for everything that a repository says of a package, except for where its archive is today.
fn identity(entry: &Value) -> String {
    let mut entry = entry.clone();
    if let Some(dist) = entry["dist"].as_object_mut() {
        dist.remove("url");
        dist.remove("mirrors");
    }
    for changes in ["notification-url", "support", "funding", "time", "abandoned"] {
        entry.as_object_mut().map(|entry| entry.remove(changes));
    }
    format!("sha256:{}", Sha256::of(entry.to_string().as_bytes()).hex())
}

/// Where the store keeps a package's metadata.
fn place(package: &ResolvedPackage, resolving: &Resolving<'_>) -> std::path::PathBuf {
    let key = format!("{} {} {}", package.name, package.version, package.integrity);
    resolving.store.fragment_path("composer-entries", Sha256::of(key.as_bytes()))
}

/// Metadata of pinned packages; `None` if it is unknown and there is no network access.
fn entries(
    manifest: &Manifest,
    packages: &[ResolvedPackage],
    context: &Context<'_>,
    resolving: &Resolving<'_>,
) -> Result<Option<Vec<Value>>> {
    let read = |package: &ResolvedPackage| {
        let text = resolving.store.read_document::<String>(&place(package, resolving)).whole()?;
        serde_json::from_str::<Value>(&text).ok()
    };
    let known: Vec<Option<Value>> = packages.iter().map(read).collect();
    if known.iter().all(Option::is_some) {
        return Ok(Some(known.into_iter().flatten().collect()));
    }
    let Some(fetcher) = resolving.asking else { return Ok(None) };
    let php = php(manifest, context)?;
    let repositories = repositories(manifest, context, resolving)?;
    let offers = Offers::new(manifest, repositories, fetcher, &php, BTreeMap::new());
    let mut all = Vec::new();
    for (package, entry) in packages.iter().zip(known) {
        let entry = match entry {
            Some(entry) => entry,
            None => {
                let offers = offers.of(&package.name)?;
                let offer = offers.values().find(|offer| offer.spelled() == package.version);
                let same = offer.filter(|offer| identity(&offer.entry) == package.integrity);
                let Some(offer) = same else {
                    let detail = format!(
                        "the repository's data for {} {} has changed since it was pinned",
                        package.name, package.version
                    );
                    return Err(Error::Package(PackageError::LockMismatch {
                        lockfile: PINS.to_owned(),
                        detail,
                        how: "find out why; `shtetl build --update` pins the new data",
                    }));
                };
                keep(offer, resolving)?;
                offer.entry.clone()
            }
        };
        all.push(entry);
    }
    Ok(Some(all))
}
