//! `town find` and `town advisories`: what is in the images of a town.

use super::super::{Done, advisories};
use super::push::registry as registry_of;
use super::results::named;
use crate::surroundings::Surroundings;
use arguments::Threshold;
use content::BlobDigest;
use engine::run_indexed;
use evidence::Severity;
use images::pull;
use images::push::reference;
use remote::Network;
use render::table::Table;
use render::{BAD, FAINT, GOOD, Output, STRONG, styled, words};
use std::collections::BTreeMap;
use std::path::Path;
use std::process::ExitCode;
use std::sync::{Mutex, PoisonError};
use town::apps::{Town, TownApp};
use town::find::{Found, PackageIndex, Query, named_images};
use wording::Failure;
use workshop::inspect::{self, DEFAULT_TAG, OpenImage};

/// How many registries' documents are fetched at once.
const AT_ONCE: usize = 16;

pub fn run(town: &Town, package: &str, registry: bool, surroundings: &Surroundings, output: &Output) -> Done {
    let query = Query::parse(package).ok_or_else(|| Failure::Usage {
        message: format!("{package:?} is not a package"),
        hint: "use NAME, KIND:NAME or a package URL, optionally followed by @VERSION or @ and a range: hull@>=4,<4.17.21".to_owned(),
    })?;
    let store = &surroundings.store;
    let mut pulled = BTreeMap::new();
    let named = match registry {
        false => named_images(store)?,
        true => {
            let (all, failed) = in_registry(town, surroundings)?;
            for (image, failure) in failed {
                for line in wording::lines(&failure) {
                    output.aside(format!("note: {image}: {line}"));
                }
            }
            let named = all.iter().map(|(label, image)| (label.clone(), image.digest)).collect();
            pulled.extend(all.into_iter().map(|(_, image)| (image.digest, image)));
            named
        }
    };
    let open = |label: &str, digest: BlobDigest| match pulled.get(&digest) {
        Some(image) => Ok(image.clone()),
        None => inspect::open_index(store, label, digest),
    };
    let (index, unreadable) = PackageIndex::of(store, &named, &open)?;
    for (label, error) in unreadable {
        output.aside(format!("note: {label} cannot be read: {}", wording::message_and_advice(&error).0));
    }
    let found = index.find(&query, &named);
    if output.is_json() {
        output.json(
            &serde_json::json!({ "format": "shtetl/town-find/1", "images": named.len(), "found": found }),
        );
    } else {
        show(&found, named.len(), output);
    }
    Ok(ExitCode::SUCCESS)
}

/// What was found, by version.
fn show(found: &[Found], looked_at: usize, output: &Output) {
    let mut versions = BTreeMap::<(&str, &str, &str), Vec<&str>>::new();
    for one in found {
        let package = &one.package;
        let image = one.image.strip_suffix(&format!(":{DEFAULT_TAG}")).unwrap_or(&one.image);
        versions.entry((&package.name, &package.version, &package.purl)).or_default().push(image);
    }
    let mut images: Vec<&str> = found.iter().map(|one| one.image.as_str()).collect();
    images.dedup();
    output.line(format!("found in {} of {}", images.len(), words::count(looked_at, "image")));
    let mut table = Table::new(&[2]);
    for ((name, version, _), images) in &versions {
        table.row([
            styled(STRONG, name),
            (*version).to_owned(),
            words::count(images.len(), "image"),
            styled(FAINT, named(images)),
        ]);
    }
    table.lines().into_iter().for_each(|line| output.line(line));
}

/// Images with their names, and those that could not be opened.
type InRegistry = (Vec<(String, OpenImage)>, Vec<(String, Failure)>);

