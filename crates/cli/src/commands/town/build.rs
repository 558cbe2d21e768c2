//! `town build`: all apps in one go.

use super::super::Done;
use super::place::{Planning, at_place};
use super::results;
use super::{chosen, push};
use crate::shared;
use crate::surroundings::Surroundings;
use arguments::TownBuildOptions;
use engine::{OnFailure, Session, SharedResults};
use model::names;
use planning::Pinning;
use remote::Network;
use render::Output;
use render::town_view::TownView;
use std::collections::{BTreeMap, BTreeSet};
use std::env;
use std::time::Instant;
use town::apps::{Town, TownApp, together};
use town::build::{Outcome, build_town};
use town::results::{AppResult, RESULT, StepCounts, TownResult, digest_of_names};
use town::shards::{Shard, Spread};
use wording::Failure;

pub fn run(town: &Town, options: &TownBuildOptions, surroundings: &Surroundings, output: &Output) -> Done {
    let begun = Instant::now();
    names::check_tag(&options.tag)?;
    let registry = options.push.then(|| push::registry(town, None)).transpose()?;
    if let Some(registry) = &registry {
        push::check_allowed(town, registry, surroundings)?;
    }
    let all = chosen(town, &options.filter, surroundings)?;
    let of_apps = digest_of_names(all.iter().map(|app| &app.name));
    let shard = shard(options)?;
    let apps = match shard {
        Some(shard) => of_shard(all, shard, options)?,
        None => all,
    };
    let planning = Planning {
        tag: &options.tag,
        pinning: match (options.locked, options.update) {
            (true, _) => Pinning::Locked,
            (_, true) => Pinning::Update,
            _ => Pinning::Keep,
        },
        network: if options.offline { Network::Forbidden } else { Network::Allowed },
        anyway: options.anyway,
    };
    let on_failure = if options.fail_fast { OnFailure::End } else { OnFailure::GoOn };
    let fetcher = surroundings.fetcher(planning.network);
    let shared = shared::open(surroundings, planning.network)?;
    let view = TownView::new(apps.len(), output);
    let outcomes = at_place(&planning, surroundings, |place, budget| {
        let events = |event| view.event(&event);
        let session = Session {
            shared: shared.as_ref().map(|shared| shared as &dyn SharedResults),
            ..surroundings.session(&fetcher, budget, &events)
        };
        build_town(town, &apps, place, &session, on_failure, &|progress| view.progress(&progress))
    })?;
    drop(view);
    shared::finish(shared.as_ref(), output);
    if surroundings.cancel.is_cancelled() {
        return Err(model::Error::Interrupted.into());
    }
    let mut result = TownResult {
        format: RESULT.to_owned(),
        shard,
        of_apps,
        milliseconds: 0,
        steps: step_counts(&outcomes),
        apps: outcomes.iter().map(app_result).collect(),
    };
    if let Some(registry) = &registry {
        push::push_built(&mut result, registry, surroundings, output)?;
    }
    result.milliseconds = u64::try_from(begun.elapsed().as_millis()).unwrap_or(u64::MAX);
    if let Some(path) = &options.result {
        results::write(&result, path)?;
    }
    match output.is_json() {
        true => output.json(&result),
        false => {
            results::show(&result, output);
            show_notes(&outcomes, output);
        }
    }
    Ok(results::exit_code(&result))
}

/// The part that is to be built, where it is one.
fn shard(options: &TownBuildOptions) -> Result<Option<Shard>, Failure> {
    let parsed = match options.shard.as_deref() {
        None => return Ok(None),
        Some("auto") => Shard::of_engine(|name| env::var(name).ok(), options.shards),
        Some(text) => text.parse(),
    };
    Ok(Some(parsed.map_err(model::Error::from)?))
}

/// The apps of a part: by the plan, else by name. Apps that the plan does not know, since they are newer, are dealt out by name,
/// so that every app is in exactly one part.
fn of_shard(all: Vec<TownApp>, shard: Shard, options: &TownBuildOptions) -> Result<Vec<TownApp>, Failure> {
    let spread = match &options.parts {
        Some(path) => Spread::read(path)?,
        None => Spread::in_turn(&together(&all), shard.of),
    };
    let spread = spread.with_all(&together(&all));
    let own = spread.of(shard).map_err(model::Error::from)?;
    Ok(all.into_iter().filter(|app| own.apps.contains(&app.name)).collect())
}

/// How many steps ran, each counted once.
fn step_counts(outcomes: &[Outcome]) -> StepCounts {
    let mut seen = BTreeSet::new();
    let mut counts = StepCounts::default();
    let steps = outcomes.iter().flat_map(|outcome| &outcome.result).flat_map(|built| &built.outcomes);
    for step in steps.filter(|step| seen.insert(step.key)) {
        match (&step.because, step.shared) {
            (Some(_), _) => counts.ran += 1,
            (None, true) => counts.shared += 1,
            (None, false) => counts.found += 1,
        }
    }
    counts
}

fn app_result(outcome: &Outcome) -> AppResult {
    let plain = AppResult { app: outcome.app.name.clone(), ..AppResult::default() };
    match &outcome.result {
        Err(trouble) => AppResult { failure: Some(results::cause(trouble)), ..plain },
        Ok(built) => {
            let count =
                |is: fn(&engine::StepOutcome) -> bool| built.outcomes.iter().filter(|step| is(step)).count();
            AppResult {
                image: Some(format!("{}:{}", built.name, built.tag)),
                digest: Some(built.digest.to_string()),
                unchanged: built.before == Some(built.digest),
                ran: count(|step| step.because.is_some()),
                found: count(|step| step.because.is_none() && !step.shared),
                shared: count(|step| step.shared),
                ..plain
            }
        }
    }
}

/// Notes of apps, equal ones once.
fn show_notes(outcomes: &[Outcome], output: &Output) {
    let mut notes = BTreeMap::<&str, Vec<&str>>::new();
    for outcome in outcomes {
        for note in &outcome.notes {
            notes.entry(note).or_default().push(&outcome.app.name);
        }
    }
    for (note, apps) in notes {
        output.aside(format!("note: {note} ({})", results::named(&apps)));
    }
}
