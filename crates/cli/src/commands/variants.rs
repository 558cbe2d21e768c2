//! Variants of a source that an image was not built for, as far as they only say how it runs.

use crate::surroundings::Surroundings;
use arguments::SourceOptions;
use model::{ProcessType, SettingRule};
use remote::Network;
use std::collections::BTreeMap;
use std::path::Path;
use wording::Failure;
use workshop::inspect::OpenImage;

/// What an image starts, and the folders that belong to its user, are in it: a variant cannot change them afterwards.
pub fn check_same(built: &ProcessType, wanted: &ProcessType) -> Result<(), Failure> {
    let differs = [
        ("its command differs", built.command != wanted.command || built.folder != wanted.folder),
        ("its writable folders differ", built.writable != wanted.writable),
    ];
    match differs.iter().find(|(_, differs)| *differs) {
        Some((why, _)) => Err(not_built(&wanted.name, why)),
        None => Ok(()),
    }
}

pub fn not_built(process: &str, why: &str) -> Failure {
    Failure::Usage {
        message: format!("the image does not match the source for {process}: {why}"),
        hint: "build the image from this source with this variant first".to_owned(),
    }
}

pub fn values(settings: &BTreeMap<String, SettingRule>) -> BTreeMap<String, String> {
    settings.iter().filter_map(|(name, rule)| Some((name.clone(), rule.value.clone()?))).collect()
}

/// What is wanted and not in the image.
pub fn differing(
    built: &BTreeMap<String, String>,
    wanted: &BTreeMap<String, String>,
) -> BTreeMap<String, String> {
    let is_other = |(name, value): &(&String, &String)| built.get(*name) != Some(*value);
    wanted.iter().filter(is_other).map(|(name, value)| (name.clone(), value.clone())).collect()
}

type Running = (Vec<ProcessType>, BTreeMap<String, SettingRule>);

/// How an app runs: as its image says, or as a variant of its source does.
pub fn as_in_source(
    image: &OpenImage,
    source: Option<&Path>,
    variant: Option<&str>,
    surroundings: &Surroundings,
) -> Result<Running, Failure> {
    let Some(source) = source else {
        return Ok((image.record.processes.clone(), image.record.settings.clone()));
    };
    let source = SourceOptions { variant: variant.map(str::to_owned), ..SourceOptions::of(source) };
    let app = surroundings.look(&source, &surroundings.fetcher(Network::Allowed), Surroundings::now())?;
    Ok((app.survey.processes, app.survey.settings))
}