/// The documents of the images of all apps in the registry of the town.
fn in_registry(town: &Town, surroundings: &Surroundings) -> Result<InRegistry, Failure> {
    let names = images_of(town, &town.apps, true, surroundings)?;
    let fetcher = surroundings.fetcher(Network::Allowed);
    let transfer = surroundings.transfer(&fetcher, &|_, _| {});
    let done: Mutex<InRegistry> = Mutex::default();
    run_indexed(names.len(), AT_ONCE, |at| {
        let name = &names[at];
        let image = reference(name, DEFAULT_TAG).and_then(|from| pull::fetch_documents(&from, &transfer));
        let mut done = done.lock().unwrap_or_else(PoisonError::into_inner);
        match image {
            Ok(image) => done.0.push((name.clone(), image)),
            Err(error) => done.1.push((name.clone(), error.into())),
        }
    });
    if surroundings.cancel.is_cancelled() {
        return Err(model::Error::Interrupted.into());
    }
    let (mut images, failed) = done.into_inner().unwrap_or_else(PoisonError::into_inner);
    images.sort_by(|(a, _), (b, _)| a.cmp(b));
    Ok((images, failed))
}

/// How the images of apps are called: in the registry of the town, or in the store, where only those count that are there.
pub fn images_of(
    town: &Town,
    apps: &[TownApp],
    registry: bool,
    surroundings: &Surroundings,
) -> Result<Vec<String>, Failure> {
    let name = |app: &TownApp| format!("{}:{}", app.image, app.tag.as_deref().unwrap_or(DEFAULT_TAG));
    if registry {
        let registry = registry_of(town, None)?;
        return Ok(apps.iter().map(|app| format!("{registry}/{}", name(app))).collect());
    }
    let known = inspect::all(&surroundings.store)?;
    Ok(apps.iter().map(name).filter(|name| known.contains(name)).collect())
}

/// `town advisories`.
pub fn advisories(
    apps: &[TownApp],
    folder: &Path,
    fail_on: Option<Threshold>,
    surroundings: &Surroundings,
    output: &Output,
) -> Done {
    // By advisory and package: the images.
    let mut affected = BTreeMap::<(std::cmp::Reverse<Severity>, String, String), Vec<String>>::new();
    let known = inspect::all(&surroundings.store)?;
    let (mut reaches, mut looked_at) = (false, 0);
    for app in apps {
        let name = format!("{}:{}", app.image, app.tag.as_deref().unwrap_or(DEFAULT_TAG));
        if !known.contains(&name) {
            continue;
        }
        looked_at += 1;
        let image = inspect::open(&surroundings.store, &name)?;
        let found = advisories::find(folder, &image.record.packages, &BTreeMap::new())?;
        reaches |= advisories::reaches(&found, fail_on);
        for one in found.affected {
            let package = format!("{} {}", one.name, one.version);
            affected
                .entry((std::cmp::Reverse(one.severity), one.id, package))
                .or_default()
                .push(name.clone());
        }
    }
    if output.is_json() {
        let all: Vec<_> = affected
            .iter()
            .map(|((severity, id, package), images)| {
                serde_json::json!({ "id": id, "severity": severity.0, "package": package, "images": images })
            })
            .collect();
        output.json(
            &serde_json::json!({ "format": "shtetl/town-advisories/1", "images": looked_at, "found": all }),
        );
        return Ok(ExitCode::from(u8::from(reaches)));
    }
    let verdict = match affected.len() {
        0 => styled(GOOD, "none found"),
        count => styled(BAD, format!("{count} found")),
    };
    output.line(format!("{}: {verdict}", words::count(looked_at, "image")));
    let mut table = Table::new(&[3]);
    for ((severity, id, package), images) in &affected {
        let images: Vec<&str> = images.iter().map(String::as_str).collect();
        table.row([
            advisories::coloured(severity.0),
            id.clone(),
            package.clone(),
            words::count(images.len(), "image"),
            styled(FAINT, named(&images)),
        ]);
    }
    table.lines().into_iter().for_each(|line| output.line(line));
    Ok(ExitCode::from(u8::from(reaches)))
}
