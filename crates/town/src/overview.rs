//! A town at a glance: how many apps have which language, base, runtime, size and age, and which fail.

use crate::apps::TownApp;
use crate::outdated::{Behind, unsupported};
use content::store::Store;
use serde::Serialize;
use std::collections::BTreeMap;
use workshop::inspect::{self, DEFAULT_TAG};
use workshop::ledger;

/// A town at a glance.
#[derive(Debug, Clone, Default, Serialize)]
pub struct Overview {
    /// How many apps there are.
    pub apps: usize,
    /// How many have an image here.
    pub built: usize,
    /// Apps whose last build failed, with the message.
    pub failing: Vec<(String, String)>,
    /// Images by the buildpack that leads.
    pub languages: BTreeMap<String, usize>,
    /// Images by base.
    pub bases: BTreeMap<String, usize>,
    /// Images by runtime and version.
    pub runtimes: BTreeMap<String, usize>,
    /// Images by size, in classes.
    pub sizes: Vec<(&'static str, usize)>,
    /// Images by the age of their last build, in classes.
    pub ages: Vec<(&'static str, usize)>,
    /// What is past its support, or soon will be, with how many images have it.
    pub support: Vec<(Behind, usize)>,
    /// The largest images, with their bytes.
    pub largest: Vec<(String, u64)>,
    /// Bytes of all layers, each once.
    pub bytes: u64,
}

/// Classes of sizes, with their upper bounds in bytes.
const SIZES: [(&str, u64); 5] = [
    ("below 10 MB", 10_000_000),
    ("10 to 50 MB", 50_000_000),
    ("50 to 200 MB", 200_000_000),
    ("200 MB to 1 GB", 1_000_000_000),
    ("above 1 GB", u64::MAX),
];

/// Classes of ages, with their upper bounds in days.
const AGES: [(&str, i64); 5] =
    [("today", 1), ("this week", 7), ("this month", 31), ("this year", 366), ("older", i64::MAX)];

/// How many of the largest images are named.
const LARGEST: usize = 10;

/// Looks at the images of apps. `now` is in nanoseconds since 1970.
pub fn overview(apps: &[TownApp], store: &Store, now: i64) -> Overview {
    let mut all = Overview { apps: apps.len(), ..Overview::default() };
    let mut sizes = [0; SIZES.len()];
    let mut ages = [0; AGES.len()];
    let mut layers = BTreeMap::new();
    let mut support = BTreeMap::<Behind, usize>::new();
    for app in apps {
        let last = ledger::last(store, &app.image);
        if let Some(failure) = last.as_ref().and_then(|last| last.failure.clone()) {
            all.failing.push((app.name.clone(), failure));
        }
        let tag = app.tag.as_deref().unwrap_or(DEFAULT_TAG);
        let Ok(image) = inspect::open(store, &format!("{}:{tag}", app.image)) else { continue };
        let record = &image.record;
        all.built += 1;
        let language = record.buildpacks.first().map_or("none", |buildpack| buildpack.name.as_str());
        *all.languages.entry(language.to_owned()).or_default() += 1;
        *all.bases.entry(record.base.clone()).or_default() += 1;
        for runtime in &record.runtimes {
            *all.runtimes.entry(format!("{} {}", runtime.name, runtime.version)).or_default() += 1;
        }
        let size = record.layers.iter().map(|layer| layer.size).sum::<u64>();
        layers.extend(record.layers.iter().map(|layer| (layer.digest, layer.size)));
        all.largest.push((app.name.clone(), size));
        if let Some(class) = SIZES.iter().position(|(_, most)| size < *most) {
            sizes[class] += 1;
        }
        let days = last.map_or(i64::MAX, |last| (now / 1_000_000_000 - last.started) / 86_400);
        if let Some(class) = AGES.iter().position(|(_, most)| days < *most) {
            ages[class] += 1;
        }
        for behind in unsupported(record, now) {
            *support.entry(behind).or_default() += 1;
        }
    }
    all.sizes = SIZES.iter().zip(sizes).map(|((name, _), count)| (*name, count)).collect();
    all.ages = AGES.iter().zip(ages).map(|((name, _), count)| (*name, count)).collect();
    all.support = support.into_iter().collect();
    all.support.sort_by_key(|(_, count)| std::cmp::Reverse(*count));
    all.largest.sort_by_key(|(name, size)| (std::cmp::Reverse(*size), name.clone()));
    all.largest.truncate(LARGEST);
    all.bytes = layers.values().sum();
    all
}
