//! The ledger: past builds of each app on this machine, with their times and logs.

use content::BlobDigest;
use content::store::Store;
use engine::{Event, StepOutcome};
use model::Result;
use serde::{Deserialize, Serialize};
use std::fs;

/// One past build.
#[derive(Debug, Clone, Serialize, Deserialize)]
pub struct Entry {
    /// Counts the builds of one app, from 1.
    pub number: u32,
    /// The tag that was built.
    pub tag: String,
    /// When it began, in seconds since 1970.
    pub started: i64,
    /// How long it took.
    pub milliseconds: u64,
    /// Digest of the image's index; `None` when the build failed.
    pub digest: Option<BlobDigest>,
    /// Why it failed.
    pub failure: Option<String>,
    /// How each step fared.
    pub steps: Vec<StepOutcome>,
    /// What happened.
    pub log: Vec<Event>,
}

/// Adds a build to the ledger of `app`; gives its number.
pub fn append(store: &Store, app: &str, mut entry: Entry) -> Result<u32> {
    let _turn = store.lock(&format!("ledger-{app}"))?;
    let number = numbers(store, app).last().copied().unwrap_or_default() + 1;
    entry.number = number;
    store.write_document(&store.ledger_path(app).join(format!("{number}.json")), &entry)?;
    Ok(number)
}

/// The builds of `app`, oldest first.
pub fn entries(store: &Store, app: &str) -> Vec<Entry> {
    numbers(store, app).into_iter().filter_map(|n| entry(store, app, n)).collect()
}

/// The last build of `app`.
pub fn last(store: &Store, app: &str) -> Option<Entry> {
    entry(store, app, *numbers(store, app).last()?)
}

/// Build `number` of `app`.
pub fn entry(store: &Store, app: &str, number: u32) -> Option<Entry> {
    store.read_document(&store.ledger_path(app).join(format!("{number}.json"))).whole()
}

/// The apps that were built here.
pub fn apps(store: &Store) -> Vec<String> {
    let folders = fs::read_dir(store.root().join("ledger")).into_iter().flatten().flatten();
    let mut apps: Vec<String> = folders
        .filter_map(|f| f.file_name().into_string().ok())
        .filter(|app| !numbers(store, app).is_empty())
        .collect();
    apps.sort();
    apps
}

/// The numbers of the builds of `app`, in order.
pub(crate) fn numbers(store: &Store, app: &str) -> Vec<u32> {
    let files = fs::read_dir(store.ledger_path(app)).into_iter().flatten().flatten();
    let mut numbers: Vec<u32> =
        files.filter_map(|f| f.file_name().to_str()?.strip_suffix(".json")?.parse().ok()).collect();
    numbers.sort_unstable();
    numbers
}
