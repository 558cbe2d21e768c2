//! `town push`: images of apps go to the registry of the town.

use super::super::{Done, evidence, keys};
use super::results;
use crate::surroundings::Surroundings;
use ::evidence::Artefact;
use arguments::SigningOptions;
use config::{AppConfig, Effective};
use engine::run_indexed;
use images::push::{Attachment, Destination, Transfer};
use remote::Network;
use render::{FAINT, Output, styled, words};
use std::sync::{Mutex, PoisonError};
use town::apps::{Town, TownApp};
use town::results::{AppResult, Cause, RESULT, StepCounts, TownResult, digest_of_names};
use wording::Failure;
use workshop::inspect::{self, DEFAULT_TAG};

/// How many images travel at once.
const AT_ONCE: usize = 4;

/// How images are pushed.
pub struct PushRequest<'a> {
    pub to: Option<&'a str>,
    pub evidence: bool,
    pub signing: &'a SigningOptions,
}

pub fn run(
    town: &Town,
    apps: &[TownApp],
    request: &PushRequest<'_>,
    surroundings: &Surroundings,
    output: &Output,
) -> Done {
    let registry = registry(town, request.to)?;
    check_allowed(town, &registry, surroundings)?;
    keys::signing_key(request.signing)?;
    let image = |app: &TownApp| {
        let tag = app.tag.as_deref().unwrap_or(DEFAULT_TAG);
        AppResult {
            app: app.name.clone(),
            image: Some(format!("{}:{tag}", app.image)),
            ..AppResult::default()
        }
    };
    let mut result = TownResult {
        format: RESULT.to_owned(),
        shard: None,
        of_apps: digest_of_names(apps.iter().map(|app| &app.name)),
        milliseconds: 0,
        steps: StepCounts::default(),
        apps: apps.iter().map(image).collect(),
    };
    let sent = push_all(&mut result, &registry, Some(request), surroundings)?;
    if output.is_json() {
        output.json(&result);
    } else {
        let pushed = result.apps.iter().filter(|app| app.pushed.is_some()).count();
        output.line(format!(
            "{} pushed to {registry}, {} sent",
            words::count(pushed, "image"),
            words::size(sent)
        ));
        results::show_causes(&result.causes(), output);
    }
    Ok(results::exit_code(&result))
}

/// The registry that images go to, with the beginning of names there.
pub fn registry(town: &Town, to: Option<&str>) -> Result<String, Failure> {
    let said = to.map(str::to_owned).or_else(|| town.file.registry.clone());
    let said = said.ok_or_else(|| Failure::Usage {
        message: format!("{} has no registry", town.path.display()),
        hint: "add registry = \"HOST[:PORT]/NAME\" to it, or use --to".to_owned(),
    })?;
    let registry = said.trim_end_matches('/').to_owned();
    images::push::reference(&format!("{registry}/app"), DEFAULT_TAG)?;
    Ok(registry)
}

/// Refuses a registry that the house rules of the town do not allow.
pub fn check_allowed(town: &Town, registry: &str, surroundings: &Surroundings) -> Result<(), Failure> {
    let rules = surroundings.rules.as_ref().or(town.file.rules.as_ref());
    let names = surroundings.buildpacks.known_names();
    let house = rules.map(|file| Effective::of_house_rules(file, &names)).transpose()?;
    check_server(registry, house.as_ref(), rules.map(|file| file.display().to_string()))
}

/// Refuses to push where house rules do not allow it.
pub fn check_server(to: &str, house: Option<&AppConfig>, rules: Option<String>) -> Result<(), Failure> {
    let host = to.split_once("://").map_or(to, |(_, rest)| rest).split('/').next().unwrap_or(to);
    match house {
        Some(house) if !house.limits.may_use(host) => Err(Failure::Usage {
            message: format!(
                "{host} is not allowed: {} allows {}",
                rules.unwrap_or_default(),
                house.limits.registries.join(", ")
            ),
            hint: "push to one of these".to_owned(),
        }),
        _ => Ok(()),
    }
}

/// Pushes what was built just now.
pub fn push_built(
    result: &mut TownResult,
    registry: &str,
    surroundings: &Surroundings,
    output: &Output,
) -> Result<(), Failure> {
    let sent = push_all(result, registry, None, surroundings)?;
    if !output.is_json() {
        output.aside(styled(FAINT, format!("{} sent to {registry}", words::size(sent))));
    }
    Ok(())
}

/// Where an image is now, and how many bytes were sent.
type Sent = (String, u64);

/// Pushes every image that has no failure; gives the bytes that were sent.
fn push_all(
    result: &mut TownResult,
    registry: &str,
    request: Option<&PushRequest<'_>>,
    surroundings: &Surroundings,
) -> Result<u64, Failure> {
    let fetcher = surroundings.fetcher(Network::Allowed);
    let transfer = surroundings.transfer(&fetcher, &|_, _| {});
    let images: Vec<(usize, String)> = result
        .apps
        .iter()
        .enumerate()
        .filter(|(_, app)| app.failure.is_none())
        .filter_map(|(at, app)| Some((at, app.image.clone()?)))
        .collect();
    let done: Mutex<Vec<(usize, Result<Sent, Failure>)>> = Mutex::default();
    run_indexed(images.len(), AT_ONCE, |index| {
        let (at, image) = &images[index];
        let pushed = push_one(image, registry, request, &transfer, surroundings);
        done.lock().unwrap_or_else(PoisonError::into_inner).push((*at, pushed));
    });
    if surroundings.cancel.is_cancelled() {
        return Err(model::Error::Interrupted.into());
    }
    let mut sent = 0;
    for (at, pushed) in done.into_inner().unwrap_or_else(PoisonError::into_inner) {
        let app = &mut result.apps[at];
        match pushed {
            Ok((place, bytes)) => {
                app.pushed = Some(place);
                sent += bytes;
            }
            Err(failure) => {
                let mut lines = wording::lines(&failure).into_iter();
                let what = lines.next().unwrap_or_default();
                app.failure = Some(Cause { what, details: lines.collect(), ..Cause::default() });
            }
        }
    }
    Ok(sent)
}

fn push_one(
    image: &str,
    registry: &str,
    request: Option<&PushRequest<'_>>,
    transfer: &Transfer<'_>,
    surroundings: &Surroundings,
) -> Result<Sent, Failure> {
    let (name, tag) = image.split_once(':').unwrap_or((image, DEFAULT_TAG));
    let to = images::push::reference(&format!("{registry}/{name}"), tag)?;
    let image = inspect::open(&surroundings.store, image)?;
    let documents: Vec<Artefact> = match request {
        Some(request) => evidence::wanted(&image, request.evidence, request.signing)?,
        None => Vec::new(),
    };
    let attachments: Vec<Attachment<'_>> =
        documents.iter().map(|one| Attachment { media_type: one.media_type, bytes: &one.bytes }).collect();
    let destination = Destination { to: &to, attachments: &attachments, there: None };
    let pushed = images::push::push(&image, &destination, transfer)?;
    Ok((format!("{}:{tag}", pushed.repository), pushed.sent))
}
