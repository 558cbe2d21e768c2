//! `town simulate`: what a day of commits would cost, from what builds took here.

use super::super::{Done, pages};
use super::place::{Planning, at_place};
use crate::surroundings::Surroundings;
use render::table::Table;
use render::{FAINT, Output, STRONG, styled, words};
use std::collections::{BTreeMap, BTreeSet};
use std::path::Path;
use std::process::ExitCode;
use std::time::Instant;
use town::apps::TownApp;
use town::shards::Cost;
use town::simulate::{Day, Measured, simulate};
use wording::Failure;
use workshop::ledger;

pub fn run(
    apps: &[TownApp],
    day: Day,
    page: Option<&Path>,
    surroundings: &Surroundings,
    output: &Output,
) -> Done {
    let measured = measure(apps, surroundings)?;
    let day = Day { apps: if day.apps == 0 { apps.len() } else { day.apps }, ..day };
    let simulated = simulate(&measured, day);
    if let Some(file) = page {
        pages::write(file, &::pages::simulation("A simulated day", &simulated), surroundings)?;
    }
    if output.is_json() {
        output.json(&serde_json::json!({
            "format": "shtetl/town-simulation/1", "measured": measured, "simulated": simulated,
        }));
        return Ok(ExitCode::SUCCESS);
    }
    let whole = |value: f64| words::duration(to_whole(value));
    output.line(format!(
        "{}, {} that change {:.2} % each, {}",
        styled(STRONG, words::count(day.apps, "app")),
        words::count(day.pushes, "commit"),
        day.changed * 100.0,
        words::count(day.workers, "worker")
    ));
    let mut table = Table::new(&[1]);
    for (what, value) in [
        ("a commit, median", whole(simulated.median)),
        ("a commit, 95th percentile", whole(simulated.slow)),
        ("the first build, with an empty store", whole(simulated.cold)),
        ("total work of all workers", whole(simulated.work)),
        ("steps found", format!("{:.2} %", simulated.hit_rate * 100.0)),
        ("stored in the shared store", words::size(to_whole(simulated.bytes_stored))),
        ("requests to it", simulated.requests.to_string()),
    ] {
        table.row([what.to_owned(), value]);
    }
    table.lines().into_iter().for_each(|line| output.line(line));
    output.line(styled(
        FAINT,
        format!(
            "from {} built here: {} own and {} shared steps, {:.1} ms to look at an app",
            words::count(measured.apps, "app"),
            measured.own.len(),
            measured.shared.len(),
            measured.look
        ),
    ));
    Ok(ExitCode::SUCCESS)
}

#[allow(clippy::cast_possible_truncation, clippy::cast_sign_loss, reason = "never negative, and saturates")]
fn to_whole(value: f64) -> u64 {
    value.max(0.0) as u64
}

/// What the ledger says of past builds, and how long looking at the apps takes now.
#[allow(clippy::cast_precision_loss, reason = "milliseconds and bytes are far below 53 bits")]
fn measure(apps: &[TownApp], surroundings: &Surroundings) -> Result<Measured, Failure> {
    let costs: Vec<Cost> = apps.iter().map(|app| Cost::of(&surroundings.store, &app.image)).collect();
    let known: Vec<&Cost> = costs.iter().filter(|cost| cost.is_known).collect();
    if known.is_empty() {
        return Err(Failure::Usage {
            message: "no app has been built here, so there are no measurements".to_owned(),
            hint: "build first: shtetl town build".to_owned(),
        });
    }
    let mut wanted = BTreeMap::<&String, (u64, usize)>::new();
    for (key, took) in known.iter().flat_map(|cost| &cost.steps) {
        let entry = wanted.entry(key).or_default();
        // Only the app that it ran for knows how long it took.
        entry.0 = entry.0.max(*took);
        entry.1 += 1;
    }
    let own: BTreeSet<&String> =
        wanted.iter().filter(|(_, (_, apps))| *apps == 1).map(|(key, _)| *key).collect();
    let own_of = |cost: &&Cost| {
        let steps = cost.steps.iter().filter(|(key, _)| own.contains(key));
        steps.map(|(_, took)| *took as f64).sum::<f64>()
    };
    let shared = wanted.values().filter(|(_, apps)| *apps > 1).map(|(took, apps)| (*took as f64, *apps));
    let begun = Instant::now();
    let looked = at_place(&Planning::default(), surroundings, |place, _| {
        place.each(apps, |app| place.look(app).and_then(|looked| place.plan(looked)).is_ok())
    });
    // A worker is what runs one step of several that run at once here; durations in the ledger were taken like that.
    let workers = engine::Budget::new(surroundings.jobs).steps() as f64;
    let look = begun.elapsed().as_secs_f64() * 1000.0 * workers / looked.len().max(1) as f64;
    let bytes = own_bytes(apps, surroundings);
    Ok(Measured {
        look,
        own: known.iter().map(own_of).collect(),
        shared: shared.collect(),
        own_bytes: bytes,
        apps: known.len(),
    })
}

/// Bytes of layers that only one app has, for each app on average.
#[allow(clippy::cast_precision_loss, reason = "bytes are far below 53 bits")]
fn own_bytes(apps: &[TownApp], surroundings: &Surroundings) -> f64 {
    let mut layers = BTreeMap::<_, (u64, usize)>::new();
    let mut built = 0_usize;
    for app in apps {
        let Some(last) = ledger::last(&surroundings.store, &app.image) else { continue };
        let name = format!("{}:{}", app.image, last.tag);
        let Ok(image) = workshop::inspect::open(&surroundings.store, &name) else { continue };
        built += 1;
        for layer in &image.record.layers {
            layers.entry(layer.digest).or_insert((layer.size, 0)).1 += 1;
        }
    }
    let own: u64 = layers.values().filter(|(_, apps)| *apps == 1).map(|(size, _)| *size).sum();
    own as f64 / built.max(1) as f64
}
