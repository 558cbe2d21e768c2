//! All builds of a town in one graph: a step that many apps want runs once, and each image is written as soon as its last
//! step is finished.

use crate::apps::{Town, TownApp};
use crate::plan::{Looked, Place, PlannedApp, Trouble, check_names};
use content::StepKey;
use engine::{Event, Finished, OnFailure, Session, StepGraph, execute_groups};
use model::{Error, Result};
use std::collections::{BTreeMap, BTreeSet};
use std::sync::{Arc, Mutex, PoisonError};
use workshop::build::{Built, Exports, Planned, build, enter_failure, finish};
use workshop::record::BuiltSteps;

/// What came of one app.
pub struct Outcome {
    /// Which one.
    pub app: TownApp,
    /// Its image, or what keeps it from being built.
    pub result: Result<Built, Trouble>,
    /// What people should know.
    pub notes: Vec<String>,
}

/// Something that happened to an app while the town is built.
pub enum Progress<'p> {
    /// Its build is planned, or cannot be.
    Planned(&'p TownApp),
    /// Its image is there, or never will be.
    Done(&'p Outcome),
}

/// Builds apps of a town, wave by wave; each outcome is reported as soon as it is known.
pub fn build_town(
    town: &Town,
    apps: &[TownApp],
    place: &Place<'_>,
    session: &Session<'_>,
    on_failure: OnFailure,
    tell: &(dyn Fn(Progress<'_>) + Sync),
) -> Result<Vec<Outcome>> {
    let mut outcomes: Vec<Outcome> = Vec::new();
    for wave in town.waves(apps)? {
        let lacking: BTreeSet<&str> =
            outcomes.iter().filter(|done| done.result.is_err()).map(|done| done.app.name.as_str()).collect();
        let needs = |app: &TownApp| app.after.iter().find(|name| lacking.contains(name.as_str())).cloned();
        let (ready, waiting): (Vec<_>, Vec<_>) = wave.into_iter().partition(|app| needs(app).is_none());
        let is_over = on_failure == OnFailure::End && !lacking.is_empty();
        let mut skipped = Vec::new();
        for app in waiting {
            let after = needs(&app).unwrap_or_default();
            skipped.push(Outcome { app, result: Err(Trouble::Waits { after }), notes: Vec::new() });
        }
        if is_over {
            let ended = |app| Outcome { app, result: Err(Error::Interrupted.into()), notes: Vec::new() };
            skipped.extend(ready.into_iter().map(ended));
        } else {
            outcomes.extend(Wave { place, session, on_failure, tell }.build(&ready)?);
        }
        skipped.iter().for_each(|outcome| tell(Progress::Done(outcome)));
        outcomes.extend(skipped);
    }
    outcomes.sort_by(|a, b| a.app.name.cmp(&b.app.name));
    Ok(outcomes)
}

/// Apps that do not wait for each other.
struct Wave<'w, 'a> {
    place: &'w Place<'a>,
    session: &'w Session<'w>,
    on_failure: OnFailure,
    tell: &'w (dyn Fn(Progress<'_>) + Sync),
}

impl Wave<'_, '_> {
    fn build(&self, apps: &[TownApp]) -> Result<Vec<Outcome>> {
        let looked = self.place.each(apps, |app| self.place.look(app));
        check_names(looked.iter().flatten())?;
        let looked: Vec<Mutex<Option<Result<Looked, Trouble>>>> =
            looked.into_iter().map(|looked| Mutex::new(Some(looked))).collect();
        let planned = self.place.each(&looked, |looked| {
            let looked = looked.lock().unwrap_or_else(PoisonError::into_inner).take();
            looked.map(|looked| looked.and_then(|looked| self.place.plan(looked)))
        });
        self.place.seen.forget_indexes();
        let mut outcomes = Vec::new();
        let mut ready = Vec::new();
        for (app, planned) in apps.iter().zip(planned.into_iter().flatten()) {
            (self.tell)(Progress::Planned(app));
            match planned {
                Ok(planned) => ready.push(planned),
                Err(trouble) => {
                    outcomes.push(Outcome { app: app.clone(), result: Err(trouble), notes: Vec::new() });
                    (self.tell)(Progress::Done(&outcomes[outcomes.len() - 1]));
                }
            }
        }
        if self.on_failure == OnFailure::End && !outcomes.is_empty() {
            let ended = |planned: PlannedApp| Outcome {
                app: planned.looked.place,
                result: Err(Error::Interrupted.into()),
                notes: planned.notes,
            };
            outcomes.extend(ready.into_iter().map(ended));
            return Ok(outcomes);
        }
        outcomes.extend(self.run(ready));
        Ok(outcomes)
    }

    /// Runs the steps of planned builds: those that have to find out what they fetch each by itself, the others together.
    fn run(&self, planned: Vec<PlannedApp>) -> Vec<Outcome> {
        let mut graph = StepGraph::default();
        let (mut groups, mut numbers, mut apart) = (Vec::new(), Vec::new(), Vec::new());
        for (number, one) in planned.iter().enumerate() {
            if records(one) {
                apart.push(number);
                continue;
            }
            groups.push(graph.add(&one.worklist.build_steps(&one.looked.app.survey.name)));
            numbers.push(number);
        }
        let logs: Mutex<BTreeMap<String, Vec<Event>>> = Mutex::default();
        let events = |event: Event| {
            if let Some(app) = app_of(&event) {
                let mut logs = logs.lock().unwrap_or_else(PoisonError::into_inner);
                logs.entry(app.to_owned()).or_default().push(event.clone());
            }
            (self.session.events)(event);
        };
        let session = Session { events: &events, ..*self.session };
        let log_of = |one: &PlannedApp| {
            let mut logs = logs.lock().unwrap_or_else(PoisonError::into_inner);
            let notes = one.notes.iter().map(|text| Event::Note { text: text.clone() });
            notes.chain(logs.remove(&one.looked.app.survey.name).unwrap_or_default()).collect::<Vec<_>>()
        };
        let outcome = |one: &PlannedApp, result: Result<Built, Arc<Error>>| {
            let result = result.map_err(Trouble::Failed);
            let outcome = Outcome { app: one.looked.place.clone(), result, notes: one.notes.clone() };
            (self.tell)(Progress::Done(&outcome));
            outcome
        };
        let ready = |group: usize, finished: BTreeMap<StepKey, Finished>| {
            let one = &planned[numbers[group]];
            let request = one.request(self.place);
            let steps = BuiltSteps { graph: &graph, wanted: &groups[group], finished: &finished };
            let built = Planned { worklist: &one.worklist, order: &request };
            finish(&one.looked.app, built, &steps, log_of(one), &session).map(|built| outcome(one, Ok(built)))
        };
        let results = execute_groups(&graph, &groups, &session, self.on_failure, &ready);
        let failed = |(number, result): (&usize, Result<Outcome, Arc<Error>>)| {
            let one = &planned[*number];
            result.unwrap_or_else(|error| {
                let request = one.request(self.place);
                // The ledger of a store that cannot be written says nothing; the failure itself does.
                let _ = enter_failure(&one.looked.app, &request, &error, log_of(one), session.store);
                outcome(one, Err(error))
            })
        };
        let mut outcomes: Vec<Outcome> = numbers.iter().zip(results).map(failed).collect();
        for number in apart {
            let one = &planned[number];
            let has_failed = outcomes.iter().any(|outcome| outcome.result.is_err());
            if has_failed && self.on_failure == OnFailure::End {
                outcomes.push(outcome(one, Err(Arc::new(Error::Interrupted))));
                continue;
            }
            let request = one.request(self.place);
            let all = Planned { worklist: &one.worklist, order: &request };
            let built = build(&one.looked.app, all, &[], Exports::default(), &session);
            outcomes.push(outcome(one, built.map_err(Arc::new)));
        }
        outcomes
    }
}

/// Whether a build has steps that record what they fetch.
fn records(planned: &PlannedApp) -> bool {
    planned.worklist.records()
}

fn app_of(event: &Event) -> Option<&str> {
    match event {
        Event::Found { app, .. }
        | Event::Shared { app, .. }
        | Event::Started { app, .. }
        | Event::Finished { app, .. } => Some(app),
        Event::Planned { .. } | Event::Progress { .. } | Event::Damaged { .. } | Event::Note { .. } => None,
    }
}
