//! `town outdated`: what of the images of a town is behind.

use super::super::Done;
use super::results::named;
use crate::surroundings::Surroundings;
use bases::debian::Archives;
use config::Effective;
use config::addresses::Addresses;
use model::Ecosystem;
use remote::Network;
use render::table::Table;
use render::{BAD, BUSY, FAINT, GOOD, Output, STRONG, styled, words};
use std::collections::BTreeMap;
use std::path::Path;
use std::process::ExitCode;
use town::apps::TownApp;
use town::outdated::{Behind, packages_behind, unsupported};
use workshop::inspect::{self, DEFAULT_TAG};

/// How many packages are listed.
const LISTED: usize = 20;

pub fn run(apps: &[TownApp], offline: bool, surroundings: &Surroundings, output: &Output) -> Done {
    let here = Path::new(".");
    let Effective { config, origins } = surroundings.config_here()?;
    let keyrings = Surroundings::keyrings(&config)?;
    let addresses = Addresses::new(&surroundings.book, &config, &origins, here);
    let address = |kind| addresses.in_force(kind).ok().map(|known| known.address);
    let fetcher = surroundings.fetcher(if offline { Network::Forbidden } else { Network::Allowed });
    let now = Surroundings::now();
    let archives = Archives {
        addresses: [Ecosystem::DEBIAN, Ecosystem::DEBIAN_SECURITY].map(address),
        keyrings: &keyrings,
        fetcher: &fetcher,
        store: &surroundings.store,
        now: now / 1_000_000_000,
        outdated: config.outdated.unwrap_or_default(),
    };
    let known = inspect::all(&surroundings.store)?;
    let mut behind = BTreeMap::<Behind, Vec<String>>::new();
    let mut looked_at = 0;
    for app in apps {
        let name = format!("{}:{}", app.image, app.tag.as_deref().unwrap_or(DEFAULT_TAG));
        if !known.contains(&name) {
            continue;
        }
        looked_at += 1;
        let image = inspect::open(&surroundings.store, &name)?;
        let mut found = unsupported(&image.record, now);
        if !offline {
            found.extend(packages_behind(&image.record, &archives, &surroundings.seen)?);
        }
        for one in found {
            behind.entry(one).or_default().push(app.name.clone());
        }
    }
    let mut behind: Vec<(Behind, Vec<String>)> = behind.into_iter().collect();
    behind.sort_by_key(|(_, images)| std::cmp::Reverse(images.len()));
    if output.is_json() {
        let all: Vec<_> = behind
            .iter()
            .map(|(one, images)| serde_json::json!({ "behind": one, "images": images }))
            .collect();
        output.json(
            &serde_json::json!({ "format": "shtetl/town-outdated/1", "images": looked_at, "behind": all }),
        );
        return Ok(ExitCode::SUCCESS);
    }
    let never = apps.len() - looked_at;
    let left =
        if never > 0 { format!(", {} never built here", words::count(never, "app")) } else { String::new() };
    let verdict = match behind.len() {
        0 => styled(GOOD, "everything is up to date"),
        count => styled(BUSY, format!("{} behind", words::count(count, "thing"))),
    };
    output.line(format!("{}{left}: {verdict}", words::count(looked_at, "image")));
    let is_package = |one: &Behind| matches!(one, Behind::Package { .. });
    let (packages, others): (Vec<_>, Vec<_>) = behind.iter().partition(|(one, _)| is_package(one));
    let mut table = Table::new(&[1]);
    for (one, images) in others.iter().chain(packages.iter().take(LISTED)) {
        let images: Vec<&str> = images.iter().map(String::as_str).collect();
        table.row([told(one), words::count(images.len(), "image"), styled(FAINT, named(&images))]);
    }
    table.lines().into_iter().for_each(|line| output.line(line));
    if packages.len() > LISTED {
        let more = packages.len() - LISTED;
        output.line(styled(
            FAINT,
            format!("  and {}; --format json lists all", words::count(more, "more package")),
        ));
    }
    if !packages.is_empty() {
        output.line(format!(
            "{} shtetl town swap-base --newest puts all images on the newest packages of their base",
            styled(render::TYPED, "what to do:")
        ));
    }
    Ok(ExitCode::SUCCESS)
}

fn told(one: &Behind) -> String {
    match one {
        Behind::Base { base, since } => {
            format!("{}  unsupported since {}", styled(STRONG, base), styled(BAD, since))
        }
        Behind::Runtime { runtime, version, since } => {
            format!(
                "{}  past support since {}",
                styled(STRONG, format!("{runtime} {version}")),
                styled(BAD, since)
            )
        }
        Behind::RuntimeSoon { runtime, version, until } => {
            format!(
                "{}  supported until {}",
                styled(STRONG, format!("{runtime} {version}")),
                styled(BUSY, until)
            )
        }
        Behind::Package { name, version, newest } => {
            format!("{}  {version}, newest {newest}", styled(STRONG, name))
        }
    }
}
